//! Schedules, and what an administrator asks of a workstation.

use actix_web::web::{Data, Json, Path, Query};
use actix_web::{delete, get, put};
use jetfrost_types::{DestinationId, GroupId, WorkstationId};
use jetfrost_wire::schedule::{NewPause, OwnSchedule, ScheduleSettings};
use jetfrost_wire::workstation::{Wait, Workstation};
use jetfrost_wire::{Page, PageQuery, Problem};

use super::super::{App, Reply, VersionedReply};
use crate::backups::Scheduled;
use crate::shared::{Credential, Seen};

serve!(
    workstation_schedule,
    set_workstation_schedule,
    group_schedule,
    set_group_schedule,
    destination_schedule,
    set_destination_schedule,
    ask_backup,
    unask_backup,
    pause_workstation,
    resume_workstation,
    waits,
);

async fn own(app: Data<App>, credential: Credential, of: Scheduled) -> VersionedReply<OwnSchedule> {
    Ok(app.for_caller(credential, move |services, caller| services.backups.own_schedule(caller, &of)).await?.into())
}

async fn set(
    app: Data<App>,
    credential: Credential,
    of: Scheduled,
    seen: Seen,
    to: Json<ScheduleSettings>,
) -> VersionedReply<OwnSchedule> {
    Ok(app.for_caller(credential, move |services, caller| services.backups.set_schedule(caller, &of, &to, &seen)).await?.into())
}

/// What is set of a schedule for a workstation itself. What holds for it is part of the workstation.
#[utoipa::path(tag = "workstations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = OwnSchedule), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/workstations/{id}/schedule")]
async fn workstation_schedule(app: Data<App>, credential: Credential, id: Path<WorkstationId>) -> VersionedReply<OwnSchedule> {
    own(app, credential, Scheduled::Workstation(id.into_inner())).await
}

/// Sets the schedule of a workstation. What is left out is set by its account's groups or its destination, or is the default.
#[utoipa::path(tag = "workstations", request_body = ScheduleSettings, params(("if-match" = Option<String>, Header, description = "The ETag of what the change was decided on."), ("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = OwnSchedule), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/workstations/{id}/schedule")]
async fn set_workstation_schedule(
    app: Data<App>,
    credential: Credential,
    id: Path<WorkstationId>,
    seen: Seen,
    body: Json<ScheduleSettings>,
) -> VersionedReply<OwnSchedule> {
    set(app, credential, Scheduled::Workstation(id.into_inner()), seen, body).await
}

/// What is set of a schedule for the workstations of a group's accounts.
#[utoipa::path(tag = "groups", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = OwnSchedule), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/groups/{id}/schedule")]
async fn group_schedule(app: Data<App>, credential: Credential, id: Path<GroupId>) -> VersionedReply<OwnSchedule> {
    own(app, credential, Scheduled::Group(id.into_inner())).await
}

/// Sets the schedule of the workstations of a group's accounts. If an account is in several groups, the first by name applies.
#[utoipa::path(tag = "groups", request_body = ScheduleSettings, params(("if-match" = Option<String>, Header, description = "The ETag of what the change was decided on."), ("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = OwnSchedule), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/groups/{id}/schedule")]
async fn set_group_schedule(
    app: Data<App>,
    credential: Credential,
    id: Path<GroupId>,
    seen: Seen,
    body: Json<ScheduleSettings>,
) -> VersionedReply<OwnSchedule> {
    set(app, credential, Scheduled::Group(id.into_inner()), seen, body).await
}

/// What is set of a schedule for the workstations of a destination.
#[utoipa::path(tag = "destinations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = OwnSchedule), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/destinations/{id}/schedule")]
async fn destination_schedule(app: Data<App>, credential: Credential, id: Path<DestinationId>) -> VersionedReply<OwnSchedule> {
    own(app, credential, Scheduled::Destination(id.into_inner())).await
}

/// Sets the schedule of the workstations of a destination.
#[utoipa::path(tag = "destinations", request_body = ScheduleSettings, params(("if-match" = Option<String>, Header, description = "The ETag of what the change was decided on."), ("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = OwnSchedule), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/destinations/{id}/schedule")]
async fn set_destination_schedule(
    app: Data<App>,
    credential: Credential,
    id: Path<DestinationId>,
    seen: Seen,
    body: Json<ScheduleSettings>,
) -> VersionedReply<OwnSchedule> {
    set(app, credential, Scheduled::Destination(id.into_inner()), seen, body).await
}

/// Asks a workstation for a backup now. Its agent starts one as soon as it hears of this.
#[utoipa::path(tag = "workstations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/workstations/{id}/asked-backup")]
async fn ask_backup(app: Data<App>, credential: Credential, id: Path<WorkstationId>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.ask_backup(caller, &id)).await?))
}

/// No longer asks for a backup that has not started.
#[utoipa::path(tag = "workstations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/workstations/{id}/asked-backup")]
async fn unask_backup(app: Data<App>, credential: Credential, id: Path<WorkstationId>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.unask_backup(caller, &id)).await?))
}

/// Pauses the backups of a workstation: its agent starts none. A run in progress finishes.
#[utoipa::path(tag = "workstations", request_body = NewPause, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/workstations/{id}/pause")]
async fn pause_workstation(
    app: Data<App>,
    credential: Credential,
    id: Path<WorkstationId>,
    body: Json<NewPause>,
) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.pause_workstation(caller, &id, &body)).await?))
}

/// Ends the pause of a workstation.
#[utoipa::path(tag = "workstations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/workstations/{id}/pause")]
async fn resume_workstation(app: Data<App>, credential: Credential, id: Path<WorkstationId>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.resume_workstation(caller, &id)).await?))
}

/// What kept a workstation's backups waiting, latest first.
#[utoipa::path(tag = "workstations", params(("id" = String, Path), PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Wait>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/workstations/{id}/waits")]
async fn waits(app: Data<App>, credential: Credential, id: Path<WorkstationId>, page: Query<PageQuery>) -> Reply<Page<Wait>> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.waits(caller, &id, &page)).await?))
}
