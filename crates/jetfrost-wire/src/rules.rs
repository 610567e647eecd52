//! Rules for what people type, asked about while they type it: the very rules that count when it is sent.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A rule for text in a form.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FieldRule {
    /// An account's login name, not taken by another.
    AccountName,
    /// The login name of an account that is there.
    KnownAccount,
    /// A group's name, not taken by another.
    GroupName,
    /// A destination's name, not taken by another.
    DestinationName,
    /// Any other name: of a person, a machine, a token.
    Name,
    /// A directory on the server that is there, or whose upper one is.
    Directory,
    /// What a destination is for.
    Description,
    /// A new password.
    Password,
    /// A size with its unit.
    Size,
    /// A size with its unit, or `none`.
    Limit,
    /// For how many days something waits until it goes, or after how many it is read through again.
    Days,
    /// For how many days a token opens something.
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
    /// Several of them, with commas or semicolons between.
    MailAddresses,
}

/// What was typed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Typed {
    /// The rule that it is held against.
    pub rule: FieldRule,
    /// The text.
    #[schema(max_length = 10_000)]
    pub text: String,
    /// What stands there until now: its own name is not taken for whoever has it.
    #[serde(default)]
    pub until_now: Option<String>,
}

/// Whether what was typed keeps to the rule.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Ruling {
    /// What is wrong with it, in a sentence; nothing when it keeps to the rule.
    pub complaint: Option<String>,
}
