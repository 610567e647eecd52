//! Receipts: what the service puts on record when it commits a recovery point (§ 7).

use minicbor::{Decode, Encode};

use super::cursor::Cursor;
use super::{FormatError, check_at_end, from_cbor, with_check, with_clear_part};
use crate::id::StoreId;

const WHAT: &str = "the receipt of a recovery point";
const MAGIC: &[u8; 8] = b"\x89JFRCP\r\n";

/// What the service says of a point that it committed. A workstation has no part in it.
#[derive(Debug, Clone, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub struct Receipt {
    /// The store.
    #[n(0)]
    pub store: StoreId,
    /// The point's number.
    #[n(1)]
    pub sequence: u64,
    /// BLAKE3 of the point's file: that file and no other is the point.
    #[cbor(n(2), with = "minicbor::bytes")]
    pub point: [u8; 32],
    /// When it was committed, by the service's clock, in Unix milliseconds.
    #[n(3)]
    pub committed: i64,
    /// The check of the needs file with which it was committed, or of the one that folding made of it.
    #[cbor(n(4), with = "minicbor::bytes")]
    pub needs: [u8; 32],
    /// The check of the needs file that folding is about to put in that one's place.
    #[cbor(n(5), with = "minicbor::bytes")]
    pub next_needs: Option<[u8; 32]>,
}

impl Receipt {
    /// The receipt of the point whose file is `point`.
    pub(crate) fn of(store: StoreId, sequence: u64, point: &[u8], committed: i64, needs: [u8; 32]) -> Self {
        Self { store, sequence, point: *blake3::hash(point).as_bytes(), committed, needs, next_needs: None }
    }

    /// Whether a needs file with this check belongs to the point.
    #[must_use]
    pub fn names_needs(&self, check: &[u8; 32]) -> bool {
        self.needs == *check || self.next_needs.as_ref() == Some(check)
    }

    /// The bytes of the file.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        with_check(with_clear_part(MAGIC, self))
    }

    /// Reads the file and checks it against its own hash.
    ///
    /// # Errors
    /// [`FormatError`].
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, FormatError> {
        let mut cursor = Cursor::new(WHAT, bytes);
        let clear = cursor.clear_part(MAGIC)?;
        check_at_end(WHAT, bytes, &mut cursor)?;
        let receipt: Self = from_cbor(WHAT, clear)?;
        if receipt.sequence == 0 {
            return Err(FormatError::damaged(WHAT, "points are numbered from 1"));
        }
        Ok(receipt)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn receipt(next_needs: Option<[u8; 32]>) -> Receipt {
        Receipt { store: StoreId([1; 16]), sequence: 7, point: [2; 32], committed: 1_790_000_000_123, needs: [3; 32], next_needs }
    }

    #[test]
    fn a_receipt_round_trips() {
        for receipt in [receipt(None), receipt(Some([4; 32]))] {
            assert_eq!(Receipt::from_bytes(&receipt.to_bytes()), Ok(receipt));
        }
    }

    #[test]
    fn a_receipt_names_the_needs_that_were_committed_and_those_that_folding_made() {
        let folding = receipt(Some([4; 32]));
        assert!(folding.names_needs(&[3; 32]) && folding.names_needs(&[4; 32]) && !folding.names_needs(&[5; 32]));
    }

    proptest! {
        #[test]
        fn a_flipped_bit_is_noticed(bit in 0_usize..8, seed: usize) {
            let mut bytes = receipt(None).to_bytes();
            let at = seed % bytes.len();
            bytes[at] ^= 1 << bit;
            prop_assert!(Receipt::from_bytes(&bytes).is_err());
        }

        #[test]
        fn any_bytes_are_read_or_refused(bytes: Vec<u8>) {
            let _ = Receipt::from_bytes(&bytes);
        }
    }
}
