//! Secrets with systemd (`systemd-creds(1)`) and with the Secret Service of freedesktop.org, by `secret-tool(1)`.

use std::io::{self, ErrorKind, Read, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::thread;
use std::time::{Duration, Instant};

use crate::{Accounts, Keeper, Programs, Secrets, System};

/// A keyring that is locked asks its user, who may not be there.
const PATIENCE: Duration = Duration::from_secs(30);
const LOOK: Duration = Duration::from_millis(5);

impl Secrets for System {
    fn best_keeper() -> Option<Keeper> {
        if !Self::is_administrator() {
            // Without its user nobody unlocks a keyring, and the agent of one who lingers works all the same.
            return (!lingers(Path::new(LINGERING))).then_some(Keeper::Keyring);
        }
        // A container's own key goes with the container; what it mounts stays.
        (!is_container()).then_some(Keeper::Machine)
    }

    fn has_security_chip() -> bool {
        succeeds(Command::new("systemd-creds").args(["has-tpm2", "--quiet"]))
    }

    fn keep_secret(keeper: Keeper, name: &str, secret: &str) -> io::Result<String> {
        let mut command = match keeper {
            Keeper::Machine => {
                let key = if Self::has_security_chip() { "host+tpm2" } else { "host" };
                let mut seal = Command::new("systemd-creds");
                // Bound to the chip and to no state of its firmware, which an update changes.
                seal.args(["encrypt", "--quiet", "--tpm2-pcrs="]).args([&format!("--with-key={key}"), &named(name), "-", "-"]);
                seal
            }
            Keeper::Keyring => {
                let mut store = Command::new("secret-tool");
                store.args(["store", &format!("--label=Jetfrost: {name}"), "application", "jetfrost", "name", name]);
                store
            }
        };
        answer_of(&mut command, secret).map(|kept| kept.split_whitespace().collect())
    }

    fn secret(keeper: Keeper, name: &str, kept: &str) -> io::Result<String> {
        match keeper {
            Keeper::Machine => {
                answer_of(Command::new("systemd-creds").args(["decrypt", "--quiet", &named(name), "-", "-"]), kept)
            }
            Keeper::Keyring => {
                answer_of(Command::new("secret-tool").args(["lookup", "application", "jetfrost", "name", name]), "")
            }
        }
    }

    fn forget_secret(keeper: Keeper, name: &str) -> io::Result<()> {
        match keeper {
            // It is in its sealed form alone.
            Keeper::Machine => Ok(()),
            Keeper::Keyring => {
                let cleared = answer_of(Command::new("secret-tool").args(["clear", "application", "jetfrost", "name", name]), "");
                cleared.map(drop).or_else(|error| if error.kind() == ErrorKind::PermissionDenied { Ok(()) } else { Err(error) })
            }
        }
    }
}

/// A file of a user's name is here while that user's programs run also when nobody is signed in (`loginctl(1)`).
const LINGERING: &str = "/var/lib/systemd/linger";

fn lingers(lingering: &Path) -> bool {
    System::user_name(System::own_ids().0).is_some_and(|name| lingering.join(name).exists())
}

fn is_container() -> bool {
    succeeds(Command::new("systemd-detect-virt").args(["--container", "--quiet"]))
}

fn named(name: &str) -> String {
    format!("--name={name}")
}

fn succeeds(command: &mut Command) -> bool {
    let silent = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    silent.status().is_ok_and(|status| status.success())
}

/// What a program answers to what it is given. Neither is shown to anybody.
fn answer_of(command: &mut Command, given: &str) -> io::Result<String> {
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
    let mut child = System::start_together(command).map_err(|error| match error.kind() {
        ErrorKind::NotFound => io::Error::from(ErrorKind::Unsupported),
        _ => error,
    })?;
    // Both are less than a pipe holds; whoever does not read it says more by how it ends.
    drop(child.stdin.take().expect("it is piped").write_all(given.as_bytes()));
    let until = Instant::now() + PATIENCE;
    let status = loop {
        match child.try_wait()? {
            Some(status) => break status,
            None if Instant::now() > until => {
                System::end_together(&child)?;
                break child.wait()?;
            }
            None => thread::sleep(LOOK),
        }
    };
    let mut answer = String::new();
    child.stdout.take().expect("it is piped").read_to_string(&mut answer)?;
    if status.success() { Ok(answer) } else { Err(ErrorKind::PermissionDenied.into()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_the_machine_sealed_comes_back_under_its_name_and_only_whole() {
        let sealed = System::keep_secret(Keeper::Machine, "jetfrost-of-a-test", "a secret").expect("systemd is installed");
        assert!(!sealed.contains("secret"), "{sealed}");
        assert_eq!(System::secret(Keeper::Machine, "jetfrost-of-a-test", &sealed).expect("opened"), "a secret");
        let refused = |name, sealed: &str| System::secret(Keeper::Machine, name, sealed).map_err(|error| error.kind());
        assert_eq!(refused("jetfrost-of-another", &sealed), Err(ErrorKind::PermissionDenied));
        let mut flipped = sealed.into_bytes();
        let middle = flipped.len() / 2;
        flipped[middle] = if flipped[middle] == b'A' { b'B' } else { b'A' };
        let flipped = String::from_utf8(flipped).expect("text");
        assert_eq!(refused("jetfrost-of-a-test", &flipped), Err(ErrorKind::PermissionDenied));
    }

    #[test]
    fn a_keeper_that_is_not_here_is_told_from_one_that_refuses() {
        let error = |mut command: Command| answer_of(&mut command, "x").expect_err("no answer").kind();
        assert_eq!(error(Command::new("/nowhere/at-all")), ErrorKind::Unsupported);
        assert_eq!(error(Command::new("false")), ErrorKind::PermissionDenied);
        assert_eq!(answer_of(&mut Command::new("cat"), "x").expect("an answer"), "x");
    }

    #[test]
    fn who_lingers_has_nobody_to_unlock_a_keyring() {
        let lingering = tempfile::tempdir().expect("a directory");
        assert!(!lingers(lingering.path()));
        let own = System::user_name(System::own_ids().0).expect("a name");
        std::fs::write(lingering.path().join(own), "").expect("written");
        assert!(lingers(lingering.path()));
    }
}
