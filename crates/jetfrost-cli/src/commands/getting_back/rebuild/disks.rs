//! One disk of a disk point.

use std::path::PathBuf;

use jetfrost_client::browse::{Browser, OpenPoint};
use jetfrost_client::disk::partitions::Table;
use jetfrost_client::disk::{Disk, DiskReport, OnDisk, Present, Target, at_target, compare_disk, restore_disk};
use jetfrost_client::rebuild::{check_disk, forgone_of_disk, measure_disk, name_of};
use jetfrost_platform::{FileKind, Paths, System};
use jetfrost_wire::size::show;

use super::before::{as_value, say_point, say_time};
use super::{Done, Rebuild};
use crate::commands::interrupt::stoppable_meter;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, at_rate, shown_path, took};

pub(super) struct OneDisk<'a> {
    asked: &'a Rebuild,
    browser: Browser,
    point: OpenPoint,
    disk: Disk,
    target: Target,
}

impl<'a> OneDisk<'a> {
    /// What is there decides: a block device is overwritten, anything else is made.
    pub(super) fn new(asked: &'a Rebuild, browser: Browser, point: OpenPoint, disk: Disk, to: PathBuf) -> Self {
        let is_device = System::metadata_behind(&to).is_ok_and(|there| there.kind == Some(FileKind::BlockDevice));
        let target = if is_device { Target::Device(to) } else { Target::File(to) };
        Self { asked, browser, point, disk, target }
    }

    pub(super) fn run(self, ui: &Ui) -> Done {
        let meter = stoppable_meter();
        if self.asked.check_only {
            let shown = ui.progress(&meter, self.asked.quiet);
            let report = compare_disk(&self.browser, &self.disk.reader(&self.browser), &self.target, &meter);
            drop(shown);
            return self.check_off(&report?, ui);
        }
        let Self { browser, point, disk, .. } = &self;
        let present = at_target(&self.target, disk.entry.len())?;
        let (forgone, to_read) = (forgone_of_disk(browser, point, disk)?, measure_disk(browser, disk)?);
        let machine = name_of(browser, point);
        let what = format!("{}, {}, {} of it not zeros", shown_path(&disk.path), show(disk.entry.len()), show(to_read.bytes));
        say_point(&machine, point, &what, forgone.as_ref(), ui);
        self.say_present(&present, ui);
        say_time(to_read.bytes, to_read.rate, ui);
        if self.asked.preview {
            let mut value = as_value(&machine, point, disk.entry.len(), forgone.as_ref(), to_read.rate);
            value["disk"] = shown_path(&disk.path).into();
            value["unfinished"] = (present == Present::Unfinished).into();
            ui.show(&value, |_| ());
            return Ok(Code::Done);
        }
        self.confirm(ui)?;
        self.carry_out(ui)
    }

    fn say_present(&self, present: &Present, ui: &Ui) {
        let (Target::File(path) | Target::Device(path)) = &self.target;
        let there = match present {
            Present::Nothing => "a new image file".into(),
            Present::Unfinished => "an image file that is not finished, which goes on".into(),
            Present::Device(bytes, OnDisk { table, .. }) => {
                let table = table.as_ref().map_or_else(|| "no partition table".into(), Table::in_words);
                format!(
                    "{}, {table}. Its first {} are overwritten; what is on it is lost",
                    show(*bytes),
                    show(self.disk.entry.len())
                )
            }
        };
        ui.remark(&format!("Target    {}: {there}", path.display()));
        if let Present::Device(_, OnDisk { file_systems, .. }) = present {
            for found in file_systems {
                ui.remark(&format!("          {}: {}", found.place(), found.what.in_words()));
            }
        }
    }

    /// A new image file takes nothing from anybody.
    fn confirm(&self, ui: &Ui) -> Result<(), Failure> {
        let Target::Device(device) = &self.target else { return Ok(()) };
        let name = device.display().to_string();
        self.asked.confirm("device", &name, &format!("Type {name} to overwrite it"), ui)
    }

    fn carry_out(&self, ui: &Ui) -> Done {
        let image = self.disk.reader(&self.browser);
        let meter = stoppable_meter();
        let shown = ui.progress(&meter, self.asked.quiet);
        let report = restore_disk(&self.browser, &self.point, &image, &self.target, &meter);
        drop(shown);
        let report = report?;
        ui.remark(&format!(
            "{} in {}{}, read back included. Written {}; the rest was zeros or there already.",
            show(report.bytes),
            took(report.took),
            at_rate(report.bytes, report.took),
            show(report.written)
        ));
        if let Some(error) = &report.not_on_record {
            ui.remark(&format!("This restore is not on record: {error}"));
        }
        self.check_off(&report, ui)
    }

    fn check_off(&self, report: &DiskReport, ui: &Ui) -> Done {
        let list = check_disk(&self.browser, &self.point, &self.disk, &self.target, report)?;
        let code = self.asked.end(&self.browser, report.on_record.as_ref(), &list, ui)?;
        Ok(if report.damaged.is_empty() { code } else { Code::Damage })
    }
}
