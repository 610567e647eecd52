//! The binary calls: segments and needs in, chunks out. Bodies stream; none is held whole.

use std::sync::Arc;

use actix_web::http::header::CONTENT_LENGTH;
use actix_web::web::{Bytes, Data, Path, Payload};
use actix_web::{HttpRequest, HttpResponse, post, put};
use futures_util::StreamExt;
use jetfrost_image::format::MAX_SEGMENT;
use jetfrost_image::store::{Store, StoreError};
use jetfrost_image::{ChunkName, SegmentHash};
use jetfrost_wire::Problem;
use jetfrost_wire::chunks::{FrameStatus, MOST_NAMES, NAME};
use tokio::sync::mpsc;
use tokio_stream::wrappers::ReceiverStream;
use utoipa_actix_web::service_config::ServiceConfig;

use super::{App, Trouble};
use crate::desk::{Credential, Desk, DeskError};

/// A list of names is not longer than this.
pub(super) const MOST_NAMES_BODY: usize = MOST_NAMES * NAME;
/// Pieces of a body that wait for the disk, or for the network. With many uploads at once they are a good part of the memory.
const PIECES: usize = 4;
/// What is sent goes out in pieces of this length.
const PIECE: usize = 256 << 10;

/// A body that is a list of names, or too long for one.
type Names = Result<Bytes, actix_web::Error>;

pub(super) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(missing).service(fetch).service(put_segment).service(put_needs);
}

/// Which chunks are missing: 32-byte names in, a byte a name out (1 for missing).
#[utoipa::path(tag = "stores", params(("id" = String, Path)), security(("bearer" = [])),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/stores/{id}/chunks/missing")]
async fn missing(app: Data<App>, credential: Credential, id: Path<String>, body: Names) -> Result<HttpResponse, Trouble> {
    let names = names(body)?;
    let missing = app.for_caller(credential, move |desk, caller| desk.missing(caller, &id, &names)).await?;
    Ok(HttpResponse::Ok().content_type("application/octet-stream").body(missing))
}

/// Sealed chunks: 32-byte names in, a frame a name out, in the same order.
#[utoipa::path(tag = "stores", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/stores/{id}/chunks/fetch")]
async fn fetch(app: Data<App>, credential: Credential, id: Path<String>, body: Names) -> Result<HttpResponse, Trouble> {
    let names = names(body)?;
    let store = app.for_caller(credential, move |desk, caller| desk.store_to_read(caller, &id)).await?;
    let (out, pieces) = mpsc::channel(PIECES);
    actix_web::rt::task::spawn_blocking(move || send_frames(&store, &names, &out));
    let stream = ReceiverStream::new(pieces).map(Ok::<_, std::io::Error>);
    Ok(HttpResponse::Ok().content_type("application/octet-stream").streaming(stream))
}

/// Reads chunks one after another and sends their frames, until all are sent or nobody listens.
fn send_frames(store: &Store, names: &[ChunkName], out: &mpsc::Sender<Bytes>) {
    let mut reader = store.reader();
    if let Err(error) = reader.look_up(names) {
        tracing::error!(%error, "looking up chunks");
        return;
    }
    let mut pieces = Pieces { piece: Vec::with_capacity(PIECE), out };
    for name in names {
        let (status, sealed): (_, &[u8]) = match reader.chunk(name) {
            Ok(sealed) => (FrameStatus::Sound, sealed),
            Err(StoreError::NoChunk(_)) => (FrameStatus::Missing, &[]),
            Err(StoreError::DamagedChunk { .. }) => (FrameStatus::Damaged, &[]),
            Err(error) => {
                // The answer is cut off here, which the client notices: fewer frames than names.
                tracing::error!(%error, "reading a chunk");
                return;
            }
        };
        let head = status.frame_head(u32::try_from(sealed.len()).expect("a sealed chunk is about a mebibyte at most"));
        if !pieces.add(&head) || !pieces.add(sealed) {
            return;
        }
    }
    pieces.send();
}

/// Gathers bytes and sends them in pieces.
struct Pieces<'p> {
    piece: Vec<u8>,
    out: &'p mpsc::Sender<Bytes>,
}

impl Pieces<'_> {
    /// False when nobody listens.
    fn add(&mut self, mut bytes: &[u8]) -> bool {
        while !bytes.is_empty() {
            let (now, later) = bytes.split_at(bytes.len().min(PIECE - self.piece.len()));
            self.piece.extend_from_slice(now);
            bytes = later;
            if self.piece.len() == PIECE && !self.send() {
                return false;
            }
        }
        true
    }

    fn send(&mut self) -> bool {
        let piece = std::mem::replace(&mut self.piece, Vec::with_capacity(PIECE));
        piece.is_empty() || self.out.blocking_send(Bytes::from(piece)).is_ok()
    }
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
    path: Path<(String, String)>,
    body: Payload,
) -> Result<HttpResponse, Trouble> {
    let (id, hash) = path.into_inner();
    let hash: SegmentHash = hash.parse().map_err(|_| Trouble::bad_request("a segment's name is 64 hexadecimal digits"))?;
    let len = content_length(&request)?;
    if len > MAX_SEGMENT {
        return Err(Trouble::too_large(MAX_SEGMENT));
    }
    let upload = app.for_caller(credential, move |desk, caller| desk.store_to_add_to(caller, &id)).await?;
    receive(&app, body, move |desk, pieces| {
        let Some((mut intake, claim)) = upload.begin_segment(desk, hash, len)? else { return drain(pieces) };
        each_piece(pieces, len, |piece| Ok(intake.push(piece)?))?;
        intake.finish_counted_by(|count| claim.settle(count))?;
        Ok(())
    })
    .await
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
    id: Path<String>,
    body: Payload,
) -> Result<HttpResponse, Trouble> {
    let len = content_length(&request)?;
    let upload = app.for_caller(credential, move |desk, caller| desk.upload_of_run(caller, &id)).await?;
    receive(&app, body, move |desk, pieces| {
        let (mut intake, claim) = upload.begin_needs(desk, len)?;
        each_piece(pieces, len, |piece| Ok(intake.push(piece)?))?;
        Ok(intake.finish_counted_by(|count| claim.settle(count))?)
    })
    .await
}

/// Gives each piece of a body to `each`; there must not be more bytes than the `len` for which room was claimed.
fn each_piece(
    pieces: &mut mpsc::Receiver<Bytes>,
    len: u64,
    mut each: impl FnMut(&[u8]) -> Result<(), DeskError>,
) -> Result<(), DeskError> {
    let mut received = 0;
    while let Some(piece) = pieces.blocking_recv() {
        received += piece.len() as u64;
        if received > len {
            return Err(DeskError::Invalid("more bytes arrived than were announced".into()));
        }
        each(&piece)?;
    }
    Ok(())
}

/// Feeds a body to `work`, which runs on a thread where it may wait for the disk. A body that breaks off is never
/// taken for a whole one: `work` is told by the closing of its channel only after the last piece, and what it
/// receives is checked against its own hash.
async fn receive(
    app: &Data<App>,
    mut body: Payload,
    work: impl FnOnce(&Desk, &mut mpsc::Receiver<Bytes>) -> Result<(), DeskError> + Send + 'static,
) -> Result<HttpResponse, Trouble> {
    let (feed, mut pieces) = mpsc::channel::<Bytes>(PIECES);
    let desk = Arc::clone(&app.desk);
    let work = actix_web::rt::task::spawn_blocking(move || work(&desk, &mut pieces));
    let mut broken = None;
    while let Some(piece) = body.next().await {
        match piece {
            Ok(piece) => {
                if feed.send(piece).await.is_err() {
                    break;
                }
            }
            Err(error) => {
                broken = Some(error);
                break;
            }
        }
    }
    drop(feed);
    let done = work.await.map_err(|_| Trouble::stopping())?;
    match broken {
        Some(error) => Err(Trouble::bad_request(format!("the body broke off: {error}"))),
        None => done.map(|()| HttpResponse::NoContent().finish()).map_err(Trouble::from),
    }
}

fn drain(pieces: &mut mpsc::Receiver<Bytes>) -> Result<(), DeskError> {
    while pieces.blocking_recv().is_some() {}
    Ok(())
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
