//! A workstation for unit tests of the use cases: real image stores, runs and points, with what a client would send and no client.

use jetfrost_image::crypto::{
    Effort, Random, Sealer, Secret, StoreKey, StoreKeys, SystemRandom, random_array, seal_point, wrap_key,
};
use jetfrost_image::format::{
    ArgonCost, PointBody, PointFile, PointHead, PointKind, RecoveryKey, SegmentBuilder, Slot, StoreFile, encode_needs,
    needs_check,
};
use jetfrost_image::{ChunkName, PointId, StoreId};
use jetfrost_types::{Changes, ImageStoreId, Role};
use jetfrost_wire::Binary;
use jetfrost_wire::enrolment::{Enrol, Enrolled, Invitation, NewEnrolmentCode};
use jetfrost_wire::point::Point;
use jetfrost_wire::run::{BeginRun, CommitPoint, ExceptionCounts, Progress, RunBegun};

use super::Office;
use crate::shared::{Caller, Credential, Result};

/// A slot for a recovery key costs no stretching.
const NO_STRETCHING: ArgonCost = ArgonCost { memory: 64, passes: 1, lanes: 1 };

/// A workstation that was enrolled.
pub(crate) struct Machine {
    pub(crate) enrolled: Enrolled,
    /// The workstation, signed in with its device credential.
    pub(crate) caller: Caller,
    pub(crate) slot: Slot,
    store: StoreId,
    keys: StoreKeys,
    random: SystemRandom,
    chunks: Vec<ChunkName>,
    /// What its next points say of their changes.
    pub(crate) changes: Option<Changes>,
}

impl Office {
    /// What the code for an account enrols, before it is sent.
    pub(crate) fn enrolment(&self, login: &str, name: &str) -> (Enrol, StoreId, StoreKey, Slot) {
        let code = self.services.backups.issue_code(&self.ingrid, &NewEnrolmentCode::new(login)).expect("issued").code;
        let invitation = Invitation::parse(&code).expect("it reads back");
        let random = SystemRandom::default();
        let (store, key) = (StoreId(random_array(&random)), StoreKey::generate(&random));
        let slot = slot(store, &key, &random);
        let enrol = Enrol {
            secret: Binary(invitation.secret.to_vec()),
            name: name.into(),
            platform: "Test 1".into(),
            client_version: "0.0.0".into(),
            disk_bytes: Some(500_000_000_000),
            store: Binary(StoreFile::new(store, 0).to_bytes()),
            slots: vec![Binary(slot.to_bytes())],
        };
        (enrol, store, key, slot)
    }

    /// A workstation of an account.
    pub(crate) fn machine(&self, login: &str, name: &str) -> Machine {
        let (enrol, store, key, slot) = self.enrolment(login, name);
        let enrolled = self.services.backups.enrol(&enrol, "127.0.0.1").expect("enrolled");
        let keys = StoreKeys::derive(store, &key);
        let caller = self.device(&enrolled).expect("known");
        Machine { enrolled, caller, slot, store, keys, random: SystemRandom::default(), chunks: Vec::new(), changes: None }
    }

    /// A workstation's credential, shown once more.
    pub(crate) fn device(&self, enrolled: &Enrolled) -> Result<Caller> {
        let secret = Some(enrolled.credential.clone());
        self.services.identity.authenticate(&Credential { secret, origin: "127.0.0.1".into(), call: "a test".into() })
    }
}

/// An office with a destination `shelf`, a member `tove` and her workstation `front desk`, which has a point of each of these.
pub(crate) fn office_with_points<const N: usize>(of: [&[u8]; N]) -> (Office, Machine) {
    let office = Office::open();
    office.destination("shelf");
    office.person("tove", Role::Member);
    let mut machine = office.machine("tove", "front desk");
    for content in of {
        machine.back_up(&office, content).expect("a point");
    }
    (office, machine)
}

/// A slot for a new recovery key.
pub(crate) fn slot(store: StoreId, key: &StoreKey, random: &dyn Random) -> Slot {
    let recovery = RecoveryKey(random_array(random));
    wrap_key(store, key, Secret::RecoveryKey(&recovery), NO_STRETCHING, 0, random)
}

impl Machine {
    pub(crate) fn store(&self) -> &ImageStoreId {
        &self.enrolled.store
    }

    pub(crate) fn begin(&self, office: &Office) -> Result<RunBegun> {
        let begin = BeginRun { kind: PointKind::Files, client_version: "0.0.0".into() };
        office.services.backups.begin_run(&self.caller, &self.enrolled.workstation, &begin)
    }

    /// Sends a segment with one chunk.
    pub(crate) fn send(&mut self, office: &Office, content: &[u8]) -> Result<()> {
        self.send_all(office, &[content])
    }

    /// Sends a segment with a chunk of each of these.
    pub(crate) fn send_all(&mut self, office: &Office, contents: &[&[u8]]) -> Result<()> {
        let mut builder = SegmentBuilder::new(self.store, 1 << 20);
        let mut sealer = Sealer::new(self.keys.clone(), Effort::Quick);
        for content in contents {
            let (name, mut sealed) = (self.keys.name(content), Vec::new());
            sealer.seal(&name, content, &self.random, &mut sealed);
            builder.push(name, &sealed);
            self.chunks.push(name);
        }
        let segment = builder.finish();
        let upload = office.services.backups.store_to_send_to(&self.caller, self.store())?;
        let retention = &office.services.retention;
        if let Some(mut arriving) = upload.begin_segment(retention, segment.hash, segment.bytes.len() as u64)? {
            arriving.push(&segment.bytes)?;
            arriving.finish()?;
        }
        Ok(())
    }

    /// Sends the needs of a run's point, all of it again, and makes the point's file.
    pub(crate) fn close(&self, office: &Office, run: &RunBegun) -> Result<CommitPoint> {
        let mut chunks = self.chunks.clone();
        chunks.sort_unstable();
        let needs = encode_needs(self.store, run.sequence, 0, &chunks, &[]);
        let upload = office.services.backups.upload_of_run(&self.caller, &run.run.id)?;
        let mut arriving = upload.begin_needs(&office.services.retention, needs.len() as u64)?;
        arriving.push(&needs)?;
        arriving.finish()?;
        let previous = run.latest.as_ref().map(|latest| PointFile::from_bytes(&latest.0).expect("a point").head.id);
        let head = PointHead {
            store: self.store,
            id: PointId(random_array(&self.random)),
            sequence: run.sequence,
            kind: PointKind::Files,
            created: 0,
            previous,
            needed: chunks.len() as u64,
            needed_xor: chunks.iter().fold([0; 32], |xor: [u8; 32], name| std::array::from_fn(|i| xor[i] ^ name.0[i])),
            bytes: 0,
            files: 0,
            exceptions: 0,
            needs: needs_check(&needs),
            changes: self.changes,
        };
        let point = seal_point(&self.keys, head, &PointBody::default(), &self.random).to_bytes();
        Ok(CommitPoint { point: Binary(point), progress: Progress::default(), exceptions: ExceptionCounts::default() })
    }

    /// The next points need nothing of what was sent before.
    pub(crate) fn forget_chunks(&mut self) {
        self.chunks.clear();
    }

    /// A whole run. `content` is new with it; what was sent before stays.
    pub(crate) fn back_up(&mut self, office: &Office, content: &[u8]) -> Result<Point> {
        let run = self.begin(office)?;
        self.send(office, content)?;
        let commit = self.close(office, &run)?;
        Ok(office.services.backups.commit(&self.caller, &run.run.id, &commit)?.point)
    }
}
