//! The image store: one workstation's encrypted disk image on one destination.
//!
//! This crate is a core: it knows no network, no clock, no records and no interface. All input and output goes
//! through the [`medium::Medium`] trait. The format that it reads and writes is documented byte by byte in
//! `docs/format.md`; the section numbers in these pages refer to it.
//!
//! Each module uses only those above it in this list: [`id`], [`format`], [`crypto`], [`medium`], [`store`], [`tree`].

pub mod crypto;
pub mod format;
pub mod id;
pub mod medium;
pub mod store;
pub mod tree;

pub use id::{ChunkName, OrderId, PointId, SegmentHash, SlotId, StoreId};
