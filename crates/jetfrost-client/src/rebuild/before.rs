//! What is known before a machine is rebuilt: what choosing a point forgoes, and how fast it can be read.

use std::time::{Duration, Instant};

use jetfrost_image::ChunkName;
use jetfrost_image::crypto::open_chunk;
use jetfrost_wire::point::Point;

use super::Result;
use crate::browse::{Browser, OpenPoint};

/// So much is read to measure how fast that goes, for so long at most.
pub(super) const MEASURED: u64 = 64 << 20;
const MEASURED_FOR: Duration = Duration::from_secs(5);
/// Chunks that are asked for at once.
const AT_ONCE: usize = 64;

/// What is not in a point, and is in the newest one of its kind.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Forgone {
    /// The newest one.
    pub newest: Point,
    /// What was added or changed since; none where one of the two is damaged and does not tell.
    pub lost: Option<Lost>,
}

/// What was added or changed between two points.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Lost {
    /// Files; of disks, those that are not as they were.
    pub files: u64,
    /// Their bytes; of disks, bytes of what was written.
    pub bytes: u64,
}

/// What is forgone by choosing a point instead of the newest, by whoever compares them; none when it is the newest. One of them that is
/// damaged keeps nobody from restoring.
pub(super) fn forgone_by(
    browser: &Browser,
    point: &OpenPoint,
    compare: impl FnOnce(&OpenPoint) -> Result<Lost>,
) -> Result<Option<Forgone>> {
    let points = browser.points()?;
    let newest = points.into_iter().filter(|one| one.kind == point.head.kind && !one.lost).max_by_key(|one| one.sequence);
    let Some(newest) = newest.filter(|newest| newest.sequence > point.head.sequence) else { return Ok(None) };
    match browser.open_point(newest.sequence).and_then(|opened| compare(&opened)) {
        Ok(lost) => Ok(Some(Forgone { newest, lost: Some(lost) })),
        Err(error) if error.is_loss() => Ok(Some(Forgone { newest, lost: None })),
        Err(error) => Err(error),
    }
}

/// Bytes a second at which these chunks are read; none where there is too little to measure.
pub(super) fn read_for_a_while(browser: &Browser, names: &[ChunkName]) -> Result<Option<f64>> {
    let (began, mut read) = (Instant::now(), 0_usize);
    for some in names.chunks(AT_ONCE) {
        browser.source.fetch(some, |i, sealed| {
            // What is lost is told when it is to be restored.
            let opened = sealed.and_then(|sealed| open_chunk(&browser.keys, &some[i], sealed).ok());
            read += opened.map_or(0, |content| content.len());
            Ok(())
        })?;
        if began.elapsed() > MEASURED_FOR {
            break;
        }
    }
    let seconds = began.elapsed().as_secs_f64();
    Ok((read > 1 << 20 && seconds > 0.0).then(|| read as f64 / seconds))
}
