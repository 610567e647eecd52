//! Destinations and the volumes that they may be on.

use clap::{Args, Subcommand};
use jetfrost_client::api::Api;
use jetfrost_client::state_dir::StateDir;
use jetfrost_types::Limit;
use jetfrost_wire::access::Grants;
use jetfrost_wire::calls;
use jetfrost_wire::destination::{
    Adopt, Adopted, AskErasure, CheckDirectory, ConfirmErasure, Destination as DestinationRecord, DestinationChange as Change,
    DestinationState, EncryptionPolicy, ErasurePreview, Fitness, NewDestination, Verdict, Volume,
};
use jetfrost_wire::diagnosis::{DiagnoseFor, Diagnosis};
use jetfrost_wire::retention::{AtLimit, Retention};
use jetfrost_wire::size::{parse, show};
use jetfrost_wire::sizing::{AskCapacity, CapacityAdvice};

use crate::commands::diagnosis::say_diagnosis;
use crate::commands::limit::{AtLimitName, parse_limit};
use crate::commands::{find, labels, limit};
use crate::failure::{Code, Failure};
use crate::ui::{Ui, many, moment};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Add {
    /// Its name.
    name: String,
    /// An absolute path on the server.
    directory: String,
    /// What it is for.
    #[arg(long)]
    description: Option<String>,
    /// Capacity, such as 2TB [default: no limit].
    #[arg(long, value_parser = parse)]
    capacity: Option<u64>,
    /// Reserve: what the volume must keep free [default: a twentieth of the volume].
    #[arg(long, value_parser = parse)]
    reserve: Option<u64>,
    /// Limit of new image stores [default: none].
    #[arg(long, value_name = "SIZE", value_parser = parse)]
    default_limit: Option<u64>,
    /// Retention: 'everything', or for example '72 hours, 30 days, 12 weeks, 24 months, at least 3'.
    #[arg(long, value_name = "WHAT")]
    retention: Option<Retention>,
    /// Protected time in days after a point's commit: no rule, limit or workstation removes a point within it [default: 30].
    #[arg(long, value_name = "DAYS")]
    protected_days: Option<u32>,
    /// Whether image stores on it must be encrypted: required or optional.
    #[arg(long, value_name = "POLICY", value_parser = encryption, default_value = "required")]
    encryption: EncryptionPolicy,
    /// Grant access to all accounts. Without it nobody has access until 'jetfrost access grant'.
    #[arg(long)]
    for_everybody: bool,
    /// Grant access to a group; may be repeated.
    #[arg(long, value_name = "GROUP")]
    for_group: Vec<String>,
}

#[derive(Debug, Args)]
#[group(required = true, multiple = true)]
pub(crate) struct DestinationChange {
    /// Another name.
    #[arg(long, value_name = "NAME")]
    rename: Option<String>,
    /// What it is for.
    #[arg(long)]
    description: Option<String>,
    /// The destination's new directory, which already holds its marker.
    #[arg(long)]
    directory: Option<String>,
    /// Capacity, such as 2TB, or 'none'.
    #[arg(long, value_name = "SIZE", value_parser = parse_limit)]
    capacity: Option<Limit>,
    /// Reserve: what the volume must keep free.
    #[arg(long, value_name = "SIZE", value_parser = parse)]
    reserve: Option<u64>,
    /// Limit of new image stores, or 'none'.
    #[arg(long, value_name = "SIZE", value_parser = parse_limit)]
    default_limit: Option<Limit>,
    /// Retention: 'everything', or for example '72 hours, 30 days, 12 weeks, 24 months, at least 3'.
    #[arg(long, value_name = "WHAT")]
    retention: Option<Retention>,
    /// What happens at a limit: backups stop, or the workstation's oldest points expire once their protected time is over.
    #[arg(long)]
    at_limit: Option<AtLimitName>,
    /// Whether new image stores must be encrypted: required or optional.
    #[arg(long, value_name = "POLICY", value_parser = encryption)]
    encryption: Option<EncryptionPolicy>,
    /// Protected time in days after a point's commit: no point expires within it. A shorter time applies to new points only.
    #[arg(long, value_name = "DAYS")]
    protected_days: Option<u32>,
    /// Waiting time in days: what a person removes can be undeleted until then.
    #[arg(long, value_name = "DAYS")]
    waiting_days: Option<u32>,
    /// Days between scrubs of an image store; 0 to scrub only on request.
    #[arg(long, value_name = "DAYS")]
    scrub_days: Option<u32>,
}

fn encryption(text: &str) -> Result<EncryptionPolicy, String> {
    EncryptionPolicy::from_word(text).ok_or_else(|| "it is 'required' or 'optional'".into())
}

impl DestinationChange {
    fn into_change(self) -> Change {
        Change {
            name: self.rename,
            description: self.description,
            directory: self.directory,
            capacity: self.capacity,
            reserve: self.reserve,
            default_limit: self.default_limit,
            retention: self.retention,
            at_limit: self.at_limit.map(AtLimit::from),
            encryption: self.encryption,
            protected_days: self.protected_days,
            waiting_days: self.waiting_days,
            scrub_days: self.scrub_days,
            grants: None,
        }
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum Destination {
    /// Lists destinations.
    List,
    /// Lists the server's volumes, with a verdict each.
    Volumes,
    /// Checks whether a directory on the server can be a destination. Writes a test file and removes it.
    Check {
        /// An absolute path on the server.
        directory: String,
    },
    /// Finds out why backups of an account would fail. Tries every step on the server, up to the first that fails.
    Diagnose {
        /// Its name.
        name: String,
        /// Login name of the account.
        #[arg(long)]
        login: String,
    },
    /// Adds a destination.
    Add(Add),
    /// Shows a destination.
    Show {
        /// Its name.
        name: String,
    },
    /// Changes a destination.
    Set {
        /// Its name.
        name: String,
        #[command(flatten)]
        change: DestinationChange,
    },
    /// Withdraws a destination: it takes no new backups. Existing backups stay and can be restored.
    Withdraw {
        /// Its name.
        name: String,
    },
    /// Reinstates a withdrawn destination: it takes new backups again.
    Reinstate {
        /// Its name.
        name: String,
    },
    /// Erases a withdrawn destination and everything on it, after two confirmations and the waiting time.
    Erase {
        /// Its name.
        name: String,
        /// The name again: the first confirmation. It prints what the second one needs.
        #[arg(long, value_name = "NAME", conflicts_with_all = ["confirmation", "call_off"])]
        confirm: Option<String>,
        /// The words that the first confirmation printed.
        #[arg(long, value_name = "WORD", conflicts_with = "call_off")]
        confirmation: Option<String>,
        /// Calls it off.
        #[arg(long)]
        call_off: bool,
    },
    /// Shows what a capacity would mean; changes nothing.
    Advise {
        /// Its name.
        name: String,
        /// The capacity to consider, such as 2TB, or 'none' [default: the current one].
        #[arg(long, value_name = "SIZE", value_parser = parse_limit)]
        capacity: Option<Limit>,
        /// The reserve to consider [default: the current one].
        #[arg(long, value_name = "SIZE", value_parser = parse)]
        reserve: Option<u64>,
        /// The limit of new stores to consider, or 'none' [default: the current one].
        #[arg(long, value_name = "SIZE", value_parser = parse_limit)]
        default_limit: Option<Limit>,
    },
    /// Adopts a destination of another installation, from its disk alone.
    Adopt {
        /// Directory on the server.
        directory: String,
        /// Another name for it.
        #[arg(long)]
        name: Option<String>,
        /// Only show what would be taken over.
        #[arg(long)]
        preview: bool,
    },
}

impl Destination {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        let id = |name: &str| Ok::<_, Failure>(destination_named(&api, name)?.id);
        match self {
            Self::List => {
                let destinations: Vec<DestinationRecord> = api.all(&calls::destinations())?;
                ui.show(&destinations, |destinations| say_destinations(destinations, ui));
            }
            Self::Volumes => {
                let volumes: Vec<Volume> = api.all(&calls::volumes())?;
                ui.show(&volumes, |volumes| say_volumes(volumes, ui));
            }
            Self::Check { directory } => {
                let verdict: Verdict = api.call_with(&calls::check_directory(), &CheckDirectory { directory })?;
                ui.show(&verdict, |verdict| say_verdict(verdict, ui));
                return Ok(if verdict.fitness == Fitness::Unfit { Code::Failed } else { Code::Done });
            }
            Self::Diagnose { name, login } => {
                let diagnosis: Diagnosis = api.call_with(&calls::diagnose(id(&name)?), &DiagnoseFor { login })?;
                return Ok(say_diagnosis(&diagnosis, ui));
            }
            Self::Add(add) => add.run(&api, ui)?,
            Self::Show { name } => ui.show(&destination_named(&api, &name)?, |d| say_destination(d, ui)),
            Self::Set { name, change } => {
                let set: DestinationRecord = api.call_with(&calls::change_destination(id(&name)?), &change.into_change())?;
                ui.show(&set, |d| {
                    say_destination(d, ui);
                    if d.retention != Retention::Everything {
                        ui.line("See what would expire:  jetfrost thinning preview WORKSTATION");
                    }
                });
            }
            Self::Withdraw { name } => {
                let d: DestinationRecord = api.call(&calls::withdraw(id(&name)?))?;
                ui.show(&d, |d| {
                    ui.line(&format!("Destination '{}' takes no new backups.", d.name));
                    ui.line(&format!("{} stay there and can be restored.", many(d.stores, "image store")));
                    ui.line(&format!("To undo this:  jetfrost destination reinstate '{}'", d.name));
                });
            }
            Self::Reinstate { name } => {
                let d: DestinationRecord = api.call(&calls::reinstate_destination(id(&name)?))?;
                ui.show(&d, |d| ui.line(&format!("Destination '{}' takes backups again.", d.name)));
            }
            Self::Erase { name, confirm, confirmation, call_off } => {
                return erase(&api, &id(&name)?, &name, confirm, confirmation, call_off, ui);
            }
            Self::Advise { name, capacity, reserve, default_limit } => {
                let known = destination_named(&api, &name)?;
                let ask = AskCapacity {
                    destination: Some(known.id),
                    capacity: capacity.map_or(known.capacity, Limit::bytes),
                    reserve,
                    default_limit: default_limit.map_or(known.default_limit, Limit::bytes),
                    directory: None,
                };
                let advice: CapacityAdvice = api.call_with(&calls::advise_capacity(), &ask)?;
                ui.show(&advice, |advice| advice.says.iter().for_each(|line| ui.line(line)));
            }
            Self::Adopt { directory, name, preview } => {
                let adopted: Adopted = api.call_with(&calls::adopt(), &Adopt { directory, name, preview })?;
                ui.show(&adopted, |adopted| say_adopted(adopted, ui));
            }
        }
        Ok(Code::Done)
    }
}

impl Add {
    fn run(self, api: &Api, ui: &Ui) -> Result<(), Failure> {
        let new = NewDestination {
            name: self.name,
            description: self.description,
            directory: self.directory,
            capacity: self.capacity,
            reserve: self.reserve,
            default_limit: self.default_limit,
            retention: self.retention,
            at_limit: None,
            protected_days: self.protected_days,
            encryption: self.encryption,
            grants: Grants { everybody: self.for_everybody, groups: self.for_group, logins: Vec::new() },
        };
        // What there is to mind about a place is said before it is used.
        let verdict: Verdict = api.call_with(&calls::check_directory(), &CheckDirectory { directory: new.directory.clone() })?;
        if verdict.fitness == Fitness::WithCare {
            verdict.reasons.iter().for_each(|reason| ui.remark(&format!("Mind: {reason}.")));
        }
        if let Some(capacity) = new.capacity.filter(|capacity| *capacity > verdict.size && verdict.size > 0) {
            ui.remark(&format!("Mind: the capacity of {} is more than its volume has, {}.", show(capacity), show(verdict.size)));
        }
        let destination: DestinationRecord = api.call_with(&calls::add_destination(), &new)?;
        ui.show(&destination, |d| {
            if d.room == Some(0) {
                ui.line(&format!("Destination '{}' was added at {}. It has no room for backups yet:", d.name, d.directory));
                ui.line("its volume has no more free than the reserve.");
                ui.line(&format!("Next: free space there, or jetfrost destination set '{}' --reserve SIZE", d.name));
            } else {
                ui.line(&format!("Destination '{}' is ready at {}: room for {}.", d.name, d.directory, size(d.room)));
            }
            ui.line(&format!("Capacity: {}. Reserve: {}. Retention: {}.", limit(d.capacity), show(d.reserve), d.retention));
            if d.grants.is_nobody() {
                ui.line("Nobody has access yet.");
                ui.line(&format!("Next: jetfrost access grant '{}' --everybody  (or --group GROUP, --login LOGIN)", d.name));
            } else {
                ui.line(&format!("Access: {}.", labels::grants(&d.grants)));
            }
        });
        Ok(())
    }
}

/// A destination by its name.
pub(crate) fn destination_named(api: &Api, name: &str) -> Result<DestinationRecord, Failure> {
    find(api.all(&calls::destinations())?, name, |d: &DestinationRecord| &d.name, "destination", "jetfrost destination list")
}

fn erase(
    api: &Api,
    id: &jetfrost_wire::DestinationId,
    name: &str,
    confirm: Option<String>,
    confirmation: Option<String>,
    call_off: bool,
    ui: &Ui,
) -> Done {
    if call_off {
        let d: DestinationRecord = api.call(&calls::call_erasure_off(id))?;
        ui.show(&d, |d| ui.line(&format!("Nothing is erased. Destination '{}' stays withdrawn.", d.name)));
    } else if let Some(confirmation) = confirmation {
        let d: DestinationRecord = api.call_with(&calls::confirm_erasure(id), &ConfirmErasure { confirmation })?;
        ui.show(&d, |d| {
            let ends = d.erasure.as_ref().and_then(|erasure| erasure.ends).map_or_else(String::new, moment);
            ui.line(&format!("All of '{}' goes on {ends}.", d.name));
            ui.line(&format!("Until then:  jetfrost destination erase '{}' --call-off", d.name));
        });
    } else if let Some(name) = confirm {
        let preview: ErasurePreview = api.call_with(&calls::ask_erasure(id), &AskErasure { name: name.clone() })?;
        ui.show(&preview, |preview| {
            say_erasure(preview, ui);
            if let Some(word) = &preview.confirmation {
                ui.line(&format!("Nothing goes yet. Second step:  jetfrost destination erase '{name}' --confirmation {word}"));
            }
        });
    } else {
        let preview: ErasurePreview = api.call(&calls::preview_erasure(id))?;
        ui.show(&preview, |preview| {
            say_erasure(preview, ui);
            ui.line(&format!("Nothing goes yet. First step:  jetfrost destination erase '{name}' --confirm '{name}'"));
        });
    }
    Ok(Code::Done)
}

fn say_erasure(preview: &ErasurePreview, ui: &Ui) {
    let row = |s: &jetfrost_wire::destination::ErasedStore| {
        vec![
            s.workstation.clone(),
            s.person.clone(),
            s.points.to_string(),
            s.latest.map_or_else(|| "–".into(), moment),
            size(s.bytes),
        ]
    };
    let heads = ["workstation", "person", "points", "latest", "size"];
    let rows = preview.stores.iter().map(row).collect();
    ui.table(&heads, rows, &[2, 4], "There is no image store on it.");
    let span = match (preview.earliest, preview.latest) {
        (Some(from), Some(to)) => format!(", made from {} to {}", moment(from), moment(to)),
        _ => String::new(),
    };
    let (points, days) = (many(preview.points, "point"), many(preview.waiting_days.into(), "day"));
    ui.line("");
    ui.line(&format!(
        "{points} in {}{span} would be removed for good, {days} after the second confirmation.",
        show(preview.bytes)
    ));
    preview.in_the_way.iter().for_each(|why| ui.line(&format!("In the way: {why}.")));
}

fn say_adopted(adopted: &Adopted, ui: &Ui) {
    let row = |s: &jetfrost_wire::destination::AdoptedStore| {
        vec![
            s.workstation.clone(),
            s.login.clone(),
            if s.new_account { "new" } else { "known" }.into(),
            s.points.to_string(),
            s.latest.map_or_else(|| "–".into(), moment),
            show(s.bytes),
        ]
    };
    let heads = ["workstation", "account", "", "points", "latest", "size"];
    ui.table(&heads, adopted.stores.iter().map(row).collect(), &[3, 5], "There is no image store on it.");
    adopted.left_out.iter().for_each(|what| ui.line(&format!("Not taken over: {what}.")));
    ui.line("");
    match &adopted.destination {
        None => {
            ui.line(
                "Nothing was changed. Without --preview this is taken over, and the other installation writes there no more.",
            );
        }
        Some(d) => {
            ui.line(&format!("Destination '{}' was adopted. Its retention is everything until you change it.", d.name));
            ui.line("Next, for each machine:  jetfrost enrolment add ACCOUNT --claims WORKSTATION");
            ui.line(&format!("For new backups there:  jetfrost access grant '{}' --everybody", d.name));
        }
    }
}

fn say_verdict(v: &Verdict, ui: &Ui) {
    ui.line(match v.fitness {
        Fitness::Fit => "It would do.",
        Fitness::WithCare => "It would do, with care.",
        Fitness::Unfit => "This directory cannot be a destination.",
    });
    v.reasons.iter().for_each(|reason| ui.line(&format!("  {reason}")));
    if v.size > 0 {
        ui.line(&format!("  volume at {} ({}): {} free of {}", v.mounted_at, v.file_system, show(v.free), show(v.size)));
    }
}

fn say_volumes(volumes: &[Volume], ui: &Ui) {
    let row = |v: &Volume| {
        let holds: Vec<String> =
            v.holds.iter().map(|h| format!("'{}'{}", h.name, if h.ours { "" } else { " (another's)" })).collect();
        let verdict = match v.fitness {
            Fitness::Fit => "fit",
            Fitness::WithCare => "with care",
            Fitness::Unfit => "unfit",
        };
        vec![
            v.mounted_at.clone(),
            v.file_system.clone(),
            v.device.clone(),
            show(v.free),
            show(v.size),
            if v.removable { "yes" } else { "no" }.into(),
            holds.join(", "),
            verdict.into(),
        ]
    };
    let heads = ["volume", "file system", "device", "free", "size", "removable", "holds", "verdict"];
    ui.table(&heads, volumes.iter().map(row).collect(), &[3, 4], "There is no volume.");
    let minded: Vec<&Volume> = volumes.iter().filter(|v| !v.reasons.is_empty()).collect();
    if !minded.is_empty() {
        ui.line("");
    }
    for volume in minded {
        ui.line(&format!("{}: {}", volume.mounted_at, volume.reasons.join("; ")));
    }
}

fn say_destinations(destinations: &[DestinationRecord], ui: &Ui) {
    let row = |d: &DestinationRecord| {
        vec![
            d.name.clone(),
            labels::destination(d.state).to_owned(),
            size(d.used),
            limit(d.capacity),
            show(d.reserve),
            size(d.room),
            d.stores.to_string(),
            labels::grants(&d.grants),
            d.directory.clone(),
        ]
    };
    let heads = ["destination", "state", "used", "capacity", "reserve", "room", "stores", "access", "directory"];
    let empty = "There is no destination yet. Next: jetfrost destination volumes, then jetfrost destination add NAME DIRECTORY";
    ui.table(&heads, destinations.iter().map(row).collect(), &[2, 3, 4, 5, 6], empty);
    for d in destinations.iter().filter(|d| !d.why.is_empty()) {
        let since = d.since.map_or_else(String::new, |since| format!(" since {}", moment(since)));
        ui.line(&format!("'{}' is {}{since}: {}.", d.name, labels::destination(d.state), d.why));
    }
}

fn say_destination(d: &DestinationRecord, ui: &Ui) {
    say_destinations(std::slice::from_ref(d), ui);
    ui.line("");
    if !d.description.is_empty() {
        ui.line(&d.description);
    }
    ui.line(&format!("Retention: {}. At a limit: {}.", d.retention, labels::at_limit(d.at_limit)));
    ui.line(match d.encryption {
        EncryptionPolicy::Required => "Image stores on it must be encrypted.",
        EncryptionPolicy::Optional => "Image stores on it may go without encryption, where the enrolment code says so.",
    });
    ui.line(&match d.default_limit {
        Some(bytes) => format!("New image stores get a limit of {}.", show(bytes)),
        None => "New image stores get no limit.".into(),
    });
    ui.line(&match d.protected_days {
        0 => "There is no protected time: a rule or a limit may take a point at any age.".into(),
        days => format!("Protected time: no point expires in its first {}.", many(days.into(), "day")),
    });
    ui.line(&format!("What is removed can be undeleted for {}.", many(d.waiting_days.into(), "day")));
    ui.line(&match d.scrub_days {
        0 => "Image stores are scrubbed only when asked for.".into(),
        days => format!("Every image store is scrubbed once in {}.", many(days.into(), "day")),
    });
    match (d.records_backed_up, &d.records_backup_trouble) {
        (Some(at), None) => ui.line(&format!("The records were last backed up onto it on {}.", moment(at))),
        (_, Some(why)) => ui.line(&format!("The records are not backed up onto it: {why}.")),
        (None, None) => {}
    }
    if d.state == DestinationState::Erasing {
        ui.line(&format!("Call it off with:  jetfrost destination erase '{}' --call-off", d.name));
    }
}

fn size(bytes: Option<u64>) -> String {
    bytes.map_or_else(|| "–".into(), show)
}
