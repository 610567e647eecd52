//! The service's certificates while it runs: their files are followed, and one that expires soon is an alert.

use jetfrost_wire::event::Event;

use crate::certificate::{Looked, Standing};
use crate::clock::{Moment, timestamp};
use crate::operations::Operations;
use crate::records::set_important_change;
use crate::shared::{DAY_MS, Result, SERVICE};

/// A certificate that expires within this time is an alert.
const TOLD_BEFORE_MS: i64 = 30 * DAY_MS;

impl Operations {
    /// Notices what changes without a call: destinations, certificates, network interfaces. One that fails holds up no other.
    pub(crate) fn watch_surroundings(&self) -> Result<()> {
        let looked = [self.storage.watch_places(), self.watch_certificates(), self.keep_announced()];
        looked.into_iter().collect()
    }

    fn watch_certificates(&self) -> Result<()> {
        if self.installation.certificates.look_again(self.clock.now_ms()) == Looked::OtherIdentity {
            let fingerprint = self.installation.certificates.fingerprint_text();
            self.records.write(|on| {
                // The copies of the records have the identity in them.
                set_important_change(self.clock.now(), on)?;
                self.trail.note_as(SERVICE, "", "identity renewed", &fingerprint, on)
            })?;
            self.events.tell(Event::Office);
        }
        Ok(())
    }

    /// What is wrong with the certificate that browsers see, or soon will be.
    pub(crate) fn certificate_trouble(&self) -> Option<String> {
        trouble(&self.installation.certificates.standing(), self.clock.now(), |at| {
            timestamp(at).to_zoned(self.zone.clone()).strftime("%Y-%m-%d").to_string()
        })
    }
}

fn trouble(standing: &Standing, now: Moment, day: impl Fn(Moment) -> String) -> Option<String> {
    if let Some(why) = &standing.trouble {
        return Some(format!("what the configuration names cannot be shown, so an earlier one or the service's own is. {why}"));
    }
    let whose = if standing.is_brought { "the one you brought" } else { "the service's own, which it could not renew," };
    let ends = Moment::from_ms(standing.ends);
    if ends <= now {
        return Some(format!("{whose} ended on {}", day(ends)));
    }
    (ends - now < TOLD_BEFORE_MS).then(|| format!("{whose} ends on {}", day(ends)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_certificate_is_told_of_thirty_days_before_it_ends_and_afterwards() {
        let standing = Standing { ends: 100 * DAY_MS, is_brought: true, trouble: None };
        let told = |day: i64| trouble(&standing, Moment::FIRST + day * DAY_MS, |at| (at.ms() / DAY_MS).to_string());
        assert_eq!(told(69), None);
        assert_eq!(told(71).as_deref(), Some("the one you brought ends on 100"));
        assert_eq!(told(101).as_deref(), Some("the one you brought ended on 100"));
        let unfit = Standing { trouble: Some("no key".into()), ..standing };
        assert!(trouble(&unfit, Moment::FIRST, |_| String::new()).expect("told").ends_with("no key"));
    }
}
