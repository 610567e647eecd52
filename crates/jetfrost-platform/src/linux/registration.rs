//! Units of systemd (`systemd.unit(5)`).

use std::ffi::OsStr;
use std::fs;
use std::io::{self, ErrorKind};
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::{Registration, Started, System};

impl Registration for System {
    fn register(name: &str, description: &str, started: Started<'_>) -> io::Result<PathBuf> {
        let path = directory(started)?.join(unit(name));
        fs::create_dir_all(path.parent().expect("a file has a directory"))?;
        fs::write(&path, description)?;
        let unit = unit(name);
        let enabled = match started {
            Started::ForMachineBelow(_) => systemctl(started, &["enable", &unit]),
            Started::ForMachine | Started::ForUser => {
                systemctl(started, &["daemon-reload"]).and_then(|()| systemctl(started, &["enable", "--now", &unit]))
            }
        };
        // Nothing is left of what did not come about.
        enabled.map(|()| path.clone()).inspect_err(|_| drop(fs::remove_file(&path)))
    }

    fn unregister(name: &str, started: Started<'_>) -> io::Result<()> {
        let (path, unit) = (directory(started)?.join(unit(name)), unit(name));
        if !path.try_exists()? {
            return Ok(());
        }
        match started {
            Started::ForMachineBelow(_) => systemctl(started, &["disable", &unit])?,
            Started::ForMachine | Started::ForUser => systemctl(started, &["disable", "--now", &unit])?,
        }
        fs::remove_file(path)
    }
}

fn unit(name: &str) -> String {
    format!("{name}.service")
}

fn directory(started: Started<'_>) -> io::Result<PathBuf> {
    match started {
        Started::ForMachine => Ok("/etc/systemd/system".into()),
        Started::ForMachineBelow(root) => Ok(root.join("etc/systemd/system")),
        Started::ForUser => {
            let config = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from);
            let home = || std::env::var_os("HOME").map(|home| Path::new(&home).join(".config"));
            let config = config.or_else(home).ok_or_else(|| io::Error::new(ErrorKind::NotFound, "HOME is not set"))?;
            Ok(config.join("systemd/user"))
        }
    }
}

/// Has systemd do something; what it says against it is the error.
fn systemctl(started: Started<'_>, arguments: &[&str]) -> io::Result<()> {
    let mut command = Command::new("systemctl");
    match started {
        Started::ForMachine => {}
        Started::ForUser => drop(command.arg("--user")),
        Started::ForMachineBelow(root) => {
            let mut option = OsStr::new("--root=").to_owned();
            option.push(root);
            command.arg(option);
        }
    }
    let output = command.arg("--quiet").args(arguments).output().map_err(|error| match error.kind() {
        ErrorKind::NotFound => io::Error::new(ErrorKind::Unsupported, "systemd is not on this machine"),
        _ => error,
    })?;
    if output.status.success() {
        return Ok(());
    }
    Err(io::Error::other(String::from_utf8_lossy(&output.stderr).trim().to_owned()))
}

#[cfg(test)]
mod tests {
    use super::*;

    const UNIT: &str = "[Service]\nExecStart=/bin/true\n\n[Install]\nWantedBy=multi-user.target\n";

    #[test]
    fn what_is_registered_for_another_machine_starts_with_it_until_it_is_taken_away() {
        let root = tempfile::tempdir().expect("a directory");
        let below = Started::ForMachineBelow(root.path());
        let path = System::register("jetfrost-of-a-test", UNIT, below).expect("systemd is installed");
        let wanted = root.path().join("etc/systemd/system/multi-user.target.wants/jetfrost-of-a-test.service");
        assert!(path.is_file() && wanted.symlink_metadata().is_ok());
        System::unregister("jetfrost-of-a-test", below).expect("taken away");
        assert!(!path.exists() && wanted.symlink_metadata().is_err());
        System::unregister("jetfrost-of-a-test", below).expect("nothing is left to do");
    }

    #[test]
    fn what_systemd_says_against_a_unit_is_the_error() {
        let root = tempfile::tempdir().expect("a directory");
        let odd =
            System::register("jetfrost of a test@", "", Started::ForMachineBelow(root.path())).expect_err("no name of a unit");
        assert!(!odd.to_string().is_empty());
    }
}
