//! The people and machines of the office.

/// Login name of the administrator.
pub const ADMINISTRATOR: &str = "ingrid";
/// Login name of the helpdesk.
pub const HELPDESK: &str = "pelle";
/// The password of both.
pub const PASSWORD: &str = "low water at noon";
/// The image passphrase of every workstation.
pub const PASSPHRASE: &str = "three herring gulls";

/// What a machine is used for; decides which files are on it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Work {
    /// Measuring outside: photos, point lists, logs of instruments.
    Field,
    /// Drawing maps.
    Drafting,
    /// Deeds and letters.
    Records,
    /// Mail and the calendar.
    FrontDesk,
}

impl Work {
    pub(crate) const ALL: [Self; 4] = [Self::Field, Self::Drafting, Self::Records, Self::FrontDesk];

    pub(crate) fn group(self) -> &'static str {
        match self {
            Self::Field => "Field work",
            Self::Drafting => "Drafting",
            Self::Records => "Records",
            Self::FrontDesk => "Front desk",
        }
    }
}

/// One workstation and whose it is.
#[derive(Debug, Clone, Copy)]
pub struct Machine {
    /// Its name.
    pub name: &'static str,
    /// Login name.
    pub login: &'static str,
    /// The person.
    pub person: &'static str,
    /// What it is used for.
    pub work: Work,
}

const fn machine(name: &'static str, login: &'static str, person: &'static str, work: Work) -> Machine {
    Machine { name, login, person, work }
}

/// All workstations.
pub const MACHINES: [Machine; 12] = [
    machine("avocet", "aud", "Aud Skerry", Work::Drafting),
    machine("curlew", "marek", "Marek Holm", Work::Drafting),
    machine("dunlin", "tove", "Tove Lund", Work::Field),
    machine("godwit", "ines", "Ines Varga", Work::Field),
    machine("knot", "oskar", "Oskar Brandt", Work::Field),
    machine("lapwing", "runa", "Runa Dahl", Work::FrontDesk),
    machine("oystercatcher", "eskil", "Eskil Moe", Work::Records),
    machine("phalarope", "jonna", "Jonna Friis", Work::Field),
    machine("plover", "benno", "Benno Aas", Work::Records),
    machine("redshank", "signe", "Signe Roth", Work::Drafting),
    machine("turnstone", "casper", "Casper Lie", Work::Field),
    machine("whimbrel", "yngve", "Yngve Sand", Work::Field),
];

/// Has not been in the office for more than a week.
pub(crate) const AWAY: &str = "whimbrel";
/// Has a file that is always being written to.
pub(crate) const RESTLESS: &str = "turnstone";
/// Its person has never proved that a secret still works.
pub(crate) const FORGETFUL: &str = "plover";
/// Runs a virtual machine, whose disk is backed up every Friday.
pub(crate) const WITH_DISK: &str = "oystercatcher";
/// On the last day something encrypted its mail and letters.
pub(crate) const ENCRYPTED: &str = "lapwing";
/// Somebody removed a folder with photos by mistake the day before.
pub(crate) const BEREFT: &str = "godwit";
/// Somebody gave a drawing another name the day before.
pub(crate) const RENAMED: &str = "redshank";
/// Has never stayed long enough for its first backup.
pub(crate) const HASTY: &str = "phalarope";
