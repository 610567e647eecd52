//! What commands print, as it is: a change of help, text or JSON shows in review. `cargo insta` or `INSTA_UPDATE=always` takes what is
//! printed now.

use std::path::{Path, PathBuf};

use insta::{Settings, assert_snapshot};
use jetfrost_client::kept_key::KeyPlace;
use jetfrost_client::restore::{Rights, Target, Wish};
use jetfrost_platform::{Machine, System};
use jetfrost_tests::office::{ADMINISTRATOR, Office, Workstation};
use jetfrost_tests::programs::{Said, jetfrost, jetfrost_ends};
use jetfrost_wire::people::{Group, NewGroup, Role};
use serde_json::Value;

/// The words of a command that shows something, and who asks: the administrator, or a person at a workstation.
const ADMINISTRATORS: [&[&str]; 28] = [
    &["account", "list"],
    &["account", "show", "owner of avocet"],
    &["group", "list"],
    &["destination", "list"],
    &["destination", "show", "shelf"],
    &["enrolment", "list"],
    &["workstation", "list"],
    &["workstation", "list", "--agents"],
    &["workstation", "show", "avocet"],
    &["workstation", "advise", "avocet"],
    &["point", "list", "avocet"],
    &["job", "list"],
    &["alert", "list"],
    &["access", "list"],
    &["me", "show"],
    &["me", "sessions"],
    &["audit", "list"],
    &["audit", "check"],
    &["setup", "list"],
    &["mail", "show"],
    &["discovery", "show"],
    &["maintenance", "show"],
    &["settings", "show"],
    &["thinning", "preview", "avocet"],
    &["scrub", "show", "avocet"],
    &["roster", "template"],
    &["destination", "advise", "shelf"],
    &["audit", "export"],
];
const WORKSTATIONS: [&[&str]; 10] = [
    &["selection"],
    &["status"],
    &["history"],
    &["points"],
    &["exceptions"],
    &["check"],
    &["unlock-method", "list"],
    &["order", "list"],
    &["order", "policy"],
    &["drill"],
];

/// Figures that hang on keys, on the machine's disk, or on which of two threads was faster.
const FIGURES: &str = "used|free|size|sent|bytes|bytes_done|bytes_total|files_total|disk_bytes|freed_bytes|room|volume|offered|minimum|usual|generous|done|total|seconds";

/// An office on its second day: somebody has backed up, restored and rehearsed; somebody has not begun.
struct SecondDay {
    office: Office,
    avocet: Workstation,
    administrator: PathBuf,
}

fn second_day() -> SecondDay {
    let (office, clock) = Office::stepped("2026-03-02T08:00:00Z".parse().expect("a time"));
    office.destination("shelf");
    office.account("desk", Role::Helpdesk);
    let _: Group =
        office.api.post("/groups", &NewGroup { name: "survey".into(), default_limit: None, default_quota: None }).expect("added");
    let avocet = office.workstation("avocet");
    let _not_begun = office.workstation("dunlin");
    let _unused = office.code("owner of dunlin");
    office.destination_at("vault", &office.path("vault"), Some(1 << 40));
    for (path, content) in [("letters/first", "dear Aud"), ("letters/second", "dear Ben"), ("soundings", "fathoms")] {
        avocet.write(path, content);
    }
    avocet.back_up().expect("backed up");
    clock.set("2026-03-03T08:00:00Z".parse().expect("a time"));
    avocet.write("letters/third", "dear Cato");
    avocet.back_up().expect("backed up");
    let wish = Wish::paths(vec![avocet.folder.join("soundings")], Target::Into(office.path("back"))).rights(Rights::Keep);
    avocet.restore(&jetfrost_client::browse::At::Latest, &wish).expect("restored");
    avocet.drill(100).expect("rehearsed");
    let _job: Value = office.api.post(&format!("{}/scrub", avocet.store()), &()).expect("begun");
    office.finish_jobs();
    clock.set("2026-03-03T09:00:00Z".parse().expect("a time"));
    let administrator = office.path("administrator");
    let sign_in = ["sign-in", &office.address(), "--login", ADMINISTRATOR, "--fingerprint", &office.fingerprint()];
    let _ = jetfrost_ends(&administrator, &sign_in, 0);
    SecondDay { office, avocet, administrator }
}

/// What differs from run to run has a word in brackets in its place: ids, keys, addresses, ages, and figures that hang on keys.
fn settings(office: &Office) -> Settings {
    let mut settings = Settings::clone_current();
    settings.set_prepend_module_to_snapshot(false);
    settings.set_omit_expression(true);
    let directory = literal(&office.directory.path().display().to_string());
    let host = format!("on {}", literal(&System::host_name().expect("a name")));
    // As a number of its own: its digits may stand in an id as well.
    let (system, port) = (literal(&System::operating_system()), format!(r"\b{}\b", office.port()));
    for (pattern, word) in [
        (directory.as_str(), "[directory]"),
        (&host, "on [host]"),
        (&system, "[system]"),
        (&port, "[port]"),
        (r"\b[0-9a-f]{16,}\b", "[id]"),
        (r#""(id|account|destination|workstation)": "[a-z2-7]{10}""#, r#""$1": "[id]""#),
        (r"(?m)^ [a-z2-7]{10}  ", " [id]  "),
        (r#""id=[a-z2-7]{10}"#, r#""id=[id]"#),
        (r#"\\"id=[a-z2-7]{10}"#, r#"\"id=[id]"#),
        (r"\b\d+ (s|min|h|hours?|days?|weeks?|months?|years?) ago\b|\bjust now\b", "[age]"),
        // What the machine's own clock says. The service's stands still in the first days of March.
        (r"\b(2026-03-[1-3]|2026-(0[124-9]|1\d)-\d|20(2[7-9]|[3-9]\d)-\d\d-\d)\d[T ]\d\d:\d\d(:\d\d)?(\.\d+)?Z?", "[time]"),
        // A rate is only shown of what took a while.
        (r" \(\d[\d,.]* (B|kB|MB|GB|TB|KiB|MiB|GiB|TiB)/s\)", ""),
        (r"\b\d[\d,.]* (B|kB|MB|GB|TB|KiB|MiB|GiB|TiB|bytes)\b(/s)?", "[size]"),
        (r"\b(under )?\d+(\.\d+)? (ms|s|min)\b", "[duration]"),
        (&format!(r#""({FIGURES})": (\d+(\.\d+)?|null)"#), r#""$1": "[figure]""#),
        (r#""(owner|group|mode)": "\w+""#, r#""$1": "[$1]""#),
        (r"(?m)^ [0-7]{3,4} +\S+ +\S+  ", " [mode]  [owner]  [group]  "),
        (r"(?m)[ \t]+$", ""),
        (r"(\S) {2,}", "$1  "),
    ] {
        settings.add_filter(pattern, word);
    }
    settings
}

/// A pattern that only this text matches.
fn literal(text: &str) -> String {
    text.chars().flat_map(|c| c.is_ascii_punctuation().then_some('\\').into_iter().chain([c])).collect()
}

fn shown(said: &Said) -> String {
    if said.err.is_empty() { said.out.clone() } else { format!("{}[to standard error]\n{}", said.out, said.err) }
}

/// Each of the outputs as text and as JSON, one file a command.
fn hold(office: &Office, home: &Path, commands: &[&[&str]]) {
    settings(office).bind(|| {
        for words in commands {
            let run = |json: bool| {
                let mut command = jetfrost(home);
                command.args(*words).args(json.then_some("--json"));
                let output = command.output().expect("it runs");
                assert!(output.status.success(), "jetfrost {words:?}: {}", String::from_utf8_lossy(&output.stderr));
                Said::of(&output)
            };
            let (text, json) = (run(false), run(true));
            let name = words
                .iter()
                .take_while(|word| !["avocet", "shelf"].contains(word) && !word.contains('/'))
                .copied()
                .collect::<Vec<_>>()
                .join("-");
            let all = format!("{}\n--json\n\n{}", shown(&text), shown(&json));
            assert_snapshot!(name.replace(' ', "-"), all);
        }
    });
}

#[test]
fn what_the_administrator_is_shown_is_as_it_was() {
    let day = second_day();
    hold(&day.office, &day.administrator, &ADMINISTRATORS);
}

#[test]
fn what_a_person_at_a_workstation_is_shown_is_as_it_was() {
    let day = second_day();
    let letters = day.avocet.folder.join("letters");
    let look = ["look", letters.to_str().expect("text")];
    // Wherever this machine would keep it best.
    day.avocet.home.move_key(KeyPlace::File).expect("moved");
    hold(&day.office, day.avocet.home.directory(), &[&WORKSTATIONS[..], &[&look]].concat());
}
