//! What is backed up, as a person decides it: templates and the rule behind each path, and commands before and after.

use std::fs;
use std::path::Path;
use std::process::Command;

use jetfrost_tests::mounted::{LoopDevice, Mounted};
use jetfrost_tests::office::{ADMINISTRATOR, Office};
use jetfrost_tests::programs::jetfrost_ends;
use jetfrost_wire::run::{Outcome, Run};
use serde_json::{Value, json};

fn told(home: &Path, words: &[&str]) -> Value {
    let said = jetfrost_ends(home, &[&["--json"], words].concat(), 0).out;
    serde_json::from_str(&said).expect("JSON")
}

#[test]
fn what_a_template_leaves_out_is_said_by_its_rule_and_is_not_in_the_point() {
    let (office, station) = Office::with_station("dunlin");
    let home = station.home.directory();
    station.write("site/node_modules/left.js", "made anew");
    station.write("site/index.html", "ours");
    let index = station.folder.join("site/node_modules/left.js").display().to_string();
    let said = jetfrost_ends(home, &["exclude", "--template", "build-outputs"], 0).out;
    assert!(said.contains("exclude  template build-outputs: ") && said.contains("jetfrost selection estimate"), "{said}");
    let estimate = told(home, &["selection", "estimate"]);
    assert_eq!((&estimate["estimate"]["included"]["files"], &estimate["estimate"]["excluded"]["files"]), (&2.into(), &1.into()));
    assert_eq!(estimate["estimate"]["by_rule"][0][0]["pattern"], "node_modules");
    let why = jetfrost_ends(home, &["selection", "why", &index], 0).out;
    assert!(why.contains("matches node_modules (build-outputs)") && why.contains("jetfrost include"), "{why}");
    let backup = told(home, &["backup"]);
    assert_eq!(backup["points"][0]["point"]["files"], 2);
    let into = office.path("into").display().to_string();
    station.write("notes.tmp", "soon");
    let _ = jetfrost_ends(home, &["exclude", "*.tmp"], 0);
    assert_eq!(told(home, &["backup"])["points"][0]["point"]["sequence"], 2);
    let missing = jetfrost_ends(home, &["restore", &index, "--to", &into], 1).err;
    assert!(missing.contains("is not in point 2") && missing.contains("node_modules, excluded since point 1 ("), "{missing}");
    let notes = station.folder.join("notes.tmp").display().to_string();
    let missing = jetfrost_ends(home, &["restore", &notes, "--to", &into], 1).err;
    assert!(missing.contains("*.tmp, excluded since point 2 (") && missing.contains("jetfrost include"), "{missing}");
    let missing = jetfrost_ends(home, &["restore", "/etc/hosts", "--to", &into], 1).err;
    assert!(missing.contains("no folder that was included then holds it"), "{missing}");
    let _ = jetfrost_ends(home, &["include", &index], 0);
    assert_eq!(told(home, &["selection", "why", &index])["because"], "included");
    assert_eq!(told(home, &["backup"])["points"][0]["point"]["files"], 3, "what somebody named is backed up");
}

#[test]
fn what_an_administrator_excludes_is_left_out_told_at_the_machine_and_gives_way_to_what_a_person_named() {
    let (mut office, station) = Office::with_station("dunlin");
    let home = station.home.directory();
    let admin = office.path("desk");
    let sign_in = ["sign-in", &office.address(), "--login", ADMINISTRATOR, "--fingerprint", &office.fingerprint()];
    let _ = jetfrost_ends(&admin, &sign_in, 0);
    station.write("site/node_modules/left.js", "made anew");
    let left = station.folder.join("site/node_modules/left.js").display().to_string();
    assert_eq!(told(home, &["backup"])["points"][0]["point"]["files"], 2);
    let set = ["schedule", "set", "--destination", "shelf", "--exclude", "build-outputs", "--exclude", "trash"];
    let said = jetfrost_ends(&admin, &set, 0).out;
    assert!(said.contains("leaves out build-outputs, trash"), "{said}");
    let refused = jetfrost_ends(&admin, &["schedule", "set", "--destination", "shelf", "--exclude", "everything"], 2).err;
    assert!(refused.contains("it is one of caches, build-outputs"), "{refused}");

    assert_eq!(told(home, &["selection"])["excluded_by_office"], json!(["build-outputs", "trash"]));
    let why = jetfrost_ends(home, &["selection", "why", &left], 0).out;
    assert!(why.contains("node_modules (build-outputs, set by an administrator)"), "{why}");
    assert_eq!(told(home, &["backup"])["points"][0]["point"]["files"], 1);
    let into = office.path("into").display().to_string();
    let missing = jetfrost_ends(home, &["restore", &left, "--to", &into], 1).err;
    assert!(missing.contains("node_modules, excluded since point 2 ("), "{missing}");
    let _ = jetfrost_ends(home, &["restore", &left, "--at", "1", "--to", &into], 0);

    let _ = jetfrost_ends(home, &["include", &left], 0);
    assert_eq!(told(home, &["backup"])["points"][0]["point"]["files"], 2, "what somebody named is backed up");
    let _ = jetfrost_ends(home, &["include", "--drop", &left], 0);
    let _ = jetfrost_ends(&admin, &["schedule", "set", "--workstation", "dunlin", "--exclude", "none"], 0);
    assert_eq!(told(home, &["backup"])["points"][0]["point"]["files"], 2, "the nearest setting applies");
    // Whoever cannot ask says so, and never counts on what it does not know.
    office.stop();
    let unknown = jetfrost_ends(home, &["selection", "why", &left], 0);
    assert!(unknown.err.contains("What administrators exclude is not known now"), "{}", unknown.err);
}

#[test]
fn a_command_before_writes_what_the_point_holds_and_one_that_fails_makes_none() {
    let (office, station) = Office::with_station("dunlin");
    let home = station.home.directory();
    let (dump, log) = (station.folder.join("books.sql"), office.path("log"));
    let script = |name: &str, text: String| {
        let path = office.path(name);
        fs::write(&path, text).expect("written");
        path.display().to_string()
    };
    let before = script("before.sh", format!("echo insert > '{}'", dump.display()));
    let after = script("after.sh", format!("echo \"$JETFROST_OUTCOME $JETFROST_POINT\" >> '{}'", log.display()));
    let said = jetfrost_ends(home, &["hook", "set", "before", "/bin/sh", &before], 0).out;
    assert!(said.contains("before a backup  /bin/sh ") && said.contains("(at most 600 s)"), "{said}");
    let _ = jetfrost_ends(home, &["hook", "set", "after", "--time-limit", "30s", "/bin/sh", &after], 0);
    assert_eq!(told(home, &["backup"])["points"][0]["point"]["files"], 2, "the dump is in it");
    fs::write(&before, "exit 3").expect("written");
    let failed = jetfrost_ends(home, &["backup", "--quiet"], 1);
    assert!(
        failed.err.contains("The command before the backup failed") && failed.err.contains("jetfrost hook show"),
        "{}",
        failed.err
    );
    assert_eq!(fs::read_to_string(&log).expect("written"), "complete 1\nfailed \n", "what was stopped is started again");
    let workstation = station.home.membership().expect("joined").workstation;
    let runs: Vec<Run> = office.api.list(&format!("/workstations/{workstation}/runs")).expect("listed");
    assert_eq!(
        (runs[0].outcome, runs[0].reason.as_deref()),
        (Outcome::Failed, Some("a command before or after the backup failed"))
    );
    let _ = jetfrost_ends(home, &["hook", "remove", "before"], 0);
    fs::write(&after, "exit 4").expect("written");
    let with = jetfrost_ends(home, &["backup", "--quiet"], 3);
    assert!(with.out.contains("The command after the backup failed") && with.out.contains("The point stands."), "{}", with.out);
}

/// Volumes of this machine that are mounted within an included folder are left alone unless a person says otherwise; what is in memory always.
#[test]
fn what_is_mounted_below_a_folder_is_backed_up_where_a_person_said_so() {
    let (office, station) = Office::with_station("dunlin");
    let home = station.home.directory();
    let volume = |name: &str, folder: &str| {
        let image = office.path(name);
        fs::File::create(&image).and_then(|file| file.set_len(8 << 20)).expect("made");
        let made = Command::new("mkfs.ext4").args(["-q", "-O", "^has_journal"]).arg(&image).status().expect("mkfs.ext4 runs");
        assert!(made.success());
        let device = LoopDevice::new(&image);
        let mounted = Mounted::device(&station.folder.join(folder), &device.path);
        fs::write(mounted.path.join("inside"), name).expect("written");
        (mounted, device)
    };
    let photos = volume("photos", "photos");
    let within = volume("older", "photos/older");
    let left_out = volume("scratch", "build/scratch");
    let memory = Mounted::new(&station.folder.join("memory"), "1m");
    fs::write(memory.path.join("inside"), "in memory").expect("written");
    let _ = jetfrost_ends(home, &["exclude", "build"], 0);
    let folder = station.folder.to_str().expect("text");
    let files = || told(home, &["backup"])["points"][0]["point"]["files"].clone();
    let why = |path: &str| told(home, &["selection", "why", &station.folder.join(path).display().to_string()])["because"].clone();
    assert_eq!((files(), why("photos/inside")), (1.into(), "other_volume".into()), "they are other volumes");
    let said = jetfrost_ends(home, &["include", folder, "--with-mounts"], 0).out;
    assert!(said.contains("with what is mounted below it"), "{said}");
    assert_eq!(told(home, &["selection", "estimate"])["estimate"]["included"]["files"], 3);
    assert_eq!((files(), why("photos/older/inside")), (3.into(), "included".into()));
    assert_eq!((why("build/scratch/inside"), why("memory/inside")), ("excluded".into(), "other_volume".into()));
    let into = office.path("into");
    station.restore_all(&into).expect("restored");
    let back = station.restored(&into);
    assert_eq!(
        ["photos/inside", "photos/older/inside"].map(|file| fs::read_to_string(back.join(file)).expect("there")),
        ["photos", "older"]
    );
    assert!(!back.join("build").exists() && fs::read_dir(back.join("memory")).expect("there").count() == 0);
    // Typed once more without it, the folder is included without them.
    let _ = jetfrost_ends(home, &["include", folder], 0);
    assert_eq!(files(), 1);
    drop((within, photos, left_out));
}
