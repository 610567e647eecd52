//! What is decided for all of the office.

use jetfrost_office::access::Act;
use jetfrost_wire::Version;
use jetfrost_wire::event::Event;
use jetfrost_wire::service::{OfficeSettings, RunsAtOnce};
use jetfrost_wire::size::show_in;

use crate::operations::Operations;
use crate::records::{Connection, own_machines, runs_at_once, set_own_machines, set_runs_at_once, set_units, units};
use crate::shared::versions::{Made, Seen, version};
use crate::shared::{Caller, Result, to_db};

/// What the audit log calls them.
const SUBJECT: &str = "office";

impl Operations {
    pub(crate) fn settings(&self, caller: &Caller) -> Result<(OfficeSettings, Version)> {
        caller.may(&Act::SeeOffice)?;
        let settings = self.read_settings()?;
        Ok((settings, version(&settings)))
    }

    /// Decides them. They count at once.
    pub(crate) fn set_settings(&self, caller: &Caller, to: &OfficeSettings, seen: &Seen) -> Result<(OfficeSettings, Version)> {
        caller.may(&Act::ChangeOffice)?;
        self.records.write(|on| {
            let was = read(on)?;
            let (before, after) = (said(&was), said(to));
            seen.check(&version(&was), &Made { subject: Some(SUBJECT), after: &before }, on)?;
            set_units(to.units, on)?;
            set_runs_at_once(to.runs_at_once.map(|number| to_db(u32::from(number).into())).transpose()?, on)?;
            set_own_machines(to.own_machines, on)?;
            self.trail.note_change(caller, "settings changed", SUBJECT, Some(&before), Some(&after), on)
        })?;
        show_in(to.units);
        self.events.tell(Event::Office);
        Ok((*to, version(to)))
    }

    /// Shows sizes as it was decided; at start.
    pub(crate) fn show_as_decided(&self) -> Result<()> {
        show_in(self.read_settings()?.units);
        Ok(())
    }

    fn read_settings(&self) -> Result<OfficeSettings> {
        self.records.read(read)
    }
}

fn read(on: &mut Connection) -> Result<OfficeSettings> {
    let number = runs_at_once(on)?.and_then(|number| u32::try_from(number.get()).ok());
    let runs_at_once = number.and_then(|number| RunsAtOnce::try_from(number).ok());
    Ok(OfficeSettings { units: units(on)?, runs_at_once, own_machines: own_machines(on)? })
}

/// In a line, for the audit log.
fn said(settings: &OfficeSettings) -> String {
    let at_once = settings.runs_at_once.map_or_else(|| "as measured".to_owned(), |number| u32::from(number).to_string());
    let own_machines = if settings.own_machines { "people enrol their own machines" } else { "administrators enrol machines" };
    format!("units {}, backups at once {at_once}, {own_machines}", settings.units.word())
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;
    use jetfrost_wire::size::Units;

    use super::*;
    use crate::shared::ServiceError;
    use crate::shared::testing::Office;

    #[test]
    fn a_member_sees_no_settings_and_the_second_of_two_administrators_is_refused() {
        let office = Office::open();
        let (operations, tove) = (&office.services.operations, office.person("tove", Role::Member));
        let (settings, version) = operations.settings(&office.ingrid).expect("seen");
        let units = if settings.units == Units::Decimal { Units::Binary } else { Units::Decimal };
        let other = OfficeSettings { units, runs_at_once: Some(RunsAtOnce::try_from(3).expect("within")), own_machines: true };
        let seen = Seen::OneOf(vec![version]);
        assert!(matches!(operations.set_settings(&tove, &other, &seen), Err(ServiceError::NotAllowed)));
        operations.set_settings(&office.ingrid, &other, &seen).expect("the first");
        let second = operations.set_settings(&office.ingrid, &settings, &seen);
        assert!(matches!(second, Err(ServiceError::ChangedMeanwhile { .. })));
        assert_eq!(operations.settings(&office.ingrid).expect("seen").0, other);
    }
}
