//! Rules for what people type, checked while they type: the same rules apply when it is sent.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A rule for text in a form.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FieldRule {
    /// An account's login name, not taken by another.
    AccountName,
    /// The login name of an existing account.
    KnownAccount,
    /// A group's name, not taken by another.
    GroupName,
    /// A destination's name, not taken by another.
    DestinationName,
    /// Any other name: of a person, a machine, a token.
    Name,
    /// A directory on the server that exists, or whose parent does.
    Directory,
    /// What a destination is for.
    Description,
    /// A new password.
    Password,
    /// A size with its unit.
    Size,
    /// A size with its unit, or `none`.
    Limit,
    /// Days until something is removed or repeated.
    Days,
    /// Days until a token expires.
    TokenDays,
    /// The name under which the service announces itself.
    AnnouncedName,
    /// A mail server's host name or address.
    MailServer,
    /// A port.
    Port,
    /// A login name or a password at a mail server.
    MailSecret,
    /// A mail address.
    MailAddress,
    /// Several mail addresses, separated by commas or semicolons.
    MailAddresses,
}

/// What was typed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Typed {
    /// The rule to check against.
    pub rule: FieldRule,
    /// The text.
    #[schema(max_length = 10_000)]
    pub text: String,
    /// The current value: a thing's own name does not count as taken.
    #[serde(default)]
    pub until_now: Option<String>,
}

/// Whether what was typed follows the rule.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Ruling {
    /// What is wrong with it, in a sentence; absent if it follows the rule.
    pub complaint: Option<String>,
}
