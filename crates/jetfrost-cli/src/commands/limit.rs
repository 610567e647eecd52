//! Limits and what happens at them, as they are typed.

use clap::ValueEnum;
use jetfrost_types::Limit;
use jetfrost_wire::retention::AtLimit;
use jetfrost_wire::size;

/// A size, or 'none' for no limit.
pub(crate) fn parse_limit(text: &str) -> Result<Limit, size::NotASize> {
    if text.eq_ignore_ascii_case("none") { Ok(Limit::None) } else { size::parse(text).map(Limit::Bytes) }
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
