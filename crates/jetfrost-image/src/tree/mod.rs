//! What goes into a store and comes out: content and folder listings as chunks (§ 4, § 6).

mod chunker;
mod gear;
mod reader;
mod writer;

#[cfg(test)]
mod tests;

pub use chunker::{ChunkBuffer, Chunker};
pub use gear::MIN_CHUNK;
pub use reader::{ChunkSource, ReadError, Readable, expand_parts, find_entry, parts_between, parts_or_lost, read_listing};
pub use writer::{ChunkSink, ListingWriter, store_content};
