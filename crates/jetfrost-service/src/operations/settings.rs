//! What is decided for all of the office.

use jetfrost_office::access::Act;
use jetfrost_wire::Version;
use jetfrost_wire::event::Event;
use jetfrost_wire::service::OfficeSettings;
use jetfrost_wire::size::show_in;

use crate::operations::Operations;
use crate::records::{set_units, units};
use crate::shared::versions::{Made, Seen, version};
use crate::shared::{Caller, Result};

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
            let before = units(on)?;
            let was = OfficeSettings { units: before };
            seen.check(&version(&was), &Made { subject: Some("units"), after: before.word() }, on)?;
            set_units(to.units, on)?;
            self.trail.note_change(caller, "settings changed", "units", Some(before.word()), Some(to.units.word()), on)
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
        self.records.read(|on| Ok(OfficeSettings { units: units(on)? }))
    }
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
        let other = OfficeSettings { units: if settings.units == Units::Decimal { Units::Binary } else { Units::Decimal } };
        let seen = Seen::OneOf(vec![version]);
        assert!(matches!(operations.set_settings(&tove, &other, &seen), Err(ServiceError::NotAllowed)));
        operations.set_settings(&office.ingrid, &other, &seen).expect("the first");
        let second = operations.set_settings(&office.ingrid, &settings, &seen);
        assert!(matches!(second, Err(ServiceError::ChangedMeanwhile { .. })));
        assert_eq!(operations.settings(&office.ingrid).expect("seen").0, other);
    }
}
