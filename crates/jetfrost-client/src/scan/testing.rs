//! What the tests of this folder share.

use std::collections::HashMap;

use jetfrost_image::crypto::{StoreKey, StoreKeys};
use jetfrost_image::tree::ChunkSink;
use jetfrost_image::{ChunkName, StoreId};

use crate::error::ClientError;

/// A sink that keeps what it is given.
#[derive(Default)]
pub(super) struct Chunks(pub(super) HashMap<ChunkName, Vec<u8>>);

impl ChunkSink for Chunks {
    type Error = ClientError;

    fn put(&mut self, name: ChunkName, content: &[u8]) -> Result<(), ClientError> {
        self.0.insert(name, content.to_vec());
        Ok(())
    }
}

pub(super) fn keys() -> StoreKeys {
    StoreKeys::derive(StoreId([1; 16]), &StoreKey([2; 32]))
}
