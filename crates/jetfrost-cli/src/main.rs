//! `jetfrost`: the command of administrators and workstations.

mod commands;
mod failure;
mod ui;

use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Parser, Subcommand};
use commands::{
    discovery, disk, drill, enrolment, identity, keeping, machine, mail, me, office, people, places, salvage, watch, ways_in,
};
use failure::Failure;
use jetfrost_client::home::Home;
use ui::Ui;

/// Backs this workstation up to the office's service, brings files back, and manages the service.
#[derive(Debug, Parser)]
#[command(name = "jetfrost", version, disable_help_subcommand = true)]
struct Arguments {
    /// Prints the API's own types as JSON.
    #[arg(long, global = true)]
    json: bool,
    /// Where this machine's settings and keys are.
    #[arg(long, global = true, env = "JETFROST_HOME", value_name = "DIR")]
    state_directory: Option<PathBuf>,
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Makes this machine a workstation, with an enrolment code from the administrator.
    Join(machine::Join),
    /// Shows that a secret opens this workstation's image store, and puts its key back if it was lost.
    Unlock(ways_in::Unlock),
    /// Lists what opens this workstation's image store.
    WaysIn,
    /// Changes the image passphrase; no data is written again.
    ChangePassphrase(ways_in::ChangePassphrase),
    /// Adds one more image passphrase.
    AddPassphrase(ways_in::AddPassphrase),
    /// Makes a new recovery key, prints it once, and ends the old one.
    RenewRecoveryKey(ways_in::RenewRecoveryKey),
    /// Lets the office key open this workstation's image store, too.
    Entrust(ways_in::Entrust),
    /// Takes a way in away; never the last one.
    RemoveWayIn(ways_in::RemoveWayIn),
    /// Backs folders up from now on.
    Keep(machine::Keep),
    /// Leaves out what matches patterns.
    Skip(machine::Skip),
    /// Shows what is kept and skipped.
    Chosen,
    /// Makes a recovery point now.
    Backup(machine::Backup),
    /// Lists the recovery points.
    Points(machine::Points),
    /// Lists a folder as it was.
    Look(machine::Look),
    /// Brings files back.
    Restore(machine::Restore),
    /// Lists the disks in a point, with their partitions.
    Disks(disk::Disks),
    /// Brings a disk back, into a new image file or onto a block device.
    RestoreDisk(disk::RestoreDisk),
    /// Serves a disk of a point on this machine, for reading, to standard tools.
    Attach(disk::Attach),
    /// Gets everything still readable out of a damaged image store, on a copy.
    Salvage(salvage::Salvage),
    /// Lists what a point does not hold as it should.
    Exceptions(machine::Exceptions),
    /// Reads a point back with the key and compares all of it with what was backed up.
    Check(machine::Check),
    /// Rehearses a restore: brings files drawn at random back for real, compares them, and puts it on record.
    Drill(drill::Drill),
    /// Lists runs and restores.
    History,
    /// Shows how this workstation stands.
    Standing,
    /// Tries all that a backup needs, from this machine; nothing stays behind.
    Probe,
    /// Knows the service by another identity from now on, when the administrator has renewed it at once.
    AcceptIdentity(identity::AcceptIdentity),
    /// Looks for services on the local network and in DNS.
    Find(discovery::Find),
    /// Begins a session for the commands below.
    SignIn(office::SignIn),
    /// Ends the session.
    SignOut,
    /// People and machines that sign in.
    #[command(subcommand)]
    Account(people::Account),
    /// Sets of accounts.
    #[command(subcommand)]
    Group(people::Group),
    /// Whose workstations may put backups where.
    #[command(subcommand)]
    Access(people::Access),
    /// Places that hold image stores.
    #[command(subcommand)]
    Destination(places::Destination),
    /// Codes that turn machines into workstations.
    #[command(subcommand)]
    Enrolment(enrolment::Enrolment),
    /// Imports people and machines from a CSV file.
    #[command(subcommand)]
    Roster(enrolment::Roster),
    /// Enrolled machines.
    #[command(subcommand)]
    Workstation(office::Workstation),
    /// Recovery points of a workstation: hold, remove, bring back.
    #[command(subcommand)]
    Point(keeping::Point),
    /// Image stores: hold, remove, bring back.
    #[command(subcommand)]
    Store(keeping::Store),
    /// Letting old points go.
    #[command(subcommand)]
    Thinning(keeping::Thinning),
    /// The service's check of stored bytes, without any key.
    #[command(subcommand)]
    Scrub(keeping::Scrub),
    /// Long work of the service.
    #[command(subcommand)]
    Job(keeping::Job),
    /// The office key, which opens the stores of workstations that agreed.
    #[command(subcommand)]
    Escrow(ways_in::Escrow),
    /// What is decided of the office, what is not, and whose move it is.
    #[command(subcommand)]
    SettingUp(watch::SettingUp),
    /// What is decided for all of the office.
    #[command(subcommand)]
    Settings(watch::Settings),
    /// What needs somebody's attention.
    #[command(subcommand)]
    Attention(mail::Attention),
    /// Being told by mail what needs attention.
    #[command(subcommand)]
    Mail(mail::Mail),
    /// Being found on the network.
    #[command(subcommand)]
    Discovery(discovery::Discovery),
    /// What the service lets in: backups and restores.
    #[command(subcommand)]
    Admission(watch::Admission),
    /// What was done and refused, by whom, when and from where.
    #[command(subcommand)]
    Audit(watch::Audit),
    /// Yourself: sessions, tokens, password, second factor.
    #[command(subcommand)]
    Me(me::Me),
}

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    let ui = Ui::new(arguments.json);
    let home = arguments.state_directory.map_or_else(Home::usual, Home::new);
    match run(arguments.command, &home, &ui) {
        Ok(code) => code.into(),
        Err(failure) => {
            ui.failure(&failure);
            failure.code().into()
        }
    }
}

/// Runs a command; the code says whether it was done whole or with exceptions.
fn run(command: Command, home: &Home, ui: &Ui) -> Result<failure::Code, Failure> {
    match command {
        Command::Join(command) => command.run(home, ui),
        Command::Unlock(command) => command.run(home, ui),
        Command::WaysIn => ways_in::list(home, ui),
        Command::ChangePassphrase(command) => command.run(home, ui),
        Command::AddPassphrase(command) => command.run(home, ui),
        Command::RenewRecoveryKey(command) => command.run(home, ui),
        Command::Entrust(command) => command.run(home, ui),
        Command::RemoveWayIn(command) => command.run(home, ui),
        Command::Keep(command) => command.run(home, ui),
        Command::Skip(command) => command.run(home, ui),
        Command::Chosen => machine::chosen(home, ui),
        Command::Backup(command) => command.run(home, ui),
        Command::Points(command) => command.run(home, ui),
        Command::Look(command) => command.run(home, ui),
        Command::Restore(command) => command.run(home, ui),
        Command::Disks(command) => command.run(home, ui),
        Command::RestoreDisk(command) => command.run(home, ui),
        Command::Attach(command) => command.run(home, ui),
        Command::Salvage(command) => command.run(home, ui),
        Command::Exceptions(command) => command.run(home, ui),
        Command::Check(command) => command.run(home, ui),
        Command::Drill(command) => command.run(home, ui),
        Command::History => machine::history(home, ui),
        Command::Standing => machine::standing(home, ui),
        Command::Probe => machine::probe(home, ui),
        Command::AcceptIdentity(command) => command.run(home, ui),
        Command::SignIn(command) => command.run(home, ui),
        Command::SignOut => office::sign_out(home, ui),
        Command::Account(command) => command.run(home, ui),
        Command::Group(command) => command.run(home, ui),
        Command::Destination(command) => command.run(home, ui),
        Command::Enrolment(command) => command.run(home, ui),
        Command::Roster(command) => command.run(home, ui),
        Command::Find(command) => command.run(ui),
        Command::Settings(command) => command.run(home, ui),
        Command::Attention(command) => command.run(home, ui),
        Command::Mail(command) => command.run(home, ui),
        Command::Discovery(command) => command.run(home, ui),
        Command::Workstation(command) => command.run(home, ui),
        Command::Point(command) => command.run(home, ui),
        Command::Store(command) => command.run(home, ui),
        Command::Thinning(command) => command.run(home, ui),
        Command::Scrub(command) => command.run(home, ui),
        Command::Job(command) => command.run(home, ui),
        Command::Escrow(command) => command.run(home, ui),
        Command::Access(command) => command.run(home, ui),
        Command::SettingUp(command) => command.run(home, ui),
        Command::Admission(command) => command.run(home, ui),
        Command::Audit(command) => command.run(home, ui),
        Command::Me(command) => command.run(home, ui),
    }
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;

    #[test]
    fn the_grammar_is_sound() {
        Arguments::command().debug_assert();
    }

    #[test]
    fn every_command_is_in_the_interface_page_and_the_other_way_round() {
        let page = include_str!("../../../docs/interface.md");
        let section = page.split("## Commands of `jetfrost`").skip(1).collect::<String>();
        for command in Arguments::command().get_subcommands() {
            let name = command.get_name();
            assert!(
                section.contains(&format!("| `{name}"))
                    || section.contains(&format!("`{name}` |"))
                    || section.contains(&format!(", `{name}`")),
                "{name} is not on the page"
            );
        }
    }
}
