//! Going through everything in a point.

use jetfrost_image::format::{Content, Entry, EntryKind};

use crate::browse::{Browser, entries_of};
use crate::error::ClientError;
use crate::progress::Meter;

/// What is met on the way. Paths are absolute.
pub(crate) enum Met<'m> {
    /// Something in a folder, folders among it.
    Entry(&'m [u8], &'m Entry),
    /// A folder of which not all can be listed, since the listing is damaged.
    DamagedFolder(&'m [u8]),
}

/// Gives everything below `root` to `each`, folder by folder.
///
/// # Errors
/// What the service or `each` said; [`ClientError::Stopped`].
pub(crate) fn go_through(
    browser: &Browser,
    root: &Content,
    meter: &Meter,
    mut each: impl FnMut(Met<'_>) -> Result<(), ClientError>,
) -> Result<(), ClientError> {
    let source = browser.source();
    let mut folders = vec![(Vec::new(), root.clone())];
    while let Some((path, listing)) = folders.pop() {
        if meter.is_stopped() {
            return Err(ClientError::Stopped);
        }
        // Held until it is whole: what is done with the entries asks the service, too.
        let (entries, read) = entries_of(&source, &listing);
        for entry in &entries {
            let below = [&path[..], b"/", &entry.name].concat();
            each(Met::Entry(&below, entry))?;
            if let (EntryKind::Directory, Some(listing)) = (entry.kind, &entry.content) {
                folders.push((below, listing.clone()));
            }
        }
        match read {
            Err(error) if error.is_loss() => each(Met::DamagedFolder(if path.is_empty() { b"/" } else { &path }))?,
            other => other?,
        }
    }
    Ok(())
}
