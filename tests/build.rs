//! Finds out what this machine lets the tests do. Tests that it does not let be done are reported as ignored, with the reason; under CI
//! they run whatever was found, and fail.

use std::env;
use std::fs;
use std::path::PathBuf;
use std::process::Command;

fn main() {
    println!("cargo::rustc-check-cfg=cfg(no_networks, no_mounts, no_loop_devices)");
    for decides in ["CI", "USER"] {
        println!("cargo::rerun-if-env-changed={decides}");
    }
    println!("cargo::rerun-if-changed=build.rs");
    if env::var_os("CI").is_some() {
        return;
    }
    for (cfg, works) in [("no_networks", has_networks()), ("no_mounts", has_mounts()), ("no_loop_devices", has_loop_devices())] {
        if !works {
            println!("cargo::rustc-cfg={cfg}");
        }
    }
}

/// Network namespaces, and mounts of their own in them.
fn has_networks() -> bool {
    done("unshare", &["-n", "-m", "mount", "-t", "tmpfs", "tmpfs", "/mnt"]).is_some()
}

/// Mounts that the tests' own processes see.
fn has_mounts() -> bool {
    let at = scratch("mount");
    let made = fs::create_dir_all(&at).is_ok();
    let at = at.display().to_string();
    made && done("mount", &["-t", "tmpfs", "-o", "size=1m", "tmpfs", &at]).is_some() && done("umount", &["-l", &at]).is_some()
}

fn has_loop_devices() -> bool {
    let file = scratch("backing");
    let made = fs::write(&file, [0; 4096]).is_ok();
    let device = done("losetup", &["--find", "--show", &file.display().to_string()]);
    made && device.is_some_and(|device| done("losetup", &["--detach", device.trim()]).is_some())
}

fn scratch(name: &str) -> PathBuf {
    PathBuf::from(env::var_os("OUT_DIR").expect("cargo gives a build script its directory")).join(name)
}

/// What a tool printed, if it ran and succeeded.
fn done(tool: &str, arguments: &[&str]) -> Option<String> {
    let output = Command::new(tool).args(arguments).output().ok()?;
    output.status.success().then(|| String::from_utf8_lossy(&output.stdout).into_owned())
}
