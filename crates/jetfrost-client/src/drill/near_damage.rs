//! What lay near damage in the image store. Where one sector is lost others near it often follow, and a scrub that found them sound has not
//! shown that they restore.

use std::collections::{BTreeSet, HashMap};

use jetfrost_image::ChunkName;
use jetfrost_image::format::Content;
use jetfrost_image::tree::expand_parts;

use crate::browse::Browser;
use crate::error::ClientError;
use crate::store_source::StoreSource;

/// Chunks that are considered, at most: 40 bytes each. Those of the segments whose hashes come first.
const MOST: usize = 1 << 18;

/// The chunks that lay near damage, each with numbers that stand for the damaged segments.
#[derive(Debug, Default)]
pub(super) struct NearDamage(HashMap<ChunkName, u64>);

impl NearDamage {
    /// What the store says of itself.
    ///
    /// # Errors
    /// What the service said.
    pub(super) fn of(source: &StoreSource) -> Result<Self, ClientError> {
        let mut near: HashMap<ChunkName, u64> = HashMap::new();
        for (name, segment) in source.near_damage(MOST)? {
            let number = u64::from_le_bytes(*segment.0.first_chunk().expect("it has 32"));
            near.entry(name).and_modify(|known| *known ^= number).or_insert(number);
        }
        Ok(Self(near))
    }

    /// Whether a chunk is one of them.
    pub(super) fn has(&self, name: &ChunkName) -> bool {
        self.0.contains_key(name)
    }

    /// A number for a content of which something lay near damage: another one for each damage that it lay near. Of a content whose list of parts
    /// is lost, what is known of it counts.
    ///
    /// # Errors
    /// What the service said.
    pub(super) fn mark(&self, browser: &Browser, content: &Content) -> Result<Option<u64>, ClientError> {
        if self.0.is_empty() {
            return Ok(None);
        }
        let mut damages: BTreeSet<u64> = BTreeSet::new();
        let expanded = expand_parts(&browser.source(), content, &mut |part| {
            damages.extend(part.name.and_then(|name| self.0.get(&name)));
            Ok(())
        });
        expanded.or_else(|error: ClientError| if error.is_loss() { Ok(()) } else { Err(error) })?;
        let mark = damages.into_iter().reduce(|one, other| one ^ other.rotate_left(1));
        Ok(mark.map(|mark| mark ^ super::number_of(content)))
    }
}
