//! How often work is taken for an incident, and an incident for work.

use std::path::Path;
use std::thread::sleep;
use std::time::Duration;

use jetfrost_tests::chance::Chance;
use jetfrost_tests::work::{Day, Home, Incident};

use crate::office::{Office, Station, outln};

/// Days of work at one workstation: the service begins only so many runs of one within an hour.
const AT_ONE: u64 = 50;
/// Times that each incident happens.
const EACH: usize = 10;
/// Points over which a slow incident goes on.
const SLOW_POINTS: usize = 4;
/// Files whose last change is this long ago are known by their number as well.
const SETTLED: Duration = Duration::from_millis(1_200);

/// What the service says of the point that a backup makes now.
fn suspicion(station: &Station) -> Option<String> {
    let said: serde_json::Value = serde_json::from_str(&station.back_up().out).expect("JSON");
    said["points"][0]["point"]["suspicion"].as_str().map(str::to_owned)
}

/// `days` of work at some workstations, and each incident at another, several times.
pub(crate) fn run(scratch: &Path, days: u64) {
    let office = Office::open(scratch);
    year(&office, days);
    for incident in Incident::ALL {
        of_incident(&office, incident);
    }
    assert!(office.daemon.terminate(), "the service stops cleanly");
}

fn year(office: &Office, days: u64) {
    let chance = Chance::of("which days");
    let mut alarms = Vec::new();
    for first in (0..days).step_by(usize::try_from(AT_ONE).expect("few")) {
        let name = format!("worker {first}");
        let (station, folder) = (office.station(&name), office.at(&format!("files of {name}")));
        let mut home = Home::make(&folder, &name).expect("made");
        station.keep(&folder, false);
        let _ = station.back_up();
        for n in first..days.min(first + AT_ONE) {
            let day = Day::ALL[chance.below(Day::ALL.len())];
            home.work(day).expect("worked");
            if let Some(suspicion) = suspicion(&station) {
                alarms.push(format!("day {n}, {day:?}: {suspicion}"));
            }
        }
    }
    outln(&format!("{days} days of work: {} false alarms (to be none) {}", alarms.len(), alarms.join("; ")));
}

fn of_incident(office: &Office, incident: Incident) {
    let name = format!("{incident:?}");
    let (station, folder) = (office.station(&name), office.at(&format!("files of {name}")));
    let mut home = Home::make(&folder, &name).expect("made");
    station.keep(&folder, false);
    let mut found = 0;
    for _ in 0..EACH {
        home.fill().expect("made");
        sleep(SETTLED);
        let _ = station.back_up();
        let points = if incident == Incident::EncryptedSlowly { SLOW_POINTS } else { 1 };
        let told = (0..points).filter(|_| {
            home.suffer(incident).expect("it happens");
            suspicion(&station).is_some()
        });
        found += usize::from(told.count() > 0);
    }
    outln(&format!("{name}: found {found} of {EACH}"));
}
