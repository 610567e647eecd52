//! `jetfrost schedule`: when workstations are backed up.

use std::fmt::Display;

use clap::{Args, Subcommand, ValueEnum};
use jetfrost_client::api::Api;
use jetfrost_client::state_dir::StateDir;
use jetfrost_types::{DestinationId, GroupId, WorkstationId};
use jetfrost_wire::calls;
use jetfrost_wire::schedule::{
    AppliedSchedule, DrillDays, NotATimeOfDay, OwnSchedule, ProofDays, Rate, RateLimit, Rhythm, ScheduleOrigin, ScheduleSettings,
    SetBy, Template, TimeOfDay, said, said_of_battery, said_of_drills, said_of_exclusions, said_of_hours, said_of_metered,
    said_of_priority, said_of_proofs, said_of_rate, said_of_rhythm,
};
use jetfrost_wire::size;
use jetfrost_wire::workstation::Workstation;
use serde_json::json;

use crate::commands::YesOrNo;
use crate::commands::administration::destination::destination_named;
use crate::commands::administration::group::group_named;
use crate::commands::administration::store::workstation_named;
use crate::commands::look_and_change;
use crate::commands::this_workstation::selection::template;
use crate::failure::{Code, Failure};
use crate::ui::Ui;

type Done = Result<Code, Failure>;

#[derive(Debug, Subcommand)]
pub(crate) enum Schedule {
    /// Shows what is set for workstations, a group or a destination; of a workstation also what applies to it and who set that.
    Show {
        #[command(flatten)]
        whose: Whose,
    },
    /// Sets when backups are made, for one or more workstations, a group or a destination.
    ///
    /// A workstation's own schedule goes before its groups', and those before its destination's.
    Set {
        #[command(flatten)]
        whose: Whose,
        #[command(flatten)]
        change: Change,
    },
}

#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
pub(crate) struct Whose {
    /// Name of a workstation; may be repeated.
    #[arg(long, value_name = "NAME")]
    workstation: Vec<String>,
    /// Name of a group: for the workstations of its accounts.
    #[arg(long, value_name = "NAME")]
    group: Option<String>,
    /// Name of a destination: for the workstations that are backed up there.
    #[arg(long, value_name = "NAME")]
    destination: Option<String>,
}

#[derive(Debug, Args)]
#[group(required = true, multiple = true)]
pub(crate) struct Change {
    /// How often, such as 30m, 4h or 24h: 15 minutes to 31 days.
    #[arg(long, value_name = "DURATION", value_parser = parse_rhythm)]
    every: Option<Rhythm>,
    /// When backups may start by the workstation's clock, such as 22:00-06:00, or 'always'.
    #[arg(long, value_name = "HOURS", value_parser = parse_hours)]
    hours: Option<TimeOfDay>,
    /// Whether to make backups on battery.
    #[arg(long, value_name = "YES|NO")]
    on_battery: Option<YesOrNo>,
    /// Whether to make backups over a connection that is paid by the byte, such as a phone's.
    #[arg(long, value_name = "YES|NO")]
    on_metered: Option<YesOrNo>,
    /// Whether backups give way to other work on the machine.
    #[arg(long, value_name = "YES|NO")]
    low_priority: Option<YesOrNo>,
    /// How fast to send at most, in bytes per second such as 5MB, or 'none'.
    #[arg(long, value_name = "SIZE", value_parser = parse_rate)]
    rate: Option<RateOrNone>,
    /// When that rate limit applies, such as 08:00-18:00 [default: always].
    #[arg(long, value_name = "HOURS", value_parser = parse_hours, requires = "rate")]
    rate_hours: Option<TimeOfDay>,
    /// How often to rehearse a restore, in days: 1 to 365.
    #[arg(long, value_name = "DAYS", value_parser = parse_days::<DrillDays>)]
    drill_every: Option<DrillDays>,
    /// How often a person proves that the passphrase or recovery key still works, in days: 7 to 730.
    #[arg(long, value_name = "DAYS", value_parser = parse_days::<ProofDays>)]
    proof_every: Option<ProofDays>,
    /// What backups leave out beside what each workstation excludes: a template of 'jetfrost selection templates', or 'none'; may be
    /// repeated. What a person includes by name is backed up all the same.
    #[arg(long, value_name = "TEMPLATE", value_parser = parse_template)]
    exclude: Vec<TemplateOrNone>,
    /// What to no longer set here; may be repeated.
    #[arg(long, value_name = "WHAT")]
    unset: Vec<Part>,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum Part {
    Every,
    Hours,
    OnBattery,
    OnMetered,
    LowPriority,
    Rate,
    DrillEvery,
    ProofEvery,
    Exclude,
}

#[derive(Debug, Clone, Copy)]
enum TemplateOrNone {
    None,
    Template(Template),
}

fn parse_template(text: &str) -> Result<TemplateOrNone, String> {
    if text == "none" { Ok(TemplateOrNone::None) } else { template(text).map(TemplateOrNone::Template) }
}

#[derive(Debug, Clone, Copy)]
enum RateOrNone {
    None,
    Rate(Rate),
}

fn parse_rhythm(text: &str) -> Result<Rhythm, String> {
    let wrong = || format!("'{text}' is not a duration: write for example 30m, 4h or 24h");
    let duration: jiff::SignedDuration = text.parse().map_err(|_| wrong())?;
    let seconds = u32::try_from(duration.as_secs()).map_err(|_| wrong())?;
    Rhythm::try_from(seconds).map_err(|e| e.to_string())
}

fn parse_hours(text: &str) -> Result<TimeOfDay, NotATimeOfDay> {
    text.parse()
}

fn parse_rate(text: &str) -> Result<RateOrNone, String> {
    if text == "none" {
        return Ok(RateOrNone::None);
    }
    let bytes = size::parse(text).map_err(|e| e.to_string())?;
    Rate::try_from(bytes).map(RateOrNone::Rate).map_err(|e| e.to_string())
}

/// A number of days, within the bounds of what they are for.
fn parse_days<T: TryFrom<u16, Error: Display>>(text: &str) -> Result<T, String> {
    let days: u16 = text.parse().map_err(|_| format!("'{text}' is not a number of days"))?;
    T::try_from(days).map_err(|e| e.to_string())
}

impl Change {
    fn of(&self, mut settings: ScheduleSettings) -> ScheduleSettings {
        for part in &self.unset {
            match part {
                Part::Every => settings.rhythm_seconds = None,
                Part::Hours => settings.hours = None,
                Part::OnBattery => settings.on_battery = None,
                Part::OnMetered => settings.on_metered = None,
                Part::LowPriority => settings.low_priority = None,
                Part::Rate => settings.rate = None,
                Part::DrillEvery => settings.drill_days = None,
                Part::ProofEvery => settings.proof_days = None,
                Part::Exclude => settings.exclude = None,
            }
        }
        let yes = |answer: YesOrNo| matches!(answer, YesOrNo::Yes);
        let rate = self.rate.map(|rate| match rate {
            RateOrNone::None => RateLimit::Unlimited,
            RateOrNone::Rate(rate) => {
                RateLimit::Limited { bytes_per_second: rate, hours: self.rate_hours.unwrap_or(TimeOfDay::ALWAYS) }
            }
        });
        let templates = self.exclude.iter().filter_map(|one| match one {
            TemplateOrNone::None => None,
            TemplateOrNone::Template(template) => Some(*template),
        });
        let exclude = (!self.exclude.is_empty()).then(|| templates.collect());
        ScheduleSettings {
            rhythm_seconds: self.every.or(settings.rhythm_seconds),
            hours: self.hours.or(settings.hours),
            on_battery: self.on_battery.map(yes).or(settings.on_battery),
            on_metered: self.on_metered.map(yes).or(settings.on_metered),
            low_priority: self.low_priority.map(yes).or(settings.low_priority),
            rate: rate.or(settings.rate),
            drill_days: self.drill_every.or(settings.drill_days),
            proof_days: self.proof_every.or(settings.proof_days),
            exclude: exclude.or(settings.exclude),
        }
    }
}

/// Whose schedule is meant, as the service knows it.
enum Subject {
    Workstation(WorkstationId),
    Group(GroupId),
    Destination(DestinationId),
}

impl Subject {
    fn own(&self, api: &Api) -> Result<OwnSchedule, Failure> {
        Ok(match self {
            Self::Workstation(id) => api.call(&calls::workstation_schedule(id))?,
            Self::Group(id) => api.call(&calls::group_schedule(id))?,
            Self::Destination(id) => api.call(&calls::destination_schedule(id))?,
        })
    }

    fn change(&self, api: &Api, change: &Change) -> Result<OwnSchedule, Failure> {
        let call = match self {
            Self::Workstation(id) => calls::set_workstation_schedule(id),
            Self::Group(id) => calls::set_group_schedule(id),
            Self::Destination(id) => calls::set_destination_schedule(id),
        };
        look_and_change(|| {
            let own = self.own(api)?;
            Ok(api.change(&call, &change.of(own.settings), &own.version)?)
        })
    }
}

impl Whose {
    /// Names, and whom they mean: all of them, before anything is changed.
    fn subjects(&self, api: &Api) -> Result<Vec<(String, Subject)>, Failure> {
        if let Some(name) = &self.group {
            return Ok(vec![(format!("group {name}"), Subject::Group(group_named(api, name)?.id))]);
        }
        if let Some(name) = &self.destination {
            return Ok(vec![(format!("destination {name}"), Subject::Destination(destination_named(api, name)?.id))]);
        }
        self.workstation.iter().map(|name| Ok((name.clone(), Subject::Workstation(workstation_named(api, name)?.id)))).collect()
    }
}

impl Schedule {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        match self {
            Self::Show { whose } => {
                for (name, subject) in whose.subjects(&api)? {
                    show(&api, &name, &subject, &subject.own(&api)?, ui)?;
                }
            }
            Self::Set { whose, change } => {
                if change.exclude.len() > 1 && change.exclude.iter().any(|one| matches!(one, TemplateOrNone::None)) {
                    return Err(Failure::here("--exclude none stands alone.", "Leave out either it or the templates."));
                }
                for (name, subject) in whose.subjects(&api)? {
                    let set = subject.change(&api, &change)?;
                    show(&api, &name, &subject, &set, ui)?;
                }
            }
        }
        Ok(Code::Done)
    }
}

fn show(api: &Api, name: &str, subject: &Subject, own: &OwnSchedule, ui: &Ui) -> Result<(), Failure> {
    let applied = match subject {
        Subject::Workstation(id) => {
            let workstation: Workstation = api.call(&calls::workstation(id))?;
            Some(workstation.schedule)
        }
        Subject::Group(_) | Subject::Destination(_) => None,
    };
    ui.show(&json!({ "name": name, "set": own, "applies": applied }), |_| {
        ui.line(&format!("Set for {name}: {}", said(&own.settings)));
        if let Some(applied) = &applied {
            say_schedule(applied, ui);
        }
    });
    Ok(())
}

/// What applies to a workstation, and who set it.
pub(crate) fn say_schedule(schedule: &AppliedSchedule, ui: &Ui) {
    let AppliedSchedule { values, set_by } = schedule;
    for (name, value, by) in [
        ("schedule", said_of_rhythm(values.rhythm_seconds), &set_by.rhythm_seconds),
        ("hours", said_of_hours(values.hours), &set_by.hours),
        ("battery", said_of_battery(values.on_battery).into(), &set_by.on_battery),
        ("metered", said_of_metered(values.on_metered).into(), &set_by.on_metered),
        ("priority", said_of_priority(values.low_priority).into(), &set_by.low_priority),
        ("rate", said_of_rate(values.rate), &set_by.rate),
        ("drills", said_of_drills(values.drill_days), &set_by.drill_days),
        ("proofs", said_of_proofs(values.proof_days), &set_by.proof_days),
        ("exclusions", said_of_exclusions(values.exclude), &set_by.exclude),
    ] {
        ui.line(&format!("{name:<12} {value} ({})", said_of_origin(by)));
    }
}

/// The same in a line: who set what, and how often backups are made in any case.
pub(crate) fn summary_of(schedule: &AppliedSchedule) -> String {
    let AppliedSchedule { values, set_by } = schedule;
    let mut by_origin: Vec<(&SetBy, Vec<String>)> = Vec::new();
    for (by, value) in [
        (&set_by.rhythm_seconds, said_of_rhythm(values.rhythm_seconds)),
        (&set_by.hours, said_of_hours(values.hours)),
        (&set_by.on_battery, said_of_battery(values.on_battery).into()),
        (&set_by.on_metered, said_of_metered(values.on_metered).into()),
        (&set_by.low_priority, said_of_priority(values.low_priority).into()),
        (&set_by.rate, said_of_rate(values.rate)),
        (&set_by.drill_days, said_of_drills(values.drill_days)),
        (&set_by.proof_days, said_of_proofs(values.proof_days)),
        (&set_by.exclude, said_of_exclusions(values.exclude)),
    ] {
        match by_origin.iter_mut().find(|(origin, _)| *origin == by) {
            Some((_, said)) => said.push(value),
            None => by_origin.push((by, vec![value])),
        }
    }
    let groups = by_origin.iter().filter_map(|(by, said)| {
        // What is usual is not told, but for the rhythm.
        let told = if **by == SetBy::Nobody {
            said.iter().filter(|said| said.starts_with("every")).cloned().collect()
        } else {
            said.clone()
        };
        (!told.is_empty()).then(|| format!("{} ({})", told.join(", "), said_of_origin(by)))
    });
    groups.collect::<Vec<_>>().join("; ")
}

/// Whoever sets any of a schedule, each once.
pub(crate) fn sources_of(schedule: &AppliedSchedule) -> String {
    let ScheduleOrigin { rhythm_seconds, hours, on_battery, on_metered, low_priority, rate, drill_days, proof_days, exclude } =
        &schedule.set_by;
    let mut named: Vec<String> = Vec::new();
    for by in [rhythm_seconds, hours, on_battery, on_metered, low_priority, rate, drill_days, proof_days, exclude] {
        let name = match by {
            SetBy::Nobody => continue,
            SetBy::Destination { name } => format!("destination {name}"),
            SetBy::Group { name } => format!("group {name}"),
            SetBy::Workstation => "itself".into(),
        };
        if !named.contains(&name) {
            named.push(name);
        }
    }
    if named.is_empty() { "default".into() } else { named.join(", ") }
}

fn said_of_origin(by: &SetBy) -> String {
    match by {
        SetBy::Nobody => "default".into(),
        SetBy::Destination { name } => format!("set for destination '{name}'"),
        SetBy::Group { name } => format!("set for group '{name}'"),
        SetBy::Workstation => "set for this workstation".into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_summary_names_whoever_set_something_and_the_rhythm() {
        let mut schedule = AppliedSchedule::default();
        assert_eq!(summary_of(&schedule), "every hour (default)");
        (schedule.values.on_battery, schedule.set_by.on_battery) = (true, SetBy::Group { name: "field".into() });
        (schedule.values.low_priority, schedule.set_by.low_priority) = (false, SetBy::Workstation);
        let said = "every hour (default); also on battery (set for group 'field'); normal priority (set for this workstation)";
        assert_eq!(summary_of(&schedule), said);
        assert_eq!(
            (sources_of(&schedule), sources_of(&AppliedSchedule::default())),
            ("group field, itself".into(), "default".into())
        );
    }

    #[test]
    fn durations_and_rates_are_read_as_people_type_them() {
        assert_eq!(parse_rhythm("4h").expect("read").seconds(), 14_400);
        assert_eq!(parse_rhythm("90m").expect("read").seconds(), 5_400);
        assert!(parse_rhythm("1m").is_err() && parse_rhythm("1000h").is_err() && parse_rhythm("often").is_err());
        assert!(matches!(parse_rate("5MB"), Ok(RateOrNone::Rate(rate)) if rate.bytes_per_second() == 5_000_000));
        assert!(matches!(parse_rate("none"), Ok(RateOrNone::None)) && parse_rate("100kB").is_err());
        assert!(parse_days::<DrillDays>("0").is_err() && parse_days::<DrillDays>("30").is_ok());
        assert!(parse_days::<ProofDays>("6").is_err() && parse_days::<ProofDays>("7").is_ok());
    }
}
