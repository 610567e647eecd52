//! What this workstation keeps of orders: whether it takes any, and what became of those that it had. Nothing at the service changes it.

use jetfrost_image::OrderId;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// What becomes of an order before it is carried out.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Policy {
    /// It is carried out: nothing that is there is replaced or changed.
    #[default]
    CarryOut,
    /// Somebody at the workstation is asked.
    Ask,
    /// It is declined.
    Decline,
}

/// What somebody at the workstation said to an order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Reply {
    /// To carry it out.
    Accept,
    /// Not to; or to stop, if it is being carried out.
    Decline,
}

/// How an order ended.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ending {
    /// It was carried out; so many items were not restored exactly.
    Done(u64),
    /// It was declined, for this reason.
    Declined(String),
    /// It could not be carried out, for this reason.
    Failed(String),
}

/// An order that was here.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Known {
    /// In hexadecimal.
    id: String,
    pub(super) reply: Option<Reply>,
    /// Whether it was begun.
    pub(super) begun: bool,
    pub(super) ending: Option<Ending>,
    /// When it was no longer to be begun.
    expires: Timestamp,
}

impl Known {
    /// Notes that it is begun, unless somebody declined it. Says whether it is.
    pub(super) fn begin(&mut self) -> bool {
        self.begun |= self.reply != Some(Reply::Decline);
        self.reply != Some(Reply::Decline)
    }
}

/// Orders are remembered until they could not be given again, and so many at least.
const MOST_REMEMBERED: usize = 1000;

/// The file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct OrderRecord {
    #[serde(default)]
    pub(super) policy: Policy,
    #[serde(default)]
    pub(super) known: Vec<Known>,
}

impl OrderRecord {
    pub(super) fn of(&self, id: &OrderId) -> Option<&Known> {
        let id = id.to_string();
        self.known.iter().find(|known| known.id == id)
    }

    /// What is kept of an order; from now on, if nothing was.
    pub(super) fn of_mut(&mut self, id: &OrderId, expires: Timestamp, now: Timestamp) -> &mut Known {
        let id = id.to_string();
        let at = self.known.iter().position(|known| known.id == id).unwrap_or_else(|| {
            // Whoever replays an order whose time is over is refused for that.
            let mut too_many = (self.known.len() + 1).saturating_sub(MOST_REMEMBERED);
            self.known.retain(|known| {
                let goes = too_many > 0 && known.expires < now;
                too_many -= usize::from(goes);
                !goes
            });
            self.known.push(Known { id, reply: None, begun: false, ending: None, expires });
            self.known.len() - 1
        });
        &mut self.known[at]
    }
}

#[cfg(test)]
mod tests {
    use jiff::SignedDuration;

    use super::*;

    #[test]
    fn what_was_declined_since_it_was_judged_is_not_begun() {
        let now = Timestamp::UNIX_EPOCH;
        let mut record = OrderRecord::default();
        let known = record.of_mut(&OrderId([1; 16]), now, now);
        known.reply = Some(Reply::Decline);
        assert!(!known.begin() && !known.begun);
        known.reply = Some(Reply::Accept);
        assert!(known.begin() && known.begun);
    }

    #[test]
    fn what_could_be_given_again_is_remembered_however_much_there_is() {
        let now = Timestamp::UNIX_EPOCH + SignedDuration::from_hours(24 * 365);
        let hour = SignedDuration::from_hours(1);
        let id = |n: u32| OrderId(std::array::from_fn(|at| n.to_le_bytes().get(at).copied().unwrap_or(0)));
        let mut record = OrderRecord::default();
        for n in 0..3000 {
            // Every other one is over.
            let expires = if n % 2 == 0 { now - hour } else { now + hour };
            record.of_mut(&id(n), expires, now).begun = true;
        }
        assert!((0..3000).filter(|n| n % 2 == 1).all(|n| record.of(&id(n)).is_some_and(|known| known.begun)));
        assert!(record.known.len() < 1600, "{}", record.known.len());
    }
}
