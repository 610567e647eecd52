//! Bytes in JSON.

use data_encoding::BASE64;
use serde::de::Error;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use utoipa::ToSchema;

/// Bytes, as base64 (RFC 4648, § 4) in JSON.
#[derive(Debug, Clone, PartialEq, Eq, ToSchema)]
#[schema(value_type = String, format = Byte)]
pub struct Binary(pub Vec<u8>);

impl Serialize for Binary {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&BASE64.encode(&self.0))
    }
}

impl<'de> Deserialize<'de> for Binary {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        BASE64.decode(text.as_bytes()).map(Self).map_err(|_| D::Error::custom("not base64"))
    }
}
