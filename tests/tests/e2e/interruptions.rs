//! Clients and services that die in the middle.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Stdio};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use jetfrost_tests::programs::{Daemon, first_sign_in, jetfrost, jetfrost_ends};
use jetfrost_tests::witness::listing;
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

struct Scene {
    test: tempfile::TempDir,
    files: PathBuf,
}

impl Scene {
    fn at(&self, name: &str) -> PathBuf {
        self.test.path().join(name)
    }

    fn station(&self, arguments: &[&str], code: i32) -> String {
        jetfrost_ends(&self.at("station"), arguments, code).out
    }

    fn begin_backup(&self) -> Child {
        jetfrost(&self.at("station"))
            .args(["backup", "--json"])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("it runs")
    }

    /// Bytes in the stores' segments.
    fn stored(&self) -> u64 {
        let sizes = walk(&self.at("shelf/stores")).into_iter().filter(|p| p.extension().is_some_and(|e| e == "seg"));
        sizes.filter_map(|p| fs::metadata(p).ok()).map(|m| m.len()).sum()
    }

    fn restored_equals_source(&self) {
        let back = self.at("back");
        self.station(&["restore", self.files.to_str().expect("text"), "--to", back.to_str().expect("text"), "--quiet"], 0);
        assert_eq!(listing(&back.join("files")), listing(&self.files));
    }
}

fn walk(directory: &Path) -> Vec<PathBuf> {
    let entries =
        fs::read_dir(directory).map(|d| d.filter_map(Result::ok).map(|e| e.path()).collect::<Vec<_>>()).unwrap_or_default();
    entries.into_iter().flat_map(|p| if p.is_dir() { walk(&p) } else { vec![p] }).collect()
}

fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let began = Instant::now();
    while !holds() {
        assert!(began.elapsed() < Duration::from_secs(60), "{what}");
        std::thread::yield_now();
    }
}

/// 150 MB that do not compress, as files of 1.5 MB.
fn scene() -> (Scene, Daemon) {
    let test = tempfile::tempdir().expect("a directory");
    let files = test.path().join("files");
    let scene = Scene { test, files };
    let daemon = Daemon::start(&scene.at("state"), 0);
    let admin = scene.at("admin");
    first_sign_in(&daemon, &admin);
    let shelf = scene.at("shelf");
    let _ = jetfrost_ends(
        &admin,
        &["destination", "add", "Shelf", "--for-everybody", shelf.to_str().expect("text"), "--reserve", "0B"],
        0,
    );
    let _ = jetfrost_ends(&admin, &["account", "add", "tove", "--no-sign-in"], 0);
    let issued: serde_json::Value =
        serde_json::from_str(&jetfrost_ends(&admin, &["enrolment", "add", "tove", "--json"], 0).out).expect("JSON");
    scene.station(&["join", issued["code"].as_str().expect("a code")], 0);
    fs::create_dir(&scene.files).expect("a folder");
    let mut state = 88_172_645_463_325_252_u64;
    for i in 0..100 {
        let noise: Vec<u8> = (0..1_500_000)
            .map(|_| {
                state ^= state << 13;
                state ^= state >> 7;
                state ^= state << 17;
                (state >> 24) as u8
            })
            .collect();
        fs::write(scene.files.join(format!("photo {i}")), noise).expect("written");
    }
    scene.station(&["include", scene.files.to_str().expect("text")], 0);
    (scene, daemon)
}

#[test]
fn after_the_client_is_killed_the_next_run_does_not_send_again_what_had_arrived() {
    let (scene, daemon) = scene();
    let mut client = scene.begin_backup();
    until("segments arrive", || scene.stored() > 40_000_000);
    client.kill().expect("killed");
    client.wait().expect("gone");
    let arrived = scene.stored();
    let report: serde_json::Value = serde_json::from_str(&scene.station(&["backup", "--json"], 0)).expect("JSON");
    let sent = report["points"][0]["sent"].as_u64().expect("a number");
    // What was on its way when the client died may be sent twice: three segments at most.
    assert!(sent + arrived < 150_000_000 + 3 * 17_000_000, "{arrived} had arrived and {sent} were sent after that");
    assert!(scene.station(&["history"], 0).contains("lost"), "the broken run is in the history");
    scene.restored_equals_source();
    assert!(daemon.terminate());
}

#[test]
fn after_a_restore_is_killed_or_stopped_the_next_one_goes_on_and_leaves_nothing_closed_or_half_written() {
    let (scene, daemon) = scene();
    for n in 0..20 {
        fs::create_dir_all(scene.files.join(format!("folder {n}/inner"))).expect("made");
        fs::rename(scene.files.join(format!("photo {n}")), scene.files.join(format!("folder {n}/inner/photo"))).expect("moved");
    }
    fs::hard_link(scene.files.join("folder 3/inner/photo"), scene.files.join("same as 3")).expect("linked");
    fs::set_permissions(scene.files.join("folder 3"), fs::Permissions::from_mode(0o550)).expect("set");
    scene.station(&["backup", "--quiet"], 0);
    goes_on_after(&scene, "killed", Signal::SIGKILL);
    goes_on_after(&scene, "stopped", Signal::SIGINT);
    assert!(daemon.terminate());
}

fn goes_on_after(scene: &Scene, how: &str, signal: Signal) {
    let back = scene.at(how);
    let arguments = ["restore", scene.files.to_str().expect("text"), "--to", back.to_str().expect("text"), "--quiet"];
    let restored = || walk(&back).iter().filter(|path| path.to_string_lossy().contains("photo")).count();
    let mut ended = jetfrost(&scene.at("station")).args(arguments).stdout(Stdio::null()).spawn().expect("it runs");
    until("files are in place", || restored() > 25);
    kill(Pid::from_raw(ended.id().cast_signed()), signal).expect("signalled");
    assert!(!ended.wait().expect("gone").success());
    assert!(restored() < 100, "it was {how} in the middle");
    fs::write(back.join("files/.jetfrost-7fffffff-1.partial"), "of an earlier one").expect("written");

    let said = scene.station(&arguments, 0);
    assert!(said.contains("101 files"), "what was in place counts as there: {said}");
    assert_eq!(listing(&back.join("files")), listing(&scene.files));
    let mode = fs::metadata(back.join("files/folder 3")).expect("there").permissions().mode() & 0o777;
    assert_eq!(mode, 0o550);
    let left: Vec<_> = walk(&back).into_iter().filter(|path| path.to_string_lossy().contains(".jetfrost-")).collect();
    assert!(left.is_empty(), "{left:?}");
    // Once it has ended, what is there is somebody's own: nothing is taken for restored by its size and time.
    let own = back.join("files/folder 1/inner/photo");
    let (time, len) = fs::metadata(&own).map(|found| (found.modified().expect("a time"), found.len())).expect("there");
    fs::write(&own, vec![7; usize::try_from(len).expect("short")]).expect("written");
    fs::File::options().write(true).open(&own).and_then(|file| file.set_modified(time)).expect("set");
    let said = jetfrost_ends(&scene.at("station"), &arguments, 0).out;
    assert!(said.contains("100 items are there already") && said.contains("1 item under another name"), "{said}");
}

#[test]
fn after_the_service_is_killed_no_point_is_lost_and_none_is_half_there() {
    let (scene, daemon) = scene();
    scene.station(&["backup", "--quiet"], 0);
    let before = listing(&scene.files);
    fs::rename(scene.files.join("photo 3"), scene.files.join("renamed")).expect("renamed");
    for i in 100..160 {
        let photo = fs::read(scene.files.join(format!("photo {}", i - 90))).expect("read");
        fs::write(scene.files.join(format!("photo {i}")), photo.iter().map(|b| b ^ 0x55).collect::<Vec<u8>>()).expect("written");
    }
    let stored = scene.stored();
    let (state, port) = (scene.at("state"), daemon.port());
    let mut client = scene.begin_backup();
    until("segments arrive", || scene.stored() > stored + 20_000_000);
    daemon.kill();
    // The client tries again for a while; the service comes back meanwhile.
    let daemon = Daemon::start(&state, port);
    let status = client.wait().expect("it ends");
    assert!(status.success(), "the client went on after the service came back: {status}");
    let points: serde_json::Value = serde_json::from_str(&scene.station(&["points", "--json"], 0)).expect("JSON");
    assert_eq!(points.as_array().map(Vec::len), Some(2));
    scene.restored_equals_source();
    let first = scene.at("first");
    scene.station(
        &["restore", "--at", "1", scene.files.to_str().expect("text"), "--to", first.to_str().expect("text"), "--quiet"],
        0,
    );
    assert_eq!(listing(&first.join("files")), before);
    assert!(daemon.terminate());
}

#[test]
fn a_service_that_is_stopped_during_a_backup_ends_well_and_the_client_goes_on_when_it_is_back() {
    let (scene, daemon) = scene();
    let (state, port) = (scene.at("state"), daemon.port());
    let mut client = scene.begin_backup();
    until("segments arrive", || scene.stored() > 20_000_000);
    assert!(daemon.terminate(), "SIGTERM ends it well, with uploads in flight");
    let left: Vec<_> =
        walk(&scene.at("shelf/stores")).into_iter().filter(|p| p.parent().is_some_and(|d| d.ends_with("staging"))).collect();
    assert!(left.is_empty(), "nothing half-written is left: {left:?}");
    let daemon = Daemon::start(&state, port);
    assert!(client.wait().expect("it ends").success(), "the client went on");
    scene.restored_equals_source();
    assert!(daemon.terminate());
}

#[test]
fn a_service_killed_at_any_moment_of_a_commit_has_the_point_or_has_it_not() {
    let (scene, daemon) = scene();
    scene.station(&["backup", "--quiet"], 0);
    let (state, port) = (scene.at("state"), daemon.port());
    let mut daemon = Some(daemon);
    for round in 0..8_u64 {
        fs::write(scene.files.join("photo 0"), format!("round {round}")).expect("written");
        let mut client = scene.begin_backup();
        // Each round a little later, so that the kill falls into different steps.
        let began = Instant::now();
        until("the moment comes", || began.elapsed() > Duration::from_millis(25 * round));
        daemon.take().expect("it runs").kill();
        daemon = Some(Daemon::start(&state, port));
        client.wait().expect("it ends");
        let points: serde_json::Value = serde_json::from_str(&scene.station(&["points", "--json"], 0)).expect("JSON");
        assert!(points.as_array().is_some_and(|p| !p.is_empty()));
        scene.station(&["look"], 0);
    }
    scene.station(&["backup", "--quiet"], 0);
    scene.restored_equals_source();
    assert!(daemon.take().expect("it runs").terminate());
}

/// How often the service is killed in the test below; `JETFROST_KILLS` says how often when more is wanted.
const KILLS: u32 = 10;

#[test]
fn a_service_killed_again_and_again_under_load_keeps_every_acknowledged_point() {
    let kills = std::env::var("JETFROST_KILLS").ok().and_then(|n| n.parse().ok()).unwrap_or(KILLS);
    let (scene, daemon) = scene();
    let admin = scene.at("admin");
    for i in 10..100 {
        fs::remove_file(scene.files.join(format!("photo {i}"))).expect("removed");
    }
    scene.station(&["backup", "--quiet"], 0);
    // Points go all the time, so that kills fall into thinning and compaction, too.
    let _ = jetfrost_ends(&admin, &["destination", "set", "Shelf", "--retention", "at least 3", "--protected-days", "0"], 0);
    let name = jetfrost_ends(&admin, &["workstation", "list", "--json"], 0).out;
    let name: serde_json::Value = serde_json::from_str(&name).expect("JSON");
    let name = name[0]["name"].as_str().expect("a name").to_owned();

    let (state, port) = (scene.at("state"), daemon.port());
    let over = AtomicBool::new(false);
    let acknowledged = AtomicU64::new(1);
    let daemon = std::thread::scope(|threads| {
        threads.spawn(|| {
            let mut round = 0_u64;
            while !over.load(Ordering::SeqCst) {
                round += 1;
                let noise: Vec<u8> = (0..400_000_u64).map(|i| (i.wrapping_mul(round ^ i).rotate_left(17) >> 5) as u8).collect();
                fs::write(scene.files.join(format!("photo {}", round % 10)), noise).expect("written");
                let output = jetfrost(&scene.at("station")).args(["backup", "--json", "--quiet"]).output().expect("it runs");
                if output.status.success() {
                    let report: serde_json::Value = serde_json::from_slice(&output.stdout).expect("JSON");
                    acknowledged
                        .fetch_max(report["points"][0]["point"]["sequence"].as_u64().expect("a number"), Ordering::SeqCst);
                }
            }
        });
        threads.spawn(|| {
            while !over.load(Ordering::SeqCst) {
                // It may be cut off at any moment; the next one goes on.
                let _ = jetfrost(&admin).args(["thinning", "start", &name]).output().expect("it runs");
            }
        });
        let mut daemon = Some(daemon);
        let mut state_of_chance = 0x9e37_79b9_7f4a_7c15_u64;
        for _ in 0..kills {
            state_of_chance = state_of_chance.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            let (began, moment) = (Instant::now(), Duration::from_millis(30 + (state_of_chance >> 33) % 500));
            until("the moment comes", || began.elapsed() > moment);
            daemon.take().expect("it runs").kill();
            let known = acknowledged.load(Ordering::SeqCst);
            daemon = Some(Daemon::start(&state, port));
            let points: serde_json::Value = serde_json::from_str(&scene.station(&["points", "--json"], 0)).expect("JSON");
            let latest = points[0]["sequence"].as_u64().expect("a number");
            assert!(latest >= known, "point {known} was acknowledged and the latest is {latest}");
        }
        over.store(true, Ordering::SeqCst);
        daemon.take().expect("it runs")
    });
    assert!(acknowledged.load(Ordering::SeqCst) > 1, "backups ended well between the kills");
    scene.station(&["backup", "--quiet"], 0);
    let said = jetfrost_ends(&admin, &["scrub", "start", &name], 0).out;
    assert!(said.contains("Everything that its points need is there."), "{said}");
    let points: serde_json::Value = serde_json::from_str(&scene.station(&["points", "--json"], 0)).expect("JSON");
    for point in points.as_array().expect("a list") {
        let sequence = point["sequence"].to_string();
        scene.station(&["check", "--at", &sequence, "--quiet"], 0);
    }
    scene.restored_equals_source();
    assert!(daemon.terminate());
}
