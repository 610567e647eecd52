//! Accounts, and whose workstations may put backups where.

use actix_web::web::{Data, Json, Path, Query};
use actix_web::{HttpResponse, delete, get, patch, post, put};
use jetfrost_types::AccountId;
use jetfrost_wire::access::{AccessLine, AccessQuery};
use jetfrost_wire::people::{Account, AccountChange, AccountRemoval, AccountTies, NewAccount, NewPassword, PasswordSet};
use jetfrost_wire::{Page, PageQuery, Problem};

use super::super::{App, Reply, Trouble, VersionedReply};
use crate::shared::{Credential, Seen};

serve!(
    account,
    accounts,
    add_account,
    change_account,
    account_ties,
    set_password,
    disable_account,
    enable_account,
    end_second_factor_of,
    remove_account,
    access,
);

/// Accounts, by login name.
#[utoipa::path(tag = "accounts", params(PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Account>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/accounts")]
async fn accounts(app: Data<App>, credential: Credential, page: Query<PageQuery>) -> Reply<Page<Account>> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.identity.accounts(caller, &page)).await?))
}

/// An account.
#[utoipa::path(tag = "accounts", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Account), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/accounts/{id}")]
async fn account(app: Data<App>, credential: Credential, id: Path<AccountId>) -> VersionedReply<Account> {
    Ok(app.for_caller(credential, move |services, caller| services.identity.account(caller, &id)).await?.into())
}

/// Adds an account.
#[utoipa::path(tag = "accounts", request_body = NewAccount, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Account), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/accounts")]
async fn add_account(app: Data<App>, credential: Credential, body: Json<NewAccount>) -> Reply<Account> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.identity.add_account(caller, &body)).await?))
}

/// Changes the given settings of an account. Workstations are not affected by another login name.
#[utoipa::path(tag = "accounts", request_body = AccountChange, params(("if-match" = Option<String>, Header, description = "The ETag of what the change was decided on."), ("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Account), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[patch("/accounts/{id}")]
async fn change_account(
    app: Data<App>,
    credential: Credential,
    id: Path<AccountId>,
    seen: Seen,
    body: Json<AccountChange>,
) -> VersionedReply<Account> {
    Ok(app
        .for_caller(credential, move |services, caller| services.identity.change_account(caller, &id, &body, &seen))
        .await?
        .into())
}

/// What depends on an account: who is signed in, and its workstations.
#[utoipa::path(tag = "accounts", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = AccountTies), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/accounts/{id}/ties")]
async fn account_ties(app: Data<App>, credential: Credential, id: Path<AccountId>) -> Reply<AccountTies> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.account_ties(caller, &id)).await?))
}

/// Sets an account's password and ends its sessions and tokens; workstations are not affected.
#[utoipa::path(tag = "accounts", request_body = NewPassword, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = PasswordSet), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/accounts/{id}/password")]
async fn set_password(
    app: Data<App>,
    credential: Credential,
    id: Path<AccountId>,
    body: Json<NewPassword>,
) -> Reply<PasswordSet> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.identity.set_password(caller, &id, &body)).await?))
}

/// Disables an account: nobody can sign in with it, and its workstations are refused.
#[utoipa::path(tag = "accounts", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Account), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/accounts/{id}/disabled")]
async fn disable_account(app: Data<App>, credential: Credential, id: Path<AccountId>) -> Reply<Account> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.identity.disable_account(caller, &id)).await?))
}

/// Enables an account again.
#[utoipa::path(tag = "accounts", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Account), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/accounts/{id}/disabled")]
async fn enable_account(app: Data<App>, credential: Credential, id: Path<AccountId>) -> Reply<Account> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.identity.enable_account(caller, &id)).await?))
}

/// Ends the second factor of an account whose person lost it.
#[utoipa::path(tag = "accounts", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Account), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/accounts/{id}/second-factor")]
async fn end_second_factor_of(app: Data<App>, credential: Credential, id: Path<AccountId>) -> Reply<Account> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.identity.end_second_factor_of(caller, &id)).await?))
}

/// Removes an account. If it has workstations, the body must say what becomes of them.
#[utoipa::path(tag = "accounts", request_body = AccountRemoval, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 204), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/accounts/{id}/removal")]
async fn remove_account(
    app: Data<App>,
    credential: Credential,
    id: Path<AccountId>,
    body: Json<AccountRemoval>,
) -> Result<HttpResponse, Trouble> {
    app.for_caller(credential, move |services, caller| services.backups.remove_account(caller, &id, &body)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Whose workstations may put backups where, and why; by login name.
#[utoipa::path(tag = "accounts", params(AccessQuery, PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<AccessLine>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/access")]
async fn access(
    app: Data<App>,
    credential: Credential,
    query: Query<AccessQuery>,
    page: Query<PageQuery>,
) -> Reply<Page<AccessLine>> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.identity.access(caller, &query, &page)).await?))
}
