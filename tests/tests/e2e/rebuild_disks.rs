//! A disk of a machine into an image file or onto a device, with the list that it ends with; killed on the way, and damaged afterwards.

use std::fs::{self, File, OpenOptions};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::Stdio;
use std::time::Instant;

use jetfrost_tests::chance::Chance;
use jetfrost_tests::mounted::LoopDevice;
use jetfrost_tests::office::{Office, Workstation};
use jetfrost_tests::programs::{jetfrost, jetfrost_ends};
use jetfrost_wire::Page;
use jetfrost_wire::restore::{CheckState, Restore};
use serde_json::Value;

use crate::disks::{office_with_disks, text, tool};
use crate::integrity::noise;
use crate::rebuild::{item, kill_at_random};

const MIB: u64 = 1 << 20;

fn rebuild(station: &Workstation, disk: &Path, to: &Path, more: &[&str], code: i32) -> Value {
    let words = [&["rebuild", "--json", "--quiet", "--disk", text(disk), "--to", text(to)], more].concat();
    serde_json::from_str(&jetfrost_ends(station.home.directory(), &words, code).out).expect("JSON")
}

#[test]
fn a_disk_is_rebuilt_into_an_image_file_and_the_list_finds_what_became_another_since() {
    let (office, station, plain, divided) = office_with_disks();
    station.back_up_disks().expect("disks");
    let first = fs::read(&divided).expect("there");
    OpenOptions::new()
        .write(true)
        .open(&divided)
        .expect("there")
        .write_all_at(&noise("later", 3 << 20), 60 * MIB)
        .expect("written");
    station.back_up_disks().expect("disks");
    let to = office.path("back.raw");
    let preview = rebuild(&station, &divided, &to, &["--at", "1", "--preview"], 0);
    assert_eq!((&preview["newest"], &preview["files_forgone"]), (&2.into(), &1.into()), "{preview}");
    assert!((3 * MIB..=4 * MIB).contains(&preview["bytes_forgone"].as_u64().expect("a number")), "{preview}");
    assert!(!to.exists());
    let list = rebuild(&station, &divided, &to, &["--at", "1"], 0);
    assert!(fs::read(&to).expect("there") == first);
    for what in ["Contents", "Restored exactly", "Partition table", "Exceptions at the backup"] {
        assert_eq!(item(&list, what)["state"], "right", "{what}: {list}");
    }
    let id = station.home.membership().expect("joined").workstation;
    let on_record = office.api.get::<Page<Restore>>(&format!("/workstations/{id}/restores")).expect("listed").items;
    let told = on_record[0].checklist.as_ref().expect("checked off");
    assert_eq!(told.items.len(), list["items"].as_array().expect("items").len());
    assert!(told.state() != CheckState::Wrong && !serde_json::to_string(told).expect("JSON").contains("survey.raw"), "no names");
    let said = jetfrost_ends(station.home.directory(), &["rebuild", "--disk", text(&divided), "--to", text(&to)], 1);
    assert!(said.err.contains("it is there already"), "{}", said.err);

    let file = OpenOptions::new().write(true).open(&to).expect("there");
    file.write_all_at(&[0x55], 30 * MIB + 200).expect("a byte");
    let list = rebuild(&station, &divided, &to, &["--at", "1", "--check-only"], 3);
    let contents = item(&list, "Contents");
    assert_eq!((contents["state"].as_str(), contents["count"].as_u64()), (Some("wrong"), Some(1)), "{list}");
    assert!(contents["paths"][0].as_str().expect("text").ends_with("bytes 31457280 to 32505856"), "{list}");
    assert_eq!(item(&list, "Partition table")["state"], "right");
    // Both copies of the table.
    for at in [0, 80 * MIB + 512 * 1024 - 512] {
        file.write_all_at(&[0; 1024][..if at == 0 { 1024 } else { 512 }], at).expect("written");
    }
    let list = rebuild(&station, &divided, &to, &["--at", "1", "--check-only"], 3);
    assert_eq!(item(&list, "Partition table")["state"], "wrong", "{list}");

    let to = office.path("accounts-back.raw");
    let list = rebuild(&station, &plain, &to, &[], 0);
    let systems = item(&list, "File systems");
    assert!(systems["state"] == "right" && systems["paths"][0].as_str().expect("text").contains("ext4, opens"), "{list}");
}

#[test]
#[cfg_attr(no_loop_devices, ignore = "needs loop devices: run it as root")]
fn a_device_is_overwritten_only_once_its_own_name_was_typed_and_what_is_on_it_was_said() {
    let (office, station, plain, divided) = office_with_disks();
    station.back_up_disks().expect("disks");
    let backing = office.path("backing.raw");
    File::create(&backing).expect("made").set_len(90 * MIB).expect("longer");
    tool("mkfs.ext4", &["-q", text(&backing)]);
    let before = fs::read(&backing).expect("there");
    let device = LoopDevice::new(&backing);
    let to = text(&device.path);
    let words = ["rebuild", "--disk", text(&divided), "--to", to];
    for name in ["fulmar", text(&backing)] {
        let said = jetfrost_ends(station.home.directory(), &[&words[..], &["--confirm", name]].concat(), 1);
        assert!(said.err.contains("the disk: ext4, opens") && said.err.contains(&format!("--confirm {to}")), "{}", said.err);
        assert!(fs::read(&backing).expect("there") == before);
    }
    let list = rebuild(&station, &divided, &device.path, &["--confirm", to], 0);
    assert_eq!(item(&list, "Contents")["state"], "right");
    assert!(item(&list, "Size")["found"].as_str().expect("said").contains("copy of the partition table"), "{list}");
    tool("cmp", &["-n", &(80 * MIB + MIB / 2).to_string(), to, text(&divided)]);
    let list = rebuild(&station, &plain, &device.path, &["--confirm", to], 0);
    assert_eq!(item(&list, "File systems")["state"], "right", "{list}");
}

#[test]
fn a_disk_that_is_killed_again_and_again_while_it_is_rebuilt_is_as_it_was() {
    let (office, station) = Office::with_station("dunlin");
    let disk = office.path("machine.raw");
    fs::write(&disk, noise("machine", 60 << 20)).expect("written");
    station.keep_disk(&disk);
    station.back_up_disks().expect("a point");
    let chance = Chance::of("a disk, killed");
    let began = Instant::now();
    rebuild(&station, &disk, &office.path("at once.raw"), &[], 0);
    let whole = began.elapsed();
    let (to, unfinished) = (office.path("back.raw"), office.path("back.raw.unfinished"));
    let (mut killed, mut halfway) = (0, 0);
    while killed < 20 {
        let words = ["rebuild", "--quiet", "--disk", text(&disk), "--to", text(&to)];
        let running = jetfrost(station.home.directory()).args(words).stdout(Stdio::null()).stderr(Stdio::null()).spawn();
        match kill_at_random(running.expect("it starts"), whole, &chance) {
            Some(status) => assert!(status.success(), "{status}"),
            None => killed += 1,
        }
        halfway += u32::from(unfinished.exists());
        // It came to its end, or was killed only while it looked at what it had made: the next one begins anew.
        if to.exists() {
            assert!(fs::read(&to).expect("there") == fs::read(&disk).expect("there"));
            fs::remove_file(&to).expect("removed");
        }
    }
    assert!(halfway > 0, "some were killed while they wrote");
    rebuild(&station, &disk, &to, &[], 0);
    assert!(fs::read(&to).expect("there") == fs::read(&disk).expect("there") && !unfinished.exists());
}
