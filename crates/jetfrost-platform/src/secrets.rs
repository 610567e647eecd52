//! Where the system keeps secrets for a program.

use std::io;

/// Who keeps a secret, so that whoever copies this program's files does not have it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Keeper {
    /// The machine, for its administrator: sealed with a key of this machine, and with its security chip where it has one.
    Machine,
    /// The user's keyring, while that user is signed in.
    Keyring,
}

/// What keeps secrets.
pub trait Secrets {
    /// Who is best for the account that this process runs as; none where a file that only its owner can read is.
    fn best_keeper() -> Option<Keeper>;

    /// Whether a security chip takes part in what [`Keeper::Machine`] seals.
    fn has_security_chip() -> bool;

    /// Hands a text to a keeper, under a name. Returns what gives it back, together with the name: for a machine its sealed form.
    ///
    /// # Errors
    /// What the system says; [`io::ErrorKind::Unsupported`] when this keeper is not here.
    fn keep_secret(keeper: Keeper, name: &str, secret: &str) -> io::Result<String>;

    /// The secret of that name.
    ///
    /// # Errors
    /// As [`Self::keep_secret`]; [`io::ErrorKind::PermissionDenied`] when the keeper does not give it back.
    fn secret(keeper: Keeper, name: &str, kept: &str) -> io::Result<String>;

    /// Has a keeper forget the secret of that name. It is no error when there is none.
    ///
    /// # Errors
    /// As [`Self::keep_secret`].
    fn forget_secret(keeper: Keeper, name: &str) -> io::Result<()>;
}
