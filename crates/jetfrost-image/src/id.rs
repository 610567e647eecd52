//! One type per identifier, so that two of them cannot be mixed up.

use std::fmt;
use std::str::FromStr;

use data_encoding::HEXLOWER;
use minicbor::decode::Error as DecodeError;
use minicbor::encode::{Error as EncodeError, Write};
use minicbor::{Decode, Decoder, Encode, Encoder};

/// Text that is not the hexadecimal form of an identifier.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("not {expected} hexadecimal digits")]
pub struct NotAnId {
    /// How many digits the identifier has.
    pub expected: usize,
}

macro_rules! byte_id {
    ($(#[$doc:meta])* $name:ident, $len:literal) => {
        $(#[$doc])*
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub struct $name(pub [u8; $len]);

        impl $name {
            /// Length in bytes.
            pub const LEN: usize = $len;

            /// The identifier as bytes.
            #[must_use]
            pub fn as_bytes(&self) -> &[u8; $len] {
                &self.0
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(&HEXLOWER.encode(&self.0))
            }
        }

        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                write!(f, concat!(stringify!($name), "({})"), self)
            }
        }

        impl FromStr for $name {
            type Err = NotAnId;

            fn from_str(text: &str) -> Result<Self, NotAnId> {
                let wrong = NotAnId { expected: 2 * $len };
                let bytes = HEXLOWER.decode(text.as_bytes()).map_err(|_| wrong.clone())?;
                bytes.try_into().map(Self).map_err(|_| wrong)
            }
        }

        impl<C> Encode<C> for $name {
            fn encode<W: Write>(&self, e: &mut Encoder<W>, _: &mut C) -> Result<(), EncodeError<W::Error>> {
                e.bytes(&self.0)?;
                Ok(())
            }
        }

        impl<'b, C> Decode<'b, C> for $name {
            fn decode(d: &mut Decoder<'b>, _: &mut C) -> Result<Self, DecodeError> {
                let bytes = d.bytes()?;
                bytes.try_into().map(Self).map_err(|_| DecodeError::message(concat!(stringify!($name), " of another length")))
            }
        }
    };
}

byte_id!(
    /// Names a chunk: the keyed BLAKE3 hash of its content (§ 4).
    ChunkName,
    32
);
byte_id!(
    /// Names a segment: the BLAKE3 hash of its file (§ 5).
    SegmentHash,
    32
);
byte_id!(
    /// Identifies an image store; random.
    StoreId,
    16
);
byte_id!(
    /// Identifies a recovery point; random.
    PointId,
    16
);
byte_id!(
    /// Identifies an order of a restore; random.
    OrderId,
    16
);
byte_id!(
    /// Identifies a key slot within its store; random.
    SlotId,
    8
);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hexadecimal_form_round_trips() {
        let id = SlotId([0, 1, 2, 0xab, 0xcd, 0xef, 0x10, 0xff]);
        assert_eq!(id.to_string(), "000102abcdef10ff");
        assert_eq!("000102abcdef10ff".parse(), Ok(id));
    }

    #[test]
    fn other_text_is_refused() {
        for text in ["", "00", "000102abcdef10fg", "000102ABCDEF10FF", "../../../etc/pass"] {
            assert_eq!(text.parse::<SlotId>(), Err(NotAnId { expected: 16 }));
        }
    }
}
