//! What is to be rebuilt, and where: as the options say, or asked for step by step at a terminal.

use std::path::PathBuf;
use std::str::FromStr;

use jetfrost_client::ClientError;
use jetfrost_client::browse::{At, Browser, OpenPoint};
use jetfrost_client::disk::Disk;
use jetfrost_client::salvage::{FoundStore, stores_in};
use jetfrost_client::state_dir::StateDir;
use jetfrost_platform::{Devices, DiskDevice, System, path_bytes};
use jetfrost_wire::calls;
use jetfrost_wire::point::Point;
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::{Overview, PointKind, UnlockMethodKind, Workstation};

use super::{Chosen, Rebuild};
use crate::commands::getting_back::points;
use crate::commands::getting_back::read_from::{Source, WayIn};
use crate::commands::keys::secret::Which;
use crate::commands::labels;
use crate::failure::Failure;
use crate::ui::{Ui, many, moment, shown_path};

/// Points that are listed; an older one is named by its number or time all the same.
const POINTS: usize = 20;

pub(super) fn choose(asked: &Rebuild, state_dir: &StateDir, ui: &Ui) -> Result<Chosen, Failure> {
    match &asked.to {
        Some(to) => by_options(asked, to.clone(), state_dir, ui),
        None if ui.is_terminal() => ask(asked, state_dir, ui),
        None => Err(Failure::here(
            "It was not said where to restore to.",
            "Give --to TARGET; at a terminal, everything is asked for step by step.",
        )),
    }
}

fn by_options(asked: &Rebuild, to: PathBuf, state_dir: &StateDir, ui: &Ui) -> Result<Chosen, Failure> {
    let source = asked.from.source(state_dir)?;
    if !asked.check_only {
        say_what_opens_it(&source, ui)?;
    }
    let browser = source.open(asked.from.which(), state_dir, ui)?;
    let at = asked.at.as_ref().unwrap_or(&At::Latest);
    let point = match (&asked.disk, at) {
        (Some(_), _) => browser.point(at, PointKind::Disk)?,
        // A number says which point it is, and so of what.
        (None, At::Sequence(_)) => browser.any_point(at)?,
        (None, _) => browser.point(at, PointKind::Files)?,
    };
    let disk = match point.head.kind {
        PointKind::Files => None,
        PointKind::Disk => {
            let path = asked.disk.as_ref().and_then(Option::as_deref);
            Some(browser.disk(&point, path.map(path_bytes))?.0)
        }
    };
    Ok(Chosen { browser, point, disk, to })
}

/// Says whose image store it is and what opens it, before that is asked for.
fn say_what_opens_it(source: &Source, ui: &Ui) -> Result<(), Failure> {
    if let Some(whose) = source.whose() {
        ui.remark(&format!("Store     {whose}"));
    }
    for way in source.ways_in()? {
        ui.remark(&format!("Opens by  {} {}{}", way.secret(), moment(way.made), way.option()));
    }
    Ok(())
}

/// Asks for everything, a step after the other.
fn ask(asked: &Rebuild, state_dir: &StateDir, ui: &Ui) -> Result<Chosen, Failure> {
    let source = if asked.from.is_elsewhere() { asked.from.source(state_dir)? } else { ask_for_source(state_dir, ui)? };
    if let Some(whose) = source.whose() {
        ui.remark(&format!("Store     {whose}"));
    }
    let which = ask_for_secret(&source, ui)?;
    let browser =
        again(ui, is_wrong_secret, || source.open(which.as_ref().unwrap_or_else(|| asked.from.which()), state_dir, ui))?;
    let point = match &asked.at {
        Some(at) => browser.any_point(at)?,
        None => {
            show_points(&browser.points()?, ui)?;
            again(ui, |_| true, || ask_for_point(&browser, ui))?
        }
    };
    let disk = match point.head.kind {
        PointKind::Files => None,
        PointKind::Disk => Some(ask_for_disk(&browser, &point, ui)?),
    };
    let to = if disk.is_some() { ask_for_device(ui)? } else { ask_for_directory(ui)? };
    Ok(Chosen { browser, point, disk, to })
}

/// A slip is no reason to begin with the first question.
const ATTEMPTS: usize = 3;

/// Asks again after what may be a slip; what it was is said.
fn again<T>(ui: &Ui, is_slip: impl Fn(&Failure) -> bool, mut ask: impl FnMut() -> Result<T, Failure>) -> Result<T, Failure> {
    for _ in 1..ATTEMPTS {
        match ask() {
            Err(failure) if is_slip(&failure) => ui.remark(&failure.words().what),
            other => return other,
        }
    }
    ask()
}

fn is_wrong_secret(failure: &Failure) -> bool {
    matches!(failure, Failure::Client(ClientError::WrongPassphrase))
}

fn ask_for_source(state_dir: &StateDir, ui: &Ui) -> Result<Source, Failure> {
    let session = state_dir.session_api().ok();
    let own = state_dir.membership().ok();
    let mut rows = Vec::new();
    if let Some(own) = &own {
        rows.push((format!("the backups of this machine, at {}", own.address), 0));
    }
    if let Some((session, _)) = &session {
        rows.push((format!("those of another machine, at {} as {}", session.address, session.login), 1));
    }
    rows.push(("an image store in a directory: a destination's disk, or a copy of one".into(), 2));
    if session.is_none() {
        ui.remark("To read another machine's backups at the service, sign in first: jetfrost sign-in ADDRESS --login LOGIN");
    }
    let words: Vec<String> = rows.iter().map(|(words, _)| words.clone()).collect();
    match (rows[ui.choose("Where are the backups?", &words)?].1, session) {
        (0, _) => Ok(Source::Own),
        (1, Some((_, api))) => {
            let overview: Overview = api.call(&calls::overview())?;
            let mut workstations = overview.workstations;
            if workstations.is_empty() {
                return Err(Failure::here("There is no workstation that you may see.", "Sign in as an administrator."));
            }
            let words: Vec<String> = workstations.iter().map(workstation_words).collect();
            let workstation = workstations.swap_remove(ui.choose("Whose machine is it?", &words)?);
            Ok(Source::of_workstation(api, workstation))
        }
        _ => ask_for_store(ui),
    }
}

fn workstation_words(workstation: &Workstation) -> String {
    let latest = workstation.latest_point.as_ref();
    let latest = latest.map_or_else(|| "no point yet".into(), |point| format!("latest point {}", moment(point.committed)));
    format!("{:<16} {:<24} {latest}", workstation.name, workstation.person)
}

fn ask_for_store(ui: &Ui) -> Result<Source, Failure> {
    let directory = PathBuf::from(ui.ask("Directory")?);
    let stores = stores_in(&directory);
    let path = match &stores[..] {
        // What is wrong with it is said by whoever opens it.
        [] => directory,
        [only] => {
            ui.remark(&format!("Store     {}", only.whose_in_words()));
            only.path.clone()
        }
        several => {
            let words: Vec<String> =
                several.iter().map(|store| format!("{}  {}", store.path.display(), store.whose_in_words())).collect();
            several[ui.choose("Which image store?", &words)?].path.clone()
        }
    };
    Ok(Source::Directory(FoundStore::open(&path)?))
}

/// Which of the secrets opens it; none where none is needed, or there is no choice.
fn ask_for_secret(source: &Source, ui: &Ui) -> Result<Option<Which>, Failure> {
    let ways = source.ways_in()?;
    if ways.is_empty() || ways.iter().any(|way| way.kind == UnlockMethodKind::Unencrypted) {
        return Ok(None);
    }
    let words: Vec<String> = ways.iter().map(|way: &WayIn| format!("{} {}", way.secret(), moment(way.made))).collect();
    Ok(Some(match ways[ui.choose("Which secret do you have? No account's password opens it.", &words)?].kind {
        UnlockMethodKind::RecoveryKey => Which::chosen(true, None),
        UnlockMethodKind::OfficeKey => Which::chosen(false, Some(PathBuf::from(ui.ask("File of the office key")?))),
        UnlockMethodKind::Passphrase | UnlockMethodKind::Unencrypted => Which::chosen(false, None),
    }))
}

fn show_points(listed: &[Point], ui: &Ui) -> Result<(), Failure> {
    if listed.is_empty() {
        return Err(Failure::here("There is no recovery point in it.", "Choose another image store."));
    }
    ui.remark("");
    ui.remark("Which point?");
    for point in listed.iter().take(POINTS) {
        ui.remark(&format!("  {}", point_words(point)));
    }
    if listed.len() > POINTS {
        ui.remark(&format!("  and {} older ones, by number or time", listed.len() - POINTS));
    }
    if listed.iter().any(Point::is_suspect) {
        ui.remark("  'last-good' is the last one before anything suspect");
    }
    Ok(())
}

fn ask_for_point(browser: &Browser, ui: &Ui) -> Result<OpenPoint, Failure> {
    let answer = ui.ask("Its number, 'latest', 'last-good', or a time such as 2026-11-20T14:00")?;
    let at = At::from_str(&answer).map_err(|why| Failure::here(format!("{why}."), "Give the number of a point."))?;
    Ok(browser.any_point(&at)?)
}

fn point_words(point: &Point) -> String {
    let remarks = points::remarks(point);
    format!(
        "{:>5}  {}  {}, {}{}",
        point.sequence,
        moment(point.committed),
        many(point.files, labels::noun(point.kind)),
        show(point.bytes),
        if remarks.is_empty() { String::new() } else { format!("  ({remarks})") }
    )
}

fn ask_for_disk(browser: &Browser, point: &OpenPoint, ui: &Ui) -> Result<Disk, Failure> {
    let mut disks = browser.disks(point)?;
    if disks.len() < 2 {
        return disks.pop().ok_or_else(|| Failure::here("There is no disk in this point.", "Begin again, with another point."));
    }
    let words: Vec<String> = disks.iter().map(|disk| format!("{}  {}", shown_path(&disk.path), show(disk.entry.len()))).collect();
    Ok(disks.swap_remove(ui.choose("Which of its disks?", &words)?))
}

fn ask_for_directory(ui: &Ui) -> Result<PathBuf, Failure> {
    ui.remark("");
    Ok(PathBuf::from(ui.ask("Where to: an empty directory, or where an empty file system is mounted")?))
}

fn ask_for_device(ui: &Ui) -> Result<PathBuf, Failure> {
    let devices = System::disk_devices().unwrap_or_default();
    let mut words: Vec<String> = devices.iter().map(device_words).collect();
    words.push("a new image file".into());
    let chosen = ui.choose("Where to? A device is overwritten.", &words)?;
    match devices.into_iter().nth(chosen) {
        Some(device) => Ok(device.path),
        None => Ok(PathBuf::from(ui.ask("Image file")?)),
    }
}

fn device_words(device: &DiskDevice) -> String {
    let model = device.model.as_ref().map_or_else(String::new, |model| format!("  {model}"));
    let in_use = if device.is_mounted { "  (in use: it, or a part of it, is mounted)" } else { "" };
    format!("{:<14} {:>8}{model}{in_use}", device.path.display().to_string(), show(device.bytes))
}
