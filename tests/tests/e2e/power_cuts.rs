//! Power cuts: everything that was not synced is gone, at the service or at the workstation. The volume lies in a file; a copy of
//! that file is what a disk would hold at that moment, for what the system still has in memory is not in it.
//!
//! `JETFROST_CUTS=100` cuts so often at each side; a few times unless it is set.

use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use jetfrost_tests::programs::{Daemon, first_sign_in, jetfrost, jetfrost_ends};
use jetfrost_tests::witness::listing;

const USUAL: u64 = 4;
const VOLUME: u64 = 400 << 20;

/// A volume in a file, mounted.
struct Volume {
    image: PathBuf,
    at: PathBuf,
}

impl Volume {
    /// A new ext4 volume; `None` where this machine does not allow to mount one.
    fn new(image: PathBuf, at: PathBuf) -> Option<Self> {
        File::create(&image).and_then(|file| file.set_len(VOLUME)).expect("made");
        let made = Command::new("mkfs.ext4").args(["-q", "-F"]).arg(&image).status().expect("mkfs.ext4 runs");
        assert!(made.success());
        fs::create_dir_all(&at).expect("made");
        let volume = Self { image, at };
        volume.mount().then_some(volume)
    }

    fn mount(&self) -> bool {
        // The journal is not committed by itself for so long: what is not synced is not on the disk.
        let mount = Command::new("mount").args(["-o", "loop,commit=300"]).arg(&self.image).arg(&self.at).output();
        mount.expect("mount runs").status.success()
    }

    /// The power goes, and comes back: only what was synced is there.
    fn lose_power(&self) {
        let after = self.image.with_extension("after");
        let copied = Command::new("cp").arg("--sparse=always").arg(&self.image).arg(&after).status().expect("cp runs");
        assert!(copied.success());
        self.unmount();
        fs::rename(&after, &self.image).expect("renamed");
        assert!(self.mount(), "it was mounted before");
    }

    /// What was done a while ago is on the disk.
    fn settle(&self) {
        assert!(Command::new("sync").arg("-f").arg(&self.at).status().expect("sync runs").success());
    }

    fn unmount(&self) {
        let unmounted = Command::new("umount").arg("-l").arg(&self.at).status().expect("umount runs");
        assert!(unmounted.success());
    }
}

impl Drop for Volume {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.at).output();
    }
}

/// Stops a process where it is, so that nothing changes any more while its disk is copied.
fn freeze(process: u32) {
    assert!(Command::new("kill").arg("-STOP").arg(process.to_string()).status().expect("kill runs").success());
}

fn cuts() -> u64 {
    std::env::var("JETFROST_CUTS").ok().and_then(|n| n.parse().ok()).unwrap_or(USUAL)
}

/// A moment that is another one each time, and the same ones in every run.
fn moment(n: u64, most: u64) -> Duration {
    Duration::from_millis(n.wrapping_add(1).wrapping_mul(0x9e37_79b9_7f4a_7c15) % most)
}

fn wait_for(moment: Duration) {
    let began = Instant::now();
    while began.elapsed() < moment {
        std::thread::yield_now();
    }
}

/// An office whose service and workstation have the directories given.
struct Scene {
    test: tempfile::TempDir,
    files: PathBuf,
    station: PathBuf,
}

impl Scene {
    fn furnish(test: tempfile::TempDir, daemon: &Daemon, shelf: &Path, station: PathBuf) -> Self {
        let admin = test.path().join("admin");
        first_sign_in(daemon, &admin);
        let shelf = shelf.to_str().expect("text");
        let _ = jetfrost_ends(&admin, &["destination", "add", "Shelf", shelf, "--for-everybody", "--reserve", "0B"], 0);
        let _ = jetfrost_ends(&admin, &["destination", "set", "Shelf", "--protected-days", "0", "--retention", "at least 3"], 0);
        let _ = jetfrost_ends(&admin, &["account", "add", "tove", "--no-sign-in"], 0);
        let issued = jetfrost_ends(&admin, &["enrolment", "add", "tove", "--json"], 0).out;
        let issued: serde_json::Value = serde_json::from_str(&issued).expect("JSON");
        let _ = jetfrost_ends(&station, &["join", issued["code"].as_str().expect("a code")], 0);
        let files = test.path().join("files");
        fs::create_dir(&files).expect("made");
        for n in 0..60 {
            fs::create_dir_all(files.join(format!("{}", n % 7))).expect("made");
            fs::write(files.join(format!("{}/{n}", n % 7)), format!("{n} ").repeat(2000)).expect("written");
        }
        let scene = Self { test, files, station };
        let _ = jetfrost_ends(&scene.station, &["include", scene.files.to_str().expect("text")], 0);
        scene
    }

    fn change(&self, round: u64) {
        for n in 0..5 {
            let path = self.files.join(format!("{}/new {}", n, (round + n) % 12));
            fs::write(path, format!("{round} {n} ").repeat(20_000)).expect("written");
        }
        let _ = fs::remove_file(self.files.join(format!("{}/new {}", round % 5, round % 12)));
    }

    fn begin_backup(&self) -> Child {
        let mut command = jetfrost(&self.station);
        command.args(["backup", "--json", "--quiet"]).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().expect("it runs")
    }

    fn points(&self) -> Vec<u64> {
        let points = jetfrost_ends(&self.station, &["points", "--json"], 0).out;
        let points: serde_json::Value = serde_json::from_str(&points).expect("JSON");
        points.as_array().expect("a list").iter().map(|point| point["sequence"].as_u64().expect("a number")).collect()
    }

    /// The latest point is what is there now, file by file.
    fn restored_equals_source(&self) {
        let back = self.test.path().join("back");
        let arguments = ["restore", self.files.to_str().expect("text"), "--to", back.to_str().expect("text"), "--quiet"];
        let _ = jetfrost_ends(&self.station, &arguments, 0);
        assert_eq!(listing(&back.join("files")), listing(&self.files));
        fs::remove_dir_all(back).expect("removed");
    }
}

/// A power cut right after a finished backup left machines unable to back up until a file was removed by hand; a cache that was half
/// there made points that lacked files.
#[test]
fn a_workstation_that_loses_power_at_any_moment_backs_up_again_and_its_points_hold_all_that_was_there() {
    let test = tempfile::tempdir().expect("a directory");
    // Where a test may not mount, there is no disk to cut off.
    let Some(volume) = Volume::new(test.path().join("disk"), test.path().join("own")) else { return };
    let mut daemon = Daemon::start(&test.path().join("state"), 0);
    let (shelf, station) = (test.path().join("shelf"), volume.at.join("station"));
    let scene = Scene::furnish(test, &daemon, &shelf, station);
    let _ = jetfrost_ends(&scene.station, &["backup", "--quiet"], 0);
    volume.settle();
    let mut lost = 0;
    for n in 0..cuts() {
        if n % 40 == 39 {
            // More runs than a workstation may begin within an hour; what it knows of that is gone with a restart.
            let port = daemon.port();
            assert!(daemon.terminate());
            daemon = Daemon::start(&scene.test.path().join("state"), port);
        }
        scene.change(n);
        let mut client = scene.begin_backup();
        // Most of the cuts are within the run, some right behind it.
        wait_for(moment(n, 400));
        freeze(client.id());
        let unsynced = volume.at.join(format!("unsynced {n}"));
        fs::write(&unsynced, "in memory alone").expect("written");
        volume.lose_power();
        // Something that was just being made durable may take it along, seldom.
        lost += u64::from(!unsynced.exists());
        client.kill().expect("killed");
        client.wait().expect("gone");
        let said = jetfrost_ends(&scene.station, &["backup", "--quiet"], 0);
        assert!(said.out.contains("complete"), "cut {n}: {}", said.out);
        scene.restored_equals_source();
    }
    assert!(lost > cuts() / 2, "this disk keeps what was never synced: the test shows nothing");
    let _ = jetfrost_ends(&scene.station, &["check", "--quiet"], 0);
    drop(volume);
    assert!(daemon.terminate());
}

#[test]
fn a_service_that_loses_power_at_any_moment_has_every_point_that_it_acknowledged() {
    let test = tempfile::tempdir().expect("a directory");
    let Some(volume) = Volume::new(test.path().join("disk"), test.path().join("server")) else { return };
    let (state, shelf) = (volume.at.join("state"), volume.at.join("shelf"));
    let mut daemon = Daemon::start(&state, 0);
    let port = daemon.port();
    let station = test.path().join("station");
    let scene = Scene::furnish(test, &daemon, &shelf, station);
    let _ = jetfrost_ends(&scene.station, &["backup", "--quiet"], 0);
    volume.settle();
    let name: serde_json::Value =
        serde_json::from_str(&jetfrost_ends(&scene.test.path().join("admin"), &["workstation", "list", "--json"], 0).out)
            .expect("JSON");
    let name = name[0]["name"].as_str().expect("a name").to_owned();
    let mut acknowledged = 1;
    for n in 0..cuts() {
        scene.change(n);
        let mut client = scene.begin_backup();
        let mut thinning = jetfrost(&scene.test.path().join("admin"));
        let mut thinning =
            thinning.args(["thinning", "start", &name]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it runs");
        wait_for(moment(n, 500));
        freeze(daemon.process());
        freeze(client.id());
        volume.lose_power();
        let _ = thinning.kill();
        let _ = thinning.wait();
        client.kill().expect("killed");
        let output = client.wait_with_output().expect("gone");
        daemon.kill();
        if let Ok(report) = serde_json::from_slice::<serde_json::Value>(&output.stdout) {
            acknowledged = report["points"][0]["point"]["sequence"].as_u64().expect("a number").max(acknowledged);
        }
        daemon = Daemon::start(&state, port);
        let there = scene.points();
        assert!(
            there.first().is_some_and(|latest| *latest >= acknowledged),
            "cut {n}: {there:?}, and {acknowledged} was acknowledged"
        );
        let _ = jetfrost_ends(&scene.station, &["backup", "--quiet"], 0);
        acknowledged = scene.points()[0];
        scene.restored_equals_source();
    }
    let said = jetfrost_ends(&scene.test.path().join("admin"), &["scrub", "start", &name], 0).out;
    assert!(said.contains("Everything that its points need is there."), "{said}");
    for point in scene.points() {
        let _ = jetfrost_ends(&scene.station, &["check", "--at", &point.to_string(), "--quiet"], 0);
    }
    let _ = jetfrost_ends(&scene.test.path().join("admin"), &["audit", "check"], 0);
    assert!(daemon.terminate());
}
