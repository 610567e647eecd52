//! Destinations and volumes.

use super::super::{App, Reply, VersionedReply};
use super::diagnosis::diagnosis;
use actix_web::web::{Data, Json, Path, Query};
use actix_web::{delete, get, patch, post, put};
use jetfrost_types::DestinationId;
use jetfrost_wire::destination::{
    Adopt, Adopted, AskErasure, CheckDirectory, ConfirmErasure, Destination, DestinationChange, ErasurePreview, NewDestination,
    Verdict, Volume,
};
use jetfrost_wire::diagnosis::{DiagnoseFor, Diagnosis};
use jetfrost_wire::{Page, PageQuery, Problem};

use crate::shared::{Credential, Seen};

serve!(
    destination,
    destinations,
    check_directory,
    add_destination,
    change_destination,
    withdraw,
    reinstate_destination,
    preview_erasure,
    ask_erasure,
    confirm_erasure,
    call_erasure_off,
    adopt,
    volumes,
    diagnose,
);

/// Destinations, by name.
#[utoipa::path(tag = "destinations", params(PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Destination>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/destinations")]
async fn destinations(app: Data<App>, credential: Credential, page: Query<PageQuery>) -> Reply<Page<Destination>> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.storage.destinations(caller, &page)).await?))
}

/// A destination.
#[utoipa::path(tag = "destinations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Destination), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/destinations/{id}")]
async fn destination(app: Data<App>, credential: Credential, id: Path<DestinationId>) -> VersionedReply<Destination> {
    Ok(app.for_caller(credential, move |services, caller| services.storage.destination_by_id(caller, &id)).await?.into())
}

/// Checks whether a directory can be a destination; changes nothing.
#[utoipa::path(tag = "destinations", request_body = CheckDirectory, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Verdict), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/destinations/check")]
async fn check_directory(app: Data<App>, credential: Credential, body: Json<CheckDirectory>) -> Reply<Verdict> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.storage.check_directory(caller, &body)).await?))
}

/// Adds a destination.
#[utoipa::path(tag = "destinations", request_body = NewDestination, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Destination), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/destinations")]
async fn add_destination(app: Data<App>, credential: Credential, body: Json<NewDestination>) -> Reply<Destination> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.storage.add_destination(caller, &body)).await?))
}

/// Changes the given settings of a destination.
#[utoipa::path(tag = "destinations", request_body = DestinationChange, params(("if-match" = Option<String>, Header, description = "The ETag of what the change was decided on."), ("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Destination), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[patch("/destinations/{id}")]
async fn change_destination(
    app: Data<App>,
    credential: Credential,
    id: Path<DestinationId>,
    seen: Seen,
    body: Json<DestinationChange>,
) -> VersionedReply<Destination> {
    Ok(app
        .for_caller(credential, move |services, caller| services.storage.change_destination(caller, &id, &body, &seen))
        .await?
        .into())
}

/// Withdraws a destination: it accepts no new backups, and those on it can be restored.
#[utoipa::path(tag = "destinations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Destination), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/destinations/{id}/withdrawn")]
async fn withdraw(app: Data<App>, credential: Credential, id: Path<DestinationId>) -> Reply<Destination> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.storage.withdraw(caller, &id)).await?))
}

/// Reinstates a withdrawn destination.
#[utoipa::path(tag = "destinations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Destination), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/destinations/{id}/withdrawn")]
async fn reinstate_destination(app: Data<App>, credential: Credential, id: Path<DestinationId>) -> Reply<Destination> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.storage.reinstate_destination(caller, &id)).await?))
}

/// What erasing a destination would remove.
#[utoipa::path(tag = "destinations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = ErasurePreview), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/destinations/{id}/erasure")]
async fn preview_erasure(app: Data<App>, credential: Credential, id: Path<DestinationId>) -> Reply<ErasurePreview> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.storage.preview_erasure(caller, &id)).await?))
}

/// Starts the erasure of a destination, confirmed with its name: the first confirmation.
#[utoipa::path(tag = "destinations", request_body = AskErasure, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = ErasurePreview), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/destinations/{id}/erasure")]
async fn ask_erasure(
    app: Data<App>,
    credential: Credential,
    id: Path<DestinationId>,
    body: Json<AskErasure>,
) -> Reply<ErasurePreview> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.storage.ask_erasure(caller, &id, &body)).await?))
}

/// Confirms an erasure for the second time; its waiting time starts.
#[utoipa::path(tag = "destinations", request_body = ConfirmErasure, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Destination), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/destinations/{id}/erasure")]
async fn confirm_erasure(
    app: Data<App>,
    credential: Credential,
    id: Path<DestinationId>,
    body: Json<ConfirmErasure>,
) -> Reply<Destination> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.storage.confirm_erasure(caller, &id, &body)).await?))
}

/// Calls an erasure off.
#[utoipa::path(tag = "destinations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Destination), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/destinations/{id}/erasure")]
async fn call_erasure_off(app: Data<App>, credential: Credential, id: Path<DestinationId>) -> Reply<Destination> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.storage.call_erasure_off(caller, &id)).await?))
}

/// Adopts a destination that another installation wrote, or previews that.
#[utoipa::path(tag = "destinations", request_body = Adopt, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Adopted), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/destinations/adoption")]
async fn adopt(app: Data<App>, credential: Credential, body: Json<Adopt>) -> Reply<Adopted> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.storage.adopt(caller, &body)).await?))
}

/// The volumes of the server, each with a verdict. A probe is written to each possible one, and removed.
#[utoipa::path(tag = "destinations", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Volume>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/volumes")]
async fn volumes(app: Data<App>, credential: Credential) -> Reply<Page<Volume>> {
    Ok(Json(Page { items: app.for_caller(credential, |services, caller| services.storage.volumes(caller)).await?, next: None }))
}

/// Diagnoses an account's access from the server. Nothing stays behind.
#[utoipa::path(tag = "destinations", request_body = DiagnoseFor, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Diagnosis), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/destinations/{id}/diagnosis")]
async fn diagnose(app: Data<App>, credential: Credential, id: Path<DestinationId>, body: Json<DiagnoseFor>) -> Reply<Diagnosis> {
    Ok(Json(diagnosis(app.for_caller(credential, move |services, caller| services.backups.diagnose(caller, &id, &body)).await?)))
}
