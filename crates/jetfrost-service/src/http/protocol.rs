//! What HTTP asks of every route, whichever it is (RFC 9110): HEAD and OPTIONS, 405 with what is allowed, 415, and bodies that end.

use std::collections::BTreeSet;
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use actix_web::body::{BodySize, BoxBody, MessageBody};
use actix_web::dev::{Payload, ServiceRequest, ServiceResponse};
use actix_web::error::PayloadError;
use actix_web::http::Method;
use actix_web::http::header::{ALLOW, CONTENT_TYPE, HeaderValue};
use actix_web::middleware::Next;
use actix_web::web::{Bytes, Data};
use actix_web::{HttpMessage, HttpResponse, ResponseError};
use futures_util::{Stream, StreamExt, stream};
use tokio::time::{Instant, timeout_at};
use utoipa::openapi::path::Operation;
use utoipa::openapi::request_body::RequestBody;
use utoipa::openapi::{OpenApi, PathItem, RefOr};

use super::{Trouble, once};

/// A body of which nothing arrives for so long has stalled.
const SILENCE: Duration = Duration::from_secs(30);
/// A body that is no upload may take so long altogether.
const MOST_TIME: Duration = Duration::from_secs(60);
const BYTES: &str = "application/octet-stream";

/// The routes that there are, with what each takes.
#[derive(Debug, Default)]
pub(crate) struct Routes(Vec<Route>);

#[derive(Debug)]
struct Route {
    /// `None` for a part of the path that may be anything.
    parts: Vec<Option<String>>,
    method: Method,
    /// The media type of the body, if there is to be one.
    takes: Option<String>,
}

impl Routes {
    /// Those of a document, and what is there beside it.
    pub(super) fn of(document: &OpenApi) -> Self {
        let beside = ["/healthz", "/readyz", "/metrics", &format!("{}/openapi.json", jetfrost_wire::ROOT)].map(|path| Route {
            parts: parts(path),
            method: Method::GET,
            takes: None,
        });
        let documented = document.paths.paths.iter().flat_map(|(path, item)| {
            operations(item).into_iter().map(move |(method, operation)| Route {
                parts: parts(path),
                method,
                takes: operation.request_body.as_ref().and_then(taken),
            })
        });
        Self(documented.chain(beside).collect())
    }

    fn at<'r>(&'r self, path: &str) -> Vec<&'r Route> {
        let given: Vec<&str> = path.split('/').collect();
        let fits = |route: &&Route| {
            let same = |(part, given): (&Option<String>, &&str)| part.as_ref().map_or(!given.is_empty(), |part| part == given);
            route.parts.len() == given.len() && route.parts.iter().zip(&given).all(same)
        };
        self.0.iter().filter(fits).collect()
    }
}

/// The media type of a body that is described where it is.
fn taken(body: &RefOr<RequestBody>) -> Option<String> {
    match body {
        RefOr::T(body) => body.content.keys().next().cloned(),
        RefOr::Ref(_) => None,
    }
}

fn parts(path: &str) -> Vec<Option<String>> {
    path.split('/').map(|part| (!part.starts_with('{')).then(|| part.to_owned())).collect()
}

fn operations(item: &PathItem) -> Vec<(Method, &Operation)> {
    let all = [
        (Method::GET, &item.get),
        (Method::PUT, &item.put),
        (Method::POST, &item.post),
        (Method::DELETE, &item.delete),
        (Method::PATCH, &item.patch),
    ];
    all.into_iter().filter_map(|(method, operation)| Some((method, operation.as_ref()?))).collect()
}

/// Answers what is answered alike everywhere, and hands on the rest.
pub(crate) async fn speak(
    routes: Data<Routes>,
    mut request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<BoxBody>, actix_web::Error> {
    let known = routes.at(request.path());
    let is_head = request.method() == Method::HEAD;
    if is_head {
        request.head_mut().method = Method::GET;
    }
    let is_page = known.is_empty() && !request.path().starts_with(jetfrost_wire::ROOT);
    if request.method() == Method::OPTIONS && (is_page || !known.is_empty()) {
        return Ok(request.into_response(HttpResponse::NoContent().insert_header((ALLOW, allowed(&known))).finish()));
    }
    let route = known.iter().find(|route| route.method == request.method());
    if route.is_none() && (!known.is_empty() || (is_page && request.method() != Method::GET)) {
        return Ok(refused(request, &Trouble::method_not_allowed(), Some(allowed(&known))));
    }
    if let Some(takes) = route.and_then(|route| route.takes.as_deref()).filter(|takes| !is_of(&request, takes)) {
        let trouble = Trouble::unsupported_media_type(takes);
        return Ok(refused(request, &trouble, None));
    }
    let is_upload = request.method() == Method::PUT && route.is_some_and(|route| route.takes.as_deref() == Some(BYTES));
    if !is_upload {
        let body = request.take_payload();
        request.set_payload(in_time(body));
    }
    if request.method() == Method::POST && request.headers().contains_key(once::HEADER) {
        return once::answer(request, next).await;
    }
    let response = next.call(request).await?.map_into_boxed_body();
    Ok(if is_head { response.map_body(|_, body| BoxBody::new(Withheld(body.size()))) } else { response })
}

fn refused(request: ServiceRequest, trouble: &Trouble, allow: Option<HeaderValue>) -> ServiceResponse<BoxBody> {
    let mut response = trouble.error_response();
    if let Some(allow) = allow {
        response.headers_mut().insert(ALLOW, allow);
    }
    request.into_response(response)
}

/// The methods of some routes; of a page of the console if there are none.
fn allowed(known: &[&Route]) -> HeaderValue {
    let mut methods: BTreeSet<&str> = known.iter().map(|route| route.method.as_str()).collect();
    if known.is_empty() {
        methods.insert("GET");
    }
    if methods.contains("GET") {
        methods.insert("HEAD");
    }
    methods.insert("OPTIONS");
    let text = methods.into_iter().collect::<Vec<_>>().join(", ");
    HeaderValue::from_str(&text).expect("methods are words")
}

/// Whether a body says that it is of a media type. Bytes need not say so, nor need what is empty.
fn is_of(request: &ServiceRequest, takes: &str) -> bool {
    let Some(given) = request.headers().get(CONTENT_TYPE) else { return true };
    let essence = given.to_str().unwrap_or_default().split(';').next().unwrap_or_default().trim();
    essence.eq_ignore_ascii_case(takes)
}

/// The same body; it ends with an error when nothing comes for too long, or when it takes too long altogether.
fn in_time(body: Payload) -> Payload {
    let whole = Instant::now() + MOST_TIME;
    let timed = stream::unfold(Some(body), move |body| async move {
        let mut body = body?;
        match timeout_at(whole.min(Instant::now() + SILENCE), body.next()).await {
            Ok(piece) => Some((piece?, Some(body))),
            Err(_) => Some((Err(PayloadError::Io(std::io::ErrorKind::TimedOut.into())), None)),
        }
    });
    Payload::from(Box::pin(timed) as Pin<Box<dyn Stream<Item = Result<Bytes, PayloadError>>>>)
}

/// A body that an answer to HEAD would have had (RFC 9110, section 9.3.2).
struct Withheld(BodySize);

impl MessageBody for Withheld {
    type Error = std::convert::Infallible;

    fn size(&self) -> BodySize {
        self.0
    }

    fn poll_next(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<Option<Result<Bytes, Self::Error>>> {
        Poll::Ready(None)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_allowed_at_a_path_is_what_its_routes_take() {
        let routes = Routes::of(&crate::http::document());
        let allowed_at = |path: &str| allowed(&routes.at(path)).to_str().expect("text").to_owned();
        assert_eq!(allowed_at("/api/v1/enrolment-codes"), "GET, HEAD, OPTIONS, POST");
        assert_eq!(allowed_at("/api/v1/enrolment-codes/x/renewal"), "OPTIONS, POST");
        assert_eq!(allowed_at("/readyz"), "GET, HEAD, OPTIONS");
        assert!(routes.at("/api/v1/nothing").is_empty() && routes.at("/api/v1/enrolment-codes//renewal").is_empty());
    }
}
