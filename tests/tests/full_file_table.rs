//! A server that has no open file to spare. In a program of its own: the limit counts for all of it.

use std::fs::File;

use jetfrost_client::ClientError;
use jetfrost_tests::office::Office;
use jetfrost_wire::ProblemKind;
use jetfrost_wire::calls;
use jetfrost_wire::destination::{Destination, DestinationState};
use jetfrost_wire::service::AuditEntry;
use nix::sys::resource::{Resource, getrlimit, setrlimit};

/// So many files may be opened beyond those that are open: each of them is then taken.
const TO_SPARE: u64 = 8;

/// Takes all open files that this process may have, until it is dropped.
struct Full {
    _held: Vec<File>,
    before: (u64, u64),
}

impl Full {
    fn now() -> Self {
        let before = getrlimit(Resource::RLIMIT_NOFILE).expect("a limit");
        let highest = std::fs::read_dir("/proc/self/fd")
            .expect("readable")
            .filter_map(|entry| entry.ok()?.file_name().to_str()?.parse::<u64>().ok());
        let highest = highest.max().expect("some are open");
        setrlimit(Resource::RLIMIT_NOFILE, highest + TO_SPARE, before.1).expect("lowered");
        let held: Vec<File> = std::iter::from_fn(|| File::open("/dev/null").ok()).take(100_000).collect();
        let error = File::open("/dev/null").expect_err("the table is full");
        assert_eq!(error.raw_os_error(), Some(nix::libc::EMFILE));
        Self { _held: held, before }
    }
}

impl Drop for Full {
    fn drop(&mut self) {
        let _ = setrlimit(Resource::RLIMIT_NOFILE, self.before.0, self.before.1);
    }
}

#[test]
fn a_full_file_table_is_no_missing_destination() {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", [7; 100_000]);
    station.back_up().expect("backed up");
    let path = format!("/destinations/{}", shelf.id);
    let _: Destination = office.api.get(&path).expect("there; its connection stays open");

    let full = Full::now();
    office.look_around();
    match office.api.call_once(&calls::destination(&shelf.id)) {
        Ok(now) => assert_eq!(now.state, DestinationState::Ready),
        Err(ClientError::Refused(problem)) => assert_eq!(problem.known_kind(), Some(ProblemKind::ServerBusy), "{problem:?}"),
        Err(error) => panic!("{error}"),
    }
    drop(full);

    let now: Destination = office.api.get(&path).expect("there");
    assert_eq!((now.state, now.since), (DestinationState::Ready, None));
    let entries: Vec<AuditEntry> = office.api.first(&calls::audit_log(), &[], 100).expect("listed");
    assert!(entries.iter().all(|entry| !entry.what.contains("missing")), "{entries:?}");
    station.write("letter", [8; 100_000]);
    station.back_up().expect("goes on");
}
