//! Enrolment codes, and enrolment.

use actix_web::web::{Data, Json, Path, Query};
use actix_web::{HttpRequest, delete, get, post};
use jetfrost_types::CodeId;
use jetfrost_wire::enrolment::{
    Claim, CodeIsFor, Enrol, Enrolled, EnrolmentCode, IssuedCode, LookAtCode, NewEnrolmentCode, NewOwnCode,
};
use jetfrost_wire::{Page, PageQuery, Problem};

use super::super::credential::origin;
use super::super::{App, Reply};
use crate::shared::Credential;

serve!(enrolment_codes, issue_code, issue_own_code, cancel_code, renew_code, enrol, look_at_code, claim_workstation,);

/// Enrolment codes, latest first, without the codes themselves.
#[utoipa::path(tag = "enrolment", params(PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<EnrolmentCode>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/enrolment-codes")]
async fn enrolment_codes(app: Data<App>, credential: Credential, page: Query<PageQuery>) -> Reply<Page<EnrolmentCode>> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.enrolment_codes(caller, &page)).await?))
}

/// Makes an enrolment code for an account.
#[utoipa::path(tag = "enrolment", request_body = NewEnrolmentCode, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = IssuedCode), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/enrolment-codes")]
async fn issue_code(app: Data<App>, credential: Credential, body: Json<NewEnrolmentCode>) -> Reply<IssuedCode> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.issue_code(caller, &body)).await?))
}

/// Makes an enrolment code for a machine of whoever is signed in, if the office allows that.
#[utoipa::path(tag = "enrolment", request_body = NewOwnCode, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = IssuedCode), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/sessions/current/enrolment-code")]
async fn issue_own_code(app: Data<App>, credential: Credential, body: Json<NewOwnCode>) -> Reply<IssuedCode> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.issue_own_code(caller, &body)).await?))
}

/// Gives an enrolment code a new secret; the old one is void.
#[utoipa::path(tag = "enrolment", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = IssuedCode), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/enrolment-codes/{id}/renewal")]
async fn renew_code(app: Data<App>, credential: Credential, id: Path<CodeId>) -> Reply<IssuedCode> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.renew_code(caller, &id)).await?))
}

/// Cancels an unused enrolment code.
#[utoipa::path(tag = "enrolment", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = EnrolmentCode), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/enrolment-codes/{id}")]
async fn cancel_code(app: Data<App>, credential: Credential, id: Path<CodeId>) -> Reply<EnrolmentCode> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.cancel_code(caller, &id)).await?))
}

/// Makes a machine a new workstation; the enrolment code is the credential.
#[utoipa::path(tag = "enrolment", request_body = Enrol, responses((status = 200, body = Enrolled), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/enrolments")]
async fn enrol(app: Data<App>, request: HttpRequest, body: Json<Enrol>) -> Reply<Enrolled> {
    let origin = origin(&request);
    Ok(Json(app.run(move |services| services.backups.enrol(&body, &origin)).await?))
}

/// Says what an enrolment code is for; the code is the credential.
#[utoipa::path(tag = "enrolment", request_body = LookAtCode, responses((status = 200, body = CodeIsFor), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/enrolments/look")]
async fn look_at_code(app: Data<App>, request: HttpRequest, body: Json<LookAtCode>) -> Reply<CodeIsFor> {
    let origin = origin(&request);
    Ok(Json(app.run(move |services| services.backups.look_at_code(&body, &origin)).await?))
}

/// Makes a machine an existing workstation; the enrolment code is the credential.
#[utoipa::path(tag = "enrolment", request_body = Claim, responses((status = 200, body = Enrolled), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/enrolments/claim")]
async fn claim_workstation(app: Data<App>, request: HttpRequest, body: Json<Claim>) -> Reply<Enrolled> {
    let origin = origin(&request);
    Ok(Json(app.run(move |services| services.backups.claim_workstation(&body, &origin)).await?))
}
