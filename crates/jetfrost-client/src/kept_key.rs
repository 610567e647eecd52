//! Where the store key is kept on a machine: in a file that only its owner can read, sealed for this machine, or in the user's keyring.
//!
//! A copy of the state directory then does not give the key away: it is of no use on another machine, or without the user. What can no
//! longer be opened is as good as lost, and a person puts it back with the image passphrase or the recovery key.

use std::fmt;

use data_encoding::HEXLOWER;
use jetfrost_image::crypto::StoreKey;
use jetfrost_platform::{Keeper, Secrets, System};
use serde::{Deserialize, Serialize};

use crate::error::ClientError;

type Result<T> = std::result::Result<T, ClientError>;

/// Where a store key is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum KeyPlace {
    /// In a file that only its owner can read.
    File,
    /// Sealed for this machine and its administrator.
    Machine,
    /// Sealed for this machine and its security chip.
    SecurityChip,
    /// In the user's keyring.
    Keyring,
}

/// What stands between "The store key is" and the end of a clause.
impl fmt::Display for KeyPlace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::File => "in a file that only its owner can read",
            Self::Machine => "sealed for this machine",
            Self::SecurityChip => "sealed by this machine's security chip",
            Self::Keyring => "in this user's keyring",
        })
    }
}

/// A store key as it is kept.
#[derive(Serialize, Deserialize)]
pub(crate) struct KeptKey {
    /// A person chose the place.
    #[serde(default)]
    chosen: bool,
    #[serde(flatten)]
    kept: Kept,
}

#[derive(Serialize, Deserialize)]
#[serde(tag = "in", rename_all = "snake_case")]
enum Kept {
    File {
        /// In hexadecimal.
        key: String,
    },
    Machine {
        /// As the system wants it back.
        sealed: String,
        /// Whether the security chip took part.
        chip: bool,
    },
    Keyring,
}

const DAMAGED: ClientError = ClientError::StoreKey("the file with the store key is damaged");

impl KeptKey {
    /// From the bytes of its file; up to 0.3 that was the key alone.
    ///
    /// # Errors
    /// [`ClientError::StoreKey`].
    pub(crate) fn from_bytes(bytes: &[u8]) -> Result<Self> {
        if let Ok(read) = serde_json::from_slice(bytes) {
            return Ok(read);
        }
        let key = StoreKey(HEXLOWER.decode(bytes.trim_ascii()).ok().and_then(|b| b.try_into().ok()).ok_or(DAMAGED)?);
        Ok(Self { chosen: false, kept: in_file(&key) })
    }

    /// Keeps a key where a person wants it.
    ///
    /// # Errors
    /// [`ClientError::StoreKey`] when that place does not keep it, or would not give it back.
    pub(crate) fn in_place(place: KeyPlace, name: &str, key: &StoreKey) -> Result<Self> {
        let kept = match place {
            KeyPlace::File => in_file(key),
            KeyPlace::Machine | KeyPlace::SecurityChip => handed_to(Keeper::Machine, name, key)?,
            KeyPlace::Keyring => handed_to(Keeper::Keyring, name, key)?,
        };
        Ok(Self { chosen: true, kept })
    }

    /// Keeps a key in the best place that gives it back.
    pub(crate) fn in_the_best_place(name: &str, key: &StoreKey) -> Self {
        let handed = System::best_keeper().and_then(|keeper| handed_to(keeper, name, key).ok());
        Self { chosen: false, kept: handed.unwrap_or_else(|| in_file(key)) }
    }

    /// Whether there may be a better place for it.
    pub(crate) fn could_be_better(&self) -> bool {
        !self.chosen && matches!(self.kept, Kept::File { .. }) && System::best_keeper().is_some()
    }

    /// Where it is.
    pub(crate) fn place(&self) -> KeyPlace {
        match self.kept {
            Kept::File { .. } => KeyPlace::File,
            Kept::Machine { chip: true, .. } => KeyPlace::SecurityChip,
            Kept::Machine { chip: false, .. } => KeyPlace::Machine,
            Kept::Keyring => KeyPlace::Keyring,
        }
    }

    /// The key.
    ///
    /// # Errors
    /// [`ClientError::StoreKey`] says why it is not to be had.
    pub(crate) fn open(&self, name: &str) -> Result<StoreKey> {
        let given = match &self.kept {
            Kept::File { key } => return store_key(key).ok_or(DAMAGED),
            Kept::Machine { sealed, .. } => System::secret(Keeper::Machine, name, sealed)
                .map_err(|_| "the store key is sealed, and this machine no longer opens it: it belongs to another machine or user, or the machine's own key or chip was replaced"),
            Kept::Keyring => System::secret(Keeper::Keyring, name, "")
                .map_err(|_| "the store key is in this user's keyring, which is locked or no longer has it"),
        };
        let given = given.map_err(ClientError::StoreKey)?;
        store_key(&given).ok_or(ClientError::StoreKey("what was kept as the store key is none"))
    }

    /// Has whoever keeps it forget it. What cannot be reached keeps a key that opens nothing without the service.
    pub(crate) fn forget(&self, name: &str) {
        if matches!(self.kept, Kept::Keyring) {
            let _ = System::forget_secret(Keeper::Keyring, name);
        }
    }
}

fn in_file(key: &StoreKey) -> Kept {
    Kept::File { key: HEXLOWER.encode(&key.0) }
}

/// Hands a key to a keeper, and shows that it gives the same back.
fn handed_to(keeper: Keeper, name: &str, key: &StoreKey) -> Result<Kept> {
    const NOT_KEPT: ClientError = ClientError::StoreKey("this machine does not keep the store key there");
    let chip = keeper == Keeper::Machine && System::has_security_chip();
    let sealed = System::keep_secret(keeper, name, &HEXLOWER.encode(&key.0)).map_err(|_| NOT_KEPT)?;
    let given = System::secret(keeper, name, &sealed).map_err(|_| NOT_KEPT)?;
    if store_key(&given).is_none_or(|given| given.0 != key.0) {
        return Err(NOT_KEPT);
    }
    Ok(match keeper {
        Keeper::Machine => Kept::Machine { sealed, chip },
        Keeper::Keyring => Kept::Keyring,
    })
}

fn store_key(text: &str) -> Option<StoreKey> {
    HEXLOWER.decode(text.trim().as_bytes()).ok().and_then(|bytes| bytes.try_into().ok()).map(StoreKey)
}

#[cfg(test)]
mod tests {
    use super::*;

    const KEY: StoreKey = StoreKey([7; 32]);

    fn read_again(kept: &KeptKey) -> KeptKey {
        KeptKey::from_bytes(&serde_json::to_vec_pretty(kept).expect("JSON")).expect("read")
    }

    #[test]
    fn a_key_that_is_sealed_for_this_machine_is_in_no_file_and_opens_under_its_name_alone() {
        let kept = KeptKey::in_place(KeyPlace::Machine, "store-key-a", &KEY).expect("systemd is installed");
        let written = serde_json::to_string(&kept).expect("JSON");
        assert!(!written.contains(&HEXLOWER.encode(&KEY.0)), "{written}");
        let kept = read_again(&kept);
        assert_eq!(kept.open("store-key-a").expect("opened").0, KEY.0);
        assert!(matches!(kept.open("store-key-b"), Err(ClientError::StoreKey(_))), "the file of another workstation");
        assert!(!kept.could_be_better());
    }

    #[test]
    fn a_key_of_an_earlier_version_is_read_and_a_chosen_place_stays() {
        let before = KeptKey::from_bytes(format!("{}\n", HEXLOWER.encode(&KEY.0)).as_bytes()).expect("read");
        assert_eq!((before.open("store-key-a").expect("opened").0, before.place()), (KEY.0, KeyPlace::File));
        let chosen = read_again(&KeptKey::in_place(KeyPlace::File, "store-key-a", &KEY).expect("kept"));
        assert!(chosen.chosen && !chosen.could_be_better());
    }

    #[test]
    fn what_is_no_key_is_said_to_be_damaged() {
        for bytes in [&b""[..], b"00", b"{}", b"{\"in\":\"file\",\"key\":\"00\"}", b"{\"in\":\"elsewhere\"}", &[0xff; 64]] {
            let opened = KeptKey::from_bytes(bytes).and_then(|kept| kept.open("store-key-a"));
            assert!(matches!(opened, Err(ClientError::StoreKey(_))), "{bytes:?}");
        }
    }
}
