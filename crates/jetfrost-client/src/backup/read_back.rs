//! Reading back what was handed over, before its point is called complete.

use std::collections::HashSet;

use jetfrost_image::ChunkName;
use jetfrost_image::crypto::{Opener, StoreKeys};
use jetfrost_image::format::Content;

use super::Result;
use crate::api::Api;
use crate::error::ClientError;
use crate::progress::Meter;

/// How much of what a run handed over is read back.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum ReadBack {
    /// The root, and some of the rest drawn by lot.
    #[default]
    Sample,
    /// All of it.
    Everything,
}

/// Chunks that are drawn.
const SAMPLE: usize = 32;
/// Chunks that are fetched in one call.
const BATCH: usize = 256;

impl ReadBack {
    /// Reads back; refused when a chunk does not come back as it was. `given` is what this run handed over, `top` what the point
    /// itself refers to.
    pub(super) fn of(
        self,
        given: HashSet<ChunkName>,
        top: [&Content; 2],
        api: &Api,
        store: &str,
        keys: &StoreKeys,
        meter: &Meter,
    ) -> Result<()> {
        let of_point = top.iter().flat_map(|content| &content.parts).filter_map(|part| part.name);
        let mut names: Vec<ChunkName> = of_point.filter(|name| given.contains(name)).collect();
        let drawn = if self == Self::Sample { SAMPLE } else { given.len() };
        // A set that hashes with a random seed gives its names in an order that nobody else knows.
        names.extend(given.into_iter().take(drawn));
        let mut opener = Opener::new(keys.clone());
        for batch in names.chunks(BATCH) {
            if meter.is_stopped() {
                return Err(ClientError::Stopped);
            }
            api.fetch(store, batch, |i, sealed| {
                let sound = sealed.is_some_and(|sealed| opener.open(&batch[i], sealed).is_ok());
                if sound { Ok(()) } else { Err(ClientError::NotReadBack) }
            })?;
        }
        Ok(())
    }
}
