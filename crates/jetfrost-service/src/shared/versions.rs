//! Versions: of two administrators who change the same thing, the second learns of the first.

use jetfrost_wire::Version;
use serde::Serialize;

use crate::records::{AuditRow, Connection};
use crate::shared::{Result, ServiceError};

/// A version tells apart what was set; nobody attacks by making two that are alike.
const BYTES: usize = 8;

/// What a caller saw of what it changes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Seen {
    /// It does not say: the change is made whatever is there.
    Anything,
    /// One of these.
    OneOf(Vec<Version>),
}

impl Seen {
    /// Refuses a change to something that is no longer as the caller saw it. Asked within the transaction that makes the change.
    /// `made` says which entry of the audit log tells who made it what it is.
    pub(crate) fn check(&self, now: &Version, made: &Made<'_>, on: &mut Connection) -> Result<()> {
        match self {
            Self::Anything => Ok(()),
            Self::OneOf(versions) if versions.contains(now) => Ok(()),
            Self::OneOf(_) => {
                let entry = AuditRow::latest_that_made(made.subject, made.after, on)?;
                Err(ServiceError::ChangedMeanwhile { by: entry.map(|entry| (entry.who, entry.at)) })
            }
        }
    }
}

/// How the audit log has the change that made something what it is.
pub(crate) struct Made<'a> {
    /// What was changed, where the words of `after` do not say so.
    pub(crate) subject: Option<&'a str>,
    /// What came of it.
    pub(crate) after: &'a str,
}

/// The version of something, from all of it that can be set.
pub(crate) fn version(settable: &impl Serialize) -> Version {
    let text = serde_json::to_vec(settable).expect("what can be set is numbers, words and lists of them");
    let hash = blake3::hash(&text);
    Version(data_encoding::HEXLOWER.encode(&hash.as_bytes()[..BYTES]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn another_value_is_another_version_and_the_same_is_the_same() {
        assert_eq!(version(&("shelf", Some(3_u64))), version(&("shelf", Some(3_u64))));
        assert_ne!(version(&("shelf", Some(3_u64))), version(&("shelf", None::<u64>)));
        assert_ne!(version(&(["a", "b"], "c")), version(&(["a"], ["b", "c"])));
    }
}
