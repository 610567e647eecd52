//! Orders: restores that somebody asks a workstation's agent to do. What an order says is sealed with the store key; the service checks
//! who gives it and carries it.

use jetfrost_office::access::Act;
use jetfrost_types::{RestoreOrderId, WorkstationId};
use jetfrost_wire::event::Event;
use jetfrost_wire::order::{AnswerOrder, NewOrder, OrderAnswer, OrderQuery, OrderState, RestoreOrder};
use jetfrost_wire::{Page, PageQuery};

use crate::backups::Backups;
use crate::backups::agents::still_has;
use crate::clock::Moment;
use crate::records::{Connection, Id, OrderRow, RestoreRow, WorkstationLine};
use crate::secrets::new_id;
use crate::shared::bounds::{MOST_ORDERS, ORDER, ORDER_DAYS, WHY_A_RUN_ENDED};
use crate::shared::{Caller, Conflict, Invalid, Result, ServiceError, Thing, convert, number_cursor};

const MS_A_DAY: i64 = 24 * 3_600_000;

impl Backups {
    /// Gives a workstation's agent an order. A person does: what holds a workstation's credential gives itself none.
    pub(crate) fn give_order(&self, caller: &Caller, id: &WorkstationId, new: NewOrder) -> Result<RestoreOrder> {
        let line = self.storage.line(caller, id)?;
        caller.may(&read_store(&line.workstation.id, line.account.id.as_str()))?;
        if caller.is_workstation() {
            return Err(ServiceError::NotAllowed);
        }
        if line.workstation.rest.is_some() {
            return Err(ServiceError::Conflict(Conflict::NoMachine));
        }
        let sealed = new.sealed.0;
        if !ORDER.contains(&sealed.len()) {
            return Err(Invalid::NotAnOrder.into());
        }
        let now = self.clock.now();
        let row = OrderRow {
            number: 0,
            id: Id(new_id(&*self.random)),
            workstation_id: line.workstation.id.clone(),
            by: caller.name(),
            origin: caller.origin.clone(),
            state: OrderState::Waiting.into(),
            created: now,
            expires: now + ORDER_DAYS * MS_A_DAY,
            restore_id: None,
            reason: None,
            ended: None,
            sealed: Some(sealed),
        };
        let row = self.records.write(|on| {
            expire(id, now, on)?;
            if OrderRow::open_of(id, on)?.len() >= MOST_ORDERS {
                return Err(ServiceError::Conflict(Conflict::TooManyOrders));
            }
            let row = row.insert(on)?;
            self.trail.note(caller, "restore ordered", &line.workstation.name, on)?;
            Ok::<_, ServiceError>(row)
        })?;
        Ok(self.tell_order(&row, now))
    }

    /// The orders of a workstation, latest first. What is sealed in them goes to those who may read the store.
    pub(crate) fn orders(&self, caller: &Caller, id: &WorkstationId, query: &OrderQuery) -> Result<Page<RestoreOrder>> {
        let line = self.storage.line(caller, id)?;
        let reads = caller.may(&read_store(&line.workstation.id, line.account.id.as_str())).is_ok();
        let page = PageQuery { after: query.after.clone(), most: query.most };
        let (before, now) = (number_cursor(page.after.as_ref())?, self.clock.now());
        if query.open {
            // There are few: no page is cut.
            let rows = self.records.read(|on| Ok::<_, ServiceError>(OrderRow::open_of(id, on)?))?;
            let open = rows.iter().rev().filter(|row| row.is_open(now));
            return Ok(Page { items: open.map(|row| shown(row, reads, now)).collect(), next: None });
        }
        let rows = self.records.read(|on| Ok::<_, ServiceError>(OrderRow::list(id, before, page.size() + 1, on)?))?;
        let page = Page::from_one_more(rows, page.size(), |row| row.number.to_string());
        Ok(Page { items: page.items.iter().map(|row| shown(row, reads, now)).collect(), next: page.next })
    }

    /// What the workstation says of an order: that its person is asked, or what became of it.
    pub(crate) fn answer_order(&self, caller: &Caller, id: &RestoreOrderId, said: &AnswerOrder) -> Result<RestoreOrder> {
        let now = self.clock.now();
        let row = self.records.write(|on| {
            still_has(caller, on)?;
            let (mut row, _) = Self::order_of(caller, id, on)?;
            caller.may(&Act::AddToStore { workstation: row.workstation_id.as_str() })?;
            if !row.is_open(now) {
                return Err(ServiceError::Conflict(Conflict::OrderEnded));
            }
            let reason = said.reason.as_ref().map(|reason| reason.chars().take(WHY_A_RUN_ENDED).collect());
            match said.answer {
                // Whoever answers late does not undo that it is being carried out.
                OrderAnswer::Asking if row.state.0 == OrderState::Underway => {}
                OrderAnswer::Asking => row.state = OrderState::Asking.into(),
                OrderAnswer::Done => row.end(OrderState::Done, reason, now),
                OrderAnswer::Declined => row.end(OrderState::Declined, reason, now),
                OrderAnswer::Failed => row.end(OrderState::Failed, reason, now),
            }
            row.update(on)?;
            Ok::<_, ServiceError>(row)
        })?;
        Ok(self.tell_order(&row, now))
    }

    /// Withdraws an order that has not ended; one that is being carried out is cancelled.
    pub(crate) fn withdraw_order(&self, caller: &Caller, id: &RestoreOrderId) -> Result<RestoreOrder> {
        let now = self.clock.now();
        let row = self.records.write(|on| {
            let (mut row, line) = Self::order_of(caller, id, on)?;
            if caller.is_workstation() {
                return Err(ServiceError::NotAllowed);
            }
            if !row.is_open(now) {
                return Err(ServiceError::Conflict(Conflict::OrderEnded));
            }
            if let Some(restore) = &row.restore_id {
                RestoreRow::cancel(restore, &caller.name(), on)?;
            }
            row.end(OrderState::Withdrawn, Some(format!("{} withdrew it.", caller.name())), now);
            row.update(on)?;
            self.trail.note(caller, "order withdrawn", &line.workstation.name, on)?;
            Ok::<_, ServiceError>(row)
        })?;
        Ok(self.tell_order(&row, now))
    }

    /// An order that a caller may see.
    fn order_of(caller: &Caller, id: &RestoreOrderId, on: &mut Connection) -> Result<(OrderRow, WorkstationLine)> {
        let missing = || ServiceError::NotFound(Thing::Order);
        let row = OrderRow::by_id(id, on)?.ok_or_else(missing)?;
        let line = WorkstationLine::by_id(&row.workstation_id, on)?.ok_or_else(missing)?;
        caller.may(&read_store(&line.workstation.id, line.account.id.as_str())).map_err(|_| missing())?;
        Ok((row, line))
    }

    pub(super) fn tell_order(&self, row: &OrderRow, now: Moment) -> RestoreOrder {
        self.events.tell(Event::Orders { workstation: row.workstation_id.0.clone() });
        convert::order(row, now)
    }
}

fn shown(row: &OrderRow, reads: bool, now: Moment) -> RestoreOrder {
    let order = convert::order(row, now);
    RestoreOrder { sealed: order.sealed.filter(|_| reads), ..order }
}

/// Whoever may read a store may have something of it brought back to its own machine.
fn read_store<'a>(workstation: &'a WorkstationId, owner: &'a str) -> Act<'a> {
    Act::ReadStore { workstation: workstation.as_str(), owner }
}

/// The order that a workstation is about to carry out.
pub(super) fn open_for(
    caller: &Caller,
    workstation: &WorkstationId,
    order: &RestoreOrderId,
    now: Moment,
    on: &mut Connection,
) -> Result<OrderRow> {
    let row = OrderRow::by_id(order, on)?.filter(|row| row.workstation_id.0 == *workstation && caller.is_workstation());
    let row = row.ok_or(ServiceError::NotFound(Thing::Order))?;
    if row.is_open(now) { Ok(row) } else { Err(ServiceError::Conflict(Conflict::OrderEnded)) }
}

/// Ends what was not begun in time.
fn expire(workstation: &WorkstationId, now: Moment, on: &mut Connection) -> Result<()> {
    for mut row in OrderRow::open_of(workstation, on)? {
        if !row.is_open(now) {
            let expired = row.expires;
            row.end(OrderState::Expired, None, expired);
            row.update(on)?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;
    use jetfrost_wire::Binary;
    use jetfrost_wire::restore::{BeginRestore, Purpose, Scope};
    use jetfrost_wire::service::TokenScope;

    use super::*;
    use crate::shared::Who;
    use crate::shared::testing::Office;
    use crate::shared::testing::machine::{Machine, office_with_points};

    fn new() -> NewOrder {
        NewOrder { sealed: Binary(vec![7; 4126]) }
    }

    fn begin(office: &Office, machine: &Machine, order: &RestoreOrder) -> Result<jetfrost_wire::restore::Restore> {
        let (scope, order) = (Scope::Selection, Some(order.id.clone()));
        let begin = BeginRestore { point: 1, scope, purpose: Purpose::Restore, target: None, order };
        office.services.backups.begin_restore(&machine.caller, &machine.enrolled.workstation, &begin)
    }

    fn said(answer: OrderAnswer) -> AnswerOrder {
        AnswerOrder { answer, reason: Some("because".into()) }
    }

    #[test]
    fn whoever_may_read_a_store_orders_from_it_and_the_workstation_itself_does_not() {
        let (office, machine) = office_with_points([b"one"]);
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        let (liv, pelle) = (office.person("liv", Role::Member), office.person("pelle", Role::Helpdesk));
        let mut sees = office.ingrid.clone();
        if let Who::Person { session, .. } = &mut sees.who {
            session.scope = TokenScope::See.into();
        }
        assert!(matches!(backups.give_order(&machine.caller, id, new()), Err(ServiceError::NotAllowed)));
        assert!(matches!(backups.give_order(&sees, id, new()), Err(ServiceError::NotAllowed)));
        assert!(matches!(backups.give_order(&liv, id, new()), Err(ServiceError::NotFound(Thing::Workstation))));
        let order = backups.give_order(&pelle, id, new()).expect("given");
        assert_eq!((order.by.as_str(), order.state), ("pelle", OrderState::Waiting));
        let shown = |who: &Caller| backups.orders(who, id, &OrderQuery::default()).expect("listed").items[0].sealed.is_some();
        assert!(shown(&pelle) && shown(&machine.caller) && !shown(&sees));
        let missing = |result: Result<RestoreOrder>| matches!(result, Err(ServiceError::NotFound(Thing::Order)));
        assert!(missing(backups.withdraw_order(&liv, &order.id)) && missing(backups.withdraw_order(&sees, &order.id)));
        assert!(missing(backups.answer_order(&liv, &order.id, &said(OrderAnswer::Done))));
        assert!(matches!(backups.answer_order(&pelle, &order.id, &said(OrderAnswer::Done)), Err(ServiceError::NotAllowed)));
        assert!(matches!(backups.withdraw_order(&machine.caller, &order.id), Err(ServiceError::NotAllowed)));
        for sealed in [vec![7; 4095], vec![7; 41_101]] {
            let wrong = backups.give_order(&pelle, id, NewOrder { sealed: Binary(sealed) });
            assert!(matches!(wrong, Err(ServiceError::Invalid(Invalid::NotAnOrder))));
        }
    }

    #[test]
    fn the_restore_of_an_order_is_its_givers_and_what_was_sealed_goes_with_its_end() {
        let (office, machine) = office_with_points([b"one"]);
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        let order = backups.give_order(&office.ingrid, id, new()).expect("given");
        backups.answer_order(&machine.caller, &order.id, &said(OrderAnswer::Asking)).expect("asked");
        let restore = begin(&office, &machine, &order).expect("begun");
        assert_eq!(restore.by, "ingrid");
        let late = backups.answer_order(&machine.caller, &order.id, &said(OrderAnswer::Asking)).expect("heard");
        assert_eq!((late.state, late.restore), (OrderState::Underway, Some(restore.id)));
        // The agent was ended, and goes on.
        let again = begin(&office, &machine, &order).expect("begun again");
        let done = backups.answer_order(&machine.caller, &order.id, &said(OrderAnswer::Done)).expect("done");
        assert_eq!((done.state, done.sealed, done.restore), (OrderState::Done, None, Some(again.id)));
        for ended in [
            backups.answer_order(&machine.caller, &order.id, &said(OrderAnswer::Failed)).map(drop),
            backups.withdraw_order(&office.ingrid, &order.id).map(drop),
            begin(&office, &machine, &order).map(drop),
        ] {
            assert!(matches!(ended, Err(ServiceError::Conflict(Conflict::OrderEnded))), "{ended:?}");
        }
    }

    #[test]
    fn withdrawing_what_is_being_carried_out_cancels_it() {
        let (office, machine) = office_with_points([b"one"]);
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        let order = backups.give_order(&office.ingrid, id, new()).expect("given");
        let restore = begin(&office, &machine, &order).expect("begun");
        backups.withdraw_order(&office.ingrid, &order.id).expect("withdrawn");
        let heard = backups.restore_progress(&machine.caller, &restore.id, &Default::default()).expect("heard");
        assert_eq!(heard.cancelled_by.as_deref(), Some("ingrid"));
    }

    #[test]
    fn an_order_that_nobody_took_up_is_over_after_a_week_and_only_so_many_wait() {
        let (office, machine) = office_with_points([b"one"]);
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        let first = backups.give_order(&office.ingrid, id, new()).expect("given");
        for _ in 1..MOST_ORDERS {
            backups.give_order(&office.ingrid, id, new()).expect("given");
        }
        let one_more = backups.give_order(&office.ingrid, id, new());
        assert!(matches!(one_more, Err(ServiceError::Conflict(Conflict::TooManyOrders))), "{one_more:?}");
        office.pass(ORDER_DAYS * MS_A_DAY);
        let listed = |open| {
            let query = OrderQuery { open, ..OrderQuery::default() };
            backups.orders(&machine.caller, id, &query).expect("listed").items
        };
        assert_eq!((listed(true).len(), listed(false).len()), (0, MOST_ORDERS));
        assert!(listed(false).iter().all(|order| order.state == OrderState::Expired && order.sealed.is_none()));
        assert!(matches!(begin(&office, &machine, &first), Err(ServiceError::Conflict(Conflict::OrderEnded))));
        let next = backups.give_order(&office.ingrid, id, new()).expect("there is room again");
        assert_eq!(listed(true).iter().map(|order| &order.id).collect::<Vec<_>>(), [&next.id]);
        assert_eq!(listed(false)[1].ended, Some(listed(false)[1].expires), "on record since then");
    }

    #[test]
    fn no_workstation_answers_or_carries_out_the_order_of_another() {
        let office = Office::open();
        office.destination("shelf");
        office.person("tove", Role::Member);
        let (mut machine, other) = (office.machine("tove", "front desk"), office.machine("tove", "back office"));
        machine.back_up(&office, b"one").expect("a point");
        let order = office.services.backups.give_order(&office.ingrid, &other.enrolled.workstation, new()).expect("given");
        let taken = begin(&office, &machine, &order);
        assert!(matches!(taken, Err(ServiceError::NotFound(Thing::Order))), "{taken:?}");
        let answered = office.services.backups.answer_order(&machine.caller, &order.id, &said(OrderAnswer::Done));
        assert!(matches!(answered, Err(ServiceError::NotAllowed | ServiceError::NotFound(_))), "{answered:?}");
    }
}
