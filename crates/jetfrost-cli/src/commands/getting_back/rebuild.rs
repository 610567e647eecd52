//! `jetfrost rebuild`: everything of a machine into an empty directory or a mounted root, with a checklist at the end.

use std::path::{Path, PathBuf};
use std::time::Duration;

use clap::Args;
use jetfrost_client::browse::{At, Browser, OpenPoint};
use jetfrost_client::rebuild::{
    Checklist, Forgone, Found, State, check, forgone, look_at, measure, name_of, put_on_record, rebuild,
};
use jetfrost_client::restore::RestoreReport;
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::PointKind;
use jiff::Timestamp;
use serde_json::json;

use crate::commands::escaped;
use crate::commands::getting_back::read_from::ReadFrom;
use crate::commands::getting_back::restore::warning;
use crate::commands::interrupt::stoppable_meter;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, at_rate, count, many, moment, took};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Rebuild {
    /// An empty directory, or where an empty file system is mounted. An unfinished rebuild in it goes on.
    #[arg(long, value_name = "DIR")]
    to: PathBuf,
    /// The point: 'latest', 'last-good', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    /// Show what would be done, what choosing this point loses and how long it takes; restore nothing.
    #[arg(long)]
    preview: bool,
    /// Restore nothing: check off what was rebuilt there before.
    #[arg(long, conflicts_with = "preview")]
    check_only: bool,
    /// The machine's name, to confirm without a prompt.
    #[arg(long, value_name = "NAME")]
    confirm: Option<String>,
    /// How many files of a hundred are read again at the end, 0 to 100. Everything else is always compared.
    #[arg(long, default_value_t = 10, value_name = "PERCENT", value_parser = clap::value_parser!(u8).range(0..=100))]
    read_back: u8,
    /// Write the checklist to a new file, too: .txt, .json or .html, which prints well. May be given several times.
    #[arg(long = "checklist", value_name = "FILE", value_parser = checklist_file)]
    checklists: Vec<PathBuf>,
    /// Shows no progress.
    #[arg(long)]
    quiet: bool,
    #[command(flatten)]
    from: ReadFrom,
}

fn checklist_file(text: &str) -> Result<PathBuf, String> {
    let path = PathBuf::from(text);
    match path.extension().and_then(|extension| extension.to_str()) {
        Some("txt" | "json" | "html") => Ok(path),
        _ => Err("a checklist is written as .txt, .json or .html".into()),
    }
}

/// What is known before anything is restored.
struct Plan {
    found: Found,
    forgone: Option<Forgone>,
    /// Bytes a second.
    rate: Option<f64>,
}

impl Rebuild {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        for file in &self.checklists {
            // Known before hours of work, and not after.
            if file.symlink_metadata().is_ok() {
                return Err(Failure::here(format!("{} is there already.", file.display()), "Name a new file for the checklist."));
            }
        }
        if self.check_only {
            let browser = self.from.browser(state_dir, ui)?;
            let point = browser.point(&self.at, PointKind::Files)?;
            return self.check_off(&browser, &point, None, ui);
        }
        self.from.say_what_opens_it(state_dir, ui)?;
        let browser = self.from.browser(state_dir, ui)?;
        let point = browser.point(&self.at, PointKind::Files)?;
        let found = self.found(&point)?;
        let meter = stoppable_meter();
        let plan = Plan { found, forgone: forgone(&browser, &point, &meter)?, rate: measure(&browser, &point, &meter)? };
        let machine = name_of(&browser, &point);
        self.say_plan(&machine, &point, &plan, ui);
        if self.preview {
            ui.show(&plan_value(&machine, &point, &plan), |_| ());
            return Ok(Code::Done);
        }
        self.confirm(&machine, ui)?;
        self.carry_out(&browser, &point, ui)
    }

    /// What is at the target; only what is empty, or was begun with this point, is gone into.
    fn found(&self, point: &OpenPoint) -> Result<Found, Failure> {
        match look_at(&self.to, point)? {
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
                format!("{} has an unfinished restore of another point than {}.", self.to.display(), point.head.sequence),
                "Go on with that point (--at), or empty the directory first.",
            )),
            found => Ok(found),
        }
    }

    fn say_plan(&self, machine: &str, point: &OpenPoint, plan: &Plan, ui: &Ui) {
        let made = Timestamp::from_millisecond(point.head.created).map(moment).unwrap_or_default();
        let (files, bytes) = (many(point.head.files, "file"), show(point.head.bytes));
        ui.remark(&format!("Machine   {machine}"));
        ui.remark(&format!("Point     {}, made {made}: {files}, {bytes}", point.head.sequence));
        if let Some(doubt) = &point.doubt {
            ui.remark(&format!("          {}", warning(doubt, point)));
        }
        ui.remark(&format!("Newer     {}", said_of_forgone(plan.forgone.as_ref())));
        let there = if plan.found == Found::Unfinished { "has an unfinished restore, which goes on" } else { "empty" };
        ui.remark(&format!("Target    {}: {there}", self.to.display()));
        let estimate = plan.rate.map_or_else(
            || "no time: there is too little to measure".into(),
            |rate| {
                let seconds = Duration::from_secs_f64((point.head.bytes as f64 / rate).min(1e9));
                format!("about {}, at {} per second as just measured", took(seconds), show(rate as u64))
            },
        );
        ui.remark(&format!("Takes     {estimate}"));
    }

    /// Whoever rebuilds a machine types its name.
    fn confirm(&self, machine: &str, ui: &Ui) -> Result<(), Failure> {
        let typed = match &self.confirm {
            Some(name) => name.clone(),
            None => ui.ask(&format!("Type {machine} to restore all of it into {}", self.to.display()))?,
        };
        if typed == machine {
            return Ok(());
        }
        let next = format!("Look whether this is the machine; then type its name when asked, or give --confirm {machine}.");
        Err(Failure::here("Nothing was restored: the machine's name was not typed.", next))
    }

    fn carry_out(&self, browser: &Browser, point: &OpenPoint, ui: &Ui) -> Done {
        let meter = stoppable_meter();
        let shown = ui.progress(&meter, self.quiet);
        let report = rebuild(browser, point, &self.to, &meter);
        drop(shown);
        let report = report?;
        let (files, bytes) = (report.progress.files_done, report.progress.bytes_done);
        ui.remark(&format!("{}, {} in {}{}.", many(files, "file"), show(bytes), took(report.took), at_rate(bytes, report.took)));
        if let Some(error) = &report.not_on_record {
            ui.remark(&format!("This restore is not on record: {error}"));
        }
        self.check_off(browser, point, Some(&report), ui)
    }

    fn check_off(&self, browser: &Browser, point: &OpenPoint, report: Option<&RestoreReport>, ui: &Ui) -> Done {
        let meter = stoppable_meter();
        let shown = ui.progress(&meter, self.quiet);
        let troubles = report.map_or(&[][..], |report| &report.troubles);
        let list = check(browser, point, &self.to, self.read_back, troubles, &meter);
        drop(shown);
        let list = list?;
        if let Some(Err(error)) = report.and_then(|report| report.on_record.as_ref()).map(|id| put_on_record(browser, id, &list))
        {
            ui.remark(&format!("This checklist is not on record: {error}"));
        }
        for file in &self.checklists {
            write(file, &list)?;
        }
        ui.show(&list, |list| ui.text(&as_text(list)));
        for file in &self.checklists {
            ui.remark(&format!("Checklist: {}", file.display()));
        }
        Ok(if list.state() == State::Wrong { Code::WithExceptions } else { Code::Done })
    }
}

fn said_of_forgone(forgone: Option<&Forgone>) -> String {
    let Some(Forgone { newest, files, bytes }) = forgone else { return "none; this is the newest".into() };
    let lost = format!("{}, {}", many(*files, "file"), show(*bytes));
    format!(
        "up to point {}, committed {}: what was added or changed since is not in this one: {lost}",
        newest.sequence,
        moment(newest.committed)
    )
}

fn plan_value(machine: &str, point: &OpenPoint, plan: &Plan) -> serde_json::Value {
    let forgone = plan.forgone.as_ref();
    json!({
        "machine": machine, "point": point.head.sequence, "files": point.head.files, "bytes": point.head.bytes,
        "newest": forgone.map(|forgone| forgone.newest.sequence), "files_forgone": forgone.map_or(0, |forgone| forgone.files),
        "bytes_forgone": forgone.map_or(0, |forgone| forgone.bytes), "unfinished": plan.found == Found::Unfinished,
        "bytes_per_second": plan.rate,
    })
}

fn write(file: &Path, list: &Checklist) -> Result<(), Failure> {
    let failed = |e: std::io::Error| Failure::here(format!("{} cannot be written: {e}.", file.display()), "Choose another file.");
    let text = match file.extension().and_then(|extension| extension.to_str()) {
        Some("json") => serde_json::to_string_pretty(list).map_err(|e| failed(e.into()))? + "\n",
        Some("html") => as_page(list),
        _ => as_text(list),
    };
    std::fs::OpenOptions::new()
        .write(true)
        .create_new(true)
        .open(file)
        .and_then(|mut file| std::io::Write::write_all(&mut file, text.as_bytes()))
        .map_err(failed)
}

fn mark(state: State) -> &'static str {
    match state {
        State::Right => "ok",
        State::Known => "note",
        State::Wrong => "WRONG",
    }
}

fn heading(list: &Checklist) -> String {
    format!("{} as of point {} ({}), restored to {}", list.machine, list.point, moment(list.made), list.target)
}

fn conclusion(list: &Checklist) -> &'static str {
    match list.state() {
        State::Wrong => "Not everything is as it was: see the items that are wrong.",
        State::Known | State::Right => "Everything that the backup has is there as it was.",
    }
}

fn as_text(list: &Checklist) -> String {
    let mut text = format!("Checklist: {}\nLooked at {}\n\n", heading(list), moment(list.checked));
    for item in &list.items {
        text.push_str(&format!("{:<6} {:<25} {}\n", mark(item.state), item.what, item.found));
        text.extend(item.paths.iter().map(|path| format!("{:33}{path}\n", "")));
        if let Some(more) = item.count.checked_sub(item.paths.len() as u64).filter(|more| *more > 0) {
            text.push_str(&format!("{:33}and {} more\n", "", count(more)));
        }
    }
    text + "\n" + conclusion(list) + "\n"
}

/// A page that prints well and needs nothing else.
fn as_page(list: &Checklist) -> String {
    let title = escaped(&format!("Checklist: {}", heading(list)));
    let mut page = format!(
        "<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n<title>{title}</title>\n\
         <style>body{{font:11pt sans-serif;margin:2em}}table{{border-collapse:collapse;width:100%}}\
         th,td{{border-bottom:1px solid #999;padding:.3em .5em;text-align:left;vertical-align:top}}thead{{display:table-header-group}}\
         tr{{break-inside:avoid}}.wrong td:first-child{{font-weight:bold}}ul{{margin:.3em 0;font-size:9pt;word-break:break-all}}</style>\n\
         <h1>{title}</h1>\n<p>Looked at {}. <strong>{}</strong></p>\n<table>\n\
         <thead><tr><th scope=\"col\">State</th><th scope=\"col\">What</th><th scope=\"col\">Found</th></tr></thead>\n<tbody>\n",
        moment(list.checked),
        conclusion(list)
    );
    for item in &list.items {
        let class = if item.state == State::Wrong { " class=\"wrong\"" } else { "" };
        page.push_str(&format!(
            "<tr{class}><td>{}</td><td>{}</td><td>{}",
            mark(item.state),
            escaped(&item.what),
            escaped(&item.found)
        ));
        if !item.paths.is_empty() {
            let paths: String = item.paths.iter().map(|path| format!("<li>{}</li>", escaped(path))).collect();
            let more = item.count - item.paths.len() as u64;
            let more = if more > 0 { format!("<li>and {} more</li>", count(more)) } else { String::new() };
            page.push_str(&format!("<ul>{paths}{more}</ul>"));
        }
        page.push_str("</td></tr>\n");
    }
    page + "</tbody>\n</table>\n<p>Signed: ____________________ &nbsp; Date: ____________________</p>\n</html>\n"
}
