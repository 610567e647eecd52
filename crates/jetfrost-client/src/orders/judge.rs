//! What is to become of an order: decided from what it says, what the service says of it, and what this workstation keeps.

use jetfrost_image::format::Order;
use jetfrost_platform::path_bytes;
use jetfrost_wire::order::RestoreOrder;
use jiff::Timestamp;

use super::record::{Ending, OrderRecord, Policy, Reply};
use crate::browse::lies_in;
use crate::selection::Selection;

/// What is to become of an order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Verdict {
    /// It is carried out.
    CarryOut,
    /// Somebody at the workstation is asked.
    Ask,
    /// It has ended, or ends with this.
    End(Ending),
}

fn declined(why: &str) -> Verdict {
    Verdict::End(Ending::Declined(why.into()))
}

pub(super) fn judge(
    order: &Order,
    on_record: &RestoreOrder,
    kept: &OrderRecord,
    selection: &Selection,
    now: Timestamp,
) -> Verdict {
    let known = kept.of(&order.id);
    if let Some(ending) = known.and_then(|known| known.ending.clone()) {
        return Verdict::End(ending);
    }
    match known {
        Some(known) if known.reply == Some(Reply::Decline) => return declined("Somebody at the workstation declined it."),
        // It was stopped on the way, with this machine.
        Some(known) if known.begun => return Verdict::CarryOut,
        _ => {}
    }
    if order.login != on_record.by {
        return declined("The service names another account than the order itself does.");
    }
    if order.expires <= now.as_millisecond() {
        return declined("Its time is over by the workstation’s clock.");
    }
    if !goes_where_backups_are_made(order, selection) {
        return declined(
            "It would put something outside the folders that this workstation backs up. Order it into one of those.",
        );
    }
    match (kept.policy, known.and_then(|known| known.reply)) {
        (Policy::Decline, _) => declined("This workstation takes no orders: its settings say so."),
        (Policy::Ask, None | Some(Reply::Decline)) => Verdict::Ask,
        (Policy::CarryOut, _) | (Policy::Ask, Some(Reply::Accept)) => Verdict::CarryOut,
    }
}

/// Whether everything goes into folders that are included.
fn goes_where_backups_are_made(order: &Order, selection: &Selection) -> bool {
    let is_within = |folder: &[u8]| selection.folders.iter().any(|included| lies_in(folder, path_bytes(&included.0)));
    match &order.into {
        Some(into) => is_within(into),
        None => order.paths.iter().all(|path| is_within(folder_of(path))),
    }
}

fn folder_of(path: &[u8]) -> &[u8] {
    let slash = path.iter().rposition(|byte| *byte == b'/').unwrap_or(0);
    &path[..slash.max(1).min(path.len())]
}

#[cfg(test)]
mod tests {
    use jetfrost_image::OrderId;
    use jetfrost_wire::order::OrderState;
    use jiff::SignedDuration;

    use super::*;
    use crate::selection::Folder;

    const ID: OrderId = OrderId([1; 16]);

    fn now() -> Timestamp {
        Timestamp::from_second(1_790_000_000).expect("a time")
    }

    fn order(into: Option<&str>) -> Order {
        Order {
            id: ID,
            point: 1,
            paths: vec![b"/home/tove/maps".to_vec().into()],
            into: into.map(|into| into.as_bytes().to_vec().into()),
            login: "ingrid".into(),
            session: "s".into(),
            created: now().as_millisecond(),
            expires: now().as_millisecond() + 1000,
        }
    }

    fn on_record(by: &str) -> RestoreOrder {
        RestoreOrder {
            id: "o".to_owned().into(),
            workstation: "w".to_owned().into(),
            by: by.into(),
            origin: "10.0.1.9".into(),
            state: OrderState::Waiting,
            created: now(),
            expires: now(),
            restore: None,
            reason: None,
            ended: None,
            sealed: None,
        }
    }

    fn verdict(order: &Order, kept: &OrderRecord) -> Verdict {
        let selection = Selection { folders: vec![Folder("/home/tove".into())], ..Selection::default() };
        judge(order, &on_record("ingrid"), kept, &selection, now())
    }

    #[test]
    fn it_goes_beside_or_below_what_is_included_and_nowhere_else() {
        let kept = OrderRecord::default();
        for into in [None, Some("/home/tove"), Some("/home/tove/found")] {
            assert_eq!(verdict(&order(into), &kept), Verdict::CarryOut, "{into:?}");
        }
        for into in ["/etc", "/home", "/home/tove2", "/home/to"] {
            assert!(matches!(verdict(&order(Some(into)), &kept), Verdict::End(Ending::Declined(_))), "{into}");
        }
        let whole = Order { paths: vec![b"/home/tove".to_vec().into()], ..order(None) };
        assert!(matches!(verdict(&whole, &kept), Verdict::End(Ending::Declined(_))), "beside it nothing is included");
        assert_eq!((folder_of(b"/a"), folder_of(b"/a/b")), (&b"/"[..], &b"/a"[..]));
    }

    #[test]
    fn whoever_sits_at_the_workstation_has_the_last_word() {
        let later = now() + SignedDuration::from_hours(1);
        let ask = OrderRecord { policy: Policy::Ask, ..OrderRecord::default() };
        assert_eq!(verdict(&order(None), &ask), Verdict::Ask);
        let mut said = ask.clone();
        said.of_mut(&ID, later, now()).reply = Some(Reply::Accept);
        assert_eq!(verdict(&order(None), &said), Verdict::CarryOut);
        said.of_mut(&ID, later, now()).reply = Some(Reply::Decline);
        for policy in [Policy::CarryOut, Policy::Ask, Policy::Decline] {
            let kept = OrderRecord { policy, ..said.clone() };
            assert!(matches!(verdict(&order(None), &kept), Verdict::End(Ending::Declined(_))), "{policy:?}");
        }
        let takes_none = OrderRecord { policy: Policy::Decline, ..OrderRecord::default() };
        assert!(matches!(verdict(&order(None), &takes_none), Verdict::End(Ending::Declined(_))));
    }

    #[test]
    fn a_service_that_replays_withholds_or_renames_an_order_gets_nothing_done() {
        let mut kept = OrderRecord::default();
        kept.of_mut(&ID, now(), now()).ending = Some(Ending::Done(0));
        assert_eq!(verdict(&order(None), &kept), Verdict::End(Ending::Done(0)), "it is done once");
        let late = Order { expires: now().as_millisecond(), ..order(None) };
        assert!(matches!(verdict(&late, &OrderRecord::default()), Verdict::End(Ending::Declined(_))));
        let other = judge(&order(None), &on_record("tove"), &OrderRecord::default(), &Selection::default(), now());
        assert!(matches!(other, Verdict::End(Ending::Declined(why)) if why.contains("another account")));
    }

    #[test]
    fn what_was_stopped_on_the_way_goes_on_even_when_its_time_is_over() {
        let mut kept = OrderRecord::default();
        kept.of_mut(&ID, now(), now()).begun = true;
        let late = Order { expires: now().as_millisecond() - 1, ..order(None) };
        assert_eq!(verdict(&late, &kept), Verdict::CarryOut);
    }
}
