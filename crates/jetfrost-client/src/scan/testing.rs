//! What tests share: a store of chunks in memory.

use std::collections::HashMap;

use jetfrost_image::crypto::{StoreKey, StoreKeys};
use jetfrost_image::tree::{ChunkSink, ChunkSource};
use jetfrost_image::{ChunkName, StoreId};

use crate::error::ClientError;

/// A sink that keeps what it is given.
#[derive(Default)]
pub(crate) struct Chunks(pub(crate) HashMap<ChunkName, Vec<u8>>);

impl ChunkSink for Chunks {
    type Error = ClientError;

    fn put(&mut self, name: ChunkName, content: &[u8]) -> Result<(), ClientError> {
        self.0.insert(name, content.to_vec());
        Ok(())
    }
}

impl ChunkSource for Chunks {
    type Error = ClientError;

    fn get(&self, name: &ChunkName) -> Result<Vec<u8>, ClientError> {
        self.0.get(name).cloned().ok_or(ClientError::Damaged)
    }
}

pub(crate) fn keys() -> StoreKeys {
    StoreKeys::derive(StoreId([1; 16]), &StoreKey([2; 32]))
}
