//! `jetfrost points`: the recovery points that there are.

use clap::Args;
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::point::Point;
use jetfrost_wire::size::show;
use jiff::Timestamp;

use crate::commands::getting_back::read_from::ReadFrom;
use crate::commands::labels;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, ago, many, moment};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Points {
    #[command(flatten)]
    from: ReadFrom,
}

pub(super) fn remarks(point: &Point) -> String {
    if point.lost {
        return "lost or damaged".into();
    }
    let exceptions = if point.exceptions == 0 { String::new() } else { many(point.exceptions, "exception") };
    let remarks = [labels::mark(point).to_owned(), exceptions];
    remarks.into_iter().filter(|remark| !remark.is_empty()).collect::<Vec<_>>().join(", ")
}

impl Points {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let points = self.from.browser(state_dir, ui)?.points()?;
        let now = Timestamp::now();
        ui.show(&points, |points| {
            let row = |p: &Point| {
                vec![
                    p.sequence.to_string(),
                    moment(p.committed),
                    ago(p.committed, now),
                    many(p.files, labels::noun(p.kind)),
                    show(p.bytes),
                    show(p.sent),
                    remarks(p),
                ]
            };
            let heads = ["point", "made", "", "of", "size", "sent", ""];
            ui.table(
                &heads,
                points.iter().map(row).collect(),
                &[0, 3, 4, 5],
                "There is no recovery point yet. Next: jetfrost backup",
            );
            if points.iter().any(Point::is_suspect) {
                ui.line("");
                ui.line("To restore from before everything that is suspect: --at last-good");
            }
        });
        Ok(if points.iter().any(|point| point.lost) { Code::Damage } else { Code::Done })
    }
}
