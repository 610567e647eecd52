//! The binary calls: segments and needs in, chunks out. Bodies stream; none is held whole.

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;

use super::caps::Permit;
use super::{App, Trouble};
use actix_web::http::StatusCode;
use actix_web::http::header::CONTENT_LENGTH;
use actix_web::rt::task::{JoinHandle, spawn_blocking};
use actix_web::web::{Bytes, Data, Path, Payload};
use actix_web::{HttpRequest, HttpResponse, ResponseError, get, post, put};
use futures_util::{Stream, StreamExt, stream};
use jetfrost_image::format::MAX_SEGMENT;
use jetfrost_image::store::{ChunkReader, Store, StoreError};
use jetfrost_image::{ChunkName, SegmentHash};
use jetfrost_types::{ImageStoreId, RunId, WorkstationId};
use jetfrost_wire::Problem;
use jetfrost_wire::chunks::{FrameStatus, MOST_NAMES, NAME, damaged_head};
use jetfrost_wire::diagnosis::MOST_PROBE;
use tokio::time::{Instant, timeout, timeout_at};
use utoipa_actix_web::service_config::ServiceConfig;

use crate::backups::Arriving;
use crate::services::Services;
use crate::shared::{Caller, Credential, ServiceError};

/// A list of names is not longer than this.
pub(super) const MOST_NAMES_BODY: usize = MOST_NAMES * NAME;
/// What is sent is read in pieces of about this length.
const PIECE: usize = 256 << 10;
/// What arrives is written in pieces of about this length. Each upload has two of them: one arrives while the other is written.
const ARRIVING: usize = 128 << 10;
/// The rest of a refused body is read for so long.
const LINGER: Duration = Duration::from_secs(5);
/// A body of which nothing arrives for so long has stalled.
const SILENCE: Duration = Duration::from_secs(30);
/// A body may take so long, and beyond that as long as it takes at the slowest rate, in bytes a second.
const GRACE: Duration = Duration::from_secs(60);
const SLOWEST: u64 = 16 << 10;

/// A body that is a list of names, or too long for one.
type Names = Result<Bytes, actix_web::Error>;

pub(super) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(missing).service(fetch).service(near_damage).service(put_segment).service(put_needs).service(write_probe);
}

/// Which chunks are missing: 32-byte names in, a byte a name out (1 for missing).
#[utoipa::path(tag = "stores", params(("id" = String, Path)), security(("bearer" = [])),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/stores/{id}/chunks/missing")]
async fn missing(app: Data<App>, credential: Credential, id: Path<ImageStoreId>, body: Names) -> Result<HttpResponse, Trouble> {
    let names = names(body)?;
    let missing = app.for_caller(credential, move |services, caller| services.backups.missing(caller, &id, &names)).await?;
    Ok(HttpResponse::Ok().content_type("application/octet-stream").body(missing))
}

/// Sealed chunks: 32-byte names in, a frame a name out, in the same order.
#[utoipa::path(tag = "stores", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/stores/{id}/chunks/fetch")]
async fn fetch(app: Data<App>, credential: Credential, id: Path<ImageStoreId>, body: Names) -> Result<HttpResponse, Trouble> {
    let names = names(body)?;
    let (permit, store) =
        app.bulk_for_caller(credential, move |services, caller| services.backups.store_to_read(caller, &id)).await?;
    let frames = Frames { reader: ChunkReader::of(store), names: names.into(), looked_up: false, _permit: permit };
    Ok(HttpResponse::Ok().content_type("application/octet-stream").streaming(pieces(frames, Frames::next_piece)))
}

/// Chunks that lay near damage and are in the store: of each segment that was set aside its hash, a number (u32) and as many 32-byte names.
#[utoipa::path(tag = "stores", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])),
    responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/stores/{id}/chunks/near-damage")]
async fn near_damage(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> Result<HttpResponse, Trouble> {
    let begin = move |services: &Services, caller: &Caller| {
        let store = services.backups.store_to_read(caller, &id)?;
        let segments = store.damaged_segments()?.into();
        Ok::<_, ServiceError>((store, segments))
    };
    let (permit, (store, segments)) = app.bulk_for_caller(credential, begin).await?;
    let near = NearDamage { store, segments, _permit: permit };
    Ok(HttpResponse::Ok().content_type("application/octet-stream").streaming(pieces(near, NearDamage::next_piece)))
}

/// What lay near the damage of segments, one after the other.
struct NearDamage {
    store: Arc<Store>,
    segments: VecDeque<SegmentHash>,
    _permit: Permit,
}

impl NearDamage {
    /// That of the next segment that can be read; `None` after the last.
    fn next_piece(&mut self) -> Result<Option<Bytes>, StoreError> {
        while let Some(segment) = self.segments.pop_front() {
            let names = match self.store.near_damage(&segment) {
                Ok(names) => names,
                // It lies where the disk failed before.
                Err(error @ StoreError::Medium { .. }) => {
                    tracing::warn!(%error, %segment, "what was set aside cannot be read any more");
                    continue;
                }
                Err(error) => return Err(error),
            };
            let number = u32::try_from(names.len()).expect("a segment has no more records than bytes");
            let mut piece = damaged_head(&segment.0, number).to_vec();
            names.iter().for_each(|name| piece.extend(name.as_bytes()));
            return Ok(Some(piece.into()));
        }
        Ok(None)
    }
}

/// The frames of chunks that were asked for.
struct Frames {
    reader: ChunkReader<Arc<Store>>,
    names: VecDeque<ChunkName>,
    looked_up: bool,
    _permit: Permit,
}

impl Frames {
    /// The next frames, about a piece together; `None` when all were given.
    fn next_piece(&mut self) -> Result<Option<Bytes>, StoreError> {
        if !self.looked_up {
            self.reader.look_up(self.names.make_contiguous())?;
            self.looked_up = true;
        }
        let mut piece = Vec::with_capacity(PIECE);
        while piece.len() < PIECE {
            let Some(name) = self.names.pop_front() else { break };
            let (status, sealed): (_, &[u8]) = match self.reader.chunk(&name) {
                Ok(sealed) => (FrameStatus::Sound, sealed),
                Err(StoreError::NoChunk(_)) => (FrameStatus::Missing, &[]),
                Err(StoreError::DamagedChunk { .. }) => (FrameStatus::Damaged, &[]),
                Err(error) => return Err(error),
            };
            piece.extend(status.frame_head(u32::try_from(sealed.len()).expect("a sealed chunk is about a mebibyte at most")));
            piece.extend_from_slice(sealed);
        }
        Ok((!piece.is_empty()).then(|| piece.into()))
    }
}

/// Pieces of an answer, each read on a thread where that may wait for the disk, and only once the one before it was taken: whoever
/// reads slowly, or not at all, occupies no thread. After a failure the answer is cut off, which the client notices: fewer frames
/// than names.
fn pieces<F: Send + 'static>(
    from: F,
    next_piece: fn(&mut F) -> Result<Option<Bytes>, StoreError>,
) -> impl Stream<Item = Result<Bytes, std::io::Error>> {
    stream::try_unfold(from, move |mut from| async move {
        let read = spawn_blocking(move || next_piece(&mut from).map(|piece| (piece, from))).await;
        match read {
            Ok(Ok((piece, from))) => Ok(piece.map(|piece| (piece, from))),
            Ok(Err(error)) => {
                tracing::error!(%error, "reading from an image store");
                Err(std::io::Error::other("the image store could not be read"))
            }
            Err(_) => Err(std::io::Error::other("the service is stopping")),
        }
    })
}

/// Adds a segment, named by its hash. One that is here already is welcome, too.
#[utoipa::path(tag = "stores", params(("id" = String, Path), ("hash" = String, Path)), security(("bearer" = [])),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 204), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/stores/{id}/segments/{hash}")]
async fn put_segment(
    app: Data<App>,
    request: HttpRequest,
    credential: Credential,
    path: Path<(ImageStoreId, String)>,
    mut body: Payload,
) -> Result<HttpResponse, Trouble> {
    let (id, hash) = path.into_inner();
    let taken = async {
        let hash = hash.parse().map_err(|_| Trouble::bad_request("a segment's name is 64 hexadecimal digits"))?;
        let len = content_length(&request)?;
        if len > MAX_SEGMENT {
            return Err(Trouble::too_large(MAX_SEGMENT));
        }
        let begin = move |services: &Services, caller: &Caller| {
            services.backups.store_to_send_to(caller, &id)?.begin_segment(&services.retention, hash, len)
        };
        let (_permit, arriving) = app.bulk_for_caller(credential.clone(), begin).await?;
        receive(&mut body, len, arriving).await
    };
    let taken = taken.await;
    drain_if_refused(&app, credential, body, taken).await
}

/// Hands over what the point of a run needs.
#[utoipa::path(tag = "runs", params(("id" = String, Path)), security(("bearer" = [])),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 204), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/runs/{id}/needs")]
async fn put_needs(
    app: Data<App>,
    request: HttpRequest,
    credential: Credential,
    id: Path<RunId>,
    mut body: Payload,
) -> Result<HttpResponse, Trouble> {
    let taken = async {
        let len = content_length(&request)?;
        let begin = move |services: &Services, caller: &Caller| {
            services.backups.upload_of_run(caller, &id)?.begin_needs(&services.retention, len)
        };
        let (_permit, arriving) = app.bulk_for_caller(credential.clone(), begin).await?;
        receive(&mut body, len, Some(arriving)).await
    };
    let taken = taken.await;
    drain_if_refused(&app, credential, body, taken).await
}

/// Writes a probe to the calling workstation's destination, makes it durable, reads it back and answers with that. Nothing of it stays.
#[utoipa::path(tag = "workstations", params(("id" = String, Path)), security(("bearer" = [])),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/workstations/{id}/probe")]
async fn write_probe(
    app: Data<App>,
    request: HttpRequest,
    credential: Credential,
    id: Path<WorkstationId>,
    mut body: Payload,
) -> Result<HttpResponse, Trouble> {
    let taken = async {
        let len = content_length(&request)?;
        if len > MOST_PROBE as u64 {
            return Err(Trouble::too_large(MOST_PROBE as u64));
        }
        let begin = move |services: &Services, caller: &Caller| services.backups.takes_probe(caller, &id);
        let (_permit, line) = app.bulk_for_caller(credential.clone(), begin).await?;
        let mut deadline = Deadline::of(len);
        let mut probe = Vec::new();
        while let Some(piece) = deadline.next(&mut body).await? {
            probe.extend_from_slice(&piece);
        }
        let read = app.run(move |services| services.backups.write_probe(&line, &probe)).await?;
        Ok(HttpResponse::Ok().content_type("application/octet-stream").body(read))
    };
    let taken = taken.await;
    drain_if_refused(&app, credential, body, taken).await
}

/// Reads the rest of a refused body. A client that sends its whole body before it listens hears of a refusal only if the rest is read:
/// closing a connection that has unread bytes resets it (RFC 9112 section 9.6). Nothing more is read of callers whom nobody knows,
/// whatever they were refused for, of those who send too much at once, or of what has stalled.
async fn drain_if_refused<E>(
    app: &App,
    credential: Credential,
    mut body: impl Stream<Item = Result<Bytes, E>> + Unpin,
    taken: Result<HttpResponse, Trouble>,
) -> Result<HttpResponse, Trouble> {
    let never = [StatusCode::REQUEST_TIMEOUT, StatusCode::TOO_MANY_REQUESTS];
    if taken.as_ref().is_err_and(|refusal| !never.contains(&refusal.status_code()))
        && let Ok(_permit) = app.large_for_caller(credential).await
    {
        // It ends with the first error: a connection that was reset says so again and again.
        let rest = async { while let Some(Ok(_)) = body.next().await {} };
        let _ = timeout(LINGER, rest).await;
    }
    taken
}

/// Receives a body and hands it on in pieces, each on a thread where that may wait for the disk, while the next one arrives: whoever
/// sends slowly, or not at all, occupies a buffer and no thread, and not for long. A body that breaks off is never taken for a whole
/// one. One that is not wanted any more is read to its end.
async fn receive(body: &mut Payload, len: u64, arriving: Option<Arriving>) -> Result<HttpResponse, Trouble> {
    let mut deadline = Deadline::of(len);
    let mut underway = arriving.map(Underway::new);
    let mut buffer = Vec::new();
    while let Some(piece) = deadline.next(body).await? {
        let Some(underway) = &mut underway else { continue };
        buffer.extend_from_slice(&piece);
        if buffer.len() >= ARRIVING {
            buffer = underway.push(buffer).await?;
        }
    }
    if let Some(mut underway) = underway {
        drop(underway.push(buffer).await?);
        underway.finish().await?;
    }
    Ok(HttpResponse::NoContent().finish())
}

/// What arrives, and the piece of it that is being written; its memory is used again.
struct Underway(JoinHandle<Result<(Arriving, Vec<u8>), ServiceError>>);

impl Underway {
    fn new(arriving: Arriving) -> Self {
        Self(spawn_blocking(move || Ok((arriving, Vec::with_capacity(ARRIVING + (ARRIVING >> 1))))))
    }

    /// Writes the next piece, once the one before it is written. Returns memory for the one after.
    async fn push(&mut self, piece: Vec<u8>) -> Result<Vec<u8>, Trouble> {
        let (mut arriving, mut written) = self.written().await?;
        self.0 = spawn_blocking(move || arriving.push(&piece).map(|()| (arriving, piece)));
        written.clear();
        Ok(written)
    }

    async fn finish(mut self) -> Result<(), Trouble> {
        let (arriving, _) = self.written().await?;
        let finished = spawn_blocking(move || arriving.finish()).await;
        finished.map_err(|_| Trouble::stopping())?.map_err(Trouble::from)
    }

    async fn written(&mut self) -> Result<(Arriving, Vec<u8>), Trouble> {
        (&mut self.0).await.map_err(|_| Trouble::stopping())?.map_err(Trouble::from)
    }
}

/// Until when a body has to have arrived.
struct Deadline {
    whole: Instant,
}

impl Deadline {
    fn of(len: u64) -> Self {
        Self { whole: Instant::now() + GRACE + Duration::from_secs(len / SLOWEST) }
    }

    /// The next piece of a body; `None` at its end.
    async fn next(&mut self, body: &mut Payload) -> Result<Option<Bytes>, Trouble> {
        let until = self.whole.min(Instant::now() + SILENCE);
        match timeout_at(until, body.next()).await {
            Err(_) => Err(Trouble::stalled()),
            Ok(Some(Err(error))) => Err(Trouble::bad_request(format!("the body broke off: {error}"))),
            Ok(piece) => Ok(piece.transpose().map_err(|_| Trouble::stalled())?),
        }
    }
}

fn content_length(request: &HttpRequest) -> Result<u64, Trouble> {
    let header = request.headers().get(CONTENT_LENGTH).and_then(|v| v.to_str().ok()).and_then(|v| v.parse().ok());
    header.ok_or_else(|| Trouble::bad_request("a Content-Length is needed"))
}

fn names(body: Names) -> Result<Vec<ChunkName>, Trouble> {
    let body = body.map_err(|_| Trouble::too_large(MOST_NAMES_BODY as u64))?;
    if body.is_empty() || !body.len().is_multiple_of(NAME) {
        return Err(Trouble::bad_request("the body is a list of 32-byte names"));
    }
    Ok(body.chunks_exact(NAME).map(|name| ChunkName(name.try_into().expect("exact"))).collect())
}

#[cfg(test)]
mod tests {
    use std::cell::Cell;

    use super::*;
    use crate::shared::testing::{Office, credential};

    /// How many pieces of a body are read after a refusal.
    async fn read_after(refusal: Trouble, who: Option<&str>) -> usize {
        let services = Arc::new(Office::open().services);
        let credential = match who {
            Some(login) => credential(&services, login),
            None => Credential { secret: None, origin: "192.0.2.9".into(), call: "a test".into() },
        };
        let (_stop, stopping) = tokio::sync::watch::channel(false);
        let app = App::new(services, stopping);
        let read = Cell::new(0);
        // After two pieces the connection says without end that it was reset.
        let pieces = stream::iter([Ok(Bytes::from("one")), Ok(Bytes::from("two"))]).chain(stream::repeat_with(|| Err(())));
        let body = Box::pin(pieces.inspect(|piece| read.set(read.get() + usize::from(piece.is_ok()))));
        let answer = drain_if_refused(&app, credential, body, Err(refusal)).await;
        assert!(answer.is_err(), "the refusal stays the answer");
        read.get()
    }

    #[actix_web::test]
    async fn a_stranger_is_refused_without_a_byte_read_however_the_request_is_malformed() {
        assert_eq!(read_after(Trouble::bad_request("a segment's name is 64 hexadecimal digits"), None).await, 0);
        assert_eq!(read_after(Trouble::too_large(MAX_SEGMENT), None).await, 0);
        assert_eq!(read_after(ServiceError::NotSignedIn.into(), None).await, 0);
    }

    #[actix_web::test]
    async fn a_known_caller_hears_of_a_refusal_after_its_whole_body() {
        assert_eq!(read_after(Trouble::too_large(MAX_SEGMENT), Some("ingrid")).await, 2);
        assert_eq!(read_after(Trouble::too_many(), Some("ingrid")).await, 0, "whoever sends too much at once");
        assert_eq!(read_after(Trouble::stalled(), Some("ingrid")).await, 0, "what stalled");
    }
}
