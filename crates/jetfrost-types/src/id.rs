//! Identifiers of records: short random text, one type each.

use std::fmt;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An identifier that is text.
pub trait TextId: From<String> {
    /// Its text.
    fn as_str(&self) -> &str;
}

macro_rules! text_id {
    ($(#[$doc:meta])* $name:ident) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
        #[serde(transparent)]
        #[schema(value_type = String)]
        pub struct $name(pub String);

        impl $name {
            /// Its text.
            #[must_use]
            pub fn as_str(&self) -> &str {
                &self.0
            }
        }

        impl TextId for $name {
            fn as_str(&self) -> &str {
                &self.0
            }
        }

        impl From<String> for $name {
            fn from(text: String) -> Self {
                Self(text)
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(&self.0)
            }
        }
    };
}

text_id!(
    /// An installation of the service.
    ServiceId
);
text_id!(
    /// An account.
    AccountId
);
text_id!(
    /// A group.
    GroupId
);
text_id!(
    /// A destination.
    DestinationId
);
text_id!(
    /// An enrolment code; not the code itself.
    CodeId
);
text_id!(
    /// A workstation.
    WorkstationId
);
text_id!(
    /// A run.
    RunId
);
text_id!(
    /// A restore.
    RestoreId
);
text_id!(
    /// An order of a restore, as it is on record; not what is sealed in it.
    RestoreOrderId
);
text_id!(
    /// A session; not its secret.
    SessionId
);
text_id!(
    /// A job.
    JobId
);
text_id!(
    /// An image store, as its directory is called: the 32 hexadecimal digits of the id in its format.
    ImageStoreId
);
