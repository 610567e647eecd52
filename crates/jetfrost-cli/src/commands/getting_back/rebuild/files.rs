//! Everything of a files point.

use std::path::PathBuf;

use jetfrost_client::browse::{Browser, OpenPoint};
use jetfrost_client::rebuild::{Found, check, forgone, look_at, measure, name_of, rebuild};
use jetfrost_client::restore::RestoreReport;
use jetfrost_wire::size::show;

use super::before::{as_value, say_point, say_time};
use super::{Done, Rebuild};
use crate::commands::interrupt::stoppable_meter;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, at_rate, many, took};

pub(super) struct Files<'a> {
    pub(super) asked: &'a Rebuild,
    pub(super) browser: Browser,
    pub(super) point: OpenPoint,
    pub(super) to: PathBuf,
}

impl Files<'_> {
    pub(super) fn run(self, ui: &Ui) -> Done {
        if self.asked.check_only {
            return self.check_off(None, ui);
        }
        let Self { browser, point, to, .. } = &self;
        let found = self.found()?;
        let meter = stoppable_meter();
        let (forgone, rate) = (forgone(browser, point, &meter)?, measure(browser, point, &meter)?);
        let machine = name_of(browser, point);
        let what = format!("{}, {}", many(point.head.files, "file"), show(point.head.bytes));
        say_point(&machine, point, &what, forgone.as_ref(), ui);
        let there = if found == Found::Unfinished { "has an unfinished restore, which goes on" } else { "empty" };
        ui.remark(&format!("Target    {}: {there}", to.display()));
        say_time(point.head.bytes, rate, ui);
        if self.asked.preview {
            let mut value = as_value(&machine, point, point.head.bytes, forgone.as_ref(), rate);
            value["unfinished"] = (found == Found::Unfinished).into();
            ui.show(&value, |_| ());
            return Ok(Code::Done);
        }
        self.asked.confirm("machine", &machine, &format!("Type {machine} to restore all of it into {}", to.display()), ui)?;
        self.carry_out(ui)
    }

    /// What is at the target; only what is empty, or was begun with this point, is gone into.
    fn found(&self) -> Result<Found, Failure> {
        match look_at(&self.to, &self.point)? {
            Found::Taken(names, some) => {
                let some: Vec<_> = some.iter().map(|name| name.display().to_string()).collect();
                Err(Failure::here(
                    format!(
                        "{} is not empty: {} in it, such as {}.",
                        self.to.display(),
                        many(names as u64, "name"),
                        some.join(", ")
                    ),
                    "Choose an empty directory or mount an empty file system. What was rebuilt there before is checked off with --check-only; to put files among others: jetfrost restore --to DIR",
                ))
            }
            Found::OfAnotherPoint => Err(Failure::here(
                format!("{} has an unfinished restore of another point than {}.", self.to.display(), self.point.head.sequence),
                "Go on with that point (--at), or empty the directory first.",
            )),
            found => Ok(found),
        }
    }

    fn carry_out(&self, ui: &Ui) -> Done {
        let meter = stoppable_meter();
        let shown = ui.progress(&meter, self.asked.quiet);
        let report = rebuild(&self.browser, &self.point, &self.to, &meter);
        drop(shown);
        let report = report?;
        let (files, bytes) = (report.progress.files_done, report.progress.bytes_done);
        ui.remark(&format!("{}, {} in {}{}.", many(files, "file"), show(bytes), took(report.took), at_rate(bytes, report.took)));
        if let Some(error) = &report.not_on_record {
            ui.remark(&format!("This restore is not on record: {error}"));
        }
        self.check_off(Some(&report), ui)
    }

    fn check_off(&self, report: Option<&RestoreReport>, ui: &Ui) -> Done {
        let meter = stoppable_meter();
        let shown = ui.progress(&meter, self.asked.quiet);
        let troubles = report.map_or(&[][..], |report| &report.troubles);
        let list = check(&self.browser, &self.point, &self.to, self.asked.read_back, troubles, &meter);
        drop(shown);
        self.asked.end(&self.browser, report.and_then(|report| report.on_record.as_ref()), &list?, ui)
    }
}
