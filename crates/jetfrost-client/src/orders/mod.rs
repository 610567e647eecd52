//! Orders: restores that somebody asks this workstation to do, from the console. Only who unlocked the image store can make one, so the
//! service can withhold them or send them twice, and neither read nor make them.

mod judge;
mod record;

use std::path::PathBuf;
use std::sync::Arc;

use jetfrost_image::OrderId;
use jetfrost_image::crypto::{OpenError, StoreKeys, SystemRandom, open_order, random_array, seal_order};
use jetfrost_image::format::Order;
use jetfrost_platform::{Notices, System, path_bytes, path_of};
use jetfrost_wire::order::{AnswerOrder, NewOrder, OrderAnswer, OrderState, RestoreOrder};
use jetfrost_wire::workstation::PointKind;
use jetfrost_wire::{Binary, calls};
use jiff::{SignedDuration, Timestamp};

pub use judge::Verdict;
pub(crate) use record::OrderRecord;
pub use record::{Ending, Policy, Reply};

use crate::api::Api;
use crate::browse::{At, Browser};
use crate::error::ClientError;
use crate::progress::Meter;
use crate::restore::restore_ordered;
use crate::state_dir::StateDir;
use crate::store_source::StoreSource;

type Result<T> = std::result::Result<T, ClientError>;

/// An order that has not ended, as it came from the service.
#[derive(Debug, Clone)]
pub struct Received {
    /// What the service says of it.
    pub on_record: RestoreOrder,
    /// What it says itself. An error: nobody with the store key made it, or it is of a later version.
    pub order: std::result::Result<Order, OpenError>,
    /// What is to become of it.
    pub verdict: Verdict,
}

impl Received {
    fn read(keys: &StoreKeys, on_record: RestoreOrder, state_dir: &StateDir) -> Result<Self> {
        let sealed = on_record.sealed.as_ref().map_or(&[][..], |sealed| &sealed.0);
        let order = open_order(keys, sealed);
        let verdict = match &order {
            Ok(order) => {
                let (kept, selection) = (state_dir.order_record()?, state_dir.selection()?);
                judge::judge(order, &on_record, &kept, &selection, Timestamp::now())
            }
            Err(OpenError::Format(error)) => Verdict::End(Ending::Failed(format!("The workstation cannot read it: {error}."))),
            Err(_) => Verdict::End(Ending::Declined("It was not made with this workstation’s store key.".into())),
        };
        Ok(Self { on_record, order, verdict })
    }
}

/// The orders of this workstation that have not ended, the earliest first.
///
/// # Errors
/// [`ClientError::NotJoined`]; what the service said; a store key that is not to be had.
pub fn received(state_dir: &StateDir) -> Result<Vec<Received>> {
    let (membership, api) = state_dir.device_api()?;
    let open = api.call_for(&calls::orders(&membership.workstation), &[("open", Some("true".into()))])?.items;
    if open.is_empty() {
        return Ok(Vec::new());
    }
    let keys = state_dir.keys(&membership)?;
    open.into_iter().rev().map(|on_record| Received::read(&keys, on_record, state_dir)).collect()
}

/// What somebody asks a workstation to bring back.
#[derive(Debug, Clone)]
pub struct Asked {
    /// The point's number.
    pub point: u64,
    /// Absolute paths within it.
    pub paths: Vec<PathBuf>,
    /// The folder of the workstation that they go into; beside where they were, if none is given.
    pub into: Option<PathBuf>,
}

/// An order is good for so long.
const GOOD_FOR: SignedDuration = SignedDuration::from_hours(7 * 24);

/// Gives the workstation whose image store is looked into an order, as whoever is signed in.
///
/// # Errors
/// What the service said; [`ClientError::Format`] when no workstation would take it.
pub fn give(browser: &Browser, login: &str, asked: Asked) -> Result<RestoreOrder> {
    let StoreSource::Service { api, of } = &browser.source else {
        return Err(ClientError::Unexpected("an order goes through a service".into()));
    };
    let sessions = api.all(&calls::sessions())?;
    let session = sessions.into_iter().find(|session| session.current).map(|session| session.id.0);
    let bytes = |path: PathBuf| path_bytes(&path).to_vec().into();
    let now = Timestamp::now();
    let order = Order {
        id: OrderId(random_array(&SystemRandom::default())),
        point: asked.point,
        paths: asked.paths.into_iter().map(bytes).collect(),
        into: asked.into.map(bytes),
        login: login.into(),
        session: session.ok_or_else(|| ClientError::Unexpected("a session that is not listed".into()))?,
        created: now.as_millisecond(),
        expires: (now + GOOD_FOR).as_millisecond(),
    };
    // As the workstation reads it: what that refuses is not sent.
    Order::from_bytes(&order.to_bytes())?;
    let sealed = Binary(seal_order(&browser.keys, &order, &SystemRandom::default()));
    api.call_with(&calls::give_order(&of.workstation), &NewOrder { sealed })
}

/// What becomes of orders on this workstation before they are carried out.
///
/// # Errors
/// [`ClientError::File`].
pub fn policy(state_dir: &StateDir) -> Result<Policy> {
    Ok(state_dir.order_record()?.policy)
}

/// Sets what becomes of orders on this workstation. What was kept of them and cannot be read any more is forgotten.
///
/// # Errors
/// [`ClientError::File`].
pub fn set_policy(state_dir: &StateDir, policy: Policy) -> Result<()> {
    state_dir.change_order_record(true, |record| record.policy = policy)
}

/// Notes what somebody at this workstation says to an order. The agent acts on it.
///
/// # Errors
/// [`ClientError::File`].
pub fn reply(state_dir: &StateDir, order: &Order, reply: Reply) -> Result<()> {
    change(state_dir, order, |known| known.reply = Some(reply))
}

fn change<T>(state_dir: &StateDir, order: &Order, change: impl FnOnce(&mut record::Known) -> T) -> Result<T> {
    let expires = Timestamp::from_millisecond(order.expires).unwrap_or(Timestamp::MAX);
    state_dir.change_order_record(false, |record| change(record.of_mut(&order.id, expires, Timestamp::now())))
}

/// Whether somebody at this workstation declined an order, also one that is being carried out.
pub(crate) fn is_declined(state_dir: &StateDir, order: &OrderId) -> bool {
    let said = state_dir.order_record().ok().and_then(|record| record.of(order).and_then(|known| known.reply));
    said == Some(Reply::Decline)
}

/// Does with every order what is to be done, and tells the service. Of each that is carried out `underway` is told before, with the meter by
/// which it is stopped.
///
/// # Errors
/// [`ClientError::Stopped`]; what kept orders from being seen or answered: it is worth another try.
pub(crate) fn see_to(state_dir: &StateDir, underway: &dyn Fn(OrderId, &Arc<Meter>)) -> Result<()> {
    let (_, api) = state_dir.device_api()?;
    for received in received(state_dir)? {
        match (&received.verdict, &received.order) {
            (Verdict::Ask, _) if received.on_record.state == OrderState::Asking => {}
            (Verdict::Ask, _) => {
                answer(&api, &received.on_record, OrderAnswer::Asking, None)?;
                // Where nobody is there, the list of orders has it.
                let _ = System::show_notice(ASKED, ASKED_TEXT);
            }
            (Verdict::End(ending), _) => tell(&api, &received.on_record, ending)?,
            (Verdict::CarryOut, Ok(order)) => {
                let meter = Arc::new(Meter::default());
                underway(order.id, &meter);
                let ending = carry_out(state_dir, &received.on_record, order, &meter)?;
                change(state_dir, order, |known| known.ending = Some(ending.clone()))?;
                tell(&api, &received.on_record, &ending)?;
            }
            (Verdict::CarryOut, Err(_)) => {}
        }
    }
    Ok(())
}

/// What whoever sits at the machine is asked. Who asks for what is in the list: a service that lies could put words into a notice.
const ASKED: &str = "Somebody in the office asks to restore files on this computer";
const ASKED_TEXT: &str = "Nothing is restored unless you accept. See who it is and for what: jetfrost order list";

/// Carries an order out. What is worth another try is an error, and what is not is its ending.
fn carry_out(state_dir: &StateDir, on_record: &RestoreOrder, order: &Order, meter: &Arc<Meter>) -> Result<Ending> {
    // From here on it is not begun for the first time again, whoever sends it; unless somebody declined it since it was judged.
    if !change(state_dir, order, record::Known::begin)? {
        return Ok(Ending::Declined("Somebody at the workstation declined it.".into()));
    }
    let paths: Vec<PathBuf> = order.paths.iter().map(|path| path_of(path)).collect();
    let into = order.into.as_ref().map(|into| path_of(into));
    let restored = Browser::open(state_dir).and_then(|browser| {
        let point = browser.point(&At::Sequence(order.point), PointKind::Files)?;
        restore_ordered(&browser, &point, paths, into.as_deref(), on_record.id.clone(), meter)
    });
    match restored {
        Ok(report) => Ok(Ending::Done(report.troubles.len() as u64)),
        Err(ClientError::Cancelled(_)) if is_declined(state_dir, &order.id) => {
            Ok(Ending::Declined("Somebody at the workstation stopped it.".into()))
        }
        Err(ClientError::Cancelled(by)) => Ok(Ending::Failed(format!("{by} cancelled it."))),
        // The agent ends, or the service is away: it goes on later.
        Err(error) if matches!(error, ClientError::Stopped) || error.is_passing() || error.is_paused() => Err(error),
        Err(error) => Ok(Ending::Failed(sentence(&error.without_names().into_text()))),
    }
}

fn tell(api: &Api, on_record: &RestoreOrder, ending: &Ending) -> Result<()> {
    match ending {
        Ending::Done(0) => answer(api, on_record, OrderAnswer::Done, None),
        Ending::Done(exceptions) => {
            let said = format!("Not restored exactly: {exceptions}. See the history for the restore.");
            answer(api, on_record, OrderAnswer::Done, Some(said))
        }
        Ending::Declined(why) => answer(api, on_record, OrderAnswer::Declined, Some(why.clone())),
        Ending::Failed(why) => answer(api, on_record, OrderAnswer::Failed, Some(why.clone())),
    }
}

fn answer(api: &Api, on_record: &RestoreOrder, answer: OrderAnswer, reason: Option<String>) -> Result<()> {
    match api.call_with(&calls::answer_order(&on_record.id), &AnswerOrder { answer, reason }) {
        // It was withdrawn meanwhile, or its time went by.
        Err(error @ ClientError::Refused(_)) if !error.is_passing() => Ok(()),
        other => other.map(drop),
    }
}

/// Words of an error as a sentence.
fn sentence(words: &str) -> String {
    let mut letters = words.chars();
    let first = letters.next().map(|first| first.to_uppercase().to_string()).unwrap_or_default();
    format!("{first}{}.", letters.as_str().trim_end_matches('.'))
}
