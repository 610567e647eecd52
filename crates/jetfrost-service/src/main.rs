//! `jetfrostd`: the service as a program.

use std::io::{IsTerminal, Write};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use clap::{Parser, Subcommand};
use jetfrost_image::crypto::SystemRandom;
use jetfrost_service::{
    Clock, Config, PartialConfig, Running, SystemClock, first_code, openapi_json, recover, renew_identity, show_identity,
};
use tracing_subscriber::EnvFilter;

/// The office's backup service.
#[derive(Debug, Parser)]
#[command(name = "jetfrostd", version)]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Runs the service.
    Serve(Settings),
    /// Prints a new one-time code for the first administrator, while there is none.
    FirstCode(Settings),
    /// Prints the certificate of the key by which workstations know this service; browsers can be told to trust it.
    Identity {
        #[command(flatten)]
        settings: Settings,
        /// Puts another key in its place. With 'overlap' workstations learn it by themselves; 'at-once' is for a key that was
        /// stolen: every workstation needs to be told.
        #[arg(long, value_name = "HOW")]
        renew: Option<Overlap>,
    },
    /// Starts again from the copy of the records on a destination's disk: makes a state directory of it.
    Recover {
        #[command(flatten)]
        settings: Settings,
        /// The directory of a destination.
        #[arg(long, value_name = "DIR")]
        from: PathBuf,
        /// The file with the office key. Its passphrase is asked for, or taken from JETFROST_OFFICE_PASSPHRASE.
        #[arg(long, value_name = "FILE")]
        office_key: PathBuf,
    },
    /// Prints the OpenAPI document.
    Openapi,
}

/// Whether something leads from an identity to the one that takes its place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum Overlap {
    #[value(name = "overlap")]
    Yes,
    #[value(name = "at-once")]
    No,
}

#[derive(Debug, clap::Args)]
struct Settings {
    /// A TOML file with settings.
    #[arg(long, env = "JETFROSTD_CONFIG")]
    config: Option<PathBuf>,
    /// Where records, identity and certificate are kept [default: /var/lib/jetfrost].
    #[arg(long, env = "JETFROSTD_STATE_DIRECTORY")]
    state_directory: Option<PathBuf>,
    /// Address and port to listen on [default: 0.0.0.0:7410].
    #[arg(long, env = "JETFROSTD_LISTEN")]
    listen: Option<SocketAddr>,
    /// The name by which workstations reach this service [default: the host's name].
    #[arg(long, env = "JETFROSTD_PUBLIC_NAME")]
    public_name: Option<String>,
}

type Failure = Box<dyn std::error::Error>;

impl Settings {
    fn complete(self) -> Result<Config, Failure> {
        let flags = PartialConfig {
            state_directory: self.state_directory,
            listen: self.listen,
            public_name: self.public_name,
            ..PartialConfig::default()
        };
        let file = self.config.as_deref().map(PartialConfig::read).transpose()?.unwrap_or_default();
        Ok(flags.or(file).complete()?)
    }
}

fn main() -> ExitCode {
    // Whatever the service makes is its own: records, keys, image stores.
    nix::sys::stat::umask(nix::sys::stat::Mode::from_bits_truncate(0o077));
    let arguments = Arguments::parse();
    let filter = EnvFilter::try_from_env("JETFROSTD_LOG").unwrap_or_else(|_| EnvFilter::new("info"));
    let to_terminal = std::io::stderr().is_terminal();
    tracing_subscriber::fmt().with_env_filter(filter).with_ansi(to_terminal).with_writer(std::io::stderr).init();
    let result = match arguments.command {
        Command::Serve(settings) => settings.complete().and_then(|config| serve(&config)),
        Command::FirstCode(settings) => {
            settings.complete().and_then(|config| say(&first_code(&config.state_directory, &SystemRandom::default())?))
        }
        Command::Identity { settings, renew } => settings.complete().and_then(|config| identity(&config, renew)),
        Command::Recover { settings, from, office_key } => {
            settings.complete().and_then(|config| start_again(&config, &from, &office_key))
        }
        Command::Openapi => say(&openapi_json()),
    };
    match result {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            let _ = writeln!(std::io::stderr(), "jetfrostd: {error}");
            ExitCode::FAILURE
        }
    }
}

fn say(text: &str) -> Result<(), Failure> {
    Ok(writeln!(std::io::stdout(), "{text}")?)
}

/// Shows by what workstations know the service, and puts another in its place if that is asked for.
fn identity(config: &Config, renew: Option<Overlap>) -> Result<(), Failure> {
    let (state, now) = (&config.state_directory, SystemClock.now_ms());
    if let Some(overlap) = renew {
        renew_identity(state, overlap == Overlap::Yes, now)?;
    }
    let (certificate, fingerprint) = show_identity(state, now)?;
    match renew {
        None => {}
        Some(Overlap::Yes) => say(
            "The identity is another now. A service that runs takes it up within seconds; workstations that reach it within 400 days\nlearn it by themselves. Codes that were handed out before are good as long.",
        )?,
        Some(Overlap::No) => say(
            "The identity is another now, and nothing leads to it from the one before: no workstation and no session reaches the\nservice any more. Next: sign in again with the fingerprint below, and on every workstation: jetfrost accept-identity FINGERPRINT",
        )?,
    }
    say(&format!("SHA-256 {fingerprint}"))?;
    say(certificate.trim_end())
}

fn start_again(config: &Config, from: &Path, office_key: &Path) -> Result<(), Failure> {
    let passphrase = || match std::env::var("JETFROST_OFFICE_PASSPHRASE") {
        Ok(passphrase) => Ok(passphrase),
        Err(_) => rpassword::prompt_password("Passphrase of the office key: "),
    };
    let recovered = recover(from, office_key, passphrase, &config.state_directory)?;
    for copy in &recovered.passed_over {
        say(&format!("  damaged, passed over: {}", copy.display()))?;
    }
    say(&format!("The records are back, from {}.", recovered.copy.display()))?;
    say("Points that were made since are found on the destinations when the service starts.")?;
    say(&format!("Next: jetfrostd serve --state-directory {}", config.state_directory.display()))?;
    say("If a disk is mounted elsewhere now:  jetfrost destination set NAME --directory DIR")
}

fn serve(config: &Config) -> Result<(), Failure> {
    let signal = stop_signals()?;
    let service = Running::start(config, Arc::new(SystemClock), Arc::new(SystemRandom::default()))?;
    let console = format!("https://{}:{}/", config.public_name, service.address().port());
    say(&format!("Jetfrost {} is ready.", env!("CARGO_PKG_VERSION")))?;
    say(&format!("  console      {console}"))?;
    say(&format!("  identity     SHA-256 {}", service.fingerprint()))?;
    say(&format!("  certificate  SHA-256 {}", service.browser_fingerprint()))?;
    if let Some(code) = service.first_code() {
        say("  There is no administrator yet. Open the console and enter this code, or run")?;
        say(&format!("    jetfrost sign-in {}:{} --login NAME --first {code}", config.public_name, service.address().port()))?;
        say(&format!("  first code   {code}"))?;
    }
    let _ = sd_notify::notify(&[sd_notify::NotifyState::Ready]);
    while !signal.load(Ordering::SeqCst) {
        if service.has_ended_within(Duration::from_millis(200)) {
            break;
        }
    }
    let _ = sd_notify::notify(&[sd_notify::NotifyState::Stopping]);
    say("Stopping: uploads in flight may finish.")?;
    service.stop()?;
    say("Stopped.")
}

/// Becomes true on SIGTERM or SIGINT.
fn stop_signals() -> Result<Arc<AtomicBool>, Failure> {
    let stop = Arc::new(AtomicBool::new(false));
    let seen = Arc::clone(&stop);
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let (mut terminate, mut interrupt) = {
        use tokio::signal::unix::{SignalKind, signal};
        let _inside = runtime.enter();
        (signal(SignalKind::terminate())?, signal(SignalKind::interrupt())?)
    };
    std::thread::spawn(move || {
        runtime.block_on(async {
            tokio::select! { _ = terminate.recv() => {}, _ = interrupt.recv() => {} }
        });
        seen.store(true, Ordering::SeqCst);
    });
    Ok(stop)
}
