//! Calls that are made once however often they are sent: an answer that was lost on its way is given again to whoever asks with the
//! same `Idempotency-Key` (draft-ietf-httpapi-idempotency-key-header).

use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use actix_web::body::{BodySize, BoxBody, MessageBody, to_bytes};
use actix_web::dev::{Payload, ServiceRequest, ServiceResponse};
use actix_web::http::StatusCode;
use actix_web::http::header::{AUTHORIZATION, CONTENT_TYPE, HeaderValue};
use actix_web::middleware::Next;
use actix_web::web::{Bytes, BytesMut, Data};
use actix_web::{HttpMessage, HttpRequest, HttpResponse, ResponseError, rt};
use futures_util::StreamExt;

use super::caps::Permit;
use super::credential::credential;
use super::{App, COOKIE, MOST_JSON, Trouble, large};

/// The header that names a call.
pub(super) const HEADER: &str = "idempotency-key";
/// A key has at most so many bytes.
const MOST_KEY: usize = 255;
/// Answers are kept for so long.
const KEPT: Duration = Duration::from_secs(24 * 3600);
/// Answers that are longer are not kept, nor more of them than this.
const MOST_ANSWER: u64 = 256 << 10;
const MOST_BYTES: usize = 32 << 20;
const MOST_ANSWERS: usize = 10_000;

type Name = [u8; 32];

/// The answers that were given, in memory alone: some have secrets in them.
#[derive(Debug, Default)]
pub(crate) struct Answers(Mutex<Kept>);

#[derive(Debug, Default)]
struct Kept {
    calls: HashMap<Name, Call>,
    /// Names of calls that were answered, the oldest first.
    order: VecDeque<(Instant, Name)>,
    bytes: usize,
}

#[derive(Debug)]
struct Call {
    body: Name,
    answer: Option<Answer>,
}

#[derive(Debug, Clone)]
struct Answer {
    status: StatusCode,
    kind: Option<HeaderValue>,
    bytes: Bytes,
}

/// What is known of a call.
enum Known {
    New,
    Underway,
    Another,
    Answered(Answer),
}

impl Answers {
    fn begin(&self, name: Name, body: Name) -> Known {
        let mut kept = self.lock();
        kept.forget();
        match kept.calls.get(&name) {
            Some(call) if call.body != body => Known::Another,
            Some(Call { answer: Some(answer), .. }) => Known::Answered(answer.clone()),
            Some(_) => Known::Underway,
            None => {
                kept.calls.insert(name, Call { body, answer: None });
                Known::New
            }
        }
    }

    fn end(&self, name: Name, answer: Option<Answer>) {
        let mut kept = self.lock();
        match (answer, kept.calls.get_mut(&name)) {
            (Some(answer), Some(call)) => {
                let bytes = answer.bytes.len();
                call.answer = Some(answer);
                kept.bytes += bytes;
                kept.order.push_back((Instant::now(), name));
                kept.forget();
            }
            _ => drop(kept.calls.remove(&name)),
        }
    }

    fn lock(&self) -> MutexGuard<'_, Kept> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Kept {
    /// Forgets what is too old or too much.
    fn forget(&mut self) {
        while let Some((at, name)) = self.order.front().copied() {
            if at.elapsed() < KEPT && self.bytes <= MOST_BYTES && self.order.len() <= MOST_ANSWERS {
                return;
            }
            self.order.pop_front();
            let gone = self.calls.remove(&name).and_then(|call| call.answer);
            self.bytes -= gone.map_or(0, |answer| answer.bytes.len());
        }
    }
}

/// Ends a call that came to no answer, as by a panic: it may be made again.
struct Underway {
    answers: Arc<Answers>,
    name: Name,
    is_over: bool,
}

impl Drop for Underway {
    fn drop(&mut self) {
        if !self.is_over {
            self.answers.end(self.name, None);
        }
    }
}

/// Makes the call, or gives the answer that it had.
pub(super) async fn answer(
    mut request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<BoxBody>, actix_web::Error> {
    let key = request.headers().get(HEADER).map(|key| key.as_bytes().to_vec()).unwrap_or_default();
    if key.is_empty() || key.len() > MOST_KEY {
        let trouble = Trouble::bad_request(format!("an Idempotency-Key has 1 to {MOST_KEY} bytes"));
        return Ok(request.into_response(trouble.error_response()));
    }
    let body = request.take_payload();
    let (body, permit) = match whole(request.request(), body).await {
        Ok(read) => read,
        Err(trouble) => return Ok(request.into_response(trouble.error_response())),
    };
    let (name, body_name) = (name_of(&request, &key), *blake3::hash(&body).as_bytes());
    request.set_payload(Payload::from(body));
    let answers = request.app_data::<Data<Answers>>().map(|data| Arc::clone(data)).unwrap_or_default();
    match answers.begin(name, body_name) {
        Known::Answered(answer) => match is_still_known(&request).await {
            Ok(()) => Ok(request.into_response(again(answer))),
            Err(trouble) => Ok(request.into_response(trouble.error_response())),
        },
        Known::Underway => Ok(request.into_response(Trouble::underway().error_response())),
        Known::Another => Ok(request.into_response(Trouble::key_of_another_call().error_response())),
        // In a task of its own: who breaks the connection off does not break the call off.
        Known::New => rt::spawn(call(request, next, permit, Underway { answers, name, is_over: false }))
            .await
            .unwrap_or_else(|_| Err(Trouble::stopping().into())),
    }
}

/// Refuses whoever showed a credential that is not good any more: an answer is not given again to somebody who was signed out since.
async fn is_still_known(request: &ServiceRequest) -> Result<(), Trouble> {
    let credential = credential(request.request())?;
    match request.app_data::<Data<App>>() {
        Some(app) if credential.secret.is_some() => app.for_caller(credential, |_, _| Ok(())).await,
        _ => Ok(()),
    }
}

async fn call(
    request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
    _permit: Option<Permit>,
    mut underway: Underway,
) -> Result<ServiceResponse<BoxBody>, actix_web::Error> {
    let response = next.call(request).await?.map_into_boxed_body();
    let (request, response) = response.into_parts();
    if !is_kept(&response) {
        return Ok(ServiceResponse::new(request, response));
    }
    let (response, body) = response.into_parts();
    let bytes = to_bytes(body).await.map_err(actix_web::error::ErrorInternalServerError)?;
    let kind = response.headers().get(CONTENT_TYPE).cloned();
    let answer = Answer { status: response.status(), kind, bytes: bytes.clone() };
    underway.answers.end(underway.name, Some(answer));
    underway.is_over = true;
    Ok(ServiceResponse::new(request, response.set_body(BoxBody::new(bytes))))
}

/// Whether the same call would be answered so again: not where waiting helps, nor where it is about who calls.
fn is_kept(response: &HttpResponse) -> bool {
    let status = response.status();
    let is_settled = status.is_success() || (status.is_client_error() && ![401, 408, 409, 429].contains(&status.as_u16()));
    is_settled && matches!(response.body().size(), BodySize::None | BodySize::Sized(..=MOST_ANSWER))
}

fn again(answer: Answer) -> HttpResponse {
    let mut response = HttpResponse::build(answer.status);
    if let Some(kind) = answer.kind {
        response.insert_header((CONTENT_TYPE, kind));
    }
    response.body(answer.bytes)
}

/// A key is its caller's own, and of one call.
fn name_of(request: &ServiceRequest, key: &[u8]) -> Name {
    let mut hasher = blake3::Hasher::new();
    let authorization = request.headers().get(AUTHORIZATION).map(HeaderValue::as_bytes).unwrap_or_default();
    let cookie = request.cookie(COOKIE).map(|cookie| cookie.value().to_owned()).unwrap_or_default();
    for part in [authorization, cookie.as_bytes(), request.uri().to_string().as_bytes(), key] {
        hasher.update(&(part.len() as u64).to_le_bytes()).update(part);
    }
    *hasher.finalize().as_bytes()
}

/// All of a body. Of a long one nothing more is read before it is accepted.
async fn whole(request: &HttpRequest, mut body: Payload) -> Result<(Bytes, Option<Permit>), Trouble> {
    let (mut bytes, mut permit) = (BytesMut::new(), None);
    while let Some(piece) = body.next().await {
        let piece = piece.map_err(|_| Trouble::stalled())?;
        if bytes.len() + piece.len() > large::MOST {
            return Err(Trouble::too_large(large::MOST as u64));
        }
        if bytes.len() + piece.len() > MOST_JSON && permit.is_none() {
            permit = Some(large::permit(request).await?);
        }
        bytes.extend_from_slice(&piece);
    }
    Ok((bytes.freeze(), permit))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn answer(bytes: usize) -> Answer {
        Answer { status: StatusCode::OK, kind: None, bytes: vec![1; bytes].into() }
    }

    #[test]
    fn a_call_is_made_once_and_its_key_is_good_for_no_other() {
        let answers = Answers::default();
        assert!(matches!(answers.begin([1; 32], [1; 32]), Known::New));
        assert!(matches!(answers.begin([1; 32], [1; 32]), Known::Underway));
        assert!(matches!(answers.begin([1; 32], [2; 32]), Known::Another));
        answers.end([1; 32], Some(answer(3)));
        assert!(matches!(answers.begin([1; 32], [1; 32]), Known::Answered(Answer { bytes, .. }) if bytes.len() == 3));
        assert!(matches!(answers.begin([2; 32], [1; 32]), Known::New));
        answers.end([2; 32], None);
        assert!(matches!(answers.begin([2; 32], [1; 32]), Known::New), "one that came to nothing may be made again");
    }

    #[test]
    fn answers_take_no_more_memory_than_they_may() {
        let answers = Answers::default();
        for n in 0..200_u8 {
            assert!(matches!(answers.begin([n; 32], [1; 32]), Known::New));
            answers.end([n; 32], Some(answer(256 << 10)));
        }
        let kept = answers.lock();
        assert!(kept.bytes <= MOST_BYTES && kept.calls.len() == MOST_BYTES / (256 << 10), "{} {}", kept.bytes, kept.calls.len());
    }
}
