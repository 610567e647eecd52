//! Hand-outs: what the person at a machine needs so that it becomes a workstation, a page a machine.
//!
//! There is no secret on them that opens anything once it was used: the enrolment code is good for one machine, until a day
//! that is on the page. What is on the page is decided here; how it looks, by [`html`] and [`pdf`].

pub(crate) mod html;
pub(crate) mod pdf;

use jetfrost_wire::downloads::Download;
use jiff::Timestamp;
use jiff::tz::TimeZone;

/// What a page is made of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct HandOut {
    /// The machine, where the code is for a named one.
    pub(crate) machine: Option<String>,
    pub(crate) person: String,
    pub(crate) login: String,
    /// `host:port` of the service.
    pub(crate) address: String,
    /// Name under which the service is announced, if it is.
    pub(crate) announced_as: Option<String>,
    /// First half of the SHA-256 of its certificate, in hexadecimal.
    pub(crate) fingerprint: String,
    pub(crate) destination: String,
    pub(crate) code: String,
    pub(crate) expires: Timestamp,
    pub(crate) encrypted: bool,
    /// The workstation that is handed over, if one is.
    pub(crate) claims: Option<String>,
    /// The programs that the service offers.
    pub(crate) programs: Vec<Download>,
}

/// A piece of a page, from the top down.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Block {
    /// What the page is for.
    Title(String),
    Heading(&'static str),
    Text(String),
    /// Something to be typed as it is; also as a QR code beside it.
    Code(String),
    /// What to do, in order.
    Steps(Vec<String>),
    /// A word, and what there is to say about it.
    Terms(Vec<(String, String)>),
}

impl HandOut {
    /// The page; days are those of `zone`.
    pub(crate) fn blocks(&self, zone: &TimeZone) -> Vec<Block> {
        let machine = self.machine.as_ref().or(self.claims.as_ref());
        let title = machine.map_or_else(|| "Backups of your machine".to_owned(), |name| format!("Backups of {name}"));
        vec![
            Block::Title(title),
            Block::Text(format!("For {}, account '{}'. Do this once, at the machine itself.", self.person, self.login)),
            Block::Heading("What to do"),
            Block::Steps(self.steps()),
            Block::Code(self.code.clone()),
            Block::Heading("Which secret is whose"),
            Block::Terms(self.secrets(zone)),
            Block::Heading("The service"),
            Block::Terms(self.service()),
            Block::Heading("When it does not work"),
            Block::Terms(troubles()),
        ]
    }

    fn steps(&self) -> Vec<String> {
        let mut steps = Vec::new();
        if !self.programs.is_empty() {
            steps.push(format!(
                "Get the program at https://{}/downloads, which says how to install it. The browser warns of the service's own certificate: \
                 compare what 'sha256sum' says of the file with the program's SHA-256 below.",
                self.address
            ));
        }
        steps.extend([
            "Open a terminal, as administrator if the whole machine is to be backed up.".to_owned(),
            "Type 'jetfrost join' followed by the code below, or scan the code and paste it.".to_owned(),
        ]);
        match (&self.claims, self.encrypted) {
            (Some(_), _) => steps.push("Give the image passphrase or the recovery key that these backups have.".to_owned()),
            (None, true) => {
                steps.push("Choose an image passphrase. Print the recovery key that is shown, and keep it elsewhere.".to_owned());
            }
            (None, false) => {
                steps.push(
                    "Add '--without-encryption' behind the code. These backups are not encrypted then: whoever gets at the office's disk \
                     can read them."
                        .to_owned(),
                );
            }
        }
        steps.push(
            "Answer the questions: what is backed up, whether backups are made by themselves, whether to begin now.".to_owned(),
        );
        steps
    }

    fn secrets(&self, zone: &TimeZone) -> Vec<(String, String)> {
        let until = self.expires.to_zoned(zone.clone()).strftime("%-d %B %Y, %H:%M").to_string();
        let mut secrets = vec![(
            "The enrolment code".to_owned(),
            format!("is on this page. It makes one machine a workstation, until {until}; after that this page is useless."),
        )];
        if self.encrypted {
            secrets.push((
                "The image passphrase".to_owned(),
                "is yours alone: it unlocks the backups. Nobody in the office knows it, and nobody can reset it.".to_owned(),
            ));
            secrets.push((
                "The recovery key".to_owned(),
                "unlocks the backups when the passphrase is forgotten. It is shown once, when the machine joins.".to_owned(),
            ));
        }
        secrets.push((
            "The account's password".to_owned(),
            format!("of '{}' is not needed here. The machine gets a credential of its own, which nobody types.", self.login),
        ));
        secrets
    }

    fn service(&self) -> Vec<(String, String)> {
        let mut service = vec![("Address".to_owned(), self.address.clone())];
        service.extend(self.announced_as.iter().map(|name| ("Found as".to_owned(), name.clone())));
        service.push(("Destination".to_owned(), self.destination.clone()));
        service.push(("Certificate begins".to_owned(), in_groups(&self.fingerprint)));
        let half = |sha256: &str| in_groups(sha256.get(..32).unwrap_or(sha256));
        service.extend(
            self.programs.iter().map(|program| (program.name.clone(), format!("SHA-256 begins {}", half(&program.sha256)))),
        );
        service
    }
}

/// Four digits each, for people to compare.
fn in_groups(hex: &str) -> String {
    let groups: Vec<&str> = (0..hex.len()).step_by(4).filter_map(|i| hex.get(i..i + 4)).collect();
    groups.join(" ")
}

fn troubles() -> Vec<(String, String)> {
    [
        ("Incomplete or mistyped", "Copy the code whole, with everything after JF1. Spaces and letter case do not matter."),
        ("Expired or used", "Ask your administrator for a new hand-out: the old one no longer works."),
        (
            "Service not reached",
            "Connect to the office's network, by cable if you can. To see which services there are: 'jetfrost discover'.",
        ),
        ("Another certificate", "Stop, and call your administrator: something else answers under the service's name."),
    ]
    .map(|(trouble, what)| (trouble.to_owned(), what.to_owned()))
    .into()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    pub(crate) fn hand_out() -> HandOut {
        HandOut {
            machine: Some("knot <3".into()),
            person: "Åsa Lindqvist".into(),
            login: "asa".into(),
            address: "backup.office.example:7410".into(),
            announced_as: None,
            fingerprint: "0123456789abcdef0123456789abcdef".into(),
            destination: "Quay".into(),
            code: "JF1-ABCDEF-GHIJKL".into(),
            expires: Timestamp::from_second(1_790_000_000).expect("a time"),
            encrypted: true,
            claims: None,
            programs: Vec::new(),
        }
    }

    #[test]
    fn a_page_says_where_the_program_is_and_how_to_tell_that_it_is_the_one() {
        assert!(!format!("{:?}", hand_out().blocks(&TimeZone::UTC)).contains("/downloads"));
        let program = Download { name: "jetfrost.deb".into(), bytes: 1, sha256: "0123456789abcdef".repeat(4) };
        let text = format!("{:?}", HandOut { programs: vec![program], ..hand_out() }.blocks(&TimeZone::UTC));
        for expected in [
            "https://backup.office.example:7410/downloads",
            "jetfrost.deb",
            "SHA-256 begins 0123 4567 89ab cdef 0123 4567 89ab cdef\"",
        ] {
            assert!(text.contains(expected), "{expected} in {text}");
        }
    }

    #[test]
    fn a_page_names_the_machine_the_person_the_service_and_until_when_the_code_is_good() {
        let text = format!("{:?}", hand_out().blocks(&TimeZone::UTC));
        for expected in ["knot <3", "Åsa Lindqvist", "backup.office.example:7410", "JF1-ABCDEF", "21 September 2026", "0123 4567"]
        {
            assert!(text.contains(expected), "{expected} in {text}");
        }
    }

    #[test]
    fn a_page_for_a_machine_without_encryption_speaks_of_no_passphrase() {
        let plain = HandOut { encrypted: false, ..hand_out() };
        let text = format!("{:?}", plain.blocks(&TimeZone::UTC));
        assert!(text.contains("not encrypted") && !text.contains("image passphrase"));
    }
}
