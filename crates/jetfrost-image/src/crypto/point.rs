//! Sealing and opening the bodies of points (§ 7).

use super::random::{Random, random_array};
use super::{NONCE, OpenError, StoreKeys, open_in_place, seal_in_place};

use crate::format::{PointBody, PointFile, PointHead};

/// Makes a point file; the body is bound to the head.
#[must_use]
pub fn seal_point(keys: &StoreKeys, head: PointHead, body: &PointBody, random: &dyn Random) -> PointFile {
    let nonce: [u8; NONCE] = random_array(random);
    let mut data = body.to_bytes();
    let tag = seal_in_place(&keys.point, nonce, &PointFile::associated_data(&head), &mut data);
    let mut sealed = nonce.to_vec();
    sealed.extend(data);
    sealed.extend(tag);
    PointFile { head, sealed }
}

/// Opens a point's body.
///
/// # Errors
/// [`OpenError::Altered`] when head or body are not what was sealed.
pub fn open_point(keys: &StoreKeys, file: &PointFile) -> Result<PointBody, OpenError> {
    let (nonce, data) = file.sealed.split_first_chunk::<NONCE>().ok_or(OpenError::Altered)?;
    let mut data = data.to_vec();
    let opened = open_in_place(&keys.point, *nonce, &PointFile::associated_data(&file.head), &mut data);
    Ok(PointBody::from_bytes(opened.ok_or(OpenError::Altered)?)?)
}

#[cfg(test)]
mod tests {
    use super::super::{SeededRandom, StoreKey};
    use super::*;
    use crate::format::{Content, PointKind};
    use crate::id::{PointId, StoreId};

    #[test]
    fn a_body_opens_only_under_its_own_head() {
        let keys = StoreKeys::derive(StoreId([1; 16]), &StoreKey([2; 32]));
        let head = PointHead {
            store: keys.store,
            id: PointId([3; 16]),
            sequence: 1,
            kind: PointKind::Files,
            created: 0,
            previous: None,
            needed: 0,
            needed_xor: [0; 32],
            bytes: 0,
            files: 0,
            exceptions: 0,
            needs: None,
            changes: None,
        };
        let body = PointBody {
            root: Content::empty(),
            folders: vec![b"/srv/maps".to_vec().into()],
            excluded: vec!["*.tmp".into()],
            host: "avocet".into(),
            exceptions: Content::empty(),
            writer: "test".into(),
            selection: None,
        };
        let mut file = seal_point(&keys, head, &body, &SeededRandom::new(b"point"));
        assert_eq!(open_point(&keys, &file), Ok(body));
        file.head.sequence = 2;
        assert_eq!(open_point(&keys, &file), Err(OpenError::Altered));
    }
}
