//! Suspect points: what people found out about them, and that everything before one stays until they did.

use jetfrost_office::access::Act;
use jetfrost_types::{ImageStoreId, PointMark};
use jetfrost_wire::point::{MarkPoint, Point};

use crate::records::GivenMark;
use crate::retention::Retention;
use crate::retention::settings::checked_reason;
use crate::shared::{Caller, Conflict, Result, ServiceError};

impl Retention {
    /// Marks a point good, suspect or resolved.
    pub(crate) fn mark_point(&self, caller: &Caller, store: &ImageStoreId, sequence: u64, mark: &MarkPoint) -> Result<Point> {
        caller.may(&Act::ChangeOffice)?;
        let (reason, at) = (checked_reason(&mark.reason)?, self.clock.now());
        let act = match mark.mark {
            PointMark::Good => "point marked good",
            PointMark::Suspect => "point marked suspect",
            PointMark::Resolved => "point marked resolved",
        };
        self.change_point_for(caller, store, sequence, (act, &reason), |row, _, caller, _| {
            // Two people who look at an incident at once must not undo what the other one found out.
            if row.mark.as_ref().map(|marked| marked.mark) != mark.seen {
                return Err(ServiceError::Conflict(Conflict::MarkedMeanwhile));
            }
            *row.mark = Some(GivenMark { mark: mark.mark, reason: reason.clone(), by: caller.name(), at });
            Ok(())
        })
    }
}

#[cfg(test)]
mod tests {
    use diesel::connection::SimpleConnection;
    use jetfrost_types::{AlertKind, Changes, Role, Suspicion};
    use jetfrost_wire::PageQuery;
    use jetfrost_wire::destination::DestinationChange;
    use jetfrost_wire::retention::StayReason;

    use super::*;
    use crate::shared::testing::Office;
    use crate::shared::testing::machine::Machine;
    use crate::shared::{DAY_MS, Seen};

    const ENCRYPTED: Changes = Changes {
        files_before: 400,
        bytes_before: 0,
        added: 0,
        added_bytes: 0,
        changed: 300,
        changed_bytes: 0,
        gone: 0,
        gone_bytes: 0,
        renamed: 0,
        scrambled: 300,
        scrambled_bytes: 0,
        relabelled: 0,
        old_gone: 0,
        old_gone_bytes: 0,
        selection_changed: false,
    };

    /// An office where little is kept, and a machine with three points of which `suspect` are suspect.
    fn office(suspect: &[u64]) -> (Office, Machine) {
        let office = Office::open();
        let shelf = office.destination("shelf");
        let little = DestinationChange { retention: "1 days, at least 1".parse().ok(), ..DestinationChange::default() };
        office.services.storage.change_destination(&office.ingrid, &shelf.id, &little, &Seen::Anything).expect("set");
        office.person("tove", Role::Member);
        let mut machine = office.machine("tove", "front desk");
        for n in 1..=3 {
            machine.changes = suspect.contains(&n).then_some(ENCRYPTED);
            machine.back_up(&office, format!("state {n}").as_bytes()).expect("a point");
            office.pass(3_600_000);
        }
        machine.changes = None;
        (office, machine)
    }

    fn there(office: &Office, machine: &Machine) -> Vec<u64> {
        let points = office.services.backups.points(&office.ingrid, &machine.enrolled.workstation, &PageQuery::default());
        points.expect("listed").items.iter().map(|point| point.sequence).collect()
    }

    fn thin(office: &Office, machine: &Machine) {
        let line = office.services.storage.line_of_store(machine.store()).expect("there");
        office.services.retention.thin(&line, &mut |_| true).expect("thinned");
    }

    fn mark(
        office: &Office,
        who: &Caller,
        machine: &Machine,
        point: u64,
        mark: PointMark,
        seen: Option<PointMark>,
    ) -> Result<Point> {
        let mark = MarkPoint { mark, reason: "looked at".into(), seen };
        office.services.retention.mark_point(who, machine.store(), point, &mark)
    }

    #[test]
    fn everything_before_a_suspect_point_stays_past_any_rule_until_somebody_marks_it() {
        let (office, machine) = office(&[2]);
        office.pass(400 * DAY_MS);
        thin(&office, &machine);
        assert_eq!(there(&office, &machine), [3, 2, 1]);
        let preview = office.services.retention.preview_thinning(&office.ingrid, machine.store()).expect("previewed");
        let reasons: Vec<_> = preview.points.iter().map(|fate| fate.stays).collect();
        assert_eq!(reasons, [Some(StayReason::Latest), Some(StayReason::Suspect), Some(StayReason::Suspect)]);
        mark(&office, &office.ingrid, &machine, 2, PointMark::Good, None).expect("marked");
        thin(&office, &machine);
        assert_eq!(there(&office, &machine), [3]);
    }

    #[test]
    fn a_point_that_a_person_marks_suspect_keeps_the_older_ones_and_one_that_is_resolved_does_not() {
        let (office, machine) = office(&[]);
        mark(&office, &office.ingrid, &machine, 2, PointMark::Suspect, None).expect("marked");
        office.pass(400 * DAY_MS);
        thin(&office, &machine);
        assert_eq!(there(&office, &machine), [3, 2, 1]);
        let refused = office.services.retention.remove_point(&office.ingrid, machine.store(), 1);
        assert!(matches!(refused, Err(ServiceError::Conflict(Conflict::HeldForSuspect))), "{refused:?}");
        let refused = office.services.retention.remove_store(&office.ingrid, machine.store());
        assert!(matches!(refused, Err(ServiceError::Conflict(Conflict::HeldForSuspect))), "{refused:?}");
        mark(&office, &office.ingrid, &machine, 2, PointMark::Resolved, Some(PointMark::Suspect)).expect("marked");
        thin(&office, &machine);
        assert_eq!(there(&office, &machine), [3]);
    }

    #[test]
    fn what_is_suspect_itself_can_be_removed_and_keeps_the_older_ones_until_it_is_gone() {
        let (office, machine) = office(&[2]);
        office.services.retention.remove_point(&office.ingrid, machine.store(), 2).expect("removed");
        office.pass(20 * DAY_MS);
        thin(&office, &machine);
        assert_eq!(there(&office, &machine), [3, 2, 1], "it is protected, and can be undeleted");
        office.pass(20 * DAY_MS);
        thin(&office, &machine);
        thin(&office, &machine);
        assert_eq!(there(&office, &machine), [3], "nobody knows of a suspect one any more");
    }

    #[test]
    fn only_administrators_mark_points_and_no_two_of_them_at_once() {
        let (office, machine) = office(&[2]);
        let (tove, helpdesk) = (office.person("ona", Role::Member), office.person("hal", Role::Helpdesk));
        for who in [&tove, &helpdesk, &machine.caller] {
            let refused = mark(&office, who, &machine, 2, PointMark::Good, None);
            assert!(matches!(refused, Err(ServiceError::NotAllowed)), "{refused:?}");
        }
        mark(&office, &office.ingrid, &machine, 2, PointMark::Suspect, None).expect("marked");
        let late = mark(&office, &office.ingrid, &machine, 2, PointMark::Good, None);
        assert!(matches!(late, Err(ServiceError::Conflict(Conflict::MarkedMeanwhile))), "{late:?}");
        let empty = MarkPoint { mark: PointMark::Good, reason: " ".into(), seen: Some(PointMark::Suspect) };
        assert!(office.services.retention.mark_point(&office.ingrid, machine.store(), 2, &empty).is_err());
    }

    #[test]
    fn a_suspect_point_is_an_alert_with_the_last_good_one_until_it_is_marked() {
        let (office, machine) = office(&[2, 3]);
        let alerts = || office.services.operations.alerts_shown(&office.ingrid).expect("seen").alerts;
        let alert = alerts().into_iter().find(|alert| alert.kind == AlertKind::SuspectPoint).expect("an alert");
        assert_eq!(
            alert.says,
            "On 'front desk', point 3 looks like mass encryption; last good point: 1. Everything before it is kept until you decide."
        );
        let suspect =
            office.services.backups.workstation(&office.ingrid, &machine.enrolled.workstation).expect("seen").store.suspect;
        let suspect = suspect.expect("told");
        assert_eq!(
            (suspect.point.sequence, suspect.point.suspicion, suspect.last_good.map(|good| good.sequence)),
            (3, Some(Suspicion::Scrambled), Some(1))
        );
        for point in [2, 3] {
            mark(&office, &office.ingrid, &machine, point, PointMark::Good, None).expect("marked");
        }
        assert!(alerts().iter().all(|alert| alert.kind != AlertKind::SuspectPoint));
    }

    #[test]
    fn a_suspect_point_that_was_committed_right_before_the_power_went_is_suspect_once_it_is_found() {
        let (office, machine) = office(&[3]);
        let unrecorded = "DELETE FROM points WHERE sequence = 3; UPDATE stores SET points = 2, latest_sequence = 2";
        office.records.write(|on| Ok::<_, ServiceError>(on.batch_execute(unrecorded)?)).expect("as if it had never been written");
        let suspect = || office.services.storage.line_of_store(machine.store()).expect("there").suspect;
        assert!(suspect().is_none());
        machine.begin(&office).expect("begun");
        let found = suspect().expect("the next run finds it");
        assert_eq!((found.latest.sequence.get(), found.last_good.map(|good| good.sequence.get())), (3, Some(2)));
    }

    #[test]
    fn a_workstation_that_says_nothing_of_its_changes_cannot_replace_its_past_unnoticed() {
        let (office, mut machine) = office(&[]);
        machine.begin(&office).expect("begun");
        let chunks: Vec<[u8; 4]> = (0..500_u32).map(u32::to_le_bytes).collect();
        machine.send_all(&office, &chunks.iter().map(<[u8; 4]>::as_slice).collect::<Vec<_>>()).expect("sent");
        let before = machine.back_up(&office, b"all of it").expect("a point");
        assert_eq!(before.suspicion, None);
        machine.forget_chunks();
        let replaced = machine.back_up(&office, b"another past").expect("a point");
        assert_eq!(replaced.suspicion, Some(Suspicion::Replaced));
    }
}
