//! Where a machine keeps its settings and keys.

use std::fs::{File, OpenOptions, TryLockError};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::{fs, io};

use jetfrost_image::crypto::{StoreKey, StoreKeys};
use jetfrost_image::medium::{FileLock, replace_file};
use jetfrost_platform::{Accounts, NewDirectory, Opening, System};
use jetfrost_wire::diagnosis::Diagnosis;
use jetfrost_wire::workstation::PointKind;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::api::Api;
use crate::error::ClientError;
use crate::hooks::Hooks;
use crate::kept_key::{KeptKey, KeyPlace};
use crate::orders::OrderRecord;
use crate::pins::Learn;
use crate::selection::Selection;

type Result<T> = std::result::Result<T, ClientError>;

/// The directory of a machine's settings and keys. Only its owner can read it.
#[derive(Debug, Clone)]
pub struct StateDir(PathBuf);

/// What a machine knows once it is a workstation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Membership {
    /// `host:port` of the service.
    pub address: String,
    /// The address that a person gave, where the service was followed to another one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub moved_from: Option<String>,
    /// SHA-256 of the certificate of its identity, in hexadecimal.
    pub fingerprint: String,
    /// The installation.
    pub service: String,
    /// This workstation.
    pub workstation: String,
    /// Its name.
    pub name: String,
    /// Login name of the account that it belongs to.
    pub login: String,
    /// Name of the destination of its image store.
    pub destination: String,
    /// Its image store, in hexadecimal.
    pub store: String,
    /// The device credential.
    pub credential: String,
}

/// A person's session on this machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Session {
    /// `host:port` of the service.
    pub address: String,
    /// SHA-256 of the certificate of its identity, in hexadecimal.
    pub fingerprint: String,
    /// Login name.
    pub login: String,
    /// The bearer token.
    pub token: String,
}

/// The latest point that this workstation made, by which a service that went back in time is noticed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Seen {
    /// Its number.
    pub(crate) sequence: u64,
    /// Its id, in hexadecimal.
    pub(crate) point: String,
}

const MEMBERSHIP: &str = "workstation.json";
const SESSION: &str = "session.json";
const SELECTION: &str = "selection.toml";
/// What it was called up to 0.3.
const SELECTION_BEFORE: &str = "chosen.toml";
const STORE_KEY: &str = "store-key";
const HOOKS: &str = "hooks.toml";
const SEEN: &str = "seen.json";
const AGENT: &str = "agent.json";
const ORDERS: &str = "orders.json";
const DIAGNOSIS: &str = "diagnosis.json";
const PROBE: &str = "probe";
const KEY_PIN: &str = "store-key-pin.json";

/// What tells this workstation's store key from any other, and nothing about it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct KeyPin {
    /// The name that the key gives to an agreed content, in hexadecimal.
    id: String,
}

/// The name of the store key where a machine or a keyring keeps it.
fn key_name(membership: &Membership) -> String {
    format!("store-key-{}", membership.workstation)
}

fn key_id(membership: &Membership, key: &StoreKey) -> Result<String> {
    let store = membership.store.parse().map_err(|_| ClientError::NotJoined)?;
    Ok(StoreKeys::derive(store, key).name(b"the key of this workstation").to_string())
}

impl StateDir {
    /// The state directory in `directory`, which is made when something is kept.
    #[must_use]
    pub fn new(directory: impl Into<PathBuf>) -> Self {
        Self(directory.into())
    }

    /// The usual place: `/var/lib/jetfrost-workstation` for root, `~/.local/state/jetfrost` for others
    /// (or below `XDG_STATE_HOME`).
    #[must_use]
    pub fn usual() -> Self {
        if System::is_administrator() {
            return Self("/var/lib/jetfrost-workstation".into());
        }
        let state = std::env::var_os("XDG_STATE_HOME").map(PathBuf::from);
        let home = std::env::var_os("HOME").map_or_else(|| "/".into(), PathBuf::from);
        Self(state.unwrap_or_else(|| home.join(".local/state")).join("jetfrost"))
    }

    /// The directory.
    #[must_use]
    pub fn directory(&self) -> &Path {
        &self.0
    }

    /// What this workstation knows.
    ///
    /// # Errors
    /// [`ClientError::NotJoined`].
    pub fn membership(&self) -> Result<Membership> {
        self.read_json(MEMBERSHIP)?.ok_or(ClientError::NotJoined)
    }

    /// Shows that this machine can keep what makes it a workstation: before an enrolment code is used up.
    pub(crate) fn prove_writable(&self) -> Result<()> {
        self.write(PROBE, b"may be removed")?;
        fs::remove_file(self.0.join(PROBE)).map_err(ClientError::file("removing", self.0.join(PROBE)))
    }

    /// Keeps what makes this machine a workstation; the store key first, so that it is never missing.
    pub(crate) fn keep_membership(&self, membership: &Membership, key: &StoreKey) -> Result<()> {
        self.keep_key(membership, key)?;
        self.write_json(MEMBERSHIP, membership)
    }

    /// Keeps what makes this machine a workstation whose store key is still to come.
    pub(crate) fn keep_claimed(&self, membership: &Membership) -> Result<()> {
        self.write_json(MEMBERSHIP, membership)
    }

    /// Undoes a join: forgets the service, the store key and all that belongs to them. What a person chose and set stays: the selection
    /// and the commands around a backup. Not while a backup is made or an agent runs.
    ///
    /// # Errors
    /// [`ClientError::NotJoined`]; [`ClientError::Busy`]; [`ClientError::File`].
    pub fn leave(&self) -> Result<Membership> {
        let membership = self.membership()?;
        let _lock = self.lock()?;
        for kind in [PointKind::Files, PointKind::Disk] {
            let path = self.memory_directory(kind)?;
            fs::remove_dir_all(&path).map_err(ClientError::file("removing", &path))?;
        }
        if let Ok(kept) = self.kept_key() {
            kept.forget(&key_name(&membership));
        }
        // The membership goes last: until then the rest can be removed by leaving again.
        for name in [SEEN, AGENT, DIAGNOSIS, KEY_PIN, STORE_KEY, MEMBERSHIP] {
            self.remove(name)?;
        }
        Ok(membership)
    }

    /// The keys of this workstation's image store.
    ///
    /// # Errors
    /// [`ClientError::NotJoined`] when they are not here.
    pub fn keys(&self, membership: &Membership) -> Result<StoreKeys> {
        let store = membership.store.parse().map_err(|_| ClientError::NotJoined)?;
        let key = self.store_key()?;
        // A disk that flips a bit of it leaves what looks like a key. A pin that cannot be read says nothing.
        if self.read_json::<KeyPin>(KEY_PIN).ok().flatten().is_some_and(|pinned| Some(pinned.id) != key_id(membership, &key).ok())
        {
            return Err(ClientError::StoreKey("the store key on this machine is damaged: its backups were made with another"));
        }
        Ok(StoreKeys::derive(store, &key))
    }

    /// The key of this workstation's image store.
    ///
    /// # Errors
    /// [`ClientError::StoreKey`] when it is not to be had here.
    pub(crate) fn store_key(&self) -> Result<StoreKey> {
        self.kept_key()?.open(&key_name(&self.membership()?))
    }

    /// Where the store key is kept on this machine.
    ///
    /// # Errors
    /// [`ClientError::StoreKey`] when it is not.
    pub fn key_place(&self) -> Result<KeyPlace> {
        self.kept_key().map(|kept| kept.place())
    }

    /// Keeps the store key elsewhere on this machine, and there from now on.
    ///
    /// # Errors
    /// [`ClientError::StoreKey`] when it is not here, or the place does not keep it.
    pub fn move_key(&self, to: KeyPlace) -> Result<()> {
        let (key, name) = (self.store_key()?, key_name(&self.membership()?));
        self.replace_key(&name, &KeptKey::in_place(to, &name, &key)?)
    }

    fn kept_key(&self) -> Result<KeptKey> {
        let bytes = self.read(STORE_KEY)?.ok_or(ClientError::StoreKey("the store key is missing on this machine"))?;
        KeptKey::from_bytes(&bytes)
    }

    /// Keeps the store key if it is not here. Says whether it was missing. One that is here is kept in the best place of this machine,
    /// unless a person chose another: whoever holds the secret could put it back.
    ///
    /// # Errors
    /// [`ClientError::OtherKey`] when it is not the key that this workstation's backups were made with.
    pub(crate) fn keep_key_if_lost(&self, membership: &Membership, key: &StoreKey) -> Result<bool> {
        let (id, pinned) = (key_id(membership, key)?, self.read_json::<KeyPin>(KEY_PIN)?);
        let is_another = match pinned {
            Some(pinned) => pinned.id != id,
            None => self.store_key().is_ok_and(|here| here.0 != key.0),
        };
        if is_another {
            return Err(ClientError::OtherKey);
        }
        let lost = self.keys(membership).is_err();
        if lost || self.kept_key().is_ok_and(|kept| kept.could_be_better()) {
            self.keep_key(membership, key)?;
        }
        Ok(lost)
    }

    /// Keeps the store key, and what tells it from any other should it be lost.
    fn keep_key(&self, membership: &Membership, key: &StoreKey) -> Result<()> {
        self.write_json(KEY_PIN, &KeyPin { id: key_id(membership, key)? })?;
        let name = key_name(membership);
        self.replace_key(&name, &KeptKey::in_the_best_place(&name, key))
    }

    /// Writes where the store key is from now on; where it was before, it is forgotten then.
    fn replace_key(&self, name: &str, kept: &KeptKey) -> Result<()> {
        let before = self.kept_key().ok();
        self.write_json(STORE_KEY, kept)?;
        if let Some(before) = before.filter(|before| before.place() != kept.place()) {
            before.forget(name);
        }
        Ok(())
    }

    /// The service, as this workstation talks to it.
    ///
    /// # Errors
    /// [`ClientError::NotJoined`].
    pub fn device_api(&self) -> Result<(Membership, Api)> {
        let membership = self.membership()?;
        let learn = self.learner(MEMBERSHIP, &membership, |membership, fingerprint| membership.fingerprint = fingerprint);
        let api = Api::learning(&membership.address, Some(&membership.fingerprint), Some(learn))?;
        let api = api.with_credential(&membership.credential);
        Ok((membership, api))
    }

    /// The service, as the person who signed in talks to it.
    ///
    /// # Errors
    /// [`ClientError::NotSignedIn`].
    pub fn session_api(&self) -> Result<(Session, Api)> {
        let session: Session = self.read_json(SESSION)?.ok_or(ClientError::NotSignedIn)?;
        let learn = self.learner(SESSION, &session, |session, fingerprint| session.fingerprint = fingerprint);
        let api = Api::learning(&session.address, Some(&session.fingerprint), Some(learn))?.with_credential(&session.token);
        Ok((session, api))
    }

    /// What keeps the identity that the service has now, unless somebody kept something else meanwhile. If it cannot be kept it is
    /// learned again from the next call.
    fn learner<T>(&self, name: &'static str, known: &T, set: fn(&mut T, String)) -> Learn
    where
        T: Serialize + DeserializeOwned + Clone + PartialEq + Send + Sync + 'static,
    {
        let (state_dir, known) = (self.clone(), known.clone());
        Box::new(move |fingerprint| {
            if state_dir.read_json::<T>(name).ok().flatten().as_ref() == Some(&known) {
                let mut now = known.clone();
                set(&mut now, fingerprint.to_owned());
                let _ = state_dir.write_json(name, &now);
            }
        })
    }

    /// Keeps a person's session.
    ///
    /// # Errors
    /// [`ClientError::File`].
    pub fn keep_session(&self, session: &Session) -> Result<()> {
        self.write_json(SESSION, session)
    }

    /// Forgets a person's session.
    ///
    /// # Errors
    /// [`ClientError::File`].
    pub fn forget_session(&self) -> Result<()> {
        self.remove(SESSION)
    }

    /// The folders, disks and patterns of the selection.
    ///
    /// # Errors
    /// [`ClientError::File`].
    pub fn selection(&self) -> Result<Selection> {
        let (file, bytes) = match self.read(SELECTION)? {
            Some(bytes) => (SELECTION, bytes),
            None => (SELECTION_BEFORE, self.read(SELECTION_BEFORE)?.unwrap_or_default()),
        };
        let text = String::from_utf8_lossy(&bytes);
        toml::from_str(&text).map_err(|e| ClientError::file("reading", self.0.join(file))(io::Error::other(e.to_string())))
    }

    /// The commands before and after a backup.
    ///
    /// # Errors
    /// [`ClientError::File`] when they cannot be read.
    pub fn hooks(&self) -> Result<Hooks> {
        let Some(bytes) = self.read(HOOKS)? else { return Ok(Hooks::default()) };
        let text = String::from_utf8_lossy(&bytes);
        toml::from_str(&text)
            .map_err(|e| ClientError::Hook { when: "the file hooks.toml cannot be read", why: e.message().into() })
    }

    /// Writes them.
    ///
    /// # Errors
    /// [`ClientError::File`].
    pub fn write_hooks(&self, hooks: &Hooks) -> Result<()> {
        let text = toml::to_string(hooks).map_err(|e| ClientError::Unexpected(e.to_string()))?;
        self.write(HOOKS, text.as_bytes())
    }

    /// Writes the selection.
    ///
    /// # Errors
    /// [`ClientError::File`].
    pub fn write_selection(&self, selection: &Selection) -> Result<()> {
        let text = toml::to_string(selection).map_err(|e| ClientError::Unexpected(e.to_string()))?;
        self.write(SELECTION, text.as_bytes())
    }

    /// One that is damaged is as good as none: it must not keep the machine from its backups.
    pub(crate) fn seen(&self) -> Result<Seen> {
        let bytes = self.read(SEEN)?.unwrap_or_default();
        Ok(serde_json::from_slice(&bytes).unwrap_or_default())
    }

    /// Forgets which point this workstation made last: the next run takes what the service shows for the latest.
    ///
    /// # Errors
    /// [`ClientError::File`].
    pub fn forget_seen(&self) -> Result<()> {
        self.keep_seen(&Seen::default())
    }

    pub(crate) fn keep_seen(&self, seen: &Seen) -> Result<()> {
        self.write_json(SEEN, seen)
    }

    /// What the agent noted last. What cannot be read is nothing.
    pub(crate) fn agent_record<T: DeserializeOwned + Default>(&self) -> T {
        self.read_json(AGENT).ok().flatten().unwrap_or_default()
    }

    pub(crate) fn keep_agent_record<T: Serialize>(&self, record: &T) -> Result<()> {
        self.write_json(AGENT, record)
    }

    /// What this workstation keeps of orders. One that cannot be read is an error: it may say that none are to be carried out.
    pub(crate) fn order_record(&self) -> Result<OrderRecord> {
        Ok(self.read_json(ORDERS)?.unwrap_or_default())
    }

    /// Changes what is kept of orders: the agent does, and commands beside it. Of a record that cannot be read nothing is kept if it
    /// `begins_anew`.
    pub(crate) fn change_order_record<T>(&self, begins_anew: bool, change: impl FnOnce(&mut OrderRecord) -> T) -> Result<T> {
        make_private(&self.0).map_err(ClientError::file("making", &self.0))?;
        let path = self.0.join("orders.lock");
        let lock = File::create(&path).and_then(|file| file.lock().map(|()| file));
        let _lock = lock.map_err(ClientError::file("locking", &path))?;
        let mut record = match self.order_record() {
            Err(_) if begins_anew => OrderRecord::default(),
            other => other?,
        };
        let changed = change(&mut record);
        self.write_json(ORDERS, &record).map(|()| changed)
    }

    /// What was found out and the service was not told yet. What cannot be read is nothing.
    pub(crate) fn kept_diagnosis(&self) -> Option<Diagnosis> {
        self.read_json(DIAGNOSIS).ok().flatten()
    }

    pub(crate) fn keep_diagnosis(&self, found: &Diagnosis) -> Result<()> {
        self.write_json(DIAGNOSIS, found)
    }

    pub(crate) fn forget_diagnosis(&self) -> Result<()> {
        self.remove(DIAGNOSIS)
    }

    /// Where the engine remembers the last walk for points of this kind.
    pub(crate) fn memory_directory(&self, kind: PointKind) -> Result<PathBuf> {
        let path = self.0.join(match kind {
            PointKind::Files => "memory",
            PointKind::Disk => "memory-of-disks",
        });
        make_private(&path).map_err(ClientError::file("making", &path))?;
        Ok(path)
    }

    /// Held while a backup runs.
    pub(crate) fn lock(&self) -> Result<FileLock> {
        make_private(&self.0).map_err(ClientError::file("making", &self.0))?;
        let path = self.0.join("lock");
        let file = File::create(&path).map_err(ClientError::file("opening", &path))?;
        FileLock::try_new(file).map_err(|error| match error {
            TryLockError::WouldBlock => ClientError::Busy,
            TryLockError::Error(e) => ClientError::file("locking", &path)(e),
        })
    }

    fn remove(&self, name: &str) -> Result<()> {
        match fs::remove_file(self.0.join(name)) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => Err(ClientError::file("removing", self.0.join(name))(e)),
            _ => Ok(()),
        }
    }

    fn read(&self, name: &str) -> Result<Option<Vec<u8>>> {
        match fs::read(self.0.join(name)) {
            Ok(bytes) => Ok(Some(bytes)),
            Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(e) => Err(ClientError::file("reading", self.0.join(name))(e)),
        }
    }

    fn read_json<T: DeserializeOwned>(&self, name: &str) -> Result<Option<T>> {
        let Some(bytes) = self.read(name)? else { return Ok(None) };
        serde_json::from_slice(&bytes).map(Some).map_err(|e| ClientError::file("reading", self.0.join(name))(e.into()))
    }

    fn write_json<T: Serialize>(&self, name: &str, value: &T) -> Result<()> {
        self.write(name, &serde_json::to_vec_pretty(value).map_err(|e| ClientError::Unexpected(e.to_string()))?)
    }

    /// Writes a file whole or not at all, readable by its owner only.
    fn write(&self, name: &str, bytes: &[u8]) -> Result<()> {
        let path = self.0.join(name);
        let written =
            make_private(&self.0).and_then(|()| replace_file(&path, OpenOptions::new().private(), |file| file.write_all(bytes)));
        written.map_err(ClientError::file("writing", &path))
    }
}

fn make_private(directory: &Path) -> io::Result<()> {
    fs::DirBuilder::new().recursive(true).private().create(directory)
}
