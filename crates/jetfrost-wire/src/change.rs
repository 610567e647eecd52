//! Changes that name only what is to be changed.

use serde::{Deserialize, Deserializer};

/// Tells a value that is not there (leave it as it is) from `null` (there is to be none).
pub(crate) fn present<'de, D: Deserializer<'de>, T: Deserialize<'de>>(from: D) -> Result<Option<Option<T>>, D::Error> {
    Option::deserialize(from).map(Some)
}
