//! Orders of a restore: what a console or a command asks a workstation to bring back, sealed so that the service can only carry it (§ 12).

use minicbor::bytes::ByteVec;
use minicbor::{Decode, Encode};

use super::{FormatError, to_cbor};
use crate::id::OrderId;

const WHAT: &str = "an order";
/// The most paths that one may name, and the longest of them in bytes.
const MOST_PATHS: usize = 500;
const LONGEST_PATH: usize = 4096;
/// The most characters in the name of an account or a session.
const MOST_NAME: usize = 100;
/// The longest that an order may wait, in milliseconds: thirty days.
const LONGEST_WAIT: i64 = 30 * 24 * 3_600_000;
/// What is sealed is padded to a multiple of this: its length says little about how many names are in it.
const STEP: usize = 4096;
/// The most bytes that are sealed.
pub const MAX_ORDER: usize = 40 << 10;

/// What somebody wants a workstation to bring back.
#[derive(Debug, Clone, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub struct Order {
    /// Random. A workstation carries out none twice.
    #[n(0)]
    pub id: OrderId,
    /// The point's number.
    #[n(1)]
    pub point: u64,
    /// Absolute paths within the point.
    #[n(2)]
    pub paths: Vec<ByteVec>,
    /// The folder of the workstation that they go into. None: beside where they were, under names with the point's time.
    #[n(3)]
    pub into: Option<ByteVec>,
    /// The login name of the account that asks.
    #[n(4)]
    pub login: String,
    /// The session in which it asks.
    #[n(5)]
    pub session: String,
    /// When it was made, in Unix milliseconds by the clock of whoever made it.
    #[n(6)]
    pub created: i64,
    /// When it is no longer to be begun, by the same clock.
    #[n(7)]
    pub expires: i64,
}

impl Order {
    /// What is sealed: the length of the map (u32, little-endian), the map, zeros.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        let map = to_cbor(self);
        let mut bytes = u32::try_from(map.len()).expect("an order has a few megabytes at most").to_le_bytes().to_vec();
        bytes.extend(map);
        bytes.resize(bytes.len().next_multiple_of(STEP), 0);
        bytes
    }

    /// Reads what was sealed, and checks that it is an order that can be carried out.
    ///
    /// # Errors
    /// [`FormatError`].
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, FormatError> {
        let (len, rest) = bytes.split_first_chunk::<4>().ok_or(FormatError::CutShort { what: WHAT })?;
        let map = rest.get(..u32::from_le_bytes(*len) as usize).ok_or(FormatError::CutShort { what: WHAT })?;
        let order: Self = super::from_cbor(WHAT, map)?;
        order.check()?;
        Ok(order)
    }

    fn check(&self) -> Result<(), FormatError> {
        let wrong = |why| Err(FormatError::damaged(WHAT, why));
        if self.to_bytes().len() > MAX_ORDER {
            return wrong("its paths are too long together");
        }
        if self.point == 0 {
            return wrong("points are numbered from 1");
        }
        if self.paths.is_empty() || self.paths.len() > MOST_PATHS {
            return wrong("it names no path, or too many");
        }
        if !self.paths.iter().chain(&self.into).all(|path| is_path(path)) {
            return wrong("a path in it is none");
        }
        let is_name = |name: &str| !name.is_empty() && name.chars().count() <= MOST_NAME && !name.chars().any(char::is_control);
        if !is_name(&self.login) || !is_name(&self.session) {
            return wrong("it does not say who asks");
        }
        match self.expires.checked_sub(self.created) {
            Some(0..=LONGEST_WAIT) => Ok(()),
            _ => wrong("its times contradict each other"),
        }
    }
}

/// Whether a path is absolute and leads down only.
fn is_path(path: &[u8]) -> bool {
    let Some(names) = path.strip_prefix(b"/") else { return false };
    let is_name = |name: &[u8]| !matches!(name, b"" | b"." | b"..") && !name.contains(&0);
    path.len() <= LONGEST_PATH && names.split(|byte| *byte == b'/').all(is_name)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn order() -> Order {
        Order {
            id: OrderId([1; 16]),
            point: 7,
            paths: vec![b"/srv/maps/harbour".to_vec().into()],
            into: Some(b"/srv/maps/found".to_vec().into()),
            login: "ingrid".into(),
            session: "s-1".into(),
            created: 1_790_000_000_000,
            expires: 1_790_600_000_000,
        }
    }

    #[test]
    fn an_order_round_trips_and_its_length_says_little() {
        let long = Order { paths: (0..20).map(|i| format!("/srv/maps/{i}").into_bytes().into()).collect(), ..order() };
        for order in [order(), Order { into: None, ..order() }, long] {
            assert_eq!(order.to_bytes().len(), STEP);
            assert_eq!(Order::from_bytes(&order.to_bytes()), Ok(order));
        }
    }

    #[test]
    fn what_cannot_be_carried_out_is_refused() {
        let paths = |path: &[u8]| Order { paths: vec![path.to_vec().into()], ..order() };
        let refused = [
            paths(b"srv"),
            paths(b"/"),
            paths(b"/srv/../etc"),
            paths(b"/srv//maps"),
            paths(b"/srv/\0"),
            paths(&[b"/".to_vec(), vec![b'a'; LONGEST_PATH]].concat()),
            Order { paths: Vec::new(), ..order() },
            Order { paths: vec![b"/a".to_vec().into(); MOST_PATHS + 1], ..order() },
            Order { into: Some(b"/srv/.".to_vec().into()), ..order() },
            Order { paths: vec![format!("/{}", "a".repeat(4000)).into_bytes().into(); 11], ..order() },
            Order { point: 0, ..order() },
            Order { login: String::new(), ..order() },
            Order { login: "in\u{1b}[2Jgrid".into(), ..order() },
            Order { expires: order().created - 1, ..order() },
            Order { created: i64::MIN, ..order() },
            Order { expires: order().created + LONGEST_WAIT + 1, ..order() },
        ];
        for order in refused {
            assert!(matches!(Order::from_bytes(&order.to_bytes()), Err(FormatError::Damaged { .. })), "{order:?}");
        }
    }

    proptest! {
        #[test]
        fn any_bytes_are_read_or_refused(bytes: Vec<u8>) {
            let _ = Order::from_bytes(&bytes);
        }
    }
}
