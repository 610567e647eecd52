//! The service's records while another program holds them, and on a full volume: a clear answer, and nothing half done.

use std::fs;
use std::io::{Read, Write};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;

use jetfrost_client::ClientError;
use jetfrost_client::browse::{At, Browser};
use jetfrost_client::progress::Meter;
use jetfrost_client::restore::{Rights, Wish, restore};
use jetfrost_tests::mounted::Mounted;
use jetfrost_tests::office::Office;
use jetfrost_wire::people::{Account, Group, NewAccount, NewGroup, Role};
use jetfrost_wire::roster::{Roster, RosterDone};
use jetfrost_wire::service::AuditCheck;
use jetfrost_wire::workstation::PointKind;
use jetfrost_wire::{ProblemKind, WhoseMove};

/// Another program that holds the records for itself, until it is let go.
struct Holder(Child);

impl Holder {
    fn of(office: &Office) -> Self {
        let script = "import sqlite3,sys; d=sqlite3.connect(sys.argv[1],isolation_level=None); d.execute('begin immediate'); \
                      print('held',flush=True); sys.stdin.read(); d.execute('rollback')";
        let mut child = Command::new("python3")
            .args(["-c", script])
            .arg(office.path("state/records.sqlite"))
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("python3 is there");
        child.stdout.as_mut().expect("piped").read_exact(&mut [0; 4]).expect("it holds them");
        Self(child)
    }

    fn let_go(mut self) {
        drop(self.0.stdin.take());
        self.0.wait().expect("it ends");
    }
}

fn problem<T>(result: Result<T, ClientError>) -> (Option<ProblemKind>, WhoseMove, String) {
    match result {
        Err(ClientError::Refused(problem)) => (problem.known_kind(), problem.whose_move, problem.next_step),
        Err(other) => panic!("{other}"),
        Ok(_) => panic!("it should have been refused"),
    }
}

fn crew() -> NewGroup {
    NewGroup { name: "crew".into(), default_limit: None, default_quota: None }
}

#[test]
fn while_another_program_holds_the_records_reading_goes_on_and_writing_says_so() {
    let office = Office::open();
    let holder = Holder::of(&office);
    let groups: Vec<Group> = office.api.list("/groups").expect("reading goes on");
    assert_eq!(groups, []);
    let (kind, whose, next) = problem(office.api.post::<_, Group>("/groups", &crew()));
    assert_eq!((kind, whose), (Some(ProblemKind::RecordsBusy), WhoseMove::Service));
    assert!(next.contains("Nothing was changed"), "{next}");
    holder.let_go();
    let _: Group = office.api.post("/groups", &crew()).expect("it is free again, and nothing was half done");
    let check: AuditCheck = office.api.get("/audit/check").expect("checked");
    assert_eq!(check.broken_at, None);
}

#[test]
#[cfg_attr(no_mounts, ignore = "needs to mount volumes: run it as root")]
fn on_a_full_volume_nothing_is_half_done_and_it_goes_on_once_there_is_room() {
    let directory = tempfile::tempdir().expect("a directory");
    let volume = Mounted::new(&directory.path().join("small"), "6m");
    let office = Office::with_state_on(&volume.path);
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "dear Aud");
    station.back_up().expect("backed up");
    let mut filler = fs::File::create(volume.path.join("filler")).expect("made");
    while filler.write_all(&[1; 4096]).is_ok() {}
    // More than what the pages that are there already can take.
    let rows: String = (0..2000).map(|i| format!("person {i},{},crew,machine {i},shelf\n", "long name ".repeat(6))).collect();
    let roster = Roster { table: format!("account,display name,groups,machine,destination\n{rows}"), hours: None };
    let (kind, whose, next) = problem(office.api.post::<_, RosterDone>("/roster", &roster));
    assert_eq!((kind, whose), (Some(ProblemKind::RecordsFull), WhoseMove::Administrator), "{next}");
    let accounts: Vec<Account> = office.api.list("/accounts").expect("reading goes on");
    assert_eq!(accounts.len(), 2, "all of it or nothing");

    // Whoever needs files back gets them, and is told that there is no record of it.
    let (back, browser) = (office.path("back"), Browser::open(&station.home).expect("joined"));
    let point = browser.point(&At::Latest, PointKind::Files).expect("a point");
    let wish = Wish::everything(back.clone()).rights(Rights::Keep);
    let report = restore(&browser, &point, &wish, &Arc::new(Meter::default())).expect("restored");
    assert_eq!((report.troubles.len(), report.not_on_record.is_some()), (0, true));
    assert_eq!(fs::read(station.restored(&back).join("letter")).expect("there"), b"dear Aud");
    drop(filler);
    fs::remove_file(volume.path.join("filler")).expect("removed");
    let _: Account = office.api.post("/accounts", &NewAccount::new("anna", Role::Member)).expect("it goes on");
    let check: AuditCheck = office.api.get("/audit/check").expect("checked");
    assert_eq!(check.broken_at, None);
}
