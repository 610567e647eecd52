//! What needs somebody's attention, and what of it is news.

use std::collections::BTreeSet;

pub use jetfrost_types::AlertKind;
use jetfrost_types::DelayReason;

/// Something that needs attention.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Alert {
    /// What is wrong.
    pub kind: AlertKind,
    /// With which destination or workstation, by name; empty for the service itself.
    pub subject: String,
    /// What exactly, where that differs from one time to the next: then it is news again.
    pub detail: String,
}

/// What is known of a destination.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct PlaceFacts {
    /// Its name.
    pub name: String,
    /// Whether it is missing or another's.
    pub missing: bool,
    /// Whether it has no room left.
    pub full: bool,
    /// How its terms were made shorter of late, if they were.
    pub shortened: Option<String>,
}

/// What is known of a workstation that a machine has.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct MachineFacts {
    /// Its name.
    pub name: String,
    /// Which of its points is suspect, and what there is to go back to, if one is.
    pub suspect: Option<String>,
    /// Whether its last complete point is too old.
    pub overdue: bool,
    /// Chunks that its points need and that are lost.
    pub lost_chunks: u64,
    /// Points that were committed and are not there, though nothing removed them.
    pub lost_points: u64,
    /// Whether the latest drill did not bring everything back.
    pub drill_failed: bool,
    /// Which points went to make room of late, if any did.
    pub room_made: Option<String>,
    /// How its own terms were made shorter of late, if they were.
    pub shortened: Option<String>,
    /// Whether its runs fail, one after another.
    pub failing: bool,
    /// What keeps its backups waiting for too long, if something does.
    pub kept_waiting: Option<DelayReason>,
    /// Whether it joined a while ago and has no point yet.
    pub without_first_point: bool,
    /// Whether no drill restored anything for too long.
    pub drill_overdue: bool,
    /// Whether nobody showed for too long that a secret opens its image store.
    pub proof_overdue: bool,
}

/// What is known of the service itself.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ServiceFacts {
    /// Whether its own records are copied no more though they are to be.
    pub unprotected: bool,
    /// Which head on which destination the audit log contradicts, if one does.
    pub audit_altered: Option<String>,
    /// What is wrong with the certificate that browsers see, if something is.
    pub certificate: Option<String>,
}

/// What needs attention, the worst first.
#[must_use]
pub fn alerts(places: &[PlaceFacts], machines: &[MachineFacts], service: &ServiceFacts) -> Vec<Alert> {
    let of_place = |place: &PlaceFacts| {
        let kinds = [(place.missing, AlertKind::DestinationMissing), (place.full && !place.missing, AlertKind::DestinationFull)];
        let mut found = of(&place.name, &kinds);
        found.extend(detailed(AlertKind::TermsShortened, &place.name, place.shortened.as_ref()));
        found
    };
    let of_machine = |machine: &MachineFacts| {
        let kinds = [
            (machine.lost_chunks > 0 || machine.lost_points > 0, AlertKind::Damage),
            (machine.drill_failed, AlertKind::DrillFailed),
            (machine.failing && !machine.overdue, AlertKind::Failing),
            (machine.overdue, AlertKind::Overdue),
            (machine.drill_overdue, AlertKind::DrillOverdue),
            (machine.without_first_point, AlertKind::NoFirstPoint),
            (machine.proof_overdue, AlertKind::ProofDue),
        ];
        let mut found = of(&machine.name, &kinds);
        let waiting = machine.kept_waiting.map(|reason| reason.word().to_owned());
        found.extend(detailed(AlertKind::SuspectPoint, &machine.name, machine.suspect.as_ref()));
        found.extend(detailed(AlertKind::KeptWaiting, &machine.name, waiting.as_ref()));
        found.extend(detailed(AlertKind::RoomMade, &machine.name, machine.room_made.as_ref()));
        found.extend(detailed(AlertKind::TermsShortened, &machine.name, machine.shortened.as_ref()));
        found
    };
    let mut all: Vec<Alert> = places.iter().flat_map(of_place).chain(machines.iter().flat_map(of_machine)).collect();
    all.extend(of("", &[(service.unprotected, AlertKind::RecordsNotBackedUp)]));
    all.extend(detailed(AlertKind::AuditAltered, "", service.audit_altered.as_ref()));
    all.extend(detailed(AlertKind::Certificate, "", service.certificate.as_ref()));
    all.sort();
    all
}

fn of(subject: &str, kinds: &[(bool, AlertKind)]) -> Vec<Alert> {
    let alert = |kind: AlertKind| Alert { kind, subject: subject.to_owned(), detail: String::new() };
    kinds.iter().filter(|(is_so, _)| *is_so).map(|(_, kind)| alert(*kind)).collect()
}

fn detailed(kind: AlertKind, subject: &str, detail: Option<&String>) -> Option<Alert> {
    detail.map(|detail| Alert { kind, subject: subject.to_owned(), detail: detail.clone() })
}

/// How the present alerts differ from those that were sent.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct News {
    /// What was not told yet.
    pub new: Vec<Alert>,
    /// Alerts that were sent and are over.
    pub over: Vec<Alert>,
}

impl News {
    /// Whether there is nothing to tell.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.new.is_empty() && self.over.is_empty()
    }
}

/// What is to be sent, given the present alerts and those sent before.
#[must_use]
pub fn news(told: &[Alert], now: &[Alert]) -> News {
    let (told, now): (BTreeSet<&Alert>, BTreeSet<&Alert>) = (told.iter().collect(), now.iter().collect());
    let only_in = |one: &BTreeSet<&Alert>, other| one.difference(other).map(|alert| (*alert).clone()).collect::<Vec<_>>();
    let goes_on = |over: &Alert| now.iter().any(|one| (one.kind, &one.subject) == (over.kind, &over.subject));
    let mut over = only_in(&told, &now);
    over.retain(|over| !goes_on(over));
    News { new: only_in(&now, &told), over }
}

/// Whether the daily summary is due: it is `hour` o'clock or later, and none was sent today. Hours and days by the office's
/// clocks; days are counted from any beginning.
#[must_use]
pub fn is_summary_due(hour: i8, now: (i64, i8), last_day: Option<i64>) -> bool {
    let (today, hour_now) = now;
    hour_now >= hour && last_day.is_none_or(|last| last < today)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn alert(kind: AlertKind, subject: &str) -> Alert {
        Alert { kind, subject: subject.into(), detail: String::new() }
    }

    #[test]
    fn an_office_without_trouble_has_no_concerns() {
        let places = [PlaceFacts { name: "Shelf".into(), ..PlaceFacts::default() }];
        let machines = [MachineFacts { name: "avocet".into(), ..MachineFacts::default() }];
        assert!(alerts(&places, &machines, &ServiceFacts::default()).is_empty());
    }

    #[test]
    fn the_worst_comes_first_and_a_missing_place_is_not_called_full() {
        let places = [PlaceFacts { name: "Shelf".into(), missing: true, full: true, shortened: None }];
        let machines = [
            MachineFacts { name: "avocet".into(), overdue: true, ..MachineFacts::default() },
            MachineFacts { name: "dunlin".into(), lost_chunks: 2, drill_failed: true, ..MachineFacts::default() },
        ];
        let service = ServiceFacts { unprotected: true, audit_altered: Some("entry 7".into()), certificate: Some("ends".into()) };
        let found = alerts(&places, &machines, &service);
        let expected = [
            Alert { detail: "entry 7".into(), ..alert(AlertKind::AuditAltered, "") },
            alert(AlertKind::Damage, "dunlin"),
            alert(AlertKind::DestinationMissing, "Shelf"),
            alert(AlertKind::DrillFailed, "dunlin"),
            alert(AlertKind::RecordsNotBackedUp, ""),
            Alert { detail: "ends".into(), ..alert(AlertKind::Certificate, "") },
            alert(AlertKind::Overdue, "avocet"),
        ];
        assert_eq!(found, expected);
    }

    #[test]
    fn room_that_is_made_a_second_time_is_told_a_second_time() {
        let made = |of: &str| Alert { detail: of.into(), ..alert(AlertKind::RoomMade, "dunlin") };
        let news = news(&[made("points 1–3")], &[made("points 4–5")]);
        assert_eq!((news.new, news.over), (vec![made("points 4–5")], Vec::new()));
    }

    #[test]
    fn a_summary_goes_out_once_a_day_and_not_before_its_hour() {
        assert!(!is_summary_due(7, (10, 6), Some(9)));
        assert!(is_summary_due(7, (10, 7), Some(9)));
        assert!(is_summary_due(7, (10, 23), None), "a server that was off at seven sends it later");
        assert!(!is_summary_due(7, (10, 9), Some(10)));
    }

    fn some() -> impl Strategy<Value = Vec<Alert>> {
        let one = (0..AlertKind::ALL.len(), "[a-c]").prop_map(|(kind, subject)| Alert {
            kind: AlertKind::ALL[kind],
            subject,
            detail: String::new(),
        });
        proptest::collection::vec(one, 0..8)
    }

    proptest! {
        #[test]
        fn what_was_told_and_the_news_together_are_what_is_now(told in some(), now in some()) {
            let news = news(&told, &now);
            let mut after: BTreeSet<Alert> = told.iter().cloned().collect();
            news.over.iter().for_each(|over| assert!(after.remove(over)));
            news.new.iter().for_each(|new| assert!(after.insert(new.clone())));
            prop_assert_eq!(after, now.iter().cloned().collect::<BTreeSet<_>>());
            prop_assert!(super::news(&now, &now).is_empty());
        }
    }
}
