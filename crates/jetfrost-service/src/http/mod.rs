//! The API over HTTP: extract, call a use case, map what comes back.

mod bounds;
mod bulk;
mod caps;
mod console;
mod credential;
mod document;
mod events;
mod examples;
mod handlers;
mod large;
mod once;
mod problem;
mod protocol;
mod strict;
mod versions;

use std::future::Future;
use std::sync::Arc;

use actix_files::NamedFile;
use actix_web::http::header;
use actix_web::web::{self, Data, Json};
use actix_web::{HttpRequest, HttpResponse, dev, middleware};
use jetfrost_office::access::Act;
use jetfrost_wire::size::{UNITS_HEADER, shown_in};
use tokio::sync::watch;
use utoipa_actix_web::service_config::ServiceConfig;

use crate::downloads::SUMS;
use crate::operations::Readiness;
use crate::services::Services;
use crate::shared::{Caller, Credential, ServiceError, Thing};
use caps::{Caps, Permit};
pub(crate) use credential::COOKIE;
pub(crate) use document::document;
use once::Answers;
pub(crate) use problem::Trouble;
use protocol::Routes;
pub(crate) use protocol::speak;
use versions::Versioned;

/// JSON bodies are not longer than this, except those that are [`large::Large`].
const MOST_JSON: usize = 64 << 10;

/// What every handler has at hand.
#[derive(Clone)]
pub(crate) struct App {
    pub(crate) services: Arc<Services>,
    /// Becomes true when the service stops: long answers end then.
    pub(crate) stopping: watch::Receiver<bool>,
    /// Uploads and fetches that are going on.
    bulk: Arc<Caps>,
    /// Bodies in memory that are longer than names and settings are.
    large: Arc<Caps>,
    /// People and their programs who listen to live changes.
    listeners: Arc<Caps>,
    /// Agents that do; they take no place from people.
    listening_agents: Arc<Caps>,
    /// Answers that can be given again.
    answers: Arc<Answers>,
}

/// Uploads and fetches of one workstation or session, and of all: each holds two buffers.
const MOST_BULK: (usize, usize) = (24, 400);
/// Long bodies of one workstation or account, and of all: each has two mebibytes at most.
const MOST_LARGE: (usize, usize) = (4, 64);
/// Listeners of one account, and all of them.
const MOST_LISTENERS: (usize, usize) = (16, 400);
/// Listeners of one workstation, and all of them: an agent has one, and another for a moment after its connection broke.
const MOST_LISTENING_AGENTS: (usize, usize) = (3, 3_000);

impl App {
    pub(crate) fn new(services: Arc<Services>, stopping: watch::Receiver<bool>) -> Self {
        let caps = |(each, all)| Caps::new(each, all);
        Self {
            services,
            stopping,
            bulk: caps(MOST_BULK),
            large: caps(MOST_LARGE),
            listeners: caps(MOST_LISTENERS),
            listening_agents: caps(MOST_LISTENING_AGENTS),
            answers: Arc::default(),
        }
    }

    /// Begins an upload or a fetch for whoever calls, unless too many are going on.
    async fn bulk_for_caller<T: Send + 'static>(
        &self,
        credential: Credential,
        work: impl FnOnce(&Services, &Caller) -> Result<T, ServiceError> + Send + 'static,
    ) -> Result<(Permit, T), Trouble> {
        let bulk = Arc::clone(&self.bulk);
        let begun = self.for_caller(credential, move |services, caller| {
            let Some(permit) = bulk.begin(&caller.name()) else { return Ok(None) };
            Ok(Some((permit, work(services, caller)?)))
        });
        begun.await?.ok_or_else(Trouble::too_many)
    }

    /// Lets one more long body of whoever calls into memory, unless there are too many.
    async fn large_for_caller(&self, credential: Credential) -> Result<Permit, Trouble> {
        let large = Arc::clone(&self.large);
        let permit = self.for_caller(credential, move |_, caller| Ok(large.begin(&caller.name())));
        permit.await?.ok_or_else(Trouble::too_many)
    }

    /// Runs a use case off the event loop.
    async fn run<T: Send + 'static>(
        &self,
        work: impl FnOnce(&Services) -> Result<T, ServiceError> + Send + 'static,
    ) -> Result<T, Trouble> {
        let services = Arc::clone(&self.services);
        web::block(move || work(&services)).await.map_err(|_| Trouble::stopping())?.map_err(Trouble::from)
    }

    /// Runs a use case for whoever calls.
    async fn for_caller<T: Send + 'static>(
        &self,
        credential: Credential,
        work: impl FnOnce(&Services, &Caller) -> Result<T, ServiceError> + Send + 'static,
    ) -> Result<T, Trouble> {
        self.run(move |services| {
            let caller = services.identity.authenticate(&credential)?;
            let done = work(services, &caller);
            if let Err(error) = &done {
                services.identity.audit_refused_call(&caller, error, &credential.call)?;
            }
            done
        })
        .await
    }
}

type Reply<T> = Result<Json<T>, Trouble>;
/// A reply that says in `ETag` what a change is to say in `If-Match`.
type VersionedReply<T> = Result<Versioned<T>, Trouble>;

fn api_routes(config: &mut ServiceConfig<'_>) {
    handlers::routes(config);
    bulk::routes(config);
    events::routes(config);
}

/// All routes of the service.
pub(crate) fn configure(config: &mut web::ServiceConfig, app: App) {
    let metrics = app.clone();
    let document = Routes::known();
    config
        .app_data(Data::from(Arc::clone(&document)))
        .app_data(Data::from(Arc::clone(&app.answers)))
        .app_data(Data::new(app))
        .app_data(web::JsonConfig::default().limit(MOST_JSON).error_handler(|e, _| problem::bad_json(&e).into()))
        .app_data(web::QueryConfig::default().error_handler(|e, _| Trouble::bad_request(e.to_string()).into()))
        .app_data(web::PathConfig::default().error_handler(|e, _| Trouble::bad_request(e.to_string()).into()))
        .app_data(web::PayloadConfig::new(bulk::MOST_NAMES_BODY))
        .route("/healthz", web::get().to(|| async { HttpResponse::Ok().body("alive\n") }))
        .route("/readyz", web::get().to(ready))
        .route("/downloads/{name}", web::get().to(download))
        .route("/metrics", web::get().to(move |request, credential| expose(metrics.clone(), request, credential)))
        .service(
            web::scope(jetfrost_wire::ROOT)
                .route("/openapi.json", web::get().to(move || std::future::ready(HttpResponse::Ok().json(document.document()))))
                .configure(|config| {
                    api_routes(&mut ServiceConfig::new(config));
                })
                .wrap(middleware::DefaultHeaders::new().add(("Cache-Control", "no-store")))
                .default_service(web::to(|| async { Trouble::from(ServiceError::NotFound(Thing::Path)) })),
        )
        .configure(console::routes);
}

/// Whether the service can do its work.
async fn ready(app: Data<App>) -> HttpResponse {
    match app.run(|services| services.operations.readiness()).await {
        Ok(Readiness::Ready) => HttpResponse::Ok().body("ready\n"),
        Ok(Readiness::NoDestination) => not_ready("no destination can be written to\n"),
        Err(_) => not_ready("the records cannot be written\n"),
    }
}

fn not_ready(why: &'static str) -> HttpResponse {
    HttpResponse::ServiceUnavailable().insert_header((header::RETRY_AFTER, "10")).body(why)
}

/// A program for workstations, or the list of them as sha256sum(1) checks it.
async fn download(app: Data<App>, request: HttpRequest, name: web::Path<String>) -> Result<HttpResponse, Trouble> {
    let name = name.into_inner();
    if name == SUMS {
        let sums = app.run(|services| services.operations.download_sums()).await?;
        return Ok(HttpResponse::Ok().content_type("text/plain; charset=utf-8").body(sums));
    }
    let path = app.run(move |services| services.operations.download_path(&name)).await?;
    let file = NamedFile::open_async(path).await.map_err(|_| Trouble::from(ServiceError::NotFound(Thing::Path)))?;
    Ok(file.into_response(&request))
}

/// A few figures in the OpenMetrics text format.
/// They name nobody, and yet they are the office's own: only this machine may read them, or who may see the office.
async fn expose(app: App, request: HttpRequest, credential: Credential) -> Result<HttpResponse, Trouble> {
    let is_local = request.peer_addr().is_some_and(|peer| peer.ip().is_loopback());
    if !is_local {
        app.for_caller(credential, |_, caller| caller.may(&Act::SeeOffice)).await?;
    }
    let text = app.run(|services| services.operations.metrics()).await?;
    Ok(HttpResponse::Ok().content_type("application/openmetrics-text; version=1.0.0; charset=utf-8").body(text))
}

/// Headers that every answer has.
pub(crate) fn headers() -> middleware::DefaultHeaders {
    middleware::DefaultHeaders::new()
        .add(("Content-Security-Policy", console::POLICY))
        .add(("X-Content-Type-Options", "nosniff"))
        .add(("Referrer-Policy", "no-referrer"))
        .add(("Cross-Origin-Opener-Policy", "same-origin"))
}

/// Logs each request with its outcome; a failed one with the same number that its problem document carries.
pub(crate) fn log<B>(
    request: dev::ServiceRequest,
    next: middleware::Next<B>,
) -> impl Future<Output = Result<dev::ServiceResponse<B>, actix_web::Error>>
where
    B: actix_web::body::MessageBody,
{
    let line = format!("{} {}", request.method(), request.path());
    async move {
        let mut response = next.call(request).await?;
        // Whoever shows a size shows it in the units that the office chose.
        let units = header::HeaderValue::from_static(shown_in().word());
        response.headers_mut().insert(header::HeaderName::from_static(UNITS_HEADER), units);
        tracing::debug!(status = response.status().as_u16(), "{line}");
        Ok(response)
    }
}
