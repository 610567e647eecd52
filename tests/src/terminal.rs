//! A program at a terminal, which is shown text and typed at: `script(1)` makes the terminal.

use std::io::{Read, Write};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

use crate::programs::program;

/// What `jetfrost` shows comes within this.
const PATIENCE: Duration = Duration::from_secs(60);

/// A program of a test's own at a terminal.
pub struct Terminal {
    child: Child,
    shown: Arc<(Mutex<String>, Condvar)>,
    /// How much of it was looked at.
    read: usize,
    patience: Duration,
}

impl Terminal {
    /// Runs `jetfrost` with a state directory.
    pub fn jetfrost(home: &Path, words: &str) -> Self {
        let command = format!("'{}' --state-directory '{}' {words}", program("jetfrost").display(), home.display());
        Self::of(Command::new("script").args(["-qefc", &command, "/dev/null"]), PATIENCE)
    }

    /// Runs a program that has a terminal of its own, or is one. What it shows comes within `patience`.
    pub fn of(command: &mut Command, patience: Duration) -> Self {
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().expect("it starts");
        let mut out = child.stdout.take().expect("piped");
        let shown = Arc::new((Mutex::new(String::new()), Condvar::new()));
        let into = Arc::clone(&shown);
        std::thread::spawn(move || {
            let mut bytes = [0; 4096];
            while let Ok(read @ 1..) = out.read(&mut bytes) {
                into.0.lock().unwrap_or_else(PoisonError::into_inner).push_str(&String::from_utf8_lossy(&bytes[..read]));
                into.1.notify_all();
            }
        });
        Self { child, shown, read: 0, patience }
    }

    /// Waits until it shows a text, and returns what it showed since the last one, up to there.
    pub fn shows(&mut self, text: &str) -> String {
        let end = Instant::now() + self.patience;
        let mut shown = self.shown.0.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            if let Some(at) = shown[self.read..].find(text) {
                let upto = self.read + at + text.len();
                let new = shown[self.read..upto].to_owned();
                self.read = upto;
                return new;
            }
            let left = end.saturating_duration_since(Instant::now());
            assert!(!left.is_zero(), "no '{text}' in: {}", &*shown);
            shown = self.shown.1.wait_timeout(shown, left).unwrap_or_else(PoisonError::into_inner).0;
        }
    }

    /// Types a line.
    pub fn types(&mut self, line: &str) {
        let input = self.child.stdin.as_mut().expect("piped");
        writeln!(input, "{line}").and_then(|()| input.flush()).expect("typed");
    }

    /// Waits for its end; the code must be this.
    pub fn ends(mut self, code: i32) {
        let ended = self.child.wait().expect("it ends");
        let shown = self.shown.0.lock().unwrap_or_else(PoisonError::into_inner);
        assert_eq!(ended.code(), Some(code), "{}", &*shown);
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        // One that ended already cannot be killed.
        let _ = self.child.kill();
    }
}
