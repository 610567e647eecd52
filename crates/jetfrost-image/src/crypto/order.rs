//! Sealing and opening orders of a restore (§ 12).

use super::random::{Random, random_array};
use super::{NONCE, OpenError, StoreKeys, TAG, open_in_place, seal_in_place};
use crate::format::{FormatError, MAX_ORDER, Order, VERSION};

const BINDS: &[u8] = b"jetfrost v1 order";

fn associated_data(keys: &StoreKeys) -> Vec<u8> {
    [BINDS, &VERSION.to_le_bytes(), keys.store.as_bytes()].concat()
}

/// Seals an order for the workstation of a store: only who has unlocked the store can make one, or read it.
#[must_use]
pub fn seal_order(keys: &StoreKeys, order: &Order, random: &dyn Random) -> Vec<u8> {
    let nonce: [u8; NONCE] = random_array(random);
    let mut data = order.to_bytes();
    let tag = seal_in_place(&keys.order, nonce, &associated_data(keys), &mut data);
    [&VERSION.to_le_bytes()[..], &nonce, &data, &tag].concat()
}

/// Opens an order.
///
/// # Errors
/// [`OpenError::Altered`] when nobody with the store key made it; [`OpenError::Format`] when it cannot be carried out, or is of a later version.
pub fn open_order(keys: &StoreKeys, sealed: &[u8]) -> Result<Order, OpenError> {
    let (version, rest) = sealed.split_first_chunk::<2>().ok_or(OpenError::Altered)?;
    match u16::from_le_bytes(*version) {
        VERSION => {}
        found => return Err(FormatError::UnknownVersion { what: "an order", found: found.into() }.into()),
    }
    let (nonce, data) = rest.split_first_chunk::<NONCE>().ok_or(OpenError::Altered)?;
    if data.len() > MAX_ORDER + TAG {
        return Err(OpenError::Altered);
    }
    let mut data = data.to_vec();
    let opened = open_in_place(&keys.order, *nonce, &associated_data(keys), &mut data);
    Ok(Order::from_bytes(opened.ok_or(OpenError::Altered)?)?)
}

#[cfg(test)]
mod tests {
    use super::super::{SeededRandom, StoreKey};
    use super::*;
    use crate::id::{OrderId, StoreId};

    #[test]
    fn an_order_opens_only_for_its_own_store_and_as_it_was_sealed() {
        let keys = StoreKeys::derive(StoreId([1; 16]), &StoreKey([2; 32]));
        let order = Order {
            id: OrderId([3; 16]),
            point: 1,
            paths: vec![b"/srv/maps".to_vec().into()],
            into: None,
            login: "tove".into(),
            session: "s-1".into(),
            created: 0,
            expires: 1,
        };
        let sealed = seal_order(&keys, &order, &SeededRandom::new(b"order"));
        assert_eq!(open_order(&keys, &sealed), Ok(order));
        let others =
            [StoreKeys::derive(StoreId([9; 16]), &StoreKey([2; 32])), StoreKeys::derive(StoreId([1; 16]), &StoreKey([9; 32]))];
        for keys in others {
            assert_eq!(open_order(&keys, &sealed), Err(OpenError::Altered));
        }
        for bit in 0..8 * sealed.len() {
            let mut altered = sealed.clone();
            altered[bit / 8] ^= 1 << (bit % 8);
            assert!(open_order(&keys, &altered).is_err(), "bit {bit}");
        }
        assert!((0..sealed.len()).step_by(97).all(|len| open_order(&keys, &sealed[..len]).is_err()));
        let later = [&2_u16.to_le_bytes()[..], &sealed[2..]].concat();
        assert!(matches!(open_order(&keys, &later), Err(OpenError::Format(FormatError::UnknownVersion { found: 2, .. }))));
    }
}
