//! Desktop Notifications (specification 1.2 of freedesktop.org), over the bus of each session.

use std::fs;
use std::io;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};

use nix::unistd::{Uid, User};

use crate::{Accounts, Notices, System};

/// The bus of the session that this process belongs to.
const OWN: &str = "DBUS_SESSION_BUS_ADDRESS";
/// Folders of users who are signed in, by their numbers, with the bus of their session in them (pam_systemd(8)).
const SESSIONS: &str = "/run/user";
const SERVICE: &str = "org.freedesktop.Notifications";
const OBJECT: &str = "/org/freedesktop/Notifications";

/// A bus, and whose it is if that is somebody else.
struct Bus {
    address: String,
    user: Option<User>,
}

impl Notices for System {
    fn show_notice(title: &str, text: &str) -> io::Result<usize> {
        let (mut shown, mut failed) = (0, None);
        for bus in buses(Path::new(SESSIONS)) {
            match show(&bus, title, text) {
                Ok(()) => shown += 1,
                Err(error) => failed = Some(error),
            }
        }
        match failed {
            Some(error) if shown == 0 => Err(error),
            _ => Ok(shown),
        }
    }
}

fn buses(sessions: &Path) -> Vec<Bus> {
    if let Ok(address) = std::env::var(OWN) {
        return vec![Bus { address, user: None }];
    }
    let own = System::own_ids().0;
    let mut buses = Vec::new();
    for folder in fs::read_dir(sessions).into_iter().flatten().flatten() {
        let uid = folder.file_name().to_str().and_then(|name| name.parse::<u32>().ok());
        let (Some(uid), socket) = (uid, folder.path().join("bus")) else { continue };
        if !socket.exists() || (uid != own && !System::is_administrator()) {
            continue;
        }
        // A bus takes nobody but its own user.
        let user = if uid == own { None } else { User::from_uid(Uid::from_raw(uid)).ok().flatten() };
        if uid == own || user.is_some() {
            buses.push(Bus { address: format!("unix:path={}", socket.display()), user });
        }
    }
    buses
}

fn show(bus: &Bus, title: &str, text: &str) -> io::Result<()> {
    let mut command = Command::new("busctl");
    command.args([&format!("--address={}", bus.address), "--timeout=5", "--quiet", "call", SERVICE, OBJECT, SERVICE, "Notify"]);
    // Name of the program, what it replaces, icon, title, text, no buttons; urgent, and there until somebody has seen it.
    command.args(["susssasa{sv}i", "Jetfrost", "0", "", title, text, "0", "1", "urgency", "y", "2", "0"]);
    if let Some(user) = &bus.user {
        command.uid(user.uid.as_raw()).gid(user.gid.as_raw());
    }
    let output = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::piped()).output()?;
    if output.status.success() {
        return Ok(());
    }
    Err(io::Error::other(String::from_utf8_lossy(&output.stderr).trim().to_owned()))
}

#[cfg(test)]
mod tests {
    use std::os::unix::net::UnixListener;

    use super::*;

    #[test]
    fn a_bus_is_that_of_a_user_who_is_there_and_whom_this_process_may_reach() {
        let sessions = tempfile::tempdir().expect("a directory");
        let own = System::own_ids().0.to_string();
        for name in [own.as_str(), "3999999999", "no number", "1"] {
            fs::create_dir_all(sessions.path().join(name)).expect("made");
        }
        // Of the last one nobody is signed in at a desktop; of the second nobody knows the account.
        for name in [own.as_str(), "3999999999", "no number"] {
            drop(UnixListener::bind(sessions.path().join(name).join("bus")).expect("bound"));
        }
        let found: Vec<String> = buses(sessions.path()).into_iter().map(|bus| bus.address).collect();
        assert_eq!(found, [format!("unix:path={}/{own}/bus", sessions.path().display())]);
    }
}
