//! `jetfrost audit`: what was done and refused.

use std::io::Write;
use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::service::{AuditCheck, AuditEntry, AuditHeads};

use crate::commands::time::moment_of;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, count, many, moment};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Filter {
    /// Only entries that contain this text.
    #[arg(long)]
    text: Option<String>,
    /// Only entries by names that contain this.
    #[arg(long)]
    who: Option<String>,
    /// Not before this time: 2026-11-20, or 2026-11-20T14:00.
    #[arg(long)]
    since: Option<String>,
    /// Before this time.
    #[arg(long)]
    until: Option<String>,
    /// Only what was refused.
    #[arg(long)]
    refused: bool,
}

impl Filter {
    fn query(&self) -> Result<Vec<(&'static str, Option<String>)>, Failure> {
        let moment = |text: &Option<String>| text.as_deref().map(|text| moment_of(text).map(|at| at.to_string())).transpose();
        Ok(vec![
            ("text", self.text.clone()),
            ("who", self.who.clone()),
            ("since", moment(&self.since)?),
            ("until", moment(&self.until)?),
            ("refused", self.refused.then(|| "true".to_owned())),
        ])
    }
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Form {
    Csv,
    JsonLines,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Audit {
    /// Lists what was done and what was refused, latest first.
    List {
        #[command(flatten)]
        filter: Filter,
        /// How many at most.
        #[arg(long, default_value_t = 50)]
        most: usize,
    },
    /// Writes the log as a file.
    Export {
        #[command(flatten)]
        filter: Filter,
        /// The form.
        #[arg(long, default_value = "csv")]
        form: Form,
        /// File to write [default: standard output].
        #[arg(long, value_name = "FILE")]
        to: Option<PathBuf>,
    },
    /// Verifies the chain of entries and shows where it breaks.
    Check {
        /// A last link noted earlier: also check that its entry is still there.
        #[arg(long, value_name = "LINK")]
        expect: Option<String>,
    },
}

impl Audit {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        match self {
            Self::List { filter, most } => {
                let entries: Vec<AuditEntry> = api.first(&calls::audit_log(), &filter.query()?, most)?;
                ui.show(&entries, |entries| say_entries(entries, ui));
            }
            Self::Export { filter, form, to } => {
                let mut query = filter.query()?;
                let word = match form {
                    Form::Csv => "csv",
                    Form::JsonLines => "json_lines",
                };
                query.push(("form", Some(word.into())));
                let failed =
                    |e: std::io::Error| Failure::here(format!("The file cannot be written: {e}."), "Choose another file.");
                let mut out: Box<dyn Write> = match &to {
                    Some(path) => Box::new(std::fs::File::create_new(path).map_err(failed)?),
                    None => Box::new(std::io::stdout()),
                };
                api.download(&calls::audit_export(), &query, &mut out)?;
                out.flush().map_err(failed)?;
            }
            Self::Check { expect } => return check(&api.call(&calls::check_audit())?, expect.as_deref(), &api, ui),
        }
        Ok(Code::Done)
    }
}

fn check(found: &AuditCheck, expect: Option<&str>, api: &jetfrost_client::api::Api, ui: &Ui) -> Done {
    let expected = match expect {
        None => true,
        Some(link) if found.last_link.as_deref() == Some(link) => true,
        Some(link) => {
            let entries: Vec<AuditEntry> = api.all(&calls::audit_log())?;
            entries.iter().any(|entry| entry.link.as_deref() == Some(link))
        }
    };
    let agrees = found.heads.iter().all(|heads| heads.contradicted_at.is_none());
    ui.show(found, |found| {
        ui.line(&match found.broken_at {
            None if !agrees => "Each entry follows from the one before, and yet they are not those that were made:".into(),
            None => format!("{} are as they were made.", many(found.entries, "entry").replace("entrys", "entries")),
            Some(number) => format!("The chain breaks at entry {number}: it was altered, or one before it was removed."),
        });
        if found.unchained > 0 {
            ui.line(&format!("{} of them are from versions that did not chain them.", count(found.unchained)));
        }
        if !expected {
            ui.line("The entry that you expect is gone: entries were taken off the end.");
        }
        found.heads.iter().for_each(|heads| say_heads(heads, ui));
        if let Some(link) = &found.last_link {
            ui.line(&format!("Last link, for your own notes:  {link}"));
        }
    });
    Ok(if found.broken_at.is_none() && expected && agrees { Code::Done } else { Code::Damage })
}

/// What the signed heads on a destination say.
fn say_heads(heads: &AuditHeads, ui: &Ui) {
    let AuditHeads { destination, agree, contradicted_at, by_other_keys, unreadable, trouble } = heads;
    match (trouble, contradicted_at) {
        (Some(why), _) => ui.line(&format!("'{destination}': its heads cannot be read: {why}.")),
        (None, Some(number)) => ui.line(&format!(
            "'{destination}' contradicts the log at entry {number}: it was altered or removed, with those before it made to fit."
        )),
        (None, None) => ui.line(&format!("'{destination}': the log agrees with {}.", many(*agree, "signed head"))),
    }
    if *by_other_keys > 0 {
        let signed = many(*by_other_keys, "head");
        ui.line(&format!("  {signed} by another key, from before this service started again from a copy of its records."));
    }
    if *unreadable > 0 {
        ui.line(&format!("  {} cannot be read, or its signature is wrong.", many(*unreadable, "line")));
    }
}

fn say_entries(entries: &[AuditEntry], ui: &Ui) {
    let row = |e: &AuditEntry| {
        let how = match (&e.before, &e.after) {
            (Some(before), Some(after)) => format!("{before} → {after}"),
            (None, Some(text)) | (Some(text), None) => text.clone(),
            (None, None) => String::new(),
        };
        let what = if e.refused { format!("{} (refused)", e.what) } else { e.what.clone() };
        vec![e.number.to_string(), moment(e.at), e.who.clone(), e.from.clone(), what, e.subject.clone(), how]
    };
    let heads = ["", "when", "who", "from", "what", "to", "how"];
    ui.table(&heads, entries.iter().map(row).collect(), &[0], "There is no such entry.");
}
