//! The store key and what follows from it (§ 3).

use std::fmt;

use ring::hkdf::{HKDF_SHA256, KeyType, Prk, Salt};
use zeroize::{Zeroize, ZeroizeOnDrop};

use super::random::{Random, random_array};
use crate::id::{ChunkName, StoreId};

/// The key of one image store; made on the workstation, never sent.
#[derive(Clone, PartialEq, Eq, Zeroize, ZeroizeOnDrop)]
pub struct StoreKey(pub [u8; 32]);

impl StoreKey {
    /// A new key.
    pub fn generate(random: &dyn Random) -> Self {
        Self(random_array(random))
    }
}

impl fmt::Debug for StoreKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("StoreKey(…)")
    }
}

/// The subkeys of a store.
#[derive(Clone)]
pub struct StoreKeys {
    /// The store they belong to.
    pub store: StoreId,
    name: [u8; 32],
    chunk: Prk,
    pub(super) point: [u8; 32],
    pub(super) order: [u8; 32],
    border_seed: u64,
    memory: [u8; 16],
}

impl StoreKeys {
    /// Derives the subkeys.
    #[must_use]
    pub fn derive(store: StoreId, key: &StoreKey) -> Self {
        let prk = Salt::new(HKDF_SHA256, store.as_bytes()).extract(&key.0);
        let chunk_seal: [u8; 32] = expand(&prk, b"jetfrost v1 chunk seal");
        Self {
            store,
            name: expand(&prk, b"jetfrost v1 chunk name"),
            chunk: Salt::new(HKDF_SHA256, &[]).extract(&chunk_seal),
            point: expand(&prk, b"jetfrost v1 point seal"),
            order: expand(&prk, b"jetfrost v1 order seal"),
            border_seed: u64::from_le_bytes(expand(&prk, b"jetfrost v1 chunk border")),
            memory: expand(&prk, b"jetfrost v1 client memory"),
        }
    }

    /// The name of a chunk with this content.
    #[must_use]
    pub fn name(&self, content: &[u8]) -> ChunkName {
        ChunkName(*blake3::keyed_hash(&self.name, content).as_bytes())
    }

    /// The seed for the chunker's borders.
    #[must_use]
    pub fn border_seed(&self) -> u64 {
        self.border_seed
    }

    /// For codes by which a workstation recognises on its own disk what it saw before; nothing in a store depends on it.
    #[must_use]
    pub fn memory_key(&self) -> [u8; 16] {
        self.memory
    }

    /// The key of one chunk.
    pub(super) fn chunk_key(&self, name: &ChunkName) -> [u8; 32] {
        expand(&self.chunk, name.as_bytes())
    }
}

impl fmt::Debug for StoreKeys {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "StoreKeys({})", self.store)
    }
}

struct Bytes<const N: usize>;

impl<const N: usize> KeyType for Bytes<N> {
    fn len(&self) -> usize {
        N
    }
}

/// HKDF-Expand (RFC 5869, § 2.3).
pub(super) fn expand<const N: usize>(prk: &Prk, info: &[u8]) -> [u8; N] {
    let mut out = [0; N];
    let info = [info];
    let okm = prk.expand(&info, Bytes::<N>).expect("a few bytes are within HKDF's limit");
    okm.fill(&mut out).expect("the lengths agree");
    out
}
