//! The recovery key as a person prints and types it (§ 3).

use std::fmt;

use zeroize::{Zeroize, ZeroizeOnDrop};

const GROUPS: usize = 8;
/// Crockford's base 32.
const SYMBOLS: &[u8; 32] = b"0123456789ABCDEFGHJKMNPQRSTVWXYZ";

/// A random key of 128 bits that unlocks a store; shown once as eight groups of four symbols.
#[derive(Clone, PartialEq, Eq, Zeroize, ZeroizeOnDrop)]
pub struct RecoveryKey(pub [u8; 16]);

/// Why typed text is not a recovery key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum RecoveryKeyError {
    /// Not 32 symbols.
    #[error("a recovery key has 8 groups of 4 symbols, 32 in all; this has {0}")]
    Length(usize),
    /// A symbol that recovery keys do not use.
    #[error("'{0}' does not occur in recovery keys")]
    Symbol(char),
    /// The check of a group failed.
    #[error("group {0} is mistyped: compare it with the printed key")]
    Group(usize),
}

impl RecoveryKey {
    /// Reads typed text; blanks and hyphens are ignored, case does not matter.
    ///
    /// # Errors
    /// [`RecoveryKeyError`] says which group is mistyped.
    pub fn parse(text: &str) -> Result<Self, RecoveryKeyError> {
        let values = text.chars().filter(|c| !c.is_whitespace() && *c != '-').map(value).collect::<Result<Vec<_>, _>>()?;
        if values.len() != 4 * GROUPS {
            return Err(RecoveryKeyError::Length(values.len()));
        }
        let mut key = [0; 16];
        for (i, (symbols, out)) in values.chunks_exact(4).zip(key.chunks_exact_mut(2)).enumerate() {
            let bits = symbols.iter().fold(0_u32, |bits, v| bits << 5 | v);
            out.copy_from_slice(&((bits >> 4) as u16).to_be_bytes());
            if bits & 0xf != check(i, [out[0], out[1]]) {
                return Err(RecoveryKeyError::Group(i + 1));
            }
        }
        Ok(Self(key))
    }
}

/// The printed form.
impl fmt::Display for RecoveryKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (i, pair) in self.0.chunks_exact(2).enumerate() {
            if i > 0 {
                f.write_str("-")?;
            }
            let pair = [pair[0], pair[1]];
            let bits = u32::from(u16::from_be_bytes(pair)) << 4 | check(i, pair);
            for shift in [15, 10, 5, 0] {
                write!(f, "{}", char::from(SYMBOLS[(bits >> shift & 31) as usize]))?;
            }
        }
        Ok(())
    }
}

/// Shows nothing of the key.
impl fmt::Debug for RecoveryKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("RecoveryKey(…)")
    }
}

fn check(group: usize, pair: [u8; 2]) -> u32 {
    let mut hasher = blake3::Hasher::new();
    hasher.update(b"jetfrost recovery group");
    hasher.update(&[u8::try_from(group).expect("there are eight groups")]);
    hasher.update(&pair);
    u32::from(hasher.finalize().as_bytes()[0] & 0xf)
}

fn value(symbol: char) -> Result<u32, RecoveryKeyError> {
    let upper = match symbol.to_ascii_uppercase() {
        'O' => '0',
        'I' | 'L' => '1',
        other => other,
    };
    let place = SYMBOLS.iter().position(|s| char::from(*s) == upper).ok_or(RecoveryKeyError::Symbol(symbol))?;
    Ok(u32::try_from(place).expect("there are 32 symbols"))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn printed_keys_read_back(bytes: [u8; 16]) {
            let key = RecoveryKey(bytes);
            prop_assert_eq!(RecoveryKey::parse(&key.to_string()), Ok(key.clone()));
            prop_assert_eq!(RecoveryKey::parse(&key.to_string().to_lowercase().replace('-', " ")), Ok(key));
        }

        #[test]
        fn any_text_is_read_or_refused(text: String) {
            let _ = RecoveryKey::parse(&text);
        }
    }

    #[test]
    fn a_mistyped_group_is_named() {
        let printed = RecoveryKey([7; 16]).to_string();
        let noticed = SYMBOLS
            .iter()
            .map(|s| format!("{}{}{}", &printed[..10], char::from(*s), &printed[11..]))
            .filter(|typed| *typed != printed)
            .filter(|typed| RecoveryKey::parse(typed) == Err(RecoveryKeyError::Group(3)))
            .count();
        assert!(noticed >= 27, "{noticed} of 31 wrong symbols were noticed");
    }
}
