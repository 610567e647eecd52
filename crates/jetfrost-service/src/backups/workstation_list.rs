//! Workstations that somebody looks for: by words, state, destination or group, in the order that was asked for.
//!
//! What is looked at and sorted by follows from rules and clocks as much as from records. All lines are read and judged, two thousand in some
//! milliseconds; only those of the page are looked up where that costs more.

use jetfrost_office::names;
use jetfrost_types::GroupId;
use jetfrost_wire::workstation::{Workstation, WorkstationOrder, WorkstationQuery, WorkstationState};
use jetfrost_wire::{Found, PageQuery, Sorted};

use crate::backups::Backups;
use crate::clock::Moment;
use crate::records::{GroupRow, GroupsOfAccounts, WorkstationLine};
use crate::shared::{Caller, Result, ServiceError, convert, place};
use crate::storage::workstations::see;

impl Backups {
    /// The workstations that the caller may see and looks for.
    pub(crate) fn workstations(&self, caller: &Caller, query: &WorkstationQuery) -> Result<Found<Workstation>> {
        let now = self.clock.now();
        let (lines, groups) = self
            .records
            .read(|on| Ok::<_, ServiceError>((WorkstationLine::all(caller.only_own(), on)?, GroupRow::of_accounts(on)?)))?;
        let words: Vec<String> = query.text.as_deref().unwrap_or_default().split_whitespace().map(names::key).collect();
        let is_meant = |line: &WorkstationLine| {
            caller.may(&see(line)).is_ok() && is_of(line, query, now, &groups) && has_words(line, &words, now, &groups)
        };
        let order = query.sort.unwrap_or_default();
        let sorted = lines
            .into_iter()
            .filter(is_meant)
            .map(|line| Sorted::by(self.key(&line, order, now), &line.workstation.name_key.clone(), line))
            .collect();
        let page = PageQuery { after: query.after.clone(), most: query.most };
        Ok(Found::page(sorted, query.descending.unwrap_or(false), &page, |line| self.shown(&line)))
    }

    /// What a line is sorted by, as text that sorts as it does.
    fn key(&self, line: &WorkstationLine, order: WorkstationOrder, now: Moment) -> String {
        let number = |number: u64| format!("{number:020}");
        let time = |at: Option<Moment>| number(at.map_or(0, |at| at.ms().unsigned_abs()));
        match order {
            WorkstationOrder::Name => String::new(),
            WorkstationOrder::Person => names::key(&line.account.display_name),
            WorkstationOrder::State => urgency(convert::workstation_state(line, now)).to_string(),
            WorkstationOrder::LatestPoint => time(line.latest_point.as_ref().map(|point| point.committed)),
            WorkstationOrder::NextBackup => match line.agent.as_ref().map(|agent| (agent.delay.as_ref(), agent.due)) {
                Some((Some(delay), _)) => format!("0{}", time(Some(delay.since))),
                Some((None, due)) => format!("1{}", time(due)),
                None => "2".into(),
            },
            WorkstationOrder::Drilled => time(line.store.drilled),
            WorkstationOrder::Size => number(line.latest_point.as_ref().map_or(0, |point| point.bytes.get())),
            WorkstationOrder::Used => {
                let id = line.store.id.as_str().parse().ok();
                number(id.and_then(|id| self.media.used(&place(&line.destination), id).ok()).unwrap_or(0))
            }
            WorkstationOrder::Destination => line.destination.name_key.clone(),
            WorkstationOrder::LastSeen => time(line.workstation.last_seen),
            WorkstationOrder::ClientVersion => line.workstation.client_version.clone(),
        }
    }
}

/// Whether a line is in the state, on the destination and of the group that were asked for.
fn is_of(line: &WorkstationLine, query: &WorkstationQuery, now: Moment, groups: &GroupsOfAccounts) -> bool {
    let in_group = |group: &GroupId| {
        groups.get(&line.account.id).is_some_and(|groups| groups.iter().any(|(id, _)| id.as_str() == group.as_str()))
    };
    query.state.is_none_or(|state| convert::workstation_state(line, now) == state)
        && query.destination.as_ref().is_none_or(|id| line.destination.id.as_str() == id.as_str())
        && query.group.as_ref().is_none_or(in_group)
}

/// Whether each word is somewhere in what a line says of itself.
fn has_words(line: &WorkstationLine, words: &[String], now: Moment, groups: &GroupsOfAccounts) -> bool {
    if words.is_empty() {
        return true;
    }
    let state = convert::workstation_state(line, now).word().replace('_', " ");
    let of_groups = groups.get(&line.account.id).into_iter().flatten().map(|(_, name)| name.as_str());
    let (w, account) = (&line.workstation, &line.account);
    let said = [&w.name, &account.display_name, &account.login, &line.destination.name, &w.platform, &w.client_version, &state];
    let said: Vec<&str> = said.into_iter().map(String::as_str).chain(of_groups).collect();
    let said = names::key(&said.join(" "));
    words.iter().all(|word| said.contains(word))
}

/// The less, the more it needs somebody's attention.
pub(super) fn urgency(state: WorkstationState) -> u8 {
    match state {
        WorkstationState::Overdue => 0,
        WorkstationState::FirstPointAwaited => 1,
        WorkstationState::Current => 2,
        WorkstationState::Unclaimed => 3,
        WorkstationState::Retired => 4,
    }
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;
    use jetfrost_wire::people::{GroupChange, NewGroup};
    use jetfrost_wire::workstation::{WorkstationOrder, WorkstationQuery, WorkstationState};

    use crate::shared::testing::Office;
    use crate::shared::{Caller, DAY_MS, Seen};

    fn found(office: &Office, caller: &Caller, query: &WorkstationQuery) -> Vec<String> {
        let found = office.services.backups.workstations(caller, query).expect("found");
        assert_eq!(found.total, found.items.len() as u64);
        found.items.into_iter().map(|workstation| workstation.name).collect()
    }

    fn words(text: &str) -> WorkstationQuery {
        WorkstationQuery { text: Some(text.into()), ..WorkstationQuery::default() }
    }

    #[test]
    fn workstations_are_found_by_words_state_destination_and_group_and_in_any_order() {
        let office = Office::open();
        let shelf = office.destination("Shelf");
        let (tove, marek) = (office.person("tove", Role::Member), office.person("marek", Role::Member));
        let (mut first, mut second) = (office.machine("tove", "Åse"), office.machine("marek", "knot"));
        office.machine("marek", "dunlin");
        first.back_up(&office, b"one").expect("a point");
        office.pass(10 * DAY_MS);
        second.back_up(&office, b"another, longer one").expect("a point");
        let all = |query: &WorkstationQuery| found(&office, &office.ingrid, query);
        assert_eq!(all(&WorkstationQuery::default()), ["dunlin", "knot", "Åse"]);
        assert_eq!(all(&words("ÅSE shelf")), ["Åse"], "each word, whatever the letters");
        assert_eq!(all(&words("first point awaited")), ["dunlin"]);
        assert_eq!(all(&words("marek åse")), [""; 0]);
        let in_state = |state| WorkstationQuery { state: Some(state), ..WorkstationQuery::default() };
        assert_eq!(all(&in_state(WorkstationState::Overdue)), ["Åse"]);
        let on = WorkstationQuery { destination: Some(shelf.id), ..WorkstationQuery::default() };
        assert_eq!(all(&on).len(), 3);
        let by =
            |sort, descending| WorkstationQuery { sort: Some(sort), descending: Some(descending), ..WorkstationQuery::default() };
        assert_eq!(all(&by(WorkstationOrder::State, false)), ["Åse", "dunlin", "knot"]);
        assert_eq!(all(&by(WorkstationOrder::LatestPoint, false)), ["dunlin", "Åse", "knot"]);
        assert_eq!(all(&by(WorkstationOrder::LatestPoint, true)), ["knot", "Åse", "dunlin"]);
        assert_eq!(all(&by(WorkstationOrder::Person, false)), ["dunlin", "knot", "Åse"]);

        let group = office
            .services
            .identity
            .add_group(&office.ingrid, &NewGroup { name: "Survey".into(), default_limit: None, default_quota: None })
            .expect("added");
        let change = GroupChange { logins: Some(vec!["marek".into()]), ..GroupChange::default() };
        office.services.identity.change_group(&office.ingrid, &group.id, &change, &Seen::Anything).expect("changed");
        assert_eq!(all(&words("survey")), ["dunlin", "knot"]);
        let of = WorkstationQuery { group: Some(group.id), ..WorkstationQuery::default() };
        assert_eq!(all(&of), ["dunlin", "knot"]);
        assert_eq!(found(&office, &tove, &WorkstationQuery::default()), ["Åse"], "nobody sees others' ones");
        assert_eq!(found(&office, &marek, &words("åse")), [""; 0]);
    }
}
