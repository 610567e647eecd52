//! From nothing to the first restored file, with the programs as a person uses them.

use std::fs;
use std::path::Path;

use jetfrost_tests::programs::{Daemon, first_sign_in, jetfrost, jetfrost_ends};
use jetfrost_tests::witness::listing;

fn text(path: &Path) -> &str {
    path.to_str().expect("text")
}

#[test]
fn an_administrator_starts_a_workstation_joins_and_a_file_comes_back() {
    let test = tempfile::tempdir().expect("a directory");
    let at = |name: &str| test.path().join(name);
    let (admin, station) = (at("admin"), at("station"));
    let daemon = Daemon::start(&at("state"), 0);
    first_sign_in(&daemon, &admin);

    let said = jetfrost_ends(
        &admin,
        &["destination", "add", "Shelf", "--for-everybody", text(&at("shelf")), "--capacity", "1GB", "--reserve", "0B"],
        0,
    );
    assert!(said.out.contains("room for 1.00 GB"), "{}", said.out);
    let _ = jetfrost_ends(&admin, &["account", "add", "tove", "--name", "Tove Lund", "--no-sign-in"], 0);
    let said = jetfrost_ends(&admin, &["--json", "enrolment", "add", "TOVE"], 0);
    let issued: serde_json::Value = serde_json::from_str(&said.out).expect("JSON");
    let code = issued["code"].as_str().expect("a code");

    let said = jetfrost_ends(&station, &["backup"], 1);
    assert!(said.err.contains("jetfrost join CODE"), "it says what to do: {}", said.err);
    let said = jetfrost_ends(&station, &["join", code, "--name", "dunlin"], 0);
    let printed =
        said.out.split("shown this once:").nth(1).and_then(|rest| rest.split_whitespace().next()).expect("a recovery key");
    let unlocked = jetfrost(&station).args(["unlock", "--recovery-key"]).env("JETFROST_RECOVERY_KEY", printed).status();
    assert!(unlocked.expect("it runs").success(), "the printed recovery key opens the store");
    let said = jetfrost_ends(&at("another"), &["join", code], 4);
    assert!(said.err.contains("was used already"), "{}", said.err);

    let files = at("files");
    fs::create_dir_all(files.join("maps/north mole")).expect("a folder");
    fs::write(files.join("maps/north mole/sheet 1.dxf"), "0\nSECTION\n").expect("written");
    fs::write(files.join("letter.odt"), vec![7; 300_000]).expect("written");
    fs::write(files.join("scratch.tmp"), "not worth keeping").expect("written");
    let _ = jetfrost_ends(&station, &["include", text(&files)], 0);
    let _ = jetfrost_ends(&station, &["exclude", "*.tmp"], 0);
    let said = jetfrost_ends(&station, &["backup"], 0);
    assert!(said.out.contains("Point 1 is complete: 2 files"), "{}", said.out);

    let said = jetfrost_ends(&station, &["look", text(&files.join("maps/north mole"))], 0);
    assert!(said.out.contains("sheet 1.dxf"), "{}", said.out);
    let said = jetfrost_ends(&station, &["restore", text(&files.join("letter.odt")), "--to", text(&at("back"))], 0);
    assert!(said.out.starts_with("1 file, 300 kB"), "{}", said.out);
    assert_eq!(fs::read(at("back/letter.odt")).expect("restored"), vec![7; 300_000]);

    fs::remove_file(files.join("scratch.tmp")).expect("removed");
    let _ = jetfrost_ends(&station, &["restore", text(&files), "--to", text(&at("all"))], 0);
    assert_eq!(listing(&at("all/files")), listing(&files));

    let said = jetfrost_ends(&admin, &["workstation", "list"], 0);
    assert!(said.out.contains("dunlin") && said.out.contains("current"), "{}", said.out);
    let said = jetfrost_ends(&station, &["history"], 0);
    assert!(said.out.contains("restore from 1"), "{}", said.out);
    let _ = jetfrost_ends(&station, &["unlock"], 0);
    assert!(daemon.terminate(), "SIGTERM ends it well");
}

#[test]
fn every_list_has_json() {
    let test = tempfile::tempdir().expect("a directory");
    let admin = test.path().join("admin");
    let daemon = Daemon::start(&test.path().join("state"), 0);
    first_sign_in(&daemon, &admin);
    for noun in ["account", "group", "destination", "enrolment", "workstation"] {
        let said = jetfrost_ends(&admin, &[noun, "list", "--json"], 0);
        assert!(serde_json::from_str::<Vec<serde_json::Value>>(&said.out).is_ok(), "{noun}: {}", said.out);
    }
    let _ = jetfrost_ends(&admin, &["sign-out"], 0);
    let said = jetfrost_ends(&admin, &["account", "list"], 4);
    assert!(said.err.contains("jetfrost sign-in"), "{}", said.err);
}

/// Runs a shell script as a user without rights, if this process may choose one; else as itself.
fn as_nobody(script: &str) -> std::process::Output {
    let mut command = if nix::unistd::geteuid().is_root() {
        let mut command = std::process::Command::new("setpriv");
        command.args(["--reuid=65534", "--regid=65534", "--clear-groups", "bash"]);
        command
    } else {
        std::process::Command::new("bash")
    };
    command.args(["-c", script]).env("JETFROST_PASSPHRASE", "an image passphrase").output().expect("it runs")
}

#[test]
fn what_cannot_be_read_is_listed_and_everything_else_is_kept() {
    use std::os::unix::fs::PermissionsExt;
    let test = tempfile::tempdir().expect("a directory");
    let at = |name: &str| test.path().join(name);
    let readable_by_all = |path: &Path, mode| fs::set_permissions(path, fs::Permissions::from_mode(mode)).expect("set");
    readable_by_all(test.path(), 0o755);
    let admin = at("admin");
    let daemon = Daemon::start(&at("state"), 0);
    first_sign_in(&daemon, &admin);
    let _ = jetfrost_ends(&admin, &["destination", "add", "Shelf", "--for-everybody", text(&at("shelf")), "--reserve", "0B"], 0);
    let _ = jetfrost_ends(&admin, &["account", "add", "tove", "--no-sign-in"], 0);
    let issued: serde_json::Value =
        serde_json::from_str(&jetfrost_ends(&admin, &["enrolment", "add", "tove", "--json"], 0).out).expect("JSON");

    let files = at("files");
    fs::create_dir_all(files.join("closed folder")).expect("made");
    fs::write(files.join("closed folder/inside"), "x").expect("written");
    fs::write(files.join("secret"), "x").expect("written");
    fs::write(files.join("open"), "readable").expect("written");
    readable_by_all(&files.join("open"), 0o644);
    readable_by_all(&files, 0o755);
    readable_by_all(&files.join("secret"), 0);
    readable_by_all(&files.join("closed folder"), 0);
    // The program where the user without rights can run it, and a home of that user's own.
    fs::copy(jetfrost_tests::programs::program("jetfrost"), at("jetfrost")).expect("copied");
    readable_by_all(&at("jetfrost"), 0o755);
    fs::create_dir(at("home")).expect("made");
    readable_by_all(&at("home"), 0o777);
    let command = format!("{} --state-directory {}/station", text(&at("jetfrost")), text(&at("home")));
    let joined = as_nobody(&format!(
        "{command} join {} --name dunlin && {command} include {}",
        issued["code"].as_str().expect("a code"),
        text(&files)
    ));
    assert!(joined.status.success(), "{}", String::from_utf8_lossy(&joined.stderr));
    let backup = as_nobody(&format!("{command} backup"));
    let said = String::from_utf8_lossy(&backup.stdout);
    assert_eq!(backup.status.code(), Some(3), "complete with exceptions: {said}");
    assert!(said.contains("1 file") && said.contains("With 2 exceptions"), "{said}");
    let listed = as_nobody(&format!("{command} exceptions"));
    let listed = String::from_utf8_lossy(&listed.stdout);
    assert!(
        listed.contains("files/secret") && listed.contains("closed folder") && listed.contains("Permission denied"),
        "{listed}"
    );
    let restored = as_nobody(&format!("{command} restore {} --to {}/back", text(&files), text(&at("home"))));
    assert_eq!(restored.status.code(), Some(3), "the folder that could not be listed is marked");
    assert_eq!(fs::read(at("home/back/files/open")).expect("restored"), b"readable");
    let said = jetfrost_ends(&admin, &["workstation", "list"], 0);
    assert!(said.out.contains("with exceptions"), "{}", said.out);
    readable_by_all(&files.join("closed folder"), 0o755);
}
