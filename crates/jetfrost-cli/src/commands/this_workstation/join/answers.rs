//! What joining needs to know: given by options, by a file of answers, or asked for at the terminal.

use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use jetfrost_client::exclusion::Template;
use jetfrost_client::selection::Selection;
use serde::Deserialize;

use crate::commands::YesOrNo;
use crate::commands::this_workstation::selection::template;
use crate::failure::Failure;

/// The same names as options and as keys of the file.
#[derive(Debug, Default, Args, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Answers {
    /// The enrolment code; it begins with JF1-. At a terminal it is asked for.
    pub(crate) code: Option<String>,
    /// Sign in with this account instead of using a code, where the office lets people enrol their own machines.
    #[arg(long, value_name = "LOGIN", conflicts_with = "code")]
    pub(crate) sign_in: Option<String>,
    /// To sign in: the service, as host:port; otherwise it is looked for.
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) service: Option<String>,
    /// To sign in: the fingerprint of the service's identity; otherwise you are asked to compare it.
    #[arg(long, value_name = "SHA-256")]
    pub(crate) fingerprint: Option<String>,
    /// To sign in: a file whose first line is the account's password; or set JETFROST_PASSWORD.
    #[arg(long, value_name = "FILE")]
    pub(crate) password_file: Option<PathBuf>,
    /// To sign in: the destination, if several take backups of the account.
    #[arg(long, value_name = "NAME")]
    pub(crate) destination: Option<String>,
    /// Name of this workstation, if the enrolment code does not set one [default: the host name].
    #[arg(long)]
    pub(crate) name: Option<String>,
    /// A file whose first line is the image passphrase; or set JETFROST_PASSPHRASE.
    #[arg(long, value_name = "FILE")]
    pub(crate) passphrase_file: Option<PathBuf>,
    /// Trust the office key without prompting if its fingerprint matches.
    #[arg(long, value_name = "FINGERPRINT")]
    pub(crate) trust_office_key: Option<String>,
    /// Store backups unencrypted, if the enrolment code allows it. Anyone with access to the destination's disk can read them.
    #[arg(long, conflicts_with_all = ["passphrase_file", "trust_office_key", "recovery_key_file"])]
    pub(crate) without_encryption: bool,
    /// A new file to write the recovery key to, readable by its owner only, instead of showing it. Move it away from this machine.
    #[arg(long, value_name = "FILE")]
    pub(crate) recovery_key_file: Option<PathBuf>,
    /// A folder or file to back up; may be repeated.
    #[arg(long, value_name = "FOLDER")]
    pub(crate) include: Vec<PathBuf>,
    /// A pattern to leave out; may be repeated.
    #[arg(long, value_name = "PATTERN")]
    pub(crate) exclude: Vec<String>,
    /// An exclusion template, see 'jetfrost selection templates'; may be repeated.
    #[arg(long, value_name = "NAME", value_parser = template)]
    pub(crate) template: Vec<Template>,
    /// Whether to install the agent, which makes backups by itself.
    #[arg(long, value_name = "YES|NO")]
    pub(crate) agent: Option<YesOrNo>,
    /// When to make the first backup: now, or tonight from 20:00 on, by the agent.
    #[arg(long, value_name = "WHEN")]
    pub(crate) first_backup: Option<FirstBackup>,
}

/// When a first backup is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum FirstBackup {
    Now,
    Tonight,
}

impl Answers {
    /// Those of a file (TOML).
    pub(crate) fn of_file(path: &Path) -> Result<Self, Failure> {
        let unusable = |why: String| {
            Failure::here(
                format!("{} holds no answers: {why}.", path.display()),
                "It is TOML with the names of the options of 'jetfrost join --help' as keys, such as  include = [\"/home\"]",
            )
        };
        let text = std::fs::read_to_string(path).map_err(|e| unusable(e.to_string()))?;
        toml::from_str(&text).map_err(|e| unusable(e.message().to_owned()))
    }

    /// These, and what they leave open as others say it.
    pub(crate) fn or(self, others: Self) -> Self {
        let or_list = |one: Vec<PathBuf>, other| if one.is_empty() { other } else { one };
        Self {
            code: self.code.or(others.code),
            sign_in: self.sign_in.or(others.sign_in),
            service: self.service.or(others.service),
            fingerprint: self.fingerprint.or(others.fingerprint),
            password_file: self.password_file.or(others.password_file),
            destination: self.destination.or(others.destination),
            name: self.name.or(others.name),
            passphrase_file: self.passphrase_file.or(others.passphrase_file),
            trust_office_key: self.trust_office_key.or(others.trust_office_key),
            without_encryption: self.without_encryption || others.without_encryption,
            recovery_key_file: self.recovery_key_file.or(others.recovery_key_file),
            include: or_list(self.include, others.include),
            exclude: if self.exclude.is_empty() { others.exclude } else { self.exclude },
            template: if self.template.is_empty() { others.template } else { self.template },
            agent: self.agent.or(others.agent),
            first_backup: self.first_backup.or(others.first_backup),
        }
    }

    /// Refuses answers that contradict each other: nobody who gives a passphrase wants backups that anybody reads.
    pub(crate) fn check(&self) -> Result<(), Failure> {
        let to_sign_in =
            [self.sign_in.is_some(), self.service.is_some(), self.fingerprint.is_some(), self.password_file.is_some()];
        if self.code.is_some() && (to_sign_in.contains(&true) || self.destination.is_some()) {
            return Err(Failure::here(
                "The answers give a code, and what to sign in with instead.",
                "Leave out either the code, or sign-in, service, fingerprint, password-file and destination.",
            ));
        }
        let has_secret = self.passphrase_file.is_some() || self.recovery_key_file.is_some() || self.trust_office_key.is_some();
        if self.without_encryption && has_secret {
            return Err(Failure::here(
                "The answers ask for backups without encryption, and give a secret for them.",
                "Leave out 'without-encryption', or passphrase-file, recovery-key-file and trust-office-key.",
            ));
        }
        Ok(())
    }

    /// What they say is to be backed up; empty where they say nothing. Found out before a code is used up.
    pub(crate) fn selection(&self) -> Result<Selection, Failure> {
        let mut selection = Selection::default();
        for folder in &self.include {
            selection.include(folder)?;
        }
        for pattern in &self.exclude {
            selection.exclude(pattern)?;
        }
        self.template.iter().for_each(|template| selection.exclude_by(*template));
        Ok(selection)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_code_and_what_to_sign_in_with_instead_contradict_each_other() {
        let both = |of: &str| toml::from_str::<Answers>(&format!("code = \"JF1-A\"\n{of}")).expect("answers").check().is_err();
        assert!(both("sign-in = \"tove\"") && both("service = \"quay:7410\"") && both("destination = \"Shelf\"") && !both(""));
    }

    #[test]
    fn answers_of_a_file_fill_what_options_leave_open_and_unknown_ones_are_refused() {
        let directory = tempfile::tempdir().expect("a directory");
        let file = directory.path().join("answers.toml");
        std::fs::write(&file, "name = \"knot\"\nexclude = [\"*.iso\"]\ntemplate = [\"build-outputs\"]\nagent = \"yes\"\nfirst-backup = \"tonight\"\n")
            .expect("written");
        let options = Answers { name: Some("dunlin".into()), first_backup: Some(FirstBackup::Now), ..Answers::default() };
        let both = options.or(Answers::of_file(&file).expect("read"));
        assert_eq!(
            (both.name.as_deref(), both.first_backup, both.agent),
            (Some("dunlin"), Some(FirstBackup::Now), Some(YesOrNo::Yes))
        );
        let selection = both.selection().expect("a selection");
        assert_eq!((selection.exclude, selection.templates), (vec!["*.iso".to_owned()], vec![Template::BuildOutputs]));
        let contradicting = Answers { without_encryption: true, passphrase_file: Some(file.clone()), ..Answers::default() };
        assert!(contradicting.check().is_err());
        std::fs::write(&file, "inclde = [\"/home\"]\n").expect("written");
        let Err(Failure::Here(what, next)) = Answers::of_file(&file) else { panic!("refused") };
        assert!(what.contains("inclde") && next.contains("jetfrost join --help"), "{what} {next}");
    }
}
