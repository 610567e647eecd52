//! Groups.

use actix_web::web::{Data, Json, Path, Query};
use actix_web::{HttpResponse, delete, get, patch, post, put};
use jetfrost_types::GroupId;
use jetfrost_wire::people::{Group, GroupChange, GroupLogins, NewGroup};
use jetfrost_wire::{Page, PageQuery, Problem};

use super::super::{App, Reply, Trouble, VersionedReply};
use crate::shared::{Credential, Seen};

serve!(group, groups, add_group, set_group_logins, change_group, remove_group,);

/// Groups, by name.
#[utoipa::path(tag = "groups", params(PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Group>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/groups")]
async fn groups(app: Data<App>, credential: Credential, page: Query<PageQuery>) -> Reply<Page<Group>> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.identity.groups(caller, &page)).await?))
}

/// A group.
#[utoipa::path(tag = "groups", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Group), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/groups/{id}")]
async fn group(app: Data<App>, credential: Credential, id: Path<GroupId>) -> VersionedReply<Group> {
    Ok(app.for_caller(credential, move |services, caller| services.identity.group(caller, &id)).await?.into())
}

/// Adds a group.
#[utoipa::path(tag = "groups", request_body = NewGroup, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Group), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/groups")]
async fn add_group(app: Data<App>, credential: Credential, body: Json<NewGroup>) -> Reply<Group> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.identity.add_group(caller, &body)).await?))
}

/// Sets who is in a group.
#[utoipa::path(tag = "groups", request_body = GroupLogins, params(("if-match" = Option<String>, Header, description = "The ETag of what the change was decided on."), ("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Group), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/groups/{id}/logins")]
async fn set_group_logins(
    app: Data<App>,
    credential: Credential,
    id: Path<GroupId>,
    seen: Seen,
    body: Json<GroupLogins>,
) -> VersionedReply<Group> {
    Ok(app
        .for_caller(credential, move |services, caller| services.identity.set_group_logins(caller, &id, &body, &seen))
        .await?
        .into())
}

/// Changes the given settings of a group.
#[utoipa::path(tag = "groups", request_body = GroupChange, params(("if-match" = Option<String>, Header, description = "The ETag of what the change was decided on."), ("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Group), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[patch("/groups/{id}")]
async fn change_group(
    app: Data<App>,
    credential: Credential,
    id: Path<GroupId>,
    seen: Seen,
    body: Json<GroupChange>,
) -> VersionedReply<Group> {
    Ok(app
        .for_caller(credential, move |services, caller| services.identity.change_group(caller, &id, &body, &seen))
        .await?
        .into())
}

/// Removes a group. Its accounts stay.
#[utoipa::path(tag = "groups", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 204), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/groups/{id}")]
async fn remove_group(app: Data<App>, credential: Credential, id: Path<GroupId>) -> Result<HttpResponse, Trouble> {
    app.for_caller(credential, move |services, caller| services.identity.remove_group(caller, &id)).await?;
    Ok(HttpResponse::NoContent().finish())
}
