//! Jobs.

use actix_web::web::{Data, Json, Path, Query};
use actix_web::{get, put};
use jetfrost_types::JobId;
use jetfrost_wire::job::{Job, JobOrder, JobQuery};
use jetfrost_wire::{Page, PageQuery, Problem};

use super::super::{App, Reply};
use crate::shared::Credential;

serve!(jobs, job, order_job,);

/// Jobs, latest first.
#[utoipa::path(tag = "jobs", params(PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Job>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/jobs")]
async fn jobs(app: Data<App>, credential: Credential, query: Query<PageQuery>) -> Reply<Page<Job>> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.list_jobs(caller, &query)).await?))
}

/// A job; optionally waits for its end.
#[utoipa::path(tag = "jobs", params(JobQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Job), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/jobs/{id}")]
async fn job(app: Data<App>, credential: Credential, id: Path<JobId>, query: Query<JobQuery>) -> Reply<Job> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.job(caller, &id, query.wait_seconds)).await?))
}

/// Pauses, resumes or cancels a job.
#[utoipa::path(tag = "jobs", request_body = JobOrder, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Job), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/jobs/{id}/order")]
async fn order_job(app: Data<App>, credential: Credential, id: Path<JobId>, body: Json<JobOrder>) -> Reply<Job> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.order_job(caller, &id, body.order)).await?))
}
