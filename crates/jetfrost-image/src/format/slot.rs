//! Key slots: the store key, wrapped for one secret (§ 3).

use minicbor::bytes::ByteArray;
use minicbor::{Decode, Encode};

use super::{CHECK, FormatError, VERSION, check_last_key, from_cbor, with_last_key_as_check};
use crate::id::{SlotId, StoreId};

const WHAT: &str = "a key slot";
/// The most characters that a label may have.
const MAX_LABEL: usize = 64;

/// What kind of secret a slot is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Encode, Decode)]
#[cbor(index_only)]
pub enum SlotKind {
    /// A passphrase, through Argon2id.
    #[n(1)]
    Passphrase,
    /// A printed recovery key.
    #[n(2)]
    RecoveryKey,
    /// The office's public key, by HPKE.
    #[n(3)]
    Escrow,
    /// No secret at all: whoever has the store reads it. Only in a store that says so of itself.
    #[n(4)]
    Open,
}

/// What Argon2id may use (RFC 9106).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Encode, Decode)]
#[cbor(array)]
pub struct ArgonCost {
    /// Memory in KiB.
    #[n(0)]
    pub memory: u32,
    /// Passes over the memory.
    #[n(1)]
    pub passes: u32,
    /// Lanes.
    #[n(2)]
    pub lanes: u32,
}

impl ArgonCost {
    /// What new slots use: a quarter to half a second on an office machine.
    pub const USUAL: Self = Self { memory: 64 * 1024, passes: 4, lanes: 1 };

    pub(super) fn check(self) -> Result<(), FormatError> {
        let sane = (8..=1 << 20).contains(&self.memory) && (1..=16).contains(&self.passes) && (1..=8).contains(&self.lanes);
        if sane && self.memory >= 8 * self.lanes {
            Ok(())
        } else {
            Err(FormatError::damaged(WHAT, "it asks for more memory or time than a slot may"))
        }
    }
}

/// A key slot as stored.
#[derive(Debug, Clone, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub struct Slot {
    #[n(0)]
    pub(crate) version: u64,
    /// The store whose key is wrapped.
    #[n(1)]
    pub store: StoreId,
    /// Which slot of the store this is.
    #[n(2)]
    pub id: SlotId,
    /// For which kind of secret.
    #[n(3)]
    pub kind: SlotKind,
    /// When it was made, in Unix seconds.
    #[n(4)]
    pub created: i64,
    /// Random.
    #[cbor(n(5), with = "minicbor::bytes")]
    pub salt: [u8; 16],
    /// What Argon2id used; only for passphrases.
    #[n(6)]
    pub cost: Option<ArgonCost>,
    /// Random.
    #[cbor(n(7), with = "minicbor::bytes")]
    pub nonce: [u8; 12],
    /// The wrapped store key with its tag.
    #[cbor(n(8), with = "minicbor::bytes")]
    pub wrapped: [u8; 48],
    /// What a person called it.
    #[n(9)]
    pub label: Option<String>,
    /// The encapsulated key of HPKE; only for escrow.
    #[n(10)]
    pub encapsulated: Option<ByteArray<32>>,
    /// The public half of the office key that this was wrapped for; only for escrow.
    #[n(11)]
    pub office: Option<ByteArray<32>>,
    /// Shows damage to who has no secret; slots of the first versions have none.
    #[n(255)]
    pub(crate) check: Option<ByteArray<CHECK>>,
}

impl Slot {
    /// A slot whose key is still to be wrapped.
    #[must_use]
    pub fn unsealed(store: StoreId, id: SlotId, kind: SlotKind, created: i64, salt: [u8; 16], cost: Option<ArgonCost>) -> Self {
        Self {
            version: VERSION.into(),
            store,
            id,
            kind,
            created,
            salt,
            cost,
            nonce: [0; 12],
            wrapped: [0; 48],
            label: None,
            encapsulated: None,
            office: None,
            check: None,
        }
    }

    /// The associated data that binds the wrapped key to what this slot says of itself.
    #[must_use]
    pub fn associated_data(&self) -> Vec<u8> {
        let cost = self.cost.unwrap_or(ArgonCost { memory: 0, passes: 0, lanes: 0 });
        let kind = match self.kind {
            SlotKind::Passphrase => 1,
            SlotKind::RecoveryKey => 2,
            SlotKind::Escrow => 3,
            SlotKind::Open => 4,
        };
        let mut data = b"jetfrost v1 slot".to_vec();
        data.extend(self.store.as_bytes());
        data.extend(self.id.as_bytes());
        data.push(kind);
        data.extend(self.salt);
        for number in [cost.memory, cost.passes, cost.lanes] {
            data.extend(number.to_le_bytes());
        }
        if let Some(office) = &self.office {
            data.extend(&office[..]);
        }
        data
    }

    /// The bytes of the file, with their check.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        with_last_key_as_check(&Self { check: Some([0; CHECK].into()), ..self.clone() })
    }

    /// Reads a slot; a cost beyond what slots may ask for is refused here, before anything is spent.
    ///
    /// # Errors
    /// [`FormatError`] when it is not a slot, or one of a later version.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, FormatError> {
        let slot: Self = from_cbor(WHAT, bytes)?;
        check_last_key(WHAT, bytes, &slot, slot.check.as_ref())?;
        let slot = Self { check: None, ..slot };
        if slot.version != u64::from(VERSION) {
            return Err(FormatError::UnknownVersion { what: WHAT, found: slot.version });
        }
        match (slot.kind, slot.cost) {
            (SlotKind::Passphrase, Some(cost)) => cost.check()?,
            (SlotKind::Passphrase, None) => {
                return Err(FormatError::damaged(WHAT, "its cost is missing"));
            }
            (SlotKind::RecoveryKey | SlotKind::Escrow | SlotKind::Open, _) => {}
        }
        let for_escrow = (slot.encapsulated.is_some(), slot.office.is_some());
        if for_escrow != (slot.kind == SlotKind::Escrow, slot.kind == SlotKind::Escrow) {
            return Err(FormatError::damaged(WHAT, "what belongs to escrow is missing or out of place"));
        }
        if slot.label.as_ref().is_some_and(|label| label.chars().count() > MAX_LABEL) {
            return Err(FormatError::damaged(WHAT, "its label is longer than labels are"));
        }
        Ok(slot)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn slot(cost: ArgonCost) -> Slot {
        Slot::unsealed(StoreId([1; 16]), SlotId([2; 8]), SlotKind::Passphrase, 1_700_000_000, [3; 16], Some(cost))
    }

    #[test]
    fn a_slot_round_trips() {
        let slot = slot(ArgonCost::USUAL);
        assert_eq!(Slot::from_bytes(&slot.to_bytes()), Ok(slot));
    }

    #[test]
    fn a_hostile_cost_is_refused_before_it_is_spent() {
        for cost in [
            ArgonCost { memory: 100 << 20, ..ArgonCost::USUAL },
            ArgonCost { passes: 1_000_000, ..ArgonCost::USUAL },
            ArgonCost { lanes: 255, ..ArgonCost::USUAL },
            ArgonCost { memory: 0, ..ArgonCost::USUAL },
        ] {
            assert!(Slot::from_bytes(&slot(cost).to_bytes()).is_err(), "{cost:?}");
        }
    }

    #[test]
    fn every_flipped_bit_is_seen_without_a_secret() {
        let bytes = slot(ArgonCost::USUAL).to_bytes();
        for bit in 0..bytes.len() * 8 {
            let mut flipped = bytes.clone();
            flipped[bit / 8] ^= 1 << (bit % 8);
            let read = Slot::from_bytes(&flipped);
            assert!(read.is_err(), "bit {bit}: {read:?}");
        }
    }

    #[test]
    fn a_slot_of_the_first_versions_has_no_check_and_is_read() {
        let slot = slot(ArgonCost::USUAL);
        assert_eq!(Slot::from_bytes(&super::super::to_cbor(&slot)), Ok(slot));
    }

    #[test]
    fn every_truncation_is_refused() {
        let bytes = slot(ArgonCost::USUAL).to_bytes();
        for n in 0..bytes.len() {
            assert!(Slot::from_bytes(&bytes[..n]).is_err(), "{n} bytes");
        }
    }
}
