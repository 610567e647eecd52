//! Limits on bytes.

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// Bytes that something may occupy, or that there is no limit. In JSON a number, or `null` for none; where a limit may also be left to
/// somebody else, the field is absent: `Option<Limit>` with [`given`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum Limit {
    /// There is no limit.
    #[default]
    None,
    /// So many bytes at most.
    Bytes(u64),
}

impl Limit {
    /// The bytes; none without a limit.
    #[must_use]
    pub fn bytes(self) -> Option<u64> {
        match self {
            Self::None => None,
            Self::Bytes(bytes) => Some(bytes),
        }
    }
}

impl From<Option<u64>> for Limit {
    fn from(bytes: Option<u64>) -> Self {
        bytes.map_or(Self::None, Self::Bytes)
    }
}

impl Serialize for Limit {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        self.bytes().serialize(to)
    }
}

impl<'de> Deserialize<'de> for Limit {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        Option::<u64>::deserialize(from).map(Self::from)
    }
}

/// For fields that may be absent: one that is there says a limit, or with `null` that there is none.
///
/// # Errors
/// When it is neither `null` nor a number of bytes.
pub fn given<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Limit>, D::Error> {
    Limit::deserialize(from).map(Some)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Debug, PartialEq, Serialize, Deserialize)]
    struct Change {
        #[serde(default, deserialize_with = "given", skip_serializing_if = "Option::is_none")]
        limit: Option<Limit>,
    }

    #[test]
    fn no_limit_is_told_from_nothing_said_both_ways() {
        for (text, limit) in [
            ("{}", None),
            ("{\"limit\":null}", Some(Limit::None)),
            ("{\"limit\":0}", Some(Limit::Bytes(0))),
            ("{\"limit\":500}", Some(Limit::Bytes(500))),
        ] {
            let change: Change = serde_json::from_str(text).expect("a change");
            assert_eq!(change, Change { limit });
            assert_eq!(serde_json::to_string(&change).expect("JSON"), text);
        }
        assert!(serde_json::from_str::<Change>("{\"limit\":-1}").is_err());
        assert!(serde_json::from_str::<Change>("{\"limit\":\"none\"}").is_err());
    }
}
