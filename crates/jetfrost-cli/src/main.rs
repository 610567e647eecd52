//! `jetfrost`: the command of administrators and workstations.

use std::path::PathBuf;
use std::process::ExitCode;

use clap::{FromArgMatches, Parser, Subcommand};
use commands::administration::{
    access, account, alert, audit, destination, discovery, enrolment, group, job, mail, maintenance, me, point, report, roster,
    schedule, scrub, session, settings, setup, store, thinning, workstation,
};
use commands::getting_back::{
    attach, check, compare, disks, drill, exceptions, export, look, mount, order, points, rebuild, restore, salvage, search,
    versions,
};
use commands::keys::{escrow, unlock, unlock_method};
use commands::this_workstation::{
    accept_identity, agent, backup, diagnose, discover, history, hook, join, leave, selection, status,
};
use failure::Failure;
use jetfrost_client::state_dir::StateDir;
use ui::Ui;

mod commands;
mod failure;
mod help;
mod ui;

/// Backs this workstation up to the office's service, gets files back, and manages the service.
#[derive(Debug, Parser)]
#[command(name = "jetfrost", version, disable_help_subcommand = true)]
struct Arguments {
    /// Print JSON, in the API's own types.
    #[arg(long, global = true)]
    json: bool,
    /// Directory of this machine's settings and keys.
    #[arg(long, global = true, env = "JETFROST_HOME", value_name = "DIR")]
    state_directory: Option<PathBuf>,
    #[command(subcommand)]
    command: Command,
}

/// The commands, in the order of the help. [`help::HEADINGS`] says where each heading begins.
#[derive(Debug, Subcommand)]
enum Command {
    /// Makes this machine a workstation, with an enrolment code from the administrator.
    Join(join::Join),
    /// Undoes a join: this machine forgets the service and its keys. The backups stay at the service.
    Leave(leave::Leave),
    /// Backs up folders, files or disks from now on.
    Include(selection::Include),
    /// Excludes files and folders that match patterns.
    Exclude(selection::Exclude),
    /// Shows what is included and excluded, what that comes to, and why.
    Selection {
        #[command(subcommand)]
        command: Option<selection::SelectionCommand>,
    },
    /// Commands before and after a backup.
    #[command(subcommand)]
    Hook(hook::Hook),
    /// Makes a recovery point now.
    Backup(backup::Backup),
    /// Backs this workstation up by its schedule, without anybody typing anything.
    #[command(subcommand)]
    Agent(agent::Agent),
    /// Shows the status of this workstation.
    Status,
    /// Lists runs and restores.
    History,
    /// Finds out why a backup would fail or be late; leaves nothing behind.
    Diagnose,
    /// Discovers services on the local network and in DNS.
    Discover(discover::Discover),
    /// Accepts another identity of the service, when the administrator has renewed it.
    AcceptIdentity(accept_identity::AcceptIdentity),
    /// Reaches the service at another address, when its server has moved.
    AcceptAddress(accept_identity::AcceptAddress),

    /// Lists the recovery points.
    Points(points::Points),
    /// Lists a folder as it was.
    Look(look::Look),
    /// Finds files and folders by name, in all points.
    Search(search::Search),
    /// Lists the versions of a file or folder, and the points that have each.
    Versions(versions::Versions),
    /// Compares two points: what was added, changed, renamed and removed.
    Compare(compare::Compare),
    /// Restores files and folders.
    Restore(restore::Restore),
    /// Restores a whole machine, its files or a disk, and checks it off with evidence.
    Rebuild(rebuild::Rebuild),
    /// Writes a file as it was to standard output.
    Cat(export::Cat),
    /// Writes files and folders as they were into one archive.
    Export(export::Export),
    /// Lists the disks in a point, with their partitions.
    Disks(disks::Disks),
    /// Serves a disk of a point on this machine, read-only, to standard tools.
    Attach(attach::Attach),
    /// Serves all points as read-only folders for a file manager.
    Mount(mount::Mount),
    /// Restores that somebody asks a workstation's agent to do.
    #[command(subcommand)]
    Order(order::Order),
    /// Lists what a point does not hold exactly as it was.
    Exceptions(exceptions::Exceptions),
    /// Reads a point back with the key and compares it with what was backed up.
    Check(check::Check),
    /// Rehearses a restore: restores a random sample, compares it, and puts the result on record.
    Drill(drill::Drill),
    /// Gets everything still readable out of a damaged image store, on a copy.
    Salvage(salvage::Salvage),

    /// Tries a secret on this workstation's image store and restores its key if it was lost.
    Unlock(unlock::Unlock),
    /// What unlocks this workstation's image store: passphrases, recovery key, office key.
    #[command(subcommand)]
    UnlockMethod(unlock_method::UnlockMethodCommand),
    /// The office key, which unlocks the stores of workstations that agreed.
    #[command(subcommand)]
    Escrow(escrow::Escrow),

    /// Begins a session for the commands below.
    SignIn(session::SignIn),
    /// Ends the session.
    SignOut,
    /// You: sessions, tokens, password, second factor.
    #[command(subcommand)]
    Me(me::Me),
    /// The setup list: what is done, what is open, and who acts next.
    #[command(subcommand)]
    Setup(setup::Setup),
    /// What needs attention.
    #[command(subcommand)]
    Alert(alert::Alert),
    /// People and machines that sign in.
    #[command(subcommand)]
    Account(account::Account),
    /// Sets of accounts.
    #[command(subcommand)]
    Group(group::Group),
    /// Who may put backups where.
    #[command(subcommand)]
    Access(access::Access),
    /// Places that hold image stores.
    #[command(subcommand)]
    Destination(destination::Destination),
    /// Codes that turn machines into workstations.
    #[command(subcommand)]
    Enrolment(enrolment::Enrolment),
    /// People and machines from a CSV file.
    #[command(subcommand)]
    Roster(roster::Roster),
    /// Enrolled machines.
    #[command(subcommand)]
    Workstation(workstation::Workstation),
    /// When workstations are backed up.
    #[command(subcommand)]
    Schedule(schedule::Schedule),
    /// Recovery points of a workstation: hold, remove, undelete.
    #[command(subcommand)]
    Point(point::Point),
    /// Image stores: hold, remove, undelete.
    #[command(subcommand)]
    Store(store::Store),
    /// Removal of points that retention no longer keeps.
    #[command(subcommand)]
    Thinning(thinning::Thinning),
    /// The service's check of stored bytes, without any key.
    #[command(subcommand)]
    Scrub(scrub::Scrub),
    /// Jobs of the service.
    #[command(subcommand)]
    Job(job::Job),
    /// Pause and resume backups and restores.
    #[command(subcommand)]
    Maintenance(maintenance::Maintenance),
    /// Alerts and summaries by mail.
    #[command(subcommand)]
    Mail(mail::Mail),
    /// How the service is found on the network.
    #[command(subcommand)]
    Discovery(discovery::Discovery),
    /// Settings of the whole office.
    #[command(subcommand)]
    Settings(settings::Settings),
    /// What was done and refused, by whom, when and from where.
    #[command(subcommand)]
    Audit(audit::Audit),
    /// What happened in a period: restores and drills, as a table, CSV, JSON or a page to print.
    #[command(subcommand)]
    Report(report::Report),

    /// Shows the help of a command, or of all commands under a heading.
    Help(help::Help),
    /// Prints completions for a shell.
    Completions(help::Completions),
    /// Writes the manual pages into a directory.
    Manual(help::Manual),
}

fn main() -> ExitCode {
    jetfrost_static::look_names_up_without_modules();
    let arguments = match Arguments::from_arg_matches(&help::grammar().get_matches()) {
        Ok(arguments) => arguments,
        Err(error) => error.exit(),
    };
    let ui = Ui::new(arguments.json);
    let state_dir = arguments.state_directory.map_or_else(StateDir::usual, StateDir::new);
    match run(arguments.command, &state_dir, &ui) {
        Ok(code) => code.into(),
        Err(failure) => {
            ui.failure(&failure);
            failure.code().into()
        }
    }
}

/// Runs a command; the code says whether it was done whole or with exceptions.
fn run(command: Command, state_dir: &StateDir, ui: &Ui) -> Result<failure::Code, Failure> {
    match command {
        Command::Join(command) => command.run(state_dir, ui),
        Command::Leave(command) => command.run(state_dir, ui),
        Command::Include(command) => command.run(state_dir, ui),
        Command::Exclude(command) => command.run(state_dir, ui),
        Command::Selection { command: None } => selection::show_selection(state_dir, ui),
        Command::Selection { command: Some(command) } => command.run(state_dir, ui),
        Command::Hook(command) => command.run(state_dir, ui),
        Command::Backup(command) => command.run(state_dir, ui),
        Command::Agent(command) => command.run(state_dir, ui),
        Command::Status => status::status(state_dir, ui),
        Command::History => history::history(state_dir, ui),
        Command::Diagnose => diagnose::diagnose(state_dir, ui),
        Command::Discover(command) => command.run(ui),
        Command::AcceptIdentity(command) => command.run(state_dir, ui),
        Command::AcceptAddress(command) => command.run(state_dir, ui),
        Command::Points(command) => command.run(state_dir, ui),
        Command::Look(command) => command.run(state_dir, ui),
        Command::Mount(command) => command.run(state_dir, ui),
        Command::Order(command) => command.run(state_dir, ui),
        Command::Search(command) => command.run(state_dir, ui),
        Command::Versions(command) => command.run(state_dir, ui),
        Command::Compare(command) => command.run(state_dir, ui),
        Command::Restore(command) => command.run(state_dir, ui),
        Command::Rebuild(command) => command.run(state_dir, ui),
        Command::Cat(command) => command.run(state_dir, ui),
        Command::Export(command) => command.run(state_dir, ui),
        Command::Disks(command) => command.run(state_dir, ui),
        Command::Attach(command) => command.run(state_dir, ui),
        Command::Exceptions(command) => command.run(state_dir, ui),
        Command::Check(command) => command.run(state_dir, ui),
        Command::Drill(command) => command.run(state_dir, ui),
        Command::Salvage(command) => command.run(state_dir, ui),
        Command::Unlock(command) => command.run(state_dir, ui),
        Command::UnlockMethod(command) => command.run(state_dir, ui),
        Command::Escrow(command) => command.run(state_dir, ui),
        Command::SignIn(command) => command.run(state_dir, ui),
        Command::SignOut => session::sign_out(state_dir, ui),
        Command::Me(command) => command.run(state_dir, ui),
        Command::Setup(command) => command.run(state_dir, ui),
        Command::Alert(command) => command.run(state_dir, ui),
        Command::Account(command) => command.run(state_dir, ui),
        Command::Group(command) => command.run(state_dir, ui),
        Command::Access(command) => command.run(state_dir, ui),
        Command::Destination(command) => command.run(state_dir, ui),
        Command::Enrolment(command) => command.run(state_dir, ui),
        Command::Roster(command) => command.run(state_dir, ui),
        Command::Schedule(command) => command.run(state_dir, ui),
        Command::Workstation(command) => command.run(state_dir, ui),
        Command::Point(command) => command.run(state_dir, ui),
        Command::Store(command) => command.run(state_dir, ui),
        Command::Thinning(command) => command.run(state_dir, ui),
        Command::Scrub(command) => command.run(state_dir, ui),
        Command::Job(command) => command.run(state_dir, ui),
        Command::Maintenance(command) => command.run(state_dir, ui),
        Command::Mail(command) => command.run(state_dir, ui),
        Command::Discovery(command) => command.run(state_dir, ui),
        Command::Settings(command) => command.run(state_dir, ui),
        Command::Audit(command) => command.run(state_dir, ui),
        Command::Report(command) => command.run(state_dir, ui),
        Command::Help(command) => command.run(ui),
        Command::Completions(command) => command.run(ui),
        Command::Manual(command) => command.run(ui),
    }
}
