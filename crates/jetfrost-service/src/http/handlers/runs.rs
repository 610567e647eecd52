//! Runs.

use actix_web::web::{Data, Json, Path};
use actix_web::{patch, post};
use jetfrost_types::{RunId, WorkstationId};
use jetfrost_wire::Problem;
use jetfrost_wire::run::{BeginRun, CommitPoint, GiveUp, PointCommitted, Progress, Run, RunBegun};

use super::super::large::Large;
use super::super::{App, Reply};
use crate::shared::Credential;

serve!(begin_run, progress, commit, give_up_run,);

/// Starts a run; an earlier one in progress is ended.
#[utoipa::path(tag = "runs", request_body = BeginRun, params(("id" = String, Path)), security(("bearer" = [])), responses((status = 200, body = RunBegun), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/workstations/{id}/runs")]
async fn begin_run(app: Data<App>, credential: Credential, id: Path<WorkstationId>, body: Json<BeginRun>) -> Reply<RunBegun> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.begin_run(caller, &id, &body)).await?))
}

/// Reports the progress of a run.
#[utoipa::path(tag = "runs", request_body = Progress, params(("id" = String, Path)), security(("bearer" = [])), responses((status = 200, body = Run), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[patch("/runs/{id}")]
async fn progress(app: Data<App>, credential: Credential, id: Path<RunId>, body: Json<Progress>) -> Reply<Run> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.progress(caller, &id, &body)).await?))
}

/// Commits a run's recovery point. Repeated for the same point, it returns the same answer.
#[utoipa::path(tag = "runs", request_body = CommitPoint, params(("id" = String, Path)), security(("bearer" = [])), responses((status = 200, body = PointCommitted), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/runs/{id}/point")]
async fn commit(app: Data<App>, credential: Credential, id: Path<RunId>, body: Large<CommitPoint>) -> Reply<PointCommitted> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.commit(caller, &id, &body.body)).await?))
}

/// Ends a run that made no recovery point.
#[utoipa::path(tag = "runs", request_body = GiveUp, params(("id" = String, Path)), security(("bearer" = [])), responses((status = 200, body = Run), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/runs/{id}/give-up")]
async fn give_up_run(app: Data<App>, credential: Credential, id: Path<RunId>, body: Json<GiveUp>) -> Reply<Run> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.give_up_run(caller, &id, &body)).await?))
}
