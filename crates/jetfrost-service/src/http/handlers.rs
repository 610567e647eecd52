//! The JSON calls, a handler each. They translate and do nothing else.

use actix_web::cookie::{Cookie, SameSite};
use actix_web::web::{Bytes, Data, Json, Path, Query};
use actix_web::{HttpRequest, HttpResponse, delete, get, patch, post, put};
use futures_util::{StreamExt, stream};
use jetfrost_wire::access::{AccessLine, AccessQuery};
use jetfrost_wire::advice::{AskAdvice, LimitAdvice};
use jetfrost_wire::destination::{
    Adopt, Adopted, AskErasure, ConfirmErasure, Destination, DestinationChange, ErasurePreview, NewDestination, TryDirectory,
    Verdict, Volume,
};
use jetfrost_wire::enrolment::{Claim, CodeIsFor, Enrol, Enrolled, EnrolmentCode, IssuedCode, LookAtCode, NewEnrolmentCode};
use jetfrost_wire::job::{Job, JobOrder, JobQuery};
use jetfrost_wire::keeping::{NewHold, StoreSettings, ThinningPreview};
use jetfrost_wire::people::{
    Account, AccountChange, AccountRemoval, AccountTies, Group, GroupChange, GroupLogins, NewAccount, NewGroup, NewPassword,
    OwnPassword, PasswordSet,
};
use jetfrost_wire::restore::{BeginRestore, EndRestore, Restore};
use jetfrost_wire::run::{BeginRun, CommitPoint, GiveUp, PointCommitted, Progress, Run, RunBegun};
use jetfrost_wire::service::{
    Admission, AdmissionState, AuditCheck, AuditEntry, AuditQuery, Carry, ConfirmSecondFactor, EndSecondFactor, Escrow,
    ExportForm, ExportQuery, FirstAdministrator, IssuedToken, NewEscrow, NewToken, Protection, SecondFactorOffer, ServiceInfo,
    Session, SessionsEnded, SignIn, SignedIn, SpareCodes,
};
use jetfrost_wire::setting_up::{SettingUp, Settle};
use jetfrost_wire::trial::{Trial, TryFor};
use jetfrost_wire::workstation::{NewSlot, Overview, Point, PointBytes, Slots, Soundness, WayIn, Workstation};
use jetfrost_wire::{Page, PageQuery, Problem};
use utoipa_actix_web::service_config::ServiceConfig;

use super::credential::{COOKIE, origin};
use super::{App, Reply, Trouble};
use crate::desk::{Credential, Desk, export_header};

macro_rules! routes {
    ($($handler:ident),* $(,)?) => {
        pub(super) fn routes(config: &mut ServiceConfig<'_>) {
            $(config.service($handler);)*
        }
    };
}

routes!(
    service_info,
    first_administrator,
    sign_in,
    me,
    sign_out,
    accounts,
    add_account,
    groups,
    add_group,
    set_group_logins,
    destinations,
    try_directory,
    add_destination,
    enrolment_codes,
    issue_code,
    cancel_code,
    enrol,
    workstations,
    workstation,
    points,
    runs,
    restores,
    set_store,
    hold_store,
    release_store,
    remove_store,
    bring_store_back,
    hold_point,
    release_point,
    remove_point,
    bring_point_back,
    preview_thinning,
    begin_thinning,
    soundness,
    begin_scrub,
    ways_in,
    add_slot,
    remove_slot,
    start_escrow,
    end_escrow,
    jobs,
    job,
    order_job,
    overview,
    begin_run,
    progress,
    commit,
    give_up_run,
    begin_restore,
    restore_progress,
    end_restore,
    give_up_restore,
    point_bytes,
    slots,
    change_account,
    account_ties,
    set_password,
    disable_account,
    enable_account,
    end_second_factor_of,
    remove_account,
    change_group,
    remove_group,
    change_destination,
    withdraw,
    bring_destination_back,
    preview_erasure,
    ask_erasure,
    confirm_erasure,
    call_erasure_off,
    adopt,
    look_at_code,
    claim_workstation,
    retire,
    end_session,
    end_other_sessions,
    add_token,
    set_own_password,
    offer_second_factor,
    confirm_second_factor,
    end_second_factor,
    admission,
    set_admission,
    check_audit,
    sessions,
    volumes,
    access,
    audit_log,
    audit_export,
    protection,
    advise,
    try_for,
    try_own,
    setting_up,
    settle,
    reopen,
);

/// What anyone may know of the service.
#[utoipa::path(tag = "service", responses((status = 200, body = ServiceInfo), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/service")]
async fn service_info(app: Data<App>) -> Reply<ServiceInfo> {
    Ok(Json(app.run(Desk::service_info).await?))
}

/// Creates the first administrator with the one-time code that the service printed.
#[utoipa::path(tag = "service", request_body = FirstAdministrator, responses((status = 200, body = Account), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/first-administrator")]
async fn first_administrator(app: Data<App>, request: HttpRequest, body: Json<FirstAdministrator>) -> Reply<Account> {
    let origin = origin(&request);
    Ok(Json(app.run(move |desk| desk.first_administrator(&body, &origin)).await?))
}

/// Signs in. The session is carried in a cookie or in a bearer token.
#[utoipa::path(tag = "sessions", request_body = SignIn, responses((status = 200, body = SignedIn), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/sessions")]
async fn sign_in(app: Data<App>, request: HttpRequest, body: Json<SignIn>) -> Result<HttpResponse, Trouble> {
    let (origin, carry) = (origin(&request), body.carry);
    let mut signed_in = app.run(move |desk| desk.sign_in(&body, &origin)).await?;
    let mut response = HttpResponse::Ok();
    if carry == Carry::Cookie {
        let secret = signed_in.token.take().unwrap_or_default();
        response.cookie(session_cookie(secret));
    }
    Ok(response.json(signed_in))
}

fn session_cookie(secret: String) -> Cookie<'static> {
    Cookie::build(COOKIE, secret).path("/").secure(true).http_only(true).same_site(SameSite::Strict).finish()
}

/// Who is signed in.
#[utoipa::path(tag = "sessions", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Account), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/sessions/current")]
async fn me(app: Data<App>, credential: Credential) -> Reply<Account> {
    Ok(Json(app.for_caller(credential, Desk::me).await?))
}

/// Signs out.
#[utoipa::path(tag = "sessions", security(("bearer" = []), ("cookie" = [])), responses((status = 204), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/sessions/current")]
async fn sign_out(app: Data<App>, credential: Credential) -> Result<HttpResponse, Trouble> {
    app.for_caller(credential, Desk::sign_out).await?;
    let mut gone = session_cookie(String::new());
    gone.make_removal();
    Ok(HttpResponse::NoContent().cookie(gone).finish())
}

/// Accounts, by login name.
#[utoipa::path(tag = "accounts", params(PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Account>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/accounts")]
async fn accounts(app: Data<App>, credential: Credential, page: Query<PageQuery>) -> Reply<Page<Account>> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.accounts(caller, &page)).await?))
}

/// Adds an account.
#[utoipa::path(tag = "accounts", request_body = NewAccount, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Account), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/accounts")]
async fn add_account(app: Data<App>, credential: Credential, body: Json<NewAccount>) -> Reply<Account> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.add_account(caller, &body)).await?))
}

/// Groups, by name.
#[utoipa::path(tag = "groups", params(PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Group>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/groups")]
async fn groups(app: Data<App>, credential: Credential, page: Query<PageQuery>) -> Reply<Page<Group>> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.groups(caller, &page)).await?))
}

/// Adds a group.
#[utoipa::path(tag = "groups", request_body = NewGroup, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Group), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/groups")]
async fn add_group(app: Data<App>, credential: Credential, body: Json<NewGroup>) -> Reply<Group> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.add_group(caller, &body)).await?))
}

/// Sets who is in a group.
#[utoipa::path(tag = "groups", request_body = GroupLogins, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Group), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/groups/{id}/logins")]
async fn set_group_logins(app: Data<App>, credential: Credential, id: Path<String>, body: Json<GroupLogins>) -> Reply<Group> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.set_group_logins(caller, &id, &body)).await?))
}

/// Destinations, by name.
#[utoipa::path(tag = "destinations", params(PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Destination>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/destinations")]
async fn destinations(app: Data<App>, credential: Credential, page: Query<PageQuery>) -> Reply<Page<Destination>> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.destinations(caller, &page)).await?))
}

/// Says whether a directory would do as a destination; changes nothing.
#[utoipa::path(tag = "destinations", request_body = TryDirectory, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Verdict), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/destinations/try")]
async fn try_directory(app: Data<App>, credential: Credential, body: Json<TryDirectory>) -> Reply<Verdict> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.try_directory(caller, &body)).await?))
}

/// Adds a destination.
#[utoipa::path(tag = "destinations", request_body = NewDestination, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Destination), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/destinations")]
async fn add_destination(app: Data<App>, credential: Credential, body: Json<NewDestination>) -> Reply<Destination> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.add_destination(caller, &body)).await?))
}

/// Enrolment codes, latest first, without the codes themselves.
#[utoipa::path(tag = "enrolment", params(PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<EnrolmentCode>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/enrolment-codes")]
async fn enrolment_codes(app: Data<App>, credential: Credential, page: Query<PageQuery>) -> Reply<Page<EnrolmentCode>> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.enrolment_codes(caller, &page)).await?))
}

/// Makes an enrolment code for an account.
#[utoipa::path(tag = "enrolment", request_body = NewEnrolmentCode, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = IssuedCode), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/enrolment-codes")]
async fn issue_code(app: Data<App>, credential: Credential, body: Json<NewEnrolmentCode>) -> Reply<IssuedCode> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.issue_code(caller, &body)).await?))
}

/// Cancels an open enrolment code.
#[utoipa::path(tag = "enrolment", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = EnrolmentCode), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/enrolment-codes/{id}")]
async fn cancel_code(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<EnrolmentCode> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.cancel_code(caller, &id)).await?))
}

/// Turns a machine into a workstation; the enrolment code is the credential.
#[utoipa::path(tag = "enrolment", request_body = Enrol, responses((status = 200, body = Enrolled), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/enrolments")]
async fn enrol(app: Data<App>, request: HttpRequest, body: Json<Enrol>) -> Reply<Enrolled> {
    let origin = origin(&request);
    Ok(Json(app.run(move |desk| desk.enrol(&body, &origin)).await?))
}

/// The workstations that the caller may see, by name.
#[utoipa::path(tag = "workstations", params(PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Workstation>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/workstations")]
async fn workstations(app: Data<App>, credential: Credential, page: Query<PageQuery>) -> Reply<Page<Workstation>> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.workstations(caller, &page)).await?))
}

/// One workstation.
#[utoipa::path(tag = "workstations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/workstations/{id}")]
async fn workstation(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.workstation(caller, &id)).await?))
}

/// A workstation's recovery points, latest first.
#[utoipa::path(tag = "workstations", params(("id" = String, Path), PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Point>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/workstations/{id}/points")]
async fn points(app: Data<App>, credential: Credential, id: Path<String>, page: Query<PageQuery>) -> Reply<Page<Point>> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.points(caller, &id, &page)).await?))
}

/// A workstation's runs, latest first.
#[utoipa::path(tag = "workstations", params(("id" = String, Path), PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Run>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/workstations/{id}/runs")]
async fn runs(app: Data<App>, credential: Credential, id: Path<String>, page: Query<PageQuery>) -> Reply<Page<Run>> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.runs(caller, &id, &page)).await?))
}

/// The restores from a workstation's image store, latest first.
#[utoipa::path(tag = "workstations", params(("id" = String, Path), PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Restore>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/workstations/{id}/restores")]
async fn restores(app: Data<App>, credential: Credential, id: Path<String>, page: Query<PageQuery>) -> Reply<Page<Restore>> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.restores(caller, &id, &page)).await?))
}

/// How everything stands that the caller may see.
#[utoipa::path(tag = "workstations", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Overview), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/overview")]
async fn overview(app: Data<App>, credential: Credential) -> Reply<Overview> {
    Ok(Json(app.for_caller(credential, Desk::overview).await?))
}

/// Begins a run; one that was underway is over.
#[utoipa::path(tag = "runs", request_body = BeginRun, params(("id" = String, Path)), security(("bearer" = [])), responses((status = 200, body = RunBegun), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/workstations/{id}/runs")]
async fn begin_run(app: Data<App>, credential: Credential, id: Path<String>, body: Json<BeginRun>) -> Reply<RunBegun> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.begin_run(caller, &id, &body)).await?))
}

/// Notes how far a run is.
#[utoipa::path(tag = "runs", request_body = Progress, params(("id" = String, Path)), security(("bearer" = [])), responses((status = 200, body = Run), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[patch("/runs/{id}")]
async fn progress(app: Data<App>, credential: Credential, id: Path<String>, body: Json<Progress>) -> Reply<Run> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.progress(caller, &id, &body)).await?))
}

/// Commits a run's recovery point. Asked again for the same point, it answers as the first time.
#[utoipa::path(tag = "runs", request_body = CommitPoint, params(("id" = String, Path)), security(("bearer" = [])), responses((status = 200, body = PointCommitted), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/runs/{id}/point")]
async fn commit(app: Data<App>, credential: Credential, id: Path<String>, body: Json<CommitPoint>) -> Reply<PointCommitted> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.commit(caller, &id, &body)).await?))
}

/// Ends a run that made no recovery point.
#[utoipa::path(tag = "runs", request_body = GiveUp, params(("id" = String, Path)), security(("bearer" = [])), responses((status = 200, body = Run), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/runs/{id}/give-up")]
async fn give_up_run(app: Data<App>, credential: Credential, id: Path<String>, body: Json<GiveUp>) -> Reply<Run> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.give_up_run(caller, &id, &body)).await?))
}

/// Begins a restore and puts it on record.
#[utoipa::path(tag = "restores", request_body = BeginRestore, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Restore), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/workstations/{id}/restores")]
async fn begin_restore(app: Data<App>, credential: Credential, id: Path<String>, body: Json<BeginRestore>) -> Reply<Restore> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.begin_restore(caller, &id, &body)).await?))
}

/// Notes how far a restore is.
#[utoipa::path(tag = "restores", request_body = Progress, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Restore), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[patch("/restores/{id}")]
async fn restore_progress(app: Data<App>, credential: Credential, id: Path<String>, body: Json<Progress>) -> Reply<Restore> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.restore_progress(caller, &id, &body)).await?))
}

/// Ends a restore that brought back what it could.
#[utoipa::path(tag = "restores", request_body = EndRestore, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Restore), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/restores/{id}/end")]
async fn end_restore(app: Data<App>, credential: Credential, id: Path<String>, body: Json<EndRestore>) -> Reply<Restore> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.end_restore(caller, &id, &body)).await?))
}

/// Ends a restore that did not succeed.
#[utoipa::path(tag = "restores", request_body = GiveUp, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Restore), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/restores/{id}/give-up")]
async fn give_up_restore(app: Data<App>, credential: Credential, id: Path<String>, body: Json<GiveUp>) -> Reply<Restore> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.give_up_restore(caller, &id, &body)).await?))
}

/// A recovery point's file: head in clear, body sealed.
#[utoipa::path(tag = "stores", params(("id" = String, Path), ("sequence" = u64, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = PointBytes), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/stores/{id}/points/{sequence}")]
async fn point_bytes(app: Data<App>, credential: Credential, path: Path<(String, u64)>) -> Reply<PointBytes> {
    let (id, sequence) = path.into_inner();
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.point_bytes(caller, &id, sequence)).await?))
}

/// An image store's key slots.
#[utoipa::path(tag = "stores", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Slots), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/stores/{id}/slots")]
async fn slots(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Slots> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.slots(caller, &id)).await?))
}

/// Sets an image store's limit, and what it keeps if not what its destination says.
#[utoipa::path(tag = "stores", request_body = StoreSettings, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/stores/{id}/settings")]
async fn set_store(app: Data<App>, credential: Credential, id: Path<String>, body: Json<StoreSettings>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.set_store(caller, &id, &body)).await?))
}

/// Puts a hold on an image store: nothing of it goes.
#[utoipa::path(tag = "stores", request_body = NewHold, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/stores/{id}/hold")]
async fn hold_store(app: Data<App>, credential: Credential, id: Path<String>, body: Json<NewHold>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.hold_store(caller, &id, &body)).await?))
}

/// Takes the hold off an image store.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/stores/{id}/hold")]
async fn release_store(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.release_store(caller, &id)).await?))
}

/// Removes an image store. It goes when its waiting time is over.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/stores/{id}/leaving")]
async fn remove_store(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.remove_store(caller, &id)).await?))
}

/// Brings an image store back whose waiting time is not over.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/stores/{id}/leaving")]
async fn bring_store_back(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.bring_store_back(caller, &id)).await?))
}

/// Puts a hold on a point: it does not go.
#[utoipa::path(tag = "stores", request_body = NewHold, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Point), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/stores/{id}/points/{sequence}/hold")]
async fn hold_point(app: Data<App>, credential: Credential, path: Path<(String, u64)>, body: Json<NewHold>) -> Reply<Point> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.hold_point(caller, &path.0, path.1, &body)).await?))
}

/// Takes the hold off a point.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Point), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/stores/{id}/points/{sequence}/hold")]
async fn release_point(app: Data<App>, credential: Credential, path: Path<(String, u64)>) -> Reply<Point> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.release_point(caller, &path.0, path.1)).await?))
}

/// Removes a point. It goes when its waiting time is over.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Point), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/stores/{id}/points/{sequence}/leaving")]
async fn remove_point(app: Data<App>, credential: Credential, path: Path<(String, u64)>) -> Reply<Point> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.remove_point(caller, &path.0, path.1)).await?))
}

/// Brings a point back whose waiting time is not over.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Point), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/stores/{id}/points/{sequence}/leaving")]
async fn bring_point_back(app: Data<App>, credential: Credential, path: Path<(String, u64)>) -> Reply<Point> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.bring_point_back(caller, &path.0, path.1)).await?))
}

/// What the next thinning of an image store would do.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = ThinningPreview), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/stores/{id}/thinning")]
async fn preview_thinning(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<ThinningPreview> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.preview_thinning(caller, &id)).await?))
}

/// Begins a thinning now.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Job), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/stores/{id}/thinning")]
async fn begin_thinning(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Job> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.begin_thinning(caller, &id)).await?))
}

/// Jobs, latest first.
#[utoipa::path(tag = "jobs", params(PageQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Job>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/jobs")]
async fn jobs(app: Data<App>, credential: Credential, query: Query<PageQuery>) -> Reply<Page<Job>> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.list_jobs(caller, &query)).await?))
}

/// A job; answers when it has ended if that is wished.
#[utoipa::path(tag = "jobs", params(JobQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Job), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/jobs/{id}")]
async fn job(app: Data<App>, credential: Credential, id: Path<String>, query: Query<JobQuery>) -> Reply<Job> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.job(caller, &id, query.wait_seconds)).await?))
}

/// Pauses, goes on with or cancels a job.
#[utoipa::path(tag = "jobs", request_body = JobOrder, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Job), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/jobs/{id}/order")]
async fn order_job(app: Data<App>, credential: Credential, id: Path<String>, body: Json<JobOrder>) -> Reply<Job> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.order_job(caller, &id, body.order)).await?))
}

/// What opens an image store: kinds, labels and ages of its key slots.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<WayIn>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/stores/{id}/ways-in")]
async fn ways_in(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Page<WayIn>> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.ways_in(caller, &id)).await?))
}

/// Adds a key slot. One that is there is never written over.
#[utoipa::path(tag = "stores", request_body = NewSlot, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = WayIn), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/stores/{id}/slots")]
async fn add_slot(app: Data<App>, credential: Credential, id: Path<String>, body: Json<NewSlot>) -> Reply<WayIn> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.add_slot(caller, &id, &body)).await?))
}

/// Takes a key slot away; never the last passphrase or recovery key.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 204), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/stores/{id}/slots/{slot}")]
async fn remove_slot(app: Data<App>, credential: Credential, path: Path<(String, String)>) -> Result<HttpResponse, Trouble> {
    app.for_caller(credential, move |desk, caller| desk.remove_slot(caller, &path.0, &path.1)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Asks workstations to trust the office key from now on; each person is told and decides.
#[utoipa::path(tag = "service", request_body = NewEscrow, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Escrow), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/escrow")]
async fn start_escrow(app: Data<App>, credential: Credential, body: Json<NewEscrow>) -> Reply<Escrow> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.start_escrow(caller, &body)).await?))
}

/// Asks for the office key no more. Ways in that were made stay until they are taken away.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 204), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/escrow")]
async fn end_escrow(app: Data<App>, credential: Credential) -> Result<HttpResponse, Trouble> {
    app.for_caller(credential, Desk::end_escrow).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// What is known of an image store's soundness.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Soundness), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/stores/{id}/soundness")]
async fn soundness(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Soundness> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.soundness(caller, &id)).await?))
}

/// Begins a scrub now.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Job), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/stores/{id}/scrub")]
async fn begin_scrub(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Job> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.begin_scrub(caller, &id)).await?))
}

/// Changes what is given of an account. Workstations do not notice another login name.
#[utoipa::path(tag = "accounts", request_body = AccountChange, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Account), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[patch("/accounts/{id}")]
async fn change_account(app: Data<App>, credential: Credential, id: Path<String>, body: Json<AccountChange>) -> Reply<Account> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.change_account(caller, &id, &body)).await?))
}

/// What hangs on an account: who is signed in, and its workstations.
#[utoipa::path(tag = "accounts", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = AccountTies), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/accounts/{id}/ties")]
async fn account_ties(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<AccountTies> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.account_ties(caller, &id)).await?))
}

/// Sets an account's password. All that is signed in with it is signed out; workstations go on.
#[utoipa::path(tag = "accounts", request_body = NewPassword, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = PasswordSet), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/accounts/{id}/password")]
async fn set_password(app: Data<App>, credential: Credential, id: Path<String>, body: Json<NewPassword>) -> Reply<PasswordSet> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.set_password(caller, &id, &body)).await?))
}

/// Disables an account: nobody signs in with it, and its workstations are refused.
#[utoipa::path(tag = "accounts", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Account), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/accounts/{id}/disabled")]
async fn disable_account(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Account> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.disable_account(caller, &id)).await?))
}

/// Enables an account again.
#[utoipa::path(tag = "accounts", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Account), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/accounts/{id}/disabled")]
async fn enable_account(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Account> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.enable_account(caller, &id)).await?))
}

/// Ends the second factor of somebody who lost it.
#[utoipa::path(tag = "accounts", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Account), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/accounts/{id}/second-factor")]
async fn end_second_factor_of(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Account> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.end_second_factor_of(caller, &id)).await?))
}

/// Removes an account. What becomes of its workstations must be said if it has any.
#[utoipa::path(tag = "accounts", request_body = AccountRemoval, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 204), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/accounts/{id}/removal")]
async fn remove_account(
    app: Data<App>,
    credential: Credential,
    id: Path<String>,
    body: Json<AccountRemoval>,
) -> Result<HttpResponse, Trouble> {
    app.for_caller(credential, move |desk, caller| desk.remove_account(caller, &id, &body)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Changes what is given of a group.
#[utoipa::path(tag = "groups", request_body = GroupChange, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Group), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[patch("/groups/{id}")]
async fn change_group(app: Data<App>, credential: Credential, id: Path<String>, body: Json<GroupChange>) -> Reply<Group> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.change_group(caller, &id, &body)).await?))
}

/// Removes a group. Its accounts stay.
#[utoipa::path(tag = "groups", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 204), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/groups/{id}")]
async fn remove_group(app: Data<App>, credential: Credential, id: Path<String>) -> Result<HttpResponse, Trouble> {
    app.for_caller(credential, move |desk, caller| desk.remove_group(caller, &id)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Changes what is given of a destination.
#[utoipa::path(tag = "destinations", request_body = DestinationChange, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Destination), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[patch("/destinations/{id}")]
async fn change_destination(
    app: Data<App>,
    credential: Credential,
    id: Path<String>,
    body: Json<DestinationChange>,
) -> Reply<Destination> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.change_destination(caller, &id, &body)).await?))
}

/// Withdraws a destination: it takes no new backups, and those on it can be restored.
#[utoipa::path(tag = "destinations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Destination), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/destinations/{id}/withdrawn")]
async fn withdraw(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Destination> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.withdraw(caller, &id)).await?))
}

/// Brings a withdrawn destination back.
#[utoipa::path(tag = "destinations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Destination), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/destinations/{id}/withdrawn")]
async fn bring_destination_back(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Destination> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.bring_destination_back(caller, &id)).await?))
}

/// What erasing a destination would take.
#[utoipa::path(tag = "destinations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = ErasurePreview), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/destinations/{id}/erasure")]
async fn preview_erasure(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<ErasurePreview> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.preview_erasure(caller, &id)).await?))
}

/// Asks for a destination to be erased, with its name: the first confirmation.
#[utoipa::path(tag = "destinations", request_body = AskErasure, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = ErasurePreview), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/destinations/{id}/erasure")]
async fn ask_erasure(app: Data<App>, credential: Credential, id: Path<String>, body: Json<AskErasure>) -> Reply<ErasurePreview> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.ask_erasure(caller, &id, &body)).await?))
}

/// The second confirmation of an erasure. Its waiting time begins.
#[utoipa::path(tag = "destinations", request_body = ConfirmErasure, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Destination), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/destinations/{id}/erasure")]
async fn confirm_erasure(
    app: Data<App>,
    credential: Credential,
    id: Path<String>,
    body: Json<ConfirmErasure>,
) -> Reply<Destination> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.confirm_erasure(caller, &id, &body)).await?))
}

/// Calls an erasure off.
#[utoipa::path(tag = "destinations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Destination), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/destinations/{id}/erasure")]
async fn call_erasure_off(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Destination> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.call_erasure_off(caller, &id)).await?))
}

/// Takes over a destination that another installation wrote, or says what would come with it.
#[utoipa::path(tag = "destinations", request_body = Adopt, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Adopted), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/destinations/adoption")]
async fn adopt(app: Data<App>, credential: Credential, body: Json<Adopt>) -> Reply<Adopted> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.adopt(caller, &body)).await?))
}

/// Says what an enrolment code is for; the code is the credential.
#[utoipa::path(tag = "enrolment", request_body = LookAtCode, responses((status = 200, body = CodeIsFor), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/enrolments/look")]
async fn look_at_code(app: Data<App>, request: HttpRequest, body: Json<LookAtCode>) -> Reply<CodeIsFor> {
    let origin = origin(&request);
    Ok(Json(app.run(move |desk| desk.look_at_code(&body, &origin)).await?))
}

/// Hands a workstation that is there to a machine; the enrolment code is the credential.
#[utoipa::path(tag = "enrolment", request_body = Claim, responses((status = 200, body = Enrolled), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/enrolments/claim")]
async fn claim_workstation(app: Data<App>, request: HttpRequest, body: Json<Claim>) -> Reply<Enrolled> {
    let origin = origin(&request);
    Ok(Json(app.run(move |desk| desk.claim_workstation(&body, &origin)).await?))
}

/// Cuts a workstation's machine off. Its backups stay.
#[utoipa::path(tag = "workstations", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/workstations/{id}/retired")]
async fn retire(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.retire(caller, &id)).await?))
}

/// Ends one of the caller's own sessions or tokens.
#[utoipa::path(tag = "sessions", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 204), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/sessions/{id}")]
async fn end_session(app: Data<App>, credential: Credential, id: Path<String>) -> Result<HttpResponse, Trouble> {
    app.for_caller(credential, move |desk, caller| desk.end_session(caller, &id)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Ends all of the caller's own sessions and tokens but the one that asks.
#[utoipa::path(tag = "sessions", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = SessionsEnded), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/sessions")]
async fn end_other_sessions(app: Data<App>, credential: Credential) -> Reply<SessionsEnded> {
    Ok(Json(app.for_caller(credential, Desk::end_other_sessions).await?))
}

/// Makes a token for a program.
#[utoipa::path(tag = "sessions", request_body = NewToken, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = IssuedToken), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/tokens")]
async fn add_token(app: Data<App>, credential: Credential, body: Json<NewToken>) -> Reply<IssuedToken> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.add_token(caller, &body)).await?))
}

/// Changes the caller's own password.
#[utoipa::path(tag = "sessions", request_body = OwnPassword, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = PasswordSet), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/sessions/current/password")]
async fn set_own_password(app: Data<App>, credential: Credential, body: Json<OwnPassword>) -> Reply<PasswordSet> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.set_own_password(caller, &body)).await?))
}

/// Offers a secret for the caller's authenticator.
#[utoipa::path(tag = "sessions", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = SecondFactorOffer), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/sessions/current/second-factor")]
async fn offer_second_factor(app: Data<App>, credential: Credential) -> Reply<SecondFactorOffer> {
    Ok(Json(app.for_caller(credential, Desk::offer_second_factor).await?))
}

/// Confirms the caller's authenticator; from now on signing in takes its code.
#[utoipa::path(tag = "sessions", request_body = ConfirmSecondFactor, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = SpareCodes), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/sessions/current/second-factor")]
async fn confirm_second_factor(app: Data<App>, credential: Credential, body: Json<ConfirmSecondFactor>) -> Reply<SpareCodes> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.confirm_second_factor(caller, &body)).await?))
}

/// Ends the caller's own second factor.
#[utoipa::path(tag = "sessions", request_body = EndSecondFactor, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Account), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/sessions/current/second-factor/end")]
async fn end_second_factor(app: Data<App>, credential: Credential, body: Json<EndSecondFactor>) -> Reply<Account> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.end_second_factor(caller, &body)).await?))
}

/// What is let in, and what is underway.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = AdmissionState), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/admission")]
async fn admission(app: Data<App>, credential: Credential) -> Reply<AdmissionState> {
    Ok(Json(app.for_caller(credential, Desk::admission).await?))
}

/// Sets what is let in. It counts at once; what is underway comes to its end.
#[utoipa::path(tag = "service", request_body = Admission, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = AdmissionState), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/admission")]
async fn set_admission(app: Data<App>, credential: Credential, body: Json<Admission>) -> Reply<AdmissionState> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.set_admission(caller, &body)).await?))
}

/// Follows the audit log's chain and says where it breaks.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = AuditCheck), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/audit/check")]
async fn check_audit(app: Data<App>, credential: Credential) -> Reply<AuditCheck> {
    Ok(Json(app.for_caller(credential, Desk::check_audit).await?))
}

/// The caller's own sessions and tokens, latest used first.
#[utoipa::path(tag = "sessions", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Session>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/sessions")]
async fn sessions(app: Data<App>, credential: Credential) -> Reply<Page<Session>> {
    Ok(Json(Page { items: app.for_caller(credential, Desk::sessions).await?, next: None }))
}

/// The volumes of the server, each with a verdict. A probe is written to each that may take one, and removed.
#[utoipa::path(tag = "destinations", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Volume>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/volumes")]
async fn volumes(app: Data<App>, credential: Credential) -> Reply<Page<Volume>> {
    Ok(Json(Page { items: app.for_caller(credential, Desk::volumes).await?, next: None }))
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
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.access(caller, &query, &page)).await?))
}

/// The set-up list: what is decided, what is not, and whose move it is.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = SettingUp), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/setting-up")]
async fn setting_up(app: Data<App>, credential: Credential) -> Reply<SettingUp> {
    Ok(Json(app.for_caller(credential, Desk::setting_up).await?))
}

/// Decides to leave a step of the set-up list as it is.
#[utoipa::path(tag = "service", request_body = Settle, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = SettingUp), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/setting-up/{id}/settled")]
async fn settle(app: Data<App>, credential: Credential, id: Path<String>, body: Json<Settle>) -> Reply<SettingUp> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.settle(caller, &id, &body)).await?))
}

/// Opens a step of the set-up list again.
#[utoipa::path(tag = "service", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = SettingUp), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/setting-up/{id}/settled")]
async fn reopen(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<SettingUp> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.reopen(caller, &id)).await?))
}

/// What a limit would mean; changes nothing.
#[utoipa::path(tag = "stores", request_body = AskAdvice, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = LimitAdvice), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/advice/limit")]
async fn advise(app: Data<App>, credential: Credential, body: Json<AskAdvice>) -> Reply<LimitAdvice> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.advise(caller, &body)).await?))
}

/// Tries as a client of an account would, from the server. Nothing stays behind.
#[utoipa::path(tag = "destinations", request_body = TryFor, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Trial), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/destinations/{id}/trial")]
async fn try_for(app: Data<App>, credential: Credential, id: Path<String>, body: Json<TryFor>) -> Reply<Trial> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.try_for(caller, &id, &body)).await?))
}

/// Tries for the workstation that asks. Nothing stays behind.
#[utoipa::path(tag = "workstations", params(("id" = String, Path)), security(("bearer" = [])), responses((status = 200, body = Trial), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/workstations/{id}/trial")]
async fn try_own(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Trial> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.try_own(caller, &id)).await?))
}

/// How the server itself is protected.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Protection), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/protection")]
async fn protection(app: Data<App>, credential: Credential) -> Reply<Protection> {
    Ok(Json(app.for_caller(credential, Desk::see_protection).await?))
}

/// The audit log, latest first.
#[utoipa::path(tag = "service", params(AuditQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<AuditEntry>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/audit")]
async fn audit_log(app: Data<App>, credential: Credential, query: Query<AuditQuery>) -> Reply<Page<AuditEntry>> {
    Ok(Json(app.for_caller(credential, move |desk, caller| desk.audit_log(caller, &query)).await?))
}

/// The audit log as a file, latest first: CSV, or an object of JSON a line.
#[utoipa::path(tag = "service", params(AuditQuery, ExportQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = String, content_type = "text/csv"), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/audit/export")]
async fn audit_export(
    app: Data<App>,
    credential: Credential,
    query: Query<AuditQuery>,
    form: Query<ExportQuery>,
) -> Result<HttpResponse, Trouble> {
    let form = form.form.unwrap_or_default();
    let (first, next) = piece(&app, &credential, &query, form, i64::MAX).await?;
    let (kind, name) = match form {
        ExportForm::Csv => ("text/csv; charset=utf-8", "audit.csv"),
        ExportForm::JsonLines => ("application/x-ndjson", "audit.jsonl"),
    };
    let begin = Bytes::from(export_header(form).to_owned() + &first);
    // What follows is fetched as it is taken: the log is never held whole.
    let rest = stream::try_unfold((next, app, credential, query), move |(next, app, credential, query)| async move {
        let Some(before) = next else { return Ok::<_, Trouble>(None) };
        let (text, next) = piece(&app, &credential, &query, form, before).await?;
        Ok(Some((Bytes::from(text), (next, app, credential, query))))
    });
    Ok(HttpResponse::Ok()
        .content_type(kind)
        .insert_header(("Content-Disposition", format!("attachment; filename={name}")))
        .streaming(stream::once(async { Ok(begin) }).chain(rest)))
}

async fn piece(
    app: &App,
    credential: &Credential,
    query: &Query<AuditQuery>,
    form: ExportForm,
    before: i64,
) -> Result<(String, Option<i64>), Trouble> {
    let query = query.0.clone();
    app.for_caller(credential.clone(), move |desk, caller| desk.export_audit(caller, &query, form, before)).await
}
