//! `jetfrost discover`: services nearby.

use std::time::Duration;

use clap::Args;
use jetfrost_client::discovery::{FoundBy, FoundService, look};

use crate::failure::{Code, Failure};
use crate::ui::Ui;

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Discover {
    /// Seconds to look.
    #[arg(long, default_value_t = 4, value_parser = clap::value_parser!(u64).range(1..=120))]
    seconds: u64,
    /// Search these DNS domains instead of this machine's own.
    #[arg(long, value_name = "DOMAIN")]
    domain: Vec<String>,
}

impl Discover {
    pub(crate) fn run(self, ui: &Ui) -> Done {
        let found = look(Duration::from_secs(self.seconds), &self.domain)?;
        ui.show(&found, |found| {
            let row = |one: &FoundService| {
                let by: Vec<String> = one.by.iter().map(how).collect();
                let short: String = one.id.chars().take(8).collect();
                vec![one.name.clone(), one.address.clone(), short, by.join(", "), one.fingerprint.chars().take(16).collect()]
            };
            ui.table(
                &["name", "address", "id", "found by", "certificate begins"],
                found.iter().map(row).collect(),
                &[],
                "No service was found. That says nothing about one whose address you know: use it, as host:port.",
            );
        });
        Ok(Code::Done)
    }
}

fn how(by: &FoundBy) -> String {
    match by {
        FoundBy::Announcement => "announcement".into(),
        FoundBy::Domain(domain) => format!("DNS of {domain}"),
    }
}
