//! The programs themselves, as processes.

use std::fs::File;
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

use crate::office::{ADMINISTRATOR, PASSPHRASE, PASSWORD};

/// What has not come after so long does not come.
const PATIENCE: Duration = Duration::from_secs(60);

/// A program of this workspace; `cargo build --workspace` puts it beside the tests.
#[must_use]
pub fn program(name: &str) -> PathBuf {
    let here = std::env::current_exe().expect("the test knows itself");
    let directory = here.ancestors().find(|a| a.join(name).is_file());
    directory.unwrap_or_else(|| panic!("{name} is not built: run 'cargo build --workspace'")).join(name)
}

/// Where the log goes of a service with this state directory: beside it.
fn log_of(state: &Path) -> PathBuf {
    state.with_extension("log")
}

/// `jetfrostd` as a process.
pub struct Daemon {
    child: Child,
    /// What it printed until it was ready.
    pub said: String,
    /// `host:port`.
    pub address: String,
}

impl Daemon {
    /// Starts it on a state directory; `port` 0 takes a free one. Returns when it answers.
    #[must_use]
    pub fn start(state: &Path, port: u16) -> Self {
        let mut child = Command::new(program("jetfrostd"))
            .args(["serve", "--public-name", "localhost", "--listen", &format!("127.0.0.1:{port}"), "--state-directory"])
            .arg(state)
            .env_clear()
            // As packaging/jetfrostd.service has it.
            .env("MALLOC_ARENA_MAX", "2")
            .stdout(Stdio::piped())
            .stderr(File::create(log_of(state)).expect("a file"))
            .spawn()
            .expect("jetfrostd starts");
        let mut said = String::new();
        let mut lines = BufReader::new(child.stdout.take().expect("piped")).lines();
        // The first four lines always come; the code for the first administrator follows when there is none.
        for line in lines.by_ref().take(4) {
            said.push_str(&line.expect("text"));
            said.push('\n');
        }
        if !state.join("had-administrator").exists() {
            for line in lines.by_ref().take(3) {
                said.push_str(&line.expect("text"));
                said.push('\n');
            }
            std::fs::write(state.join("had-administrator"), "").expect("noted");
        }
        std::thread::spawn(move || lines.for_each(drop));
        let port =
            said.split("https://localhost:").nth(1).and_then(|rest| rest.split('/').next()).expect("the console's address");
        let address = format!("localhost:{port}");
        Self { child, said, address }
    }

    /// What it logged so far.
    #[must_use]
    pub fn log(state: &Path) -> String {
        std::fs::read_to_string(log_of(state)).expect("a log")
    }

    /// The word behind a label in what it said.
    #[must_use]
    pub fn told(&self, label: &str) -> String {
        let line = self.said.lines().find(|line| line.trim_start().starts_with(label)).expect("it was said");
        line.split_whitespace().last().expect("a word").to_owned()
    }

    /// The port.
    #[must_use]
    pub fn port(&self) -> u16 {
        self.address.rsplit(':').next().and_then(|port| port.parse().ok()).expect("a port")
    }

    /// Its process id.
    #[must_use]
    pub fn process(&self) -> u32 {
        self.child.id()
    }

    /// Kills it at once, as a loss of power would.
    pub fn kill(mut self) {
        self.child.kill().expect("killed");
        self.child.wait().expect("gone");
    }

    /// Asks it to stop and says whether it ended well.
    #[must_use]
    pub fn terminate(mut self) -> bool {
        kill(Pid::from_raw(self.child.id().cast_signed()), Signal::SIGTERM).expect("signalled");
        self.child.wait().expect("gone").success()
    }

    /// Highest resident memory so far, in bytes.
    #[must_use]
    pub fn peak_memory(&self) -> u64 {
        peak_memory(self.child.id())
    }
}

impl Drop for Daemon {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Highest resident memory of a process so far, in bytes (proc(5)).
#[must_use]
pub fn peak_memory(process: u32) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap_or_default();
    let line = status.lines().find(|line| line.starts_with("VmHWM:")).unwrap_or_default();
    line.split_whitespace().nth(1).and_then(|kib| kib.parse::<u64>().ok()).unwrap_or(0) * 1024
}

/// `jetfrost`, with a home of its own and nothing of the environment.
#[must_use]
pub fn jetfrost(home: &Path) -> Command {
    let mut command = Command::new(program("jetfrost"));
    command
        .env_clear()
        .env("TZ", "UTC")
        .env("JETFROST_HOME", home)
        .env("JETFROST_PASSWORD", PASSWORD)
        .env("JETFROST_PASSPHRASE", PASSPHRASE)
        .stdin(Stdio::null());
    command
}

/// Runs `jetfrost` and expects it to end with `code`.
#[must_use]
pub fn jetfrost_ends(home: &Path, arguments: &[&str], code: i32) -> Said {
    let output = jetfrost(home).args(arguments).output().expect("it runs");
    let said = Said::of(&output);
    assert_eq!(output.status.code(), Some(code), "jetfrost {arguments:?} said:\n{}{}", said.out, said.err);
    said
}

/// What a program printed.
#[derive(Debug)]
pub struct Said {
    /// On standard output.
    pub out: String,
    /// On standard error.
    pub err: String,
}

impl Said {
    /// What an ended program printed.
    #[must_use]
    pub fn of(output: &Output) -> Self {
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        Self { out: text(&output.stdout), err: text(&output.stderr) }
    }
}

/// Signs the administrator in, creating it with the code that the service printed.
pub fn first_sign_in(daemon: &Daemon, home: &Path) {
    let (code, fingerprint) = (daemon.told("first code"), daemon.told("identity"));
    let _ = jetfrost_ends(
        home,
        &["sign-in", &daemon.address, "--login", ADMINISTRATOR, "--first", &code, "--fingerprint", &fingerprint],
        0,
    );
}

/// Starts a program that goes on, and hears its output.
#[must_use]
pub fn start(command: &mut Command) -> Going {
    let mut child = command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().expect("it starts");
    let (tell, lines) = channel();
    let out = child.stdout.take().expect("piped");
    std::thread::spawn(move || BufReader::new(out).lines().map_while(Result::ok).for_each(|line| drop(tell.send(line))));
    Going { child, lines }
}

/// A program that goes on until it is dropped.
pub struct Going {
    child: Child,
    lines: Receiver<String>,
}

impl Going {
    /// The next line that is like this. Panics when none comes.
    #[must_use]
    pub fn line(&self, what: &str, mut is_it: impl FnMut(&str) -> bool) -> String {
        let end = Instant::now() + PATIENCE;
        let mut passed = Vec::new();
        loop {
            let left = end.saturating_duration_since(Instant::now());
            match self.lines.recv_timeout(left) {
                Ok(line) if is_it(&line) => return line,
                Ok(line) => passed.push(line),
                Err(_) => panic!("{what} did not come; what came: {passed:#?}"),
            }
        }
    }

    /// Ends it as an administrator would.
    pub fn terminate(mut self) {
        let process = Pid::from_raw(self.child.id().cast_signed());
        kill(process, Signal::SIGTERM).expect("signalled");
        self.child.wait().expect("it ends");
    }
}

impl Drop for Going {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
