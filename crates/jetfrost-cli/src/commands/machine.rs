//! What the person at a workstation does.

use std::os::unix::ffi::OsStrExt;
use std::path::PathBuf;

use clap::Args;
use jetfrost_client::backup::{BackupReport, ReadBack, back_up};
use jetfrost_client::browse::At;
use jetfrost_client::check::check;
use jetfrost_client::home::Home;
use jetfrost_client::join::{
    FirstWays, check_passphrase, claim, find_service, host_name, join, join_without_encryption, look_at_code,
};
use jetfrost_client::restore::{RestoreReport, Rights, Trouble, Wish, restore};
use jetfrost_client::ways_in::{measured_cost, office_key_of, unlock};
use jetfrost_client::{OfficePublicKey, Secret, system_random};
use jetfrost_wire::enrolment::Invitation;
use jetfrost_wire::restore::{Purpose, Restore as RestoreRecord};
use jetfrost_wire::run::Run;
use jetfrost_wire::size::show;
use jetfrost_wire::trial::Trial;
use jetfrost_wire::workstation::{Point, PointKind, StoreSummary, Workstation};
use jiff::Timestamp;
use serde::Serialize;
use serde_json::json;

use super::interrupt::stoppable_meter;
use super::salvage::ReadFrom;
use super::{ways_in, words};
use crate::failure::{Code, Failure};
use crate::ui::{Given, Ui, ago, at_rate, count, many, moment, shown_path, took};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Join {
    /// The enrolment code; it begins with JF1-.
    code: String,
    /// This workstation's name, unless the enrolment code says another [default: the host's name].
    #[arg(long)]
    name: Option<String>,
    /// A file whose first line is the image passphrase; or set JETFROST_PASSPHRASE.
    #[arg(long, value_name = "FILE")]
    passphrase_file: Option<PathBuf>,
    /// Trusts the office key without prompting if it has this mark.
    #[arg(long, value_name = "MARK")]
    entrust: Option<String>,
    /// Goes without encryption, where the enrolment code allows it: whoever gets at the destination's disk can read the backups.
    #[arg(long, conflicts_with_all = ["passphrase_file", "entrust"])]
    without_encryption: bool,
}

impl Join {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let invitation = Invitation::parse(&self.code).map_err(|e| Failure::Client(e.into()))?;
        let (invitation, service) = find_service(&invitation)?;
        let (name, at) = (&service.public_name, &invitation.address);
        ui.remark(&format!("Found the service '{name}' at {at}; its certificate is the one in the code."));
        let given = Given { file: self.passphrase_file.as_deref(), option: "--passphrase-file", variable: "JETFROST_PASSPHRASE" };
        let code = look_at_code(&invitation)?;
        if let Some(workstation) = code.claims {
            return claimed(home, &invitation, &workstation, &given, ui);
        }
        let name = code.machine.or(self.name).unwrap_or_else(host_name);
        if self.without_encryption {
            return joined_without_encryption(home, &invitation, &name, ui);
        }
        if !code.encrypted {
            ui.remark("The code would let this machine go without encryption; it is encrypted all the same, unless you say --without-encryption.");
        }
        let passphrase = ui.secret("a new image passphrase, which will encrypt this workstation's backups", &given, true)?;
        check_passphrase(&passphrase)?;
        let agreed = |office: &OfficePublicKey| ways_in::agrees(office, self.entrust.as_deref(), ui);
        let office_key = office_key_of(&service)?.filter(agreed);
        let ways = FirstWays { passphrase: &passphrase, cost: measured_cost(), office_key };
        let joined = join(home, &invitation, &name, &ways, &system_random())?;
        let (m, key) = (&joined.membership, joined.recovery_key.to_string());
        let value = json!({
            "workstation": m.workstation, "name": m.name, "login": m.login, "destination": m.destination, "recovery_key": key,
        });
        ui.show(&value, |_| {
            ui.line(&format!(
                "This machine is now workstation '{}' of {}, kept on destination '{}'.",
                m.name, m.login, m.destination
            ));
            ui.line("");
            ui.line("  Recovery key, shown this once:");
            ui.line(&format!("  {key}"));
            ui.line("");
            ui.line("Print it and keep it away from this machine. Without it and without the image passphrase nobody,");
            ui.line(match office_key {
                None => "the office included, can read these backups.",
                Some(_) => "but for whoever holds the office key, can read these backups.",
            });
            ui.line("");
            ui.line("Next: choose what is backed up:  jetfrost keep FOLDER");
        });
        Ok(Code::Done)
    }
}

/// Joins as the enrolment code says: without a secret.
fn joined_without_encryption(home: &Home, invitation: &Invitation, name: &str, ui: &Ui) -> Done {
    let m = join_without_encryption(home, invitation, name, &system_random())?;
    let value = json!({ "workstation": m.workstation, "name": m.name, "login": m.login, "destination": m.destination, "encrypted": false });
    ui.show(&value, |_| {
        ui.line(&format!(
            "This machine is now workstation '{}' of {}, kept on destination '{}'.",
            m.name, m.login, m.destination
        ));
        ui.line("Its backups are not encrypted, as the enrolment code says: whoever gets at that disk can read them.");
        ui.line("");
        ui.line("Next: choose what is backed up:  jetfrost keep FOLDER");
    });
    Ok(Code::Done)
}

/// Takes over a workstation that is there, and opens its image store with the passphrase that it has.
fn claimed(home: &Home, invitation: &Invitation, workstation: &str, given: &Given<'_>, ui: &Ui) -> Done {
    ui.remark(&format!("This code hands over the backups of '{workstation}'."));
    let membership = claim(home, invitation)?;
    let what = format!("the image passphrase that '{workstation}' has");
    let by_passphrase = || {
        let passphrase = ui.secret(&what, given, false)?;
        unlock(home, Secret::Passphrase(&passphrase)).map_err(Failure::from)
    };
    // A store that is not encrypted opens without a secret.
    let opened = unlock(home, Secret::None).or_else(|_| by_passphrase());
    ui.show(&json!({ "workstation": membership.workstation, "name": membership.name, "unlocked": opened.is_ok() }), |_| {
        let whose = format!("'{}' of {}, kept on destination '{}'", membership.name, membership.login, membership.destination);
        ui.line(&format!("This machine is now workstation {whose}."));
        if opened.is_ok() {
            ui.line("Its image store is open. Next: choose what is backed up:  jetfrost keep FOLDER");
        } else {
            ui.line("Its image store is not open yet. Next:  jetfrost unlock  (or with --recovery-key, or --office-key FILE)");
        }
    });
    opened.map(|_| Code::Done)
}

/// Tries all that a backup needs, from this machine; nothing stays behind.
pub(crate) fn probe(home: &Home, ui: &Ui) -> Done {
    let (membership, api) = home.device_api()?;
    let trial: Trial = api.post(&format!("/workstations/{}/trial", membership.workstation), &())?;
    ui.remark(&format!("The service at {} answers, and knows this workstation.", membership.address));
    Ok(super::places::say_trial(&trial, ui))
}

#[derive(Debug, Args)]
pub(crate) struct Keep {
    /// Folders or files.
    #[arg(required = true)]
    folders: Vec<PathBuf>,
    /// They are disks: block devices or raw image files, kept as a whole.
    #[arg(long, conflicts_with = "drop")]
    disk: bool,
    /// Takes them out again. Points that hold them stay.
    #[arg(long)]
    drop: bool,
}

impl Keep {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let mut chosen = home.chosen()?;
        for folder in &self.folders {
            if self.disk {
                chosen.keep_disk(folder)?;
            } else if !self.drop {
                let kept = chosen.keep(folder)?;
                if kept != std::path::absolute(folder).unwrap_or_default() {
                    ui.remark(&format!("{} leads to {}, and that is what is kept.", folder.display(), kept.display()));
                }
            } else if !chosen.drop_folder(folder) {
                return Err(Failure::here(
                    format!("{} is not among the kept folders and disks.", folder.display()),
                    "See 'jetfrost chosen'.",
                ));
            }
        }
        home.keep_chosen(&chosen)?;
        self::chosen(home, ui)
    }
}

#[derive(Debug, Args)]
pub(crate) struct Skip {
    /// Patterns: without '/' a name at any depth ('*.tmp', 'node_modules'), with '/' a path ('/home/*/Downloads'); '**'
    /// stands for any number of folders.
    #[arg(required = true)]
    patterns: Vec<String>,
    /// Takes them out again.
    #[arg(long)]
    drop: bool,
}

impl Skip {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let mut chosen = home.chosen()?;
        for pattern in &self.patterns {
            if !self.drop {
                chosen.skip(pattern)?;
            } else if !chosen.drop_pattern(pattern) {
                return Err(Failure::here(format!("'{pattern}' is not among the patterns."), "See 'jetfrost chosen'."));
            }
        }
        home.keep_chosen(&chosen)?;
        self::chosen(home, ui)
    }
}

pub(crate) fn chosen(home: &Home, ui: &Ui) -> Done {
    let chosen = home.chosen()?;
    ui.show(&chosen, |chosen| {
        if chosen.kinds().is_empty() {
            ui.line("Nothing is kept yet. Next: jetfrost keep FOLDER");
        }
        for folder in &chosen.folders {
            ui.line(&format!("keep  {}", folder.0.display()));
        }
        for disk in &chosen.disks {
            ui.line(&format!("disk  {}", disk.0.display()));
        }
        for pattern in &chosen.skip {
            ui.line(&format!("skip  {pattern}"));
        }
    });
    Ok(Code::Done)
}

#[derive(Debug, Args)]
pub(crate) struct Backup {
    /// Only the folders, or only the disks; both unless given, each as a point of its own.
    #[arg(long, value_enum, value_name = "KIND")]
    only: Option<Kind>,
    /// Goes on from what the service shows, though it is older than what this workstation made: once it is clear why.
    #[arg(long)]
    go_on_from_older: bool,
    /// Reads all that was sent back before the point counts; otherwise a part that is drawn by lot.
    #[arg(long)]
    read_back: bool,
    /// Shows no progress.
    #[arg(long)]
    quiet: bool,
}

/// What a point is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum Kind {
    Files,
    Disks,
}

impl From<Kind> for PointKind {
    fn from(kind: Kind) -> Self {
        match kind {
            Kind::Files => Self::Files,
            Kind::Disks => Self::Disk,
        }
    }
}

impl Backup {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let mut kinds = self.only.map_or_else(|| home.chosen().map(|chosen| chosen.kinds()), |only| Ok(vec![only.into()]))?;
        if kinds.is_empty() {
            // The engine says what is missing.
            kinds.push(PointKind::Files);
        }
        if self.go_on_from_older {
            home.forget_seen()?;
        }
        let read_back = if self.read_back { ReadBack::Everything } else { ReadBack::Sample };
        let mut reports = Vec::new();
        for kind in kinds {
            let meter = stoppable_meter();
            let _shown = ui.progress(&meter, self.quiet);
            reports.push(back_up(home, kind, read_back, &meter)?);
        }
        let value = json!({ "points": reports.iter().map(backup_value).collect::<Vec<_>>() });
        ui.show(&value, |_| reports.iter().for_each(|report| say_backup(report, ui)));
        let has_exceptions = reports.iter().any(|report| report.exceptions.total() > 0);
        let is_hurt = reports.iter().any(|report| !report.hurt_points.is_empty());
        Ok(match (is_hurt, has_exceptions) {
            (true, _) => Code::Damage,
            (false, true) => Code::WithExceptions,
            (false, false) => Code::Done,
        })
    }
}

fn backup_value(report: &BackupReport) -> serde_json::Value {
    json!({
        "point": report.point, "files_read": report.counts.read, "skipped": report.counts.skipped,
        "mounts_not_entered": report.counts.mounts, "exceptions": report.exceptions, "sent": report.sent,
        "seconds": report.took.as_secs_f64(), "hurt_points": report.hurt_points,
    })
}

fn say_backup(report: &BackupReport, ui: &Ui) {
    let point = &report.point;
    let noun = words::noun(point.kind);
    ui.line(&format!(
        "Point {} is {}: {}, {}. Read {}, sent {}, in {}{}.",
        point.sequence,
        if report.exceptions.total() == 0 { "complete" } else { "made, with exceptions" },
        many(point.files, noun),
        show(point.bytes),
        many(report.counts.read, noun),
        show(report.sent),
        took(report.took),
        at_rate(point.bytes, report.took),
    ));
    if report.counts.skipped > 0 {
        ui.line(&format!("Left out by patterns: {}.", count(report.counts.skipped)));
    }
    if report.counts.mounts > 0 {
        ui.line(&format!(
            "Not entered, since they are other volumes: {} folders. Keep them by name if they matter.",
            report.counts.mounts
        ));
    }
    if let Some(error) = &report.not_remembered {
        ui.line(&format!("This machine could not remember the walk ({error}): the next run reads everything again."));
    }
    if !report.hurt_points.is_empty() {
        let numbers: Vec<String> = report.hurt_points.iter().map(ToString::to_string).collect();
        ui.line(&format!("At the service, recovery points are damaged or lost: {}. Tell the administrator.", numbers.join(", ")));
    }
    let exceptions = report.exceptions.total();
    if exceptions > 0 {
        ui.line(&format!("With {}:", many(exceptions, "exception")));
        for exception in report.listed.iter().take(10) {
            ui.line(&format!("  {}  {}", shown_path(&exception.path), exception.explanation));
        }
        if exceptions > 10 {
            ui.line("  … see 'jetfrost exceptions' for all.");
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct Points {
    #[command(flatten)]
    from: ReadFrom,
}

impl Points {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let points = self.from.browser(home, ui)?.points()?;
        let now = Timestamp::now();
        ui.show(&points, |points| {
            let row = |p: &Point| {
                vec![
                    p.sequence.to_string(),
                    moment(p.committed),
                    ago(p.committed, now),
                    many(p.files, words::noun(p.kind)),
                    show(p.bytes),
                    show(p.sent),
                    match (p.lost, p.exceptions) {
                        (true, _) => "lost or damaged".into(),
                        (false, 0) => String::new(),
                        (false, exceptions) => many(exceptions, "exception"),
                    },
                ]
            };
            let heads = ["point", "made", "", "of", "size", "sent", ""];
            ui.table(
                &heads,
                points.iter().map(row).collect(),
                &[0, 3, 4, 5],
                "There is no recovery point yet. Next: jetfrost backup",
            );
        });
        Ok(if points.iter().any(|point| point.lost) { Code::Damage } else { Code::Done })
    }
}

#[derive(Debug, Args)]
pub(crate) struct Look {
    /// An absolute path.
    #[arg(default_value = "/")]
    path: PathBuf,
    /// Which point: 'latest', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    #[command(flatten)]
    from: ReadFrom,
}

/// A line of a listing, as JSON.
#[derive(Debug, Serialize)]
struct Listed {
    name: String,
    kind: String,
    bytes: u64,
    modified: Option<Timestamp>,
    mode: String,
    owner: String,
    group: String,
    target: Option<String>,
}

impl Look {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let browser = self.from.browser(home, ui)?;
        let point = browser.point(&self.at, PointKind::Files)?;
        let entries = browser.list(&point, self.path.as_os_str().as_bytes())?;
        let listed: Vec<Listed> = entries.iter().map(Listed::of).collect();
        ui.show(&listed, |listed| {
            let row = |l: &Listed| {
                let arrow = l.target.as_ref().map_or_else(String::new, |target| format!(" → {target}"));
                let slash = if l.kind == "directory" { "/" } else { "" };
                vec![
                    l.mode.clone(),
                    l.owner.clone(),
                    l.group.clone(),
                    if l.kind == "file" { show(l.bytes) } else { String::new() },
                    l.modified.map(moment).unwrap_or_default(),
                    format!("{}{slash}{arrow}", l.name),
                ]
            };
            let created = Timestamp::from_millisecond(point.head.created).map(moment).unwrap_or_default();
            ui.remark(&format!("{} as of point {} ({created})", self.path.display(), point.head.sequence));
            ui.table(
                &["mode", "owner", "group", "size", "modified", "name"],
                listed.iter().map(row).collect(),
                &[3],
                "This folder is empty.",
            );
        });
        Ok(Code::Done)
    }
}

impl Listed {
    fn of(entry: &jetfrost_client::browse::Entry) -> Self {
        let id_or = |name: &Option<String>, id: u32| name.clone().unwrap_or_else(|| id.to_string());
        Self {
            name: shown_path(&entry.name),
            kind: format!("{:?}", entry.kind).to_lowercase(),
            bytes: entry.len(),
            modified: Timestamp::new(entry.mtime, entry.mtime_nanos.cast_signed()).ok(),
            mode: format!("{:04o}", entry.mode),
            owner: id_or(&entry.owner, entry.uid),
            group: id_or(&entry.group, entry.gid),
            target: entry.target.as_ref().map(|t| shown_path(t)),
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct Restore {
    /// Absolute paths of files or folders; everything unless given.
    paths: Vec<PathBuf>,
    /// The directory that they are put into. Chosen paths arrive under their own name, everything with its folders.
    #[arg(long, value_name = "DIR")]
    to: PathBuf,
    /// Which point: 'latest', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    /// Replaces existing files; otherwise they stay as they are, and are listed.
    #[arg(long)]
    replace: bool,
    /// Brings back device nodes, set-user-id and set-group-id bits and capabilities also when root restores to another place than /.
    #[arg(long, conflicts_with = "no_special")]
    special: bool,
    /// Leaves those out: the default for root, except to /.
    #[arg(long)]
    no_special: bool,
    /// Shows no progress.
    #[arg(long)]
    quiet: bool,
    #[command(flatten)]
    from: ReadFrom,
}

impl Restore {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let browser = self.from.browser(home, ui)?;
        let point = browser.point(&self.at, PointKind::Files)?;
        let created = Timestamp::from_millisecond(point.head.created).map(moment).unwrap_or_default();
        ui.remark(&format!("Restoring from point {} ({created}) to {}", point.head.sequence, self.to.display()));
        let rights = match (self.special, self.no_special) {
            (true, _) => Rights::Keep,
            (_, true) => Rights::LeaveOut,
            (false, false) => Rights::default(),
        };
        let wish = Wish { paths: self.paths, into: self.to, replace: self.replace, rights };
        let meter = stoppable_meter();
        let report = {
            let _shown = ui.progress(&meter, self.quiet);
            restore(&browser, &point, &wish, &meter)?
        };
        say_restore(&report, &wish, ui);
        let any = |kind: Trouble| report.troubles.iter().any(|t| t.trouble == kind);
        Ok(if any(Trouble::Damaged) {
            Code::Damage
        } else if any(Trouble::NoRoom) {
            Code::NoRoom
        } else if report.troubles.is_empty() {
            Code::Done
        } else {
            Code::WithExceptions
        })
    }
}

fn say_restore(report: &RestoreReport, wish: &Wish, ui: &Ui) {
    let troubles: Vec<_> = report
        .troubles
        .iter()
        .map(|t| json!({ "path": t.path.display().to_string(), "trouble": format!("{:?}", t.trouble).to_lowercase(), "explanation": t.explanation }))
        .collect();
    let value = json!({
        "progress": report.progress, "troubles": troubles, "seconds": report.took.as_secs_f64(),
        "special_left_out": report.rights_left_out, "on_record": report.not_on_record.is_none(),
    });
    ui.show(&value, |_| {
        let p = &report.progress;
        let (files, bytes) = (many(p.files_done, "file"), show(p.bytes_done));
        ui.line(&format!(
            "{files}, {bytes}, in {}{}, to {}.",
            took(report.took),
            at_rate(p.bytes_done, report.took),
            wish.into.display()
        ));
        if let Some(why) = &report.not_on_record {
            ui.line(&format!("The service could not put this restore on record: {why}. Tell the administrator."));
        }
        if report.rights_left_out > 0 {
            ui.line(&format!(
                "Left out: {} (device nodes, set-user-id and set-group-id bits, capabilities). To bring them back: --special --replace",
                many(report.rights_left_out, "special right")
            ));
        }
        if report.owners_left {
            ui.line("Owners are this user, since only root can set others.");
        }
        if !report.troubles.is_empty() {
            ui.line(&format!("{} could not be restored exactly:", many(report.troubles.len() as u64, "item")));
            for trouble in &report.troubles {
                ui.line(&format!("  {}  {}", shown_path(trouble.path.as_os_str().as_bytes()), trouble.explanation));
            }
        }
    });
}

#[derive(Debug, Args)]
pub(crate) struct Exceptions {
    /// Which point: 'latest', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    #[command(flatten)]
    from: ReadFrom,
}

impl Exceptions {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let browser = self.from.browser(home, ui)?;
        let point = browser.any_point(&self.at)?;
        let exceptions = browser.exceptions(&point)?;
        let value: Vec<_> = exceptions
            .iter()
            .map(|e| json!({ "cause": format!("{:?}", e.cause), "path": shown_path(&e.path), "explanation": e.explanation }))
            .collect();
        ui.show(&value, |_| {
            let row = |e: &jetfrost_client::browse::Exception| vec![shown_path(&e.path), e.explanation.clone()];
            let none = format!("Point {} holds everything as it was.", point.head.sequence);
            ui.table(&["path", "what happened"], exceptions.iter().map(row).collect(), &[], &none);
        });
        Ok(Code::Done)
    }
}

#[derive(Debug, Args)]
pub(crate) struct Check {
    /// Which point: 'latest', a number, or a time.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    /// How much of the files' content is read, in percent, drawn at random; folders are always read.
    #[arg(long, default_value_t = 100, value_name = "PERCENT", value_parser = clap::value_parser!(u8).range(1..=100))]
    share: u8,
    /// Shows no progress.
    #[arg(long)]
    quiet: bool,
    #[command(flatten)]
    from: ReadFrom,
}

impl Check {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let browser = self.from.browser(home, ui)?;
        let point = browser.any_point(&self.at)?;
        let meter = stoppable_meter();
        let began = std::time::Instant::now();
        let shown = ui.progress(&meter, self.quiet);
        let report = check(&browser, &point, self.share, &meter);
        drop(shown);
        let report = report?;
        let damaged: Vec<String> = report.damaged.iter().map(|path| String::from_utf8_lossy(path).into_owned()).collect();
        let value = json!({
            "point": point.head.sequence, "entries": report.entries, "chunks": report.chunks, "bytes": report.bytes,
            "chunks_left_out": report.left_out, "damaged": damaged,
        });
        ui.show(&value, |_| {
            let took = began.elapsed();
            let rate = at_rate(report.bytes, took);
            let read = format!("{} in {}", show(report.bytes), many(report.chunks, "chunk"));
            ui.line(&format!("Point {}: {} read{rate}, {} names.", point.head.sequence, read, count(report.entries)));
            if report.left_out > 0 {
                ui.line(&format!("{} were left out by the share.", many(report.left_out, "chunk")));
            }
            if damaged.is_empty() {
                ui.line("All of it is what was backed up.");
                return;
            }
            ui.line("Damaged:");
            damaged.iter().for_each(|path| ui.line(&format!("  {path}")));
            ui.line("Everything else in this point comes back. If these are still here as they were, the next backup heals it");
            ui.line("after the administrator has had the image store scrubbed.");
        });
        Ok(if damaged.is_empty() { Code::Done } else { Code::Damage })
    }
}

pub(crate) fn history(home: &Home, ui: &Ui) -> Done {
    let (membership, api) = home.device_api()?;
    let runs: Vec<Run> = api.list(&format!("/workstations/{}/runs", membership.workstation))?;
    let restores: Vec<RestoreRecord> = api.list(&format!("/workstations/{}/restores", membership.workstation))?;
    let value = json!({ "runs": runs, "restores": restores });
    ui.show(&value, |_| say_history(&runs, &restores, ui));
    Ok(Code::Done)
}

pub(super) fn say_history(runs: &[Run], restores: &[RestoreRecord], ui: &Ui) {
    let lasted = |started: Timestamp, ended: Option<Timestamp>| {
        ended.map_or_else(|| "–".into(), |ended| took(ended.duration_since(started).unsigned_abs()))
    };
    let mut lines: Vec<(Timestamp, Vec<String>)> = Vec::new();
    for run in runs {
        let what = run.point.map_or_else(|| "run".into(), |point| format!("run, point {point}"));
        let p = &run.progress;
        let note = run.reason.clone().unwrap_or_default();
        let cells = vec![
            what,
            words::outcome(run.outcome),
            count(p.files_done),
            show(p.bytes_done),
            show(p.sent),
            lasted(run.started, run.ended),
            note,
        ];
        lines.push((run.started, cells));
    }
    for restore in restores {
        let p = &restore.progress;
        let what = match restore.purpose {
            Purpose::BringBack => format!("restore from {}", restore.point),
            Purpose::Drill => format!("drill of {}", restore.point),
        };
        let note = restore.reason.clone().unwrap_or_else(|| format!("by {}", restore.by));
        let cells = vec![
            what,
            words::outcome(restore.outcome),
            count(p.files_done),
            show(p.bytes_done),
            show(p.sent),
            lasted(restore.started, restore.ended),
            note,
        ];
        lines.push((restore.started, cells));
    }
    lines.sort_by_key(|(at, _)| std::cmp::Reverse(*at));
    let rows = lines.into_iter().map(|(at, cells)| [vec![moment(at)], cells].concat()).collect();
    let heads = ["began", "what", "outcome", "files", "size", "moved", "took", ""];
    ui.table(&heads, rows, &[3, 4, 5, 6], "Nothing has happened yet. Next: jetfrost backup");
}

/// How the latest drill of an image store went.
pub(super) fn said_of_drill(store: &StoreSummary, now: Timestamp) -> String {
    match (store.drill_failed, store.drilled) {
        (Some(failed), _) => format!("did not bring everything back, {}. Next: jetfrost drill", ago(failed, now)),
        (None, Some(at)) => {
            format!("brought point {} back as it was, {}", store.drilled_point.unwrap_or_default(), ago(at, now))
        }
        (None, None) => "none yet. Next, at the workstation: jetfrost drill".into(),
    }
}

pub(crate) fn standing(home: &Home, ui: &Ui) -> Done {
    let (membership, api) = home.device_api()?;
    let workstation: Workstation = api.get(&format!("/workstations/{}", membership.workstation))?;
    ui.show(&workstation, |w| {
        let now = Timestamp::now();
        ui.line(&format!("workstation  {} of {} ({})", w.name, w.person, w.login));
        ui.line(&format!(
            "service      {} (identity {}…)",
            membership.address,
            membership.fingerprint.get(..16).unwrap_or_default()
        ));
        ui.line(&format!("destination  {}, {}", w.store.destination_name, words::destination(w.store.destination_state)));
        ui.line(&format!("state        {}", words::workstation(w.state)));
        match &w.latest_point {
            Some(point) => {
                let made = format!("{} ({})", ago(point.committed, now), moment(point.committed));
                ui.line(&format!(
                    "last point   {}, {made}, {}, {}",
                    point.sequence,
                    many(point.files, words::noun(point.kind)),
                    show(point.bytes)
                ));
            }
            None => ui.line("last point   none yet. Next: jetfrost backup"),
        }
        if let Some(run) = &w.latest_run {
            ui.line(&format!("last run     {}, {}", words::outcome(run.outcome), ago(run.started, now)));
        }
        ui.line(&format!("last drill   {}", said_of_drill(&w.store, now)));
        ui.line(&format!(
            "image store  {}, {}, {}",
            w.store.used.map_or_else(|| "size unknown".into(), show),
            many(w.store.points, "point"),
            if w.store.encrypted {
                "encrypted on this workstation"
            } else {
                "NOT encrypted: whoever gets at its disk can read it"
            }
        ));
    });
    Ok(Code::Done)
}
