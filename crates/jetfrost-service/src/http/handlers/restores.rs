//! Restores.

use actix_web::web::{Data, Json, Path, Query};
use actix_web::{get, patch, post, put};
use jetfrost_types::{RestoreId, WorkstationId};
use jetfrost_wire::restore::{BeginRestore, CheckedOff, EndRestore, ReportedRestore, Restore, RestoreQuery};
use jetfrost_wire::run::{GiveUp, Progress};
use jetfrost_wire::{Page, Problem};

use super::super::{App, Reply};
use crate::shared::Credential;

serve!(restore_report, begin_restore, restore_progress, end_restore, give_up_restore, cancel_restore, check_off,);

/// Restores, drills and other reads of points of all workstations, latest first.
#[utoipa::path(tag = "restores", params(RestoreQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<ReportedRestore>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/restores")]
async fn restore_report(app: Data<App>, credential: Credential, query: Query<RestoreQuery>) -> Reply<Page<ReportedRestore>> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.restore_report(caller, &query)).await?))
}

/// Starts a restore and records it.
#[utoipa::path(tag = "restores", request_body = BeginRestore, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Restore), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/workstations/{id}/restores")]
async fn begin_restore(
    app: Data<App>,
    credential: Credential,
    id: Path<WorkstationId>,
    body: Json<BeginRestore>,
) -> Reply<Restore> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.begin_restore(caller, &id, &body)).await?))
}

/// Reports the progress of a restore.
#[utoipa::path(tag = "restores", request_body = Progress, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Restore), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[patch("/restores/{id}")]
async fn restore_progress(app: Data<App>, credential: Credential, id: Path<RestoreId>, body: Json<Progress>) -> Reply<Restore> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.restore_progress(caller, &id, &body)).await?))
}

/// Ends a restore that succeeded, with or without exceptions.
#[utoipa::path(tag = "restores", request_body = EndRestore, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Restore), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/restores/{id}/end")]
async fn end_restore(app: Data<App>, credential: Credential, id: Path<RestoreId>, body: Json<EndRestore>) -> Reply<Restore> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.end_restore(caller, &id, &body)).await?))
}

/// Ends a restore that failed or was cancelled.
#[utoipa::path(tag = "restores", request_body = GiveUp, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Restore), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/restores/{id}/give-up")]
async fn give_up_restore(app: Data<App>, credential: Credential, id: Path<RestoreId>, body: Json<GiveUp>) -> Reply<Restore> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.give_up_restore(caller, &id, &body)).await?))
}

/// Asks the program in which a restore runs to cancel it. It ends once that program hears of it, within seconds.
#[utoipa::path(tag = "restores", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Restore), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/restores/{id}/cancellation")]
async fn cancel_restore(app: Data<App>, credential: Credential, id: Path<RestoreId>) -> Reply<Restore> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.cancel_restore(caller, &id)).await?))
}

/// Puts on record what was found when a whole machine was checked off after a restore.
#[utoipa::path(tag = "restores", request_body = CheckedOff, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Restore), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/restores/{id}/checklist")]
async fn check_off(app: Data<App>, credential: Credential, id: Path<RestoreId>, body: Json<CheckedOff>) -> Reply<Restore> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.check_off(caller, &id, &body)).await?))
}
