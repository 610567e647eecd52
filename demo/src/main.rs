//! Makes the sample office if it is not there, and runs its service.
#![expect(clippy::print_stdout, clippy::print_stderr, reason = "this program talks to a person at a terminal")]

use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::Arc;
use std::time::{Duration, Instant};

use jetfrost_demo::{ADMINISTRATOR, Failure, HELPDESK, PASSWORD, make, start_mail_stand_in};
use jetfrost_image::crypto::SystemRandom;
use jetfrost_service::{Config, Running, SystemClock};
use jiff::Timestamp;

const PORT: u16 = 7410;
/// Written last: without it the office is not whole and is made again.
const MADE: &str = "made";

fn main() -> ExitCode {
    let mut arguments = std::env::args_os().skip(1);
    let directory = arguments.next().map_or_else(|| PathBuf::from("demo/office"), PathBuf::from);
    let only_make = arguments.next().is_some_and(|word| word == "--only-make");
    match run(&directory, only_make) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("The demo could not be run: {error}");
            ExitCode::FAILURE
        }
    }
}

fn run(directory: &Path, only_make: bool) -> Result<(), Failure> {
    let made = directory.join(MADE);
    if !made.exists() {
        make_anew(directory, &made)?;
    }
    if only_make { Ok(()) } else { serve(directory, &made) }
}

fn make_anew(directory: &Path, made: &Path) -> Result<(), Failure> {
    if directory.exists() {
        std::fs::remove_dir_all(directory)?;
    }
    println!("Making the sample office and thirty days of real backups; this takes a minute or two.");
    let started = Instant::now();
    make(directory, PORT, Timestamp::now(), &|day| println!("  {day}"))?;
    std::fs::write(made, Timestamp::now().to_string())?;
    println!("Made in {} s.", started.elapsed().as_secs());
    Ok(())
}

fn serve(directory: &Path, made: &Path) -> Result<(), Failure> {
    let config = Config {
        state_directory: directory.join("state"),
        listen: ([127, 0, 0, 1], PORT).into(),
        public_name: "localhost".into(),
        certificate: None,
        time_zone: jiff::tz::TimeZone::UTC,
    };
    let _mail = start_mail_stand_in(directory)?;
    let service = Running::start(&config, Arc::new(SystemClock), Arc::new(SystemRandom::default()))?;
    let command = "target/debug/jetfrost --state-directory";
    let office = directory.display();
    println!();
    println!("Skerry & Holm, surveyors: 12 workstations, 30 days of backups (as of {}).", std::fs::read_to_string(made)?);
    println!("  Console    https://localhost:{PORT}/   (its certificate is its own; the browser asks once)");
    println!("  Sign in    {ADMINISTRATOR} (administrator) or {HELPDESK} (helpdesk), password: {PASSWORD}");
    println!(
        "  Mail       what needs attention is told by a stand-in for a mail server, which keeps it in {}/mail",
        directory.display()
    );
    println!();
    println!("Try next, in another terminal:");
    println!("  {command} {office}/administrator workstation list");
    println!("  {command} {office}/machines/avocet/jetfrost drill");
    println!("  {command} {office}/machines/turnstone/jetfrost exceptions");
    println!("  {command} {office}/machines/curlew/jetfrost restore --at 10 --to /tmp/curlew-as-it-was");
    println!();
    println!("The service runs until you press Ctrl-C. 'make demo-anew' makes the office again, up to this hour.");
    while !service.has_ended_within(Duration::from_secs(3600)) {}
    Ok(())
}
