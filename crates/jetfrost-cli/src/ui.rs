//! The terminal: tables, words, questions, progress. Nothing else in this program prints.

use std::io::{IsTerminal, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use comfy_table::{CellAlignment, Table, presets};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use jetfrost_client::progress::Meter;
use jetfrost_platform::os_str;
use jetfrost_wire::run::{Phase, Progress};
use jetfrost_wire::size::show;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::Serialize;

use crate::failure::Failure;

/// Said when a person interrupts.
pub(crate) fn say_stopping() {
    let _ = writeln!(
        std::io::stderr(),
        "\nStopping at the next good moment: what is done stays, and the next attempt goes on from there. Again to end at once."
    );
}

/// A question is asked so often at most.
const ATTEMPTS: usize = 5;

/// How a command talks.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Ui {
    json: bool,
}

impl Ui {
    pub(crate) fn new(json: bool) -> Self {
        Self { json }
    }

    /// Whether somebody sits at a terminal who can be asked.
    pub(crate) fn is_terminal(&self) -> bool {
        !self.json && std::io::stdin().is_terminal()
    }

    /// A line for people, of a command that tells programs its result as a whole in the end.
    pub(crate) fn say(&self, text: &str) {
        if !self.json {
            self.line(text);
        }
    }

    /// Whether output is for programs.
    pub(crate) fn is_json(&self) -> bool {
        self.json
    }

    /// Prints a value: as JSON if that was asked for, else as `words` puts it.
    pub(crate) fn show<T: Serialize>(&self, value: &T, words: impl FnOnce(&T)) {
        if self.json {
            let text = serde_json::to_string_pretty(value).unwrap_or_default();
            // JSON has escapes of its own.
            let _ = writeln!(std::io::stdout(), "{text}");
        } else {
            words(value);
        }
    }

    /// A line of what was asked for. A reader that went away is no failure of the command.
    pub(crate) fn line(&self, text: &str) {
        let _ = writeln!(std::io::stdout(), "{}", printable(text));
    }

    /// A text of this program's own, as it is: help, a script.
    pub(crate) fn text(&self, text: &str) {
        let _ = std::io::stdout().write_all(text.as_bytes());
    }

    /// A remark, which is not part of what was asked for.
    pub(crate) fn remark(&self, text: &str) {
        if !self.json {
            let _ = writeln!(std::io::stderr(), "{}", printable(text));
        }
    }

    /// A list as a table, or what to do when it is empty.
    pub(crate) fn table(&self, heads: &[&str], rows: Vec<Vec<String>>, numbers: &[usize], when_empty: &str) {
        if rows.is_empty() {
            self.line(when_empty);
            return;
        }
        let mut table = Table::new();
        table.load_style(presets::NOTHING);
        table.set_header(heads.iter().map(|h| h.to_uppercase()));
        // Before it is measured: an escape must not shift the columns either.
        table.add_rows(rows.into_iter().map(|row| row.iter().map(|cell| printable(cell)).collect::<Vec<_>>()));
        for column in numbers {
            if let Some(column) = table.column_mut(*column) {
                column.set_cell_alignment(CellAlignment::Right);
            }
        }
        for line in table.to_string().lines() {
            self.line(line.trim_end());
        }
    }

    /// What went wrong, and the next step.
    pub(crate) fn failure(&self, failure: &Failure) {
        let words = failure.words();
        let mut text = format!("jetfrost: {}\n", words.what);
        if let Some(detail) = &words.detail {
            text.push_str(&format!("  {detail}\n"));
        }
        text.push_str(&format!("  Next: {}\n", words.next));
        let _ = write!(std::io::stderr(), "{}", printable(&text));
    }

    /// Asks for a secret, twice if it is a new one. `what` names which secret is meant and whose it is.
    pub(crate) fn secret(&self, what: &str, given: &Given<'_>, twice: bool) -> Result<String, Failure> {
        if let Some(path) = given.file {
            let text = std::fs::read_to_string(path).map_err(|e| {
                Failure::here(
                    format!("{} cannot be read: {e}.", path.display()),
                    "Give a file that holds the secret in its first line.",
                )
            })?;
            return Ok(text.lines().next().unwrap_or_default().to_owned());
        }
        if let Ok(text) = std::env::var(given.variable) {
            return Ok(text);
        }
        let ask = |prompt: String| {
            rpassword::prompt_password(prompt).map_err(|_| {
                let next = format!("Give it with {} FILE or in the variable {}.", given.option, given.variable);
                Failure::here(format!("There is no terminal to ask for {what}."), next)
            })
        };
        let first = ask(format!("{}: ", capital(what)))?;
        if twice && ask("The same once more: ".into())? != first {
            return Err(Failure::here("The two were not the same.", "Try again."));
        }
        Ok(first)
    }

    /// Asks a question that must be answered with yes.
    pub(crate) fn agrees(&self, question: &str) -> bool {
        if !std::io::stdin().is_terminal() {
            return false;
        }
        let _ = write!(std::io::stderr(), "{} [y/N] ", printable(question));
        let mut answer = String::new();
        std::io::stdin().read_line(&mut answer).is_ok() && matches!(answer.trim(), "y" | "Y" | "yes")
    }

    /// Asks a question that is answered with yes unless somebody says no.
    pub(crate) fn agrees_by_default(&self, question: &str) -> bool {
        let _ = write!(std::io::stderr(), "{} [Y/n] ", printable(question));
        let mut answer = String::new();
        std::io::stdin().read_line(&mut answer).is_ok_and(|read| read > 0) && !matches!(answer.trim(), "n" | "N" | "no")
    }

    /// Asks for something that is no secret.
    pub(crate) fn ask(&self, what: &str) -> Result<String, Failure> {
        if !std::io::stdin().is_terminal() {
            return Err(Failure::here(format!("There is no terminal to ask for: {what}."), "Give it as an option; see --help."));
        }
        let _ = write!(std::io::stderr(), "{what}: ");
        let mut answer = String::new();
        let read = std::io::stdin().read_line(&mut answer);
        read.map_err(|e| Failure::here(format!("The terminal cannot be read: {e}."), "Try again."))?;
        Ok(answer.trim().to_owned())
    }

    /// Asks which of several it is to be, by its number; what was not understood is asked for again.
    pub(crate) fn choose(&self, question: &str, among: &[String]) -> Result<usize, Failure> {
        self.remark("");
        self.remark(question);
        among.iter().enumerate().for_each(|(at, one)| self.remark(&format!("{:>4}  {one}", at + 1)));
        for _ in 0..ATTEMPTS {
            let answer = self.ask(&format!("Number, 1 to {}", among.len()))?;
            match answer.parse::<usize>() {
                Ok(number) if (1..=among.len()).contains(&number) => return Ok(number - 1),
                _ => self.remark(&format!("'{answer}' is not one of them.")),
            }
        }
        Err(Failure::here("Nothing was chosen.", "Try again, or give it as an option; see --help."))
    }

    /// Shows progress until the guard is dropped, on a terminal as a line that changes.
    pub(crate) fn progress(&self, meter: &Arc<Meter>, quiet: bool) -> Shown {
        let shows = !self.json && !quiet && std::io::stderr().is_terminal();
        Shown::begin(Arc::clone(meter), shows)
    }
}

/// Where a secret may be given beside the terminal.
pub(crate) struct Given<'g> {
    pub(crate) file: Option<&'g Path>,
    pub(crate) option: &'g str,
    pub(crate) variable: &'g str,
}

/// Progress that is being shown.
pub(crate) struct Shown {
    end: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

const REFRESH: Duration = Duration::from_millis(200);

impl Shown {
    fn begin(meter: Arc<Meter>, shows: bool) -> Self {
        let end = Arc::new(AtomicBool::new(false));
        let thread = shows.then(|| {
            let end = Arc::clone(&end);
            std::thread::spawn(move || draw(&meter, &end))
        });
        Self { end, thread }
    }
}

impl Drop for Shown {
    fn drop(&mut self) {
        self.end.store(true, Ordering::Relaxed);
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn draw(meter: &Meter, end: &AtomicBool) {
    let line = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr());
    let style = |template| ProgressStyle::with_template(template).map(|style| style.progress_chars("█▓░"));
    let (Ok(open), Ok(known)) = (style("{msg}"), style("{bar:24.cyan/dim} {msg}")) else { return };
    let began = Instant::now();
    while !end.load(Ordering::Relaxed) {
        let progress = meter.progress();
        match progress.bytes_total {
            Some(total) => {
                line.set_style(known.clone());
                line.set_length(total);
                line.set_position(progress.bytes_done);
            }
            None => line.set_style(open.clone()),
        }
        let waiting = meter.queue().map(|at| format!("Waiting in the service's queue: {}", crate::commands::labels::queue(at)));
        line.set_message(waiting.unwrap_or_else(|| progress_words(&progress, began.elapsed())));
        std::thread::sleep(REFRESH);
    }
    line.finish_and_clear();
}

/// Phase, files, bytes, rate and, where the end is known, time left.
fn progress_words(progress: &Progress, elapsed: Duration) -> String {
    let of = |done: String, total: Option<String>| total.map_or_else(|| done.clone(), |total| format!("{done} of {total}"));
    let files = of(count(progress.files_done), progress.files_total.map(count));
    let bytes = of(show(progress.bytes_done), progress.bytes_total.map(show));
    let rate = progress.bytes_done as f64 / elapsed.as_secs_f64().max(0.001);
    let left = progress.bytes_total.filter(|_| rate > 0.0).map(|total| (total - progress.bytes_done) as f64 / rate);
    let left = left.map_or_else(String::new, |seconds| format!(", {} left", took(Duration::from_secs(seconds as u64))));
    format!("{} {files} files, {bytes}, {}/s{left}", phase(progress.phase), show(rate as u64))
}

pub(crate) fn phase(phase: Phase) -> &'static str {
    match phase {
        Phase::Counting => "Counting",
        Phase::Sending => "Copying",
        Phase::Sealing => "Sealing",
        Phase::Comparing => "Reading back",
    }
}

/// A moment in the machine's time zone.
pub(crate) fn moment(at: Timestamp) -> String {
    at.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string()
}

/// How long ago something was.
pub(crate) fn ago(at: Timestamp, now: Timestamp) -> String {
    if now.as_second() - at.as_second() < 60 { "just now".into() } else { format!("{} ago", span(at, now)) }
}

/// How long it is from one moment to another, in the largest unit that says enough.
pub(crate) fn span(from: Timestamp, to: Timestamp) -> String {
    let seconds = to.as_second() - from.as_second();
    match seconds {
        ..7200 => format!("{} min", seconds.max(0) / 60),
        7200..172_800 => format!("{} h", seconds / 3600),
        _ => format!("{} days", seconds / 86_400),
    }
}

/// A duration in the largest units that say enough.
pub(crate) fn took(duration: Duration) -> String {
    let seconds = duration.as_secs();
    match seconds {
        0 if duration.as_millis() < 100 => "under 0.1 s".into(),
        ..10 => format!("{:.1} s", duration.as_secs_f64()),
        10..120 => format!("{seconds} s"),
        120..7200 => format!("{} min {} s", seconds / 60, seconds % 60),
        _ => format!("{} h {} min", seconds / 3600, seconds % 3600 / 60),
    }
}

/// The rate in brackets, where it took long enough to have one.
pub(crate) fn at_rate(bytes: u64, duration: Duration) -> String {
    let seconds = duration.as_secs_f64();
    if seconds < 0.1 { String::new() } else { format!(" ({}/s)", show((bytes as f64 / seconds) as u64)) }
}

/// A number with its thousands set apart.
pub(crate) fn count(number: u64) -> String {
    let digits = number.to_string();
    let groups: Vec<&str> = digits.as_bytes().rchunks(3).rev().map(|g| std::str::from_utf8(g).unwrap_or_default()).collect();
    groups.join(",")
}

/// A number with its noun: `1 file`, `2 files`.
pub(crate) fn many(number: u64, noun: &str) -> String {
    format!("{} {noun}{}", count(number), if number == 1 { "" } else { "s" })
}

/// Text as a terminal may be given it: names, reasons and versions come from others, and what steers a terminal is shown instead
/// of obeyed. So are marks that turn the direction of text.
fn printable(text: &str) -> String {
    let steers =
        |c: char| (c.is_control() && c != '\n' && c != '\t') || matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    text.chars().flat_map(|c| if steers(c) { c.escape_default().collect::<Vec<_>>() } else { vec![c] }).collect()
}

fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_uppercase().chain(chars).collect())
}

/// A path for reading; bytes that are no text are shown as such.
pub(crate) fn shown_path(path: &[u8]) -> String {
    os_str(path).display().to_string().replace(char::is_control, "�")
}

/// A path as a person gives it to a shell; none for one that is no plain text. What others name their files is nothing that a shell
/// is to act upon.
pub(crate) fn as_argument(path: &[u8]) -> Option<String> {
    let text = std::str::from_utf8(path).ok().filter(|text| !text.contains(char::is_control))?;
    let is_plain = |c: char| c.is_alphanumeric() || "/._-+@%=:,".contains(c);
    Some(if text.chars().all(is_plain) { text.to_owned() } else { format!("'{}'", text.replace('\'', "'\\''")) })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_for_a_shell_is_one_word_of_it() {
        assert_eq!(as_argument(b"/home/aud/one.odt").as_deref(), Some("/home/aud/one.odt"));
        for path in ["/home/aud/a b", "/x; rm -rf ~", "/it's", "/$(reboot)", "/`id`", "/\u{fc}ber", "/a\\b", "/*"] {
            let argument = as_argument(path.as_bytes()).expect("text");
            let said = std::process::Command::new("sh").args(["-c", &format!("printf %s {argument}")]).output().expect("sh runs");
            assert_eq!(String::from_utf8_lossy(&said.stdout), path);
        }
        assert_eq!(as_argument(b"/new\nline"), None);
        assert_eq!(as_argument(b"/\xff"), None);
    }

    #[test]
    fn progress_says_the_time_left_only_when_the_end_is_known() {
        let progress = Progress { files_done: 10, bytes_done: 5_000_000, bytes_total: Some(20_000_000), ..Progress::default() };
        let words = progress_words(&progress, Duration::from_secs(10));
        assert_eq!(words, "Counting 10 files, 5.00 MB of 20.0 MB, 500 kB/s, 30 s left");
        let open = Progress { bytes_total: None, ..progress };
        assert_eq!(progress_words(&open, Duration::from_secs(10)), "Counting 10 files, 5.00 MB, 500 kB/s");
    }

    #[test]
    fn what_steers_a_terminal_is_shown_and_not_obeyed() {
        assert_eq!(printable("a\u{1b}[2Jb\u{9b}c\u{202e}d"), "a\\u{1b}[2Jb\\u{9b}c\\u{202e}d");
        assert_eq!(printable("Möwe\tund\nKliff"), "Möwe\tund\nKliff");
    }

    #[test]
    fn numbers_and_times_read_easily() {
        assert_eq!(count(0), "0");
        assert_eq!((many(1, "file"), many(2, "file")), ("1 file".into(), "2 files".into()));
        assert_eq!(count(1_234_567), "1,234,567");
        assert_eq!(took(Duration::from_millis(1500)), "1.5 s");
        assert_eq!(took(Duration::from_secs(6300)), "105 min 0 s");
        let now = Timestamp::from_second(1_000_000).expect("in range");
        let before = |seconds: i64| Timestamp::from_second(1_000_000 - seconds).expect("in range");
        assert_eq!(ago(before(30), now), "just now");
        assert_eq!(ago(before(7100), now), "118 min ago");
        assert_eq!(ago(before(200_000), now), "2 days ago");
    }
}
