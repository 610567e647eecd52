//! Workstations.

use super::super::{App, Reply};
use super::diagnosis::diagnosis;
use actix_web::web::{Data, Json, Path, Query};
use actix_web::{get, post, put};
use jetfrost_types::WorkstationId;
use jetfrost_wire::diagnosis::{Diagnosis, LastDiagnosis};
use jetfrost_wire::point::Point;
use jetfrost_wire::restore::Restore;
use jetfrost_wire::run::Run;
use jetfrost_wire::workstation::{AgentReport, AgentState, NewProof, Overview, Proof, Workstation, WorkstationQuery};
use jetfrost_wire::{Found, Page, PageQuery, Problem};

use crate::shared::Credential;

serve!(
    workstations,
    workstation,
    points,
    runs,
    restores,
    overview,
    retire,
    diagnose_own,
    last_diagnosis,
    keep_diagnosis,
    prove,
    report_agent,
);

/// The workstations that the caller may see, and looks for.
#[utoipa::path(tag = "workstations", params(WorkstationQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Found<Workstation>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/workstations")]
async fn workstations(app: Data<App>, credential: Credential, query: Query<WorkstationQuery>) -> Reply<Found<Workstation>> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.workstations(caller, &query)).await?))
}

/// One workstation.
#[utoipa::path(tag = "workstations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/workstations/{id}")]
async fn workstation(app: Data<App>, credential: Credential, id: Path<WorkstationId>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.workstation(caller, &id)).await?))
}

/// A workstation's recovery points, latest first.
#[utoipa::path(tag = "workstations", params(("id" = String, Path), PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Point>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/workstations/{id}/points")]
async fn points(app: Data<App>, credential: Credential, id: Path<WorkstationId>, page: Query<PageQuery>) -> Reply<Page<Point>> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.points(caller, &id, &page)).await?))
}

/// A workstation's runs, latest first.
#[utoipa::path(tag = "workstations", params(("id" = String, Path), PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Run>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/workstations/{id}/runs")]
async fn runs(app: Data<App>, credential: Credential, id: Path<WorkstationId>, page: Query<PageQuery>) -> Reply<Page<Run>> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.runs(caller, &id, &page)).await?))
}

/// The restores from a workstation's image store, latest first.
#[utoipa::path(tag = "workstations", params(("id" = String, Path), PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Restore>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/workstations/{id}/restores")]
async fn restores(
    app: Data<App>,
    credential: Credential,
    id: Path<WorkstationId>,
    page: Query<PageQuery>,
) -> Reply<Page<Restore>> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.restores(caller, &id, &page)).await?))
}

/// The state of everything that the caller may see.
#[utoipa::path(tag = "workstations", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Overview), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/overview")]
async fn overview(app: Data<App>, credential: Credential) -> Reply<Overview> {
    Ok(Json(app.for_caller(credential, |services, caller| services.backups.overview(caller)).await?))
}

/// Cuts a workstation's machine off. Its backups stay.
#[utoipa::path(tag = "workstations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/workstations/{id}/retired")]
async fn retire(app: Data<App>, credential: Credential, id: Path<WorkstationId>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.retire(caller, &id)).await?))
}

/// Diagnoses the calling workstation's access. Nothing stays behind.
#[utoipa::path(tag = "workstations", params(("id" = String, Path)), security(("bearer" = [])), responses((status = 200, body = Diagnosis), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/workstations/{id}/diagnosis")]
async fn diagnose_own(app: Data<App>, credential: Credential, id: Path<WorkstationId>) -> Reply<Diagnosis> {
    Ok(Json(diagnosis(app.for_caller(credential, move |services, caller| services.backups.diagnose_own(caller, &id)).await?)))
}

/// What a workstation found out about itself last.
#[utoipa::path(tag = "workstations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = LastDiagnosis), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/workstations/{id}/diagnosis")]
async fn last_diagnosis(app: Data<App>, credential: Credential, id: Path<WorkstationId>) -> Reply<LastDiagnosis> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.last_diagnosis(caller, &id)).await?))
}

/// Keeps what the calling workstation found out about itself, in place of what it found before.
#[utoipa::path(tag = "workstations", request_body = Diagnosis, params(("id" = String, Path)), security(("bearer" = [])), responses((status = 200, body = LastDiagnosis), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/workstations/{id}/diagnosis")]
async fn keep_diagnosis(
    app: Data<App>,
    credential: Credential,
    id: Path<WorkstationId>,
    body: Json<Diagnosis>,
) -> Reply<LastDiagnosis> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.keep_diagnosis(caller, &id, &body)).await?))
}

/// Puts on record that a person at the calling workstation opened its image store with a secret.
#[utoipa::path(tag = "workstations", request_body = NewProof, params(("id" = String, Path)), security(("bearer" = [])), responses((status = 200, body = Proof), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/workstations/{id}/proof")]
async fn prove(app: Data<App>, credential: Credential, id: Path<WorkstationId>, body: Json<NewProof>) -> Reply<Proof> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.prove(caller, &id, &body)).await?))
}

/// Notes what the calling workstation's agent says of itself. Returns what is on record: reports in quick succession are not taken.
#[utoipa::path(tag = "workstations", request_body = AgentReport, params(("id" = String, Path)), security(("bearer" = [])), responses((status = 200, body = AgentState), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/workstations/{id}/agent")]
async fn report_agent(
    app: Data<App>,
    credential: Credential,
    id: Path<WorkstationId>,
    body: Json<AgentReport>,
) -> Reply<AgentState> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.report_agent(caller, &id, &body)).await?))
}
