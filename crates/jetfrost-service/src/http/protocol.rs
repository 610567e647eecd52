//! What HTTP asks of every route, whichever it is (RFC 9110): HEAD and OPTIONS, 405 with what is allowed, 415, and bodies that end.

use std::collections::BTreeSet;
use std::pin::Pin;
use std::sync::{Arc, LazyLock};
use std::task::{Context, Poll};
use std::time::Duration;

use actix_web::body::{BodySize, BoxBody, MessageBody};
use actix_web::dev::{Payload, ServiceRequest, ServiceResponse};
use actix_web::error::PayloadError;
use actix_web::http::Method;
use actix_web::http::header::{ALLOW, CONTENT_TYPE, HeaderValue, IF_MATCH};
use actix_web::middleware::Next;
use actix_web::web::{Bytes, BytesMut, Data};
use actix_web::{HttpMessage, HttpResponse, ResponseError};
use futures_util::{Stream, StreamExt, stream};
use serde_json::Value;
use tokio::time::{Instant, timeout_at};

use super::document::takes_version;
use super::{Trouble, once, strict};

/// A body of which nothing arrives for so long has stalled.
const SILENCE: Duration = Duration::from_secs(30);
/// A body that is no upload may take so long altogether.
const MOST_TIME: Duration = Duration::from_secs(60);
const BYTES: &str = "application/octet-stream";
const JSON: &str = "application/json";
/// Longer bodies are a point with its file, or a table of people and machines.
const MOST_CHECKED: usize = 64 << 10;

type Pieces = Pin<Box<dyn Stream<Item = Result<Bytes, PayloadError>>>>;

/// The routes that there are, with what each takes.
#[derive(Debug)]
pub(crate) struct Routes {
    document: Value,
    routes: Vec<Route>,
}

#[derive(Debug)]
struct Route {
    /// `None` for a part of the path that may be anything.
    parts: Vec<Option<String>>,
    method: Method,
    /// The media type of the body, if there is to be one, and its schema.
    takes: Option<(String, Value)>,
    /// The names of what a query may have.
    query: Vec<String>,
    /// Whether it heeds `If-Match`.
    takes_version: bool,
}

impl Routes {
    /// Those of the service. They are made once: all threads have the same.
    pub(super) fn known() -> Arc<Self> {
        static KNOWN: LazyLock<Arc<Routes>> = LazyLock::new(|| Arc::new(Routes::of(super::document())));
        Arc::clone(&KNOWN)
    }

    /// Those of a document, and what is there beside it.
    fn of(document: Value) -> Self {
        let beside = ["/healthz", "/readyz", "/metrics", "/downloads/{name}", &format!("{}/openapi.json", jetfrost_wire::ROOT)]
            .map(|path| Route { parts: parts(path), method: Method::GET, takes: None, query: Vec::new(), takes_version: false });
        let paths = document["paths"].as_object().into_iter().flatten();
        let routes = paths.flat_map(|(path, item)| {
            item.as_object().into_iter().flatten().filter_map(|(method, call)| Route::of(path, method, call))
        });
        Self { routes: routes.chain(beside).collect(), document }
    }

    pub(super) fn document(&self) -> &Value {
        &self.document
    }

    fn at<'r>(&'r self, path: &str) -> Vec<&'r Route> {
        let given: Vec<&str> = path.split('/').collect();
        let fits = |route: &&Route| {
            let same = |(part, given): (&Option<String>, &&str)| part.as_ref().map_or(!given.is_empty(), |part| part == given);
            route.parts.len() == given.len() && route.parts.iter().zip(&given).all(same)
        };
        self.routes.iter().filter(fits).collect()
    }
}

impl Route {
    fn of(path: &str, method: &str, call: &Value) -> Option<Self> {
        let method = method.to_uppercase().parse().ok()?;
        let body = call["requestBody"]["content"].as_object().and_then(|content| content.iter().next());
        let takes = body.map(|(kind, media)| (kind.clone(), media["schema"].clone()));
        let parameters = call["parameters"].as_array().into_iter().flatten();
        let query = parameters.filter(|one| one["in"] == "query").filter_map(|one| one["name"].as_str().map(str::to_owned));
        let mut query: Vec<String> = query.collect();
        // A list that is never long answers with one page of all; whoever asks for pages may do so of it, too.
        let answer = &call["responses"]["200"]["content"][JSON]["schema"]["$ref"];
        if answer.as_str().is_some_and(|name| name.contains("/Page_")) {
            query.extend(["after".to_owned(), "most".to_owned()]);
        }
        Some(Self { parts: parts(path), method, takes, query, takes_version: takes_version(call) })
    }

    fn takes(&self) -> Option<&str> {
        self.takes.as_ref().map(|(kind, _)| kind.as_str())
    }
}

fn parts(path: &str) -> Vec<Option<String>> {
    path.split('/').map(|part| (!part.starts_with('{')).then(|| part.to_owned())).collect()
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
    if let Some(takes) = route.and_then(|route| route.takes()).filter(|takes| !is_of(&request, takes)) {
        let trouble = Trouble::unsupported_media_type(takes);
        return Ok(refused(request, &trouble, None));
    }
    // Whoever sets a condition counts on it.
    if request.headers().contains_key(IF_MATCH) && !request.method().is_safe() && route.is_some_and(|r| !r.takes_version) {
        return Ok(refused(request, &Trouble::bad_request("this call takes no 'If-Match'"), None));
    }
    let is_upload = request.method() == Method::PUT && route.is_some_and(|route| route.takes() == Some(BYTES));
    if !is_upload {
        let body = request.take_payload();
        request.set_payload(in_time(body));
    }
    if let Some(route) = route
        && let Err(why) = is_as_documented(&mut request, route, routes.document()).await
    {
        return Ok(refused(request, &Trouble::bad_request(why), None));
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

/// Whether query and body have nothing in them that the document does not have. A body that is too long for this is judged by
/// whoever reads it.
async fn is_as_documented(request: &mut ServiceRequest, route: &Route, document: &Value) -> Result<(), String> {
    for (name, _) in form_urlencoded::parse(request.query_string().as_bytes()) {
        strict::known_name(&name, route.query.iter().map(String::as_str), "parameter")?;
    }
    let Some((_, schema)) = route.takes.as_ref().filter(|(kind, _)| kind == JSON) else { return Ok(()) };
    let mut body = request.take_payload();
    let mut begun = BytesMut::new();
    while begun.len() <= MOST_CHECKED {
        let Some(piece) = body.next().await else {
            let begun = begun.freeze();
            request.set_payload(Payload::from(begun.clone()));
            // What is no JSON is refused by whoever reads it.
            return serde_json::from_slice(&begun).map_or(Ok(()), |value| strict::check(&value, schema, document));
        };
        match piece {
            Ok(piece) => begun.extend_from_slice(&piece),
            Err(error) => {
                let failed = stream::iter([Ok(begun.freeze()), Err(error)]);
                request.set_payload(Payload::from(Box::pin(failed) as Pieces));
                return Ok(());
            }
        }
    }
    let whole = stream::iter([Ok(begun.freeze())]).chain(body);
    request.set_payload(Payload::from(Box::pin(whole) as Pieces));
    Ok(())
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
    Payload::from(Box::pin(timed) as Pieces)
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
        let routes = Routes::known();
        let allowed_at = |path: &str| allowed(&routes.at(path)).to_str().expect("text").to_owned();
        assert_eq!(allowed_at("/api/v1/enrolment-codes"), "GET, HEAD, OPTIONS, POST");
        assert_eq!(allowed_at("/api/v1/enrolment-codes/x/renewal"), "OPTIONS, POST");
        assert_eq!(allowed_at("/readyz"), "GET, HEAD, OPTIONS");
        assert!(routes.at("/api/v1/nothing").is_empty() && routes.at("/api/v1/enrolment-codes//renewal").is_empty());
    }
}
