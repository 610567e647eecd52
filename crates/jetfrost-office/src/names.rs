//! Names of people, machines and places.

use unicode_normalization::UnicodeNormalization;

/// A name has so many characters at most.
pub const MOST_NAME: usize = 64;
/// A new password has so many characters at least.
pub const LEAST_PASSWORD: usize = 10;
/// A password has so many characters at most.
pub const MOST_PASSWORD: usize = 1000;

/// Why a text cannot be a name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NameError {
    /// Nothing, or only blanks.
    #[error("a name has at least one character")]
    Empty,
    /// Too long.
    #[error("a name has 64 characters at most")]
    TooLong,
    /// A character that cannot be typed or seen.
    #[error("a name has no control characters")]
    Control,
}

/// Checks a name and takes blanks off its ends.
///
/// # Errors
/// [`NameError`].
pub fn check(text: &str) -> Result<&str, NameError> {
    let name = text.trim();
    match name {
        "" => Err(NameError::Empty),
        _ if name.chars().count() > MOST_NAME => Err(NameError::TooLong),
        _ if name.chars().any(char::is_control) => Err(NameError::Control),
        _ => Ok(name),
    }
}

/// The form by which names are compared: letter case and the way accents are typed do not decide.
#[must_use]
pub fn key(name: &str) -> String {
    name.trim().nfc().flat_map(char::to_lowercase).nfc().collect()
}

/// Why a password is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PasswordError {
    /// Too short.
    #[error("a password has 10 characters at least")]
    TooShort,
    /// Too long.
    #[error("a password has 1,000 characters at most")]
    TooLong,
}

/// Checks a new password. Length is all that is asked for.
///
/// # Errors
/// [`PasswordError`].
pub fn check_password(password: &str) -> Result<(), PasswordError> {
    match password.chars().count() {
        0..LEAST_PASSWORD => Err(PasswordError::TooShort),
        LEAST_PASSWORD..=MOST_PASSWORD => Ok(()),
        _ => Err(PasswordError::TooLong),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_trimmed_and_bounded() {
        assert_eq!(check("  Front desk "), Ok("Front desk"));
        assert_eq!(check(" \t"), Err(NameError::Empty));
        assert_eq!(check(&"ö".repeat(65)), Err(NameError::TooLong));
        assert_eq!(check(&"ö".repeat(64)).map(str::len), Ok(128));
        assert_eq!(check("a\nb"), Err(NameError::Control));
    }

    #[test]
    fn neither_case_nor_the_way_of_typing_accents_makes_another_name() {
        assert_eq!(key("Brachvögel"), key("BRACHVO\u{308}GEL "));
        assert_ne!(key("anna"), key("anne"));
    }

    #[test]
    fn a_password_is_long_enough() {
        assert_eq!(check_password("wind-7-sea"), Ok(()));
        assert_eq!(check_password("wind-7-se"), Err(PasswordError::TooShort));
    }
}
