//! Limits and what happens at them, as they are typed.

use std::str::FromStr;

use clap::ValueEnum;
use jetfrost_wire::retention::AtLimit;
use jetfrost_wire::size;

/// A size, or no limit.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Limit {
    None,
    Bytes(u64),
}

impl FromStr for Limit {
    type Err = size::NotASize;

    fn from_str(text: &str) -> Result<Self, size::NotASize> {
        if text.eq_ignore_ascii_case("none") { Ok(Self::None) } else { size::parse(text).map(Self::Bytes) }
    }
}

impl Limit {
    pub(crate) fn bytes(self) -> Option<u64> {
        match self {
            Self::None => None,
            Self::Bytes(bytes) => Some(bytes),
        }
    }
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum AtLimitName {
    Stop,
    ExpireOldest,
}

impl From<AtLimitName> for AtLimit {
    fn from(name: AtLimitName) -> Self {
        match name {
            AtLimitName::Stop => Self::Stop,
            AtLimitName::ExpireOldest => Self::ExpireOldest,
        }
    }
}
