//! What a limit or a capacity would mean, from what is known of workstations and destinations.

use std::path::PathBuf;

use jetfrost_office::access::Act;
use jetfrost_office::capacity::suggested_reserve;
use jetfrost_office::sizing::{
    Growth, days_of_history, days_to_fill, factor, growth, offered, over_commitment, stores_that_fit, suggested,
};
use jetfrost_wire::size::show;
use jetfrost_wire::sizing::{AskAdvice, AskCapacity, CapacityAdvice, LimitAdvice};

use crate::clock::timestamp;
use crate::identity::grants::destination_named;
use crate::media::volume_of;
use crate::operations::Operations;
use crate::records::{Count, DestinationRow, PointRow, StoreRow, WorkstationLine, added_by_day};
use crate::shared::{Caller, DAY_MS, Invalid, Result, ServiceError, Thing, place};

/// Forecasts go ten years ahead.
const MOST_DAYS_AHEAD: f64 = 3650.0;

/// What is known of the workstation that a limit is for.
#[derive(Default)]
struct Known {
    growth: Option<Growth>,
    /// What its first point added.
    full_state: u64,
    used: u64,
}

/// What a destination holds already; nothing for one that is yet to come.
#[derive(Default)]
struct Held {
    used: u64,
    /// The limits of its image stores.
    promised: Vec<Option<u64>>,
    grows: Option<Growth>,
}

impl Operations {
    pub(crate) fn advise(&self, caller: &Caller, ask: &AskAdvice) -> Result<LimitAdvice> {
        caller.may(&Act::SeeOffice)?;
        let line = ask.workstation.as_ref().map(|id| self.storage.line(caller, id)).transpose()?;
        let destination = self.destination_for(ask, line.as_ref())?;
        let known = line.as_ref().map_or_else(|| Ok(Known::default()), |line| self.known(line))?;
        let disk = ask.disk_bytes.or_else(|| line.as_ref().and_then(|line| line.workstation.disk_bytes).map(Count::get));
        let others = self.limits_of_others(&destination, line.as_ref())?;
        let offered = self.offered(&destination);
        let now = self.clock.now();
        let fill =
            ask.limit.zip(known.growth).and_then(|(limit, growth)| days_to_fill(limit.saturating_sub(known.used), &growth));
        let at = |days: f64| timestamp(now + (days * DAY_MS as f64) as i64);
        let mut promised = others.clone();
        promised.push(ask.limit);
        let suggestion = disk.map(suggested);
        let mut advice = LimitAdvice {
            destination: destination.name.clone(),
            disk_bytes: disk,
            factor: ask.limit.zip(disk).and_then(|(limit, disk)| factor(limit, disk)),
            minimum: suggestion.map(|s| s.minimum),
            usual: suggestion.map(|s| s.usual),
            generous: suggestion.map(|s| s.generous),
            growth_per_day: known.growth.map(|growth| growth.per_day as u64),
            days_of_history: ask.limit.zip(known.growth).and_then(|(limit, g)| days_of_history(limit, known.full_state, &g)),
            full_soonest: fill.map(|days| at(days.soonest)),
            full_likely: fill.and_then(|days| days.likely).map(at),
            offered,
            over_commitment: offered.map(|offered| over_commitment(&promised, offered)).filter(|ratio| ratio.is_finite()),
            without_limit: promised.iter().filter(|limit| limit.is_none()).count() as u64,
            more_that_fit: offered.zip(ask.limit).map(|(offered, limit)| stores_that_fit(offered, &promised, limit)),
            says: Vec::new(),
        };
        advice.says = sentences(&advice, ask);
        Ok(advice)
    }

    /// What a capacity would mean, for a destination that is there or one that is yet to come.
    pub(crate) fn advise_capacity(&self, caller: &Caller, ask: &AskCapacity) -> Result<CapacityAdvice> {
        caller.may(&Act::SeeOffice)?;
        let row = match &ask.destination {
            Some(id) => {
                Some(self.records.read(|on| DestinationRow::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Destination)))?)
            }
            None => None,
        };
        let directory = directory_considered(caller, ask, row.as_ref())?;
        let volume = volume_of(&directory).map_err(Invalid::Volume)?;
        let reserve = ask.reserve.unwrap_or_else(|| match &row {
            Some(row) => row.reserve.get(),
            None => suggested_reserve(volume.size),
        });
        let left = volume.size.saturating_sub(reserve);
        let offered = offered(volume.size, reserve, ask.capacity);
        let Held { used, promised, grows } = row.as_ref().map_or_else(|| Ok(Held::default()), |row| self.held(row))?;
        let fill = grows.and_then(|growth| days_to_fill(offered.saturating_sub(used), &growth));
        // What is said of times that nobody plans for is no help.
        let fill = fill.filter(|days| days.soonest < MOST_DAYS_AHEAD);
        let at = |days: f64| timestamp(self.clock.now() + (days * DAY_MS as f64) as i64);
        let mut advice = CapacityAdvice {
            volume: volume.size,
            offered,
            used,
            over_commitment: Some(over_commitment(&promised, offered)).filter(|ratio| ratio.is_finite()),
            without_limit: promised.iter().filter(|limit| limit.is_none()).count() as u64,
            growth_per_day: grows.map(|growth| growth.per_day as u64),
            full_soonest: fill.map(|days| at(days.soonest)),
            full_likely: fill.and_then(|days| days.likely).filter(|days| *days < MOST_DAYS_AHEAD).map(at),
            more_that_fit: ask.default_limit.map(|limit| stores_that_fit(offered, &promised, limit)),
            says: Vec::new(),
        };
        advice.says = said_of_capacity(&advice, ask, left);
        Ok(advice)
    }

    fn held(&self, row: &DestinationRow) -> Result<Held> {
        let (stores, added) = self
            .records
            .read(|on| Ok::<_, ServiceError>((StoreRow::on_destination(&row.id, on)?, added_by_day(&row.id, on)?)))?;
        let added: Vec<(i64, u64)> = added.into_iter().map(|(day, bytes)| (day * DAY_MS, bytes.get())).collect();
        Ok(Held {
            used: self.storage.used_of(&place(row), &stores),
            promised: self.limits_of_others(row, None)?,
            grows: growth(&added),
        })
    }

    fn destination_for(&self, ask: &AskAdvice, line: Option<&WorkstationLine>) -> Result<DestinationRow> {
        if let Some(name) = &ask.destination {
            return self.records.read(|on| destination_named(name, on));
        }
        if let Some(line) = line {
            return Ok(line.destination.clone());
        }
        let mut all = self.storage.destination_rows()?;
        match (all.pop(), all.pop()) {
            (Some(only), None) => Ok(only),
            _ => Err(Invalid::WhichDestination.into()),
        }
    }

    fn known(&self, line: &WorkstationLine) -> Result<Known> {
        let rows: Vec<PointRow> = self.storage.point_rows(line)?;
        let added: Vec<(i64, u64)> = rows.iter().map(|row| (row.committed.ms(), row.sent.get())).collect();
        let used = line.store.id.as_str().parse().ok().and_then(|id| self.media.used(&place(&line.destination), id).ok());
        Ok(Known {
            growth: growth(&added),
            full_state: rows.iter().map(|row| (row.committed.ms(), row.sent.get())).min().map_or(0, |(_, sent)| sent),
            used: used.unwrap_or(0),
        })
    }

    fn limits_of_others(&self, destination: &DestinationRow, but: Option<&WorkstationLine>) -> Result<Vec<Option<u64>>> {
        let lines = self.records.read(|on| Ok::<_, ServiceError>(WorkstationLine::on_destination(&destination.id, on)?))?;
        let others = lines.into_iter().filter(|line| but.is_none_or(|but| but.store.id != line.store.id));
        Ok(others.map(|line| line.store.size_limit.map(Count::get)).collect())
    }

    /// What a destination offers, if it is there.
    fn offered(&self, destination: &DestinationRow) -> Option<u64> {
        let volume = volume_of(&place(destination).directory).ok()?;
        Some(offered(volume.size, destination.reserve.get(), destination.capacity.map(Count::get)))
    }
}

/// The directory whose volume is looked at. Whoever may not add destinations has no business with the server's directories.
fn directory_considered(caller: &Caller, ask: &AskCapacity, row: Option<&DestinationRow>) -> Result<PathBuf> {
    match (row, &ask.directory) {
        (Some(row), _) => Ok(place(row).directory),
        (None, Some(directory)) => {
            caller.may(&Act::ChangeOffice)?;
            // It may be yet to be made, on the volume of what is above it.
            let wanted = PathBuf::from(directory);
            Ok(wanted.ancestors().find(|above| above.exists()).unwrap_or(&wanted).to_path_buf())
        }
        (None, None) => Err(Invalid::WhichVolume.into()),
    }
}

fn sentences(a: &LimitAdvice, ask: &AskAdvice) -> Vec<String> {
    let mut says = Vec::new();
    if let (Some(disk), Some(minimum), Some(usual), Some(generous)) = (a.disk_bytes, a.minimum, a.usual, a.generous) {
        let (disk, minimum, usual, generous) = (show(disk), show(minimum), show(usual), show(generous));
        says.push(format!("For a disk of {disk}: {minimum} at least, {usual} usually, {generous} for a longer memory."));
    }
    match (ask.limit, a.factor) {
        (None, _) => says.push("Without a limit its history grows until the destination is full.".into()),
        (Some(limit), Some(factor)) if factor < 0.1 => says.push(format!("{} is far less than the disk.", show(limit))),
        (Some(limit), Some(factor)) if factor < 2.0 => {
            says.push(format!("{} is {factor:.1} times the disk: less than is usual.", show(limit)));
        }
        (Some(limit), Some(factor)) => says.push(format!("{} is {factor:.1} times the disk.", show(limit))),
        (Some(_), None) => {}
    }
    match (a.growth_per_day, a.days_of_history) {
        (Some(growth), Some(days)) => {
            says.push(format!("It grows by {} a day; this holds about {days:.0} days of history.", show(growth)));
        }
        (Some(growth), None) => says.push(format!("It grows by {} a day.", show(growth))),
        (None, _) if ask.workstation.is_some() => says.push("How it grows is known after a week.".into()),
        _ => {}
    }
    if let (Some(soonest), Some(likely)) = (a.full_soonest, a.full_likely) {
        let day = |at: jiff::Timestamp| at.strftime("%Y-%m-%d").to_string();
        says.push(format!("It would be met around {}, {} at the soonest, if nothing expires.", day(likely), day(soonest)));
    }
    match (a.over_commitment, a.offered) {
        (Some(ratio), Some(offered)) => {
            let of = format!("'{}' offers {}; {ratio:.2} times that is promised then", a.destination, show(offered));
            let fit = a.more_that_fit.map_or_else(String::new, |n| format!("; {n} more such stores fit"));
            says.push(format!("{of}{fit}."));
        }
        (None, Some(offered)) => {
            says.push(format!(
                "'{}' offers {}; {} without a limit may take all of it.",
                a.destination,
                show(offered),
                stores(a.without_limit)
            ));
        }
        _ => {}
    }
    says
}

fn said_of_capacity(a: &CapacityAdvice, ask: &AskCapacity, left: u64) -> Vec<String> {
    let mut says = Vec::new();
    match ask.capacity {
        Some(capacity) if capacity > left => says.push(format!(
            "The volume leaves {} after its reserve: more than that is never stored, whatever the capacity says.",
            show(left)
        )),
        Some(capacity) if capacity < a.used => {
            says.push(format!("{} are stored there already: new backups are refused until there is less.", show(a.used)));
        }
        Some(capacity) => says.push(format!("{:.0} % of what the volume leaves after its reserve.", percent(capacity, left))),
        None => {
            says.push(format!("Without a capacity it may take all that the volume leaves after its reserve: {}.", show(left)));
        }
    }
    match (a.over_commitment, a.without_limit) {
        (_, without) if without > 0 => says.push(format!("{} without a limit may take all of it.", stores(without))),
        (Some(ratio), _) if ratio > 0.0 => says.push(format!("{ratio:.2} times that is promised to its image stores.")),
        _ => {}
    }
    if let Some(fit) = a.more_that_fit.filter(|_| a.without_limit == 0) {
        says.push(format!("{fit} more with the limit of new stores fit."));
    }
    if let (Some(growth), None) = (a.growth_per_day, a.full_likely) {
        says.push(format!("It grows by {} a day, and would not be full within ten years.", show(growth)));
    }
    if let (Some(growth), Some(soonest), Some(likely)) = (a.growth_per_day, a.full_soonest, a.full_likely) {
        let day = |at: jiff::Timestamp| at.strftime("%Y-%m-%d").to_string();
        let (growth, likely, soonest) = (show(growth), day(likely), day(soonest));
        says.push(format!(
            "It grows by {growth} a day, and would be full around {likely}, {soonest} at the soonest, if nothing expires."
        ));
    }
    says
}

fn percent(part: u64, whole: u64) -> f64 {
    part as f64 * 100.0 / (whole as f64).max(1.0)
}

fn stores(number: u64) -> String {
    if number == 1 { "1 store".into() } else { format!("{number} stores") }
}
