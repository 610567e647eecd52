//! Fetching chunks in batches.

use crossbeam_channel::Receiver;
use jetfrost_image::ChunkName;
use jetfrost_image::crypto::Opener;

use super::Result;
use super::file::{Piece, Writer};
use crate::browse::Browser;
use crate::error::ClientError;

pub(super) type Batch = Vec<Piece>;

/// Fetches batches until there are no more.
pub(super) struct Worker<'w> {
    pub(super) browser: &'w Browser,
    pub(super) writer: Writer<'w>,
    pub(super) batches: Receiver<Batch>,
}

impl Worker<'_> {
    pub(super) fn run(mut self) -> Result<()> {
        let mut opener = Opener::new(self.browser.keys.clone());
        while let Ok(batch) = self.batches.recv() {
            if self.writer.meter.is_stopped() {
                return Err(ClientError::Stopped);
            }
            self.fetch(&batch, &mut opener)?;
        }
        Ok(())
    }

    fn fetch(&mut self, batch: &Batch, opener: &mut Opener) -> Result<()> {
        let names: Vec<ChunkName> = batch.iter().map(|piece| piece.name).collect();
        self.browser.source.fetch(&names, |i, sealed| {
            self.writer.meter.sent(sealed.as_ref().map_or(0, |sealed| sealed.len()) as u64);
            let content = sealed.and_then(|sealed| opener.open(&batch[i].name, sealed).ok());
            self.writer.put(&batch[i], content);
            Ok(())
        })?;
        self.writer.end_stretch();
        Ok(())
    }
}
