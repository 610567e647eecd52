//! The service itself: its identity, settings, audit log, alerts and mail.

use super::super::credential::origin;
use super::super::problem::sentence;
use super::super::{App, Reply, Trouble, VersionedReply};
use actix_web::web::{Bytes, Data, Json, Path, Query};
use actix_web::{HttpRequest, HttpResponse, delete, get, post, put};
use futures_util::{StreamExt, stream};
use jetfrost_wire::alerts::{Alerts, MailState, SetMail};
use jetfrost_wire::discovery::{Discovery, DiscoverySettings};
use jetfrost_wire::downloads::Downloads;
use jetfrost_wire::office::{Office, SearchQuery, SearchResult};
use jetfrost_wire::people::Account;
use jetfrost_wire::rules::{Ruling, Typed};
use jetfrost_wire::service::{
    AuditCheck, AuditEntry, AuditQuery, Escrow, ExportForm, ExportQuery, FirstAdministrator, Maintenance, MaintenanceState,
    NewEscrow, OfficeSettings, Protection, ServiceInfo,
};
use jetfrost_wire::setup::{Dismiss, Setup};
use jetfrost_wire::{Page, Problem};

use crate::identity::export_header;
use crate::shared::{Credential, Seen};

serve!(
    service_info,
    first_administrator,
    start_escrow,
    end_escrow,
    maintenance,
    set_maintenance,
    check_audit,
    setup,
    dismiss_step,
    restore_step,
    protection,
    audit_log,
    audit_export,
    discovery,
    set_discovery,
    settings,
    set_settings,
    alerts,
    office,
    search,
    mail,
    set_mail,
    end_mail,
    try_mail,
    rule_on,
    downloads,
);

/// Public information about the service.
#[utoipa::path(tag = "service", responses((status = 200, body = ServiceInfo), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/service")]
async fn service_info(app: Data<App>) -> Reply<ServiceInfo> {
    Ok(Json(app.run(|services| services.identity.service_info()).await?))
}

/// The programs for workstations that the service offers at `/downloads/NAME`; with `/downloads/SHA256SUMS` they can be checked.
#[utoipa::path(tag = "service", responses((status = 200, body = Downloads), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/downloads")]
async fn downloads(app: Data<App>) -> Reply<Downloads> {
    Ok(Json(app.run(|services| services.operations.downloads()).await?))
}

/// Creates the first administrator with the one-time code that the service printed.
#[utoipa::path(tag = "service", request_body = FirstAdministrator, responses((status = 200, body = Account), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/first-administrator")]
async fn first_administrator(app: Data<App>, request: HttpRequest, body: Json<FirstAdministrator>) -> Reply<Account> {
    let origin = origin(&request);
    Ok(Json(app.run(move |services| services.identity.first_administrator(&body, &origin)).await?))
}

/// Sets the office key and optionally asks workstations to trust it; each person decides.
#[utoipa::path(tag = "service", request_body = NewEscrow, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Escrow), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/escrow")]
async fn start_escrow(app: Data<App>, credential: Credential, body: Json<NewEscrow>) -> Reply<Escrow> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.start_escrow(caller, &body)).await?))
}

/// Stops asking workstations to trust the office key. Existing key slots stay until they are removed.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 204), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/escrow")]
async fn end_escrow(app: Data<App>, credential: Credential) -> Result<HttpResponse, Trouble> {
    app.for_caller(credential, |services, caller| services.backups.end_escrow(caller)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// What is accepted, and what is in progress.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = MaintenanceState), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/maintenance")]
async fn maintenance(app: Data<App>, credential: Credential) -> VersionedReply<MaintenanceState> {
    Ok(app.for_caller(credential, |services, caller| services.operations.maintenance(caller)).await?.into())
}

/// Pauses or resumes new backups and restores, with immediate effect; what is in progress finishes.
#[utoipa::path(tag = "service", request_body = Maintenance, params(("if-match" = Option<String>, Header, description = "The ETag of what the change was decided on.")), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = MaintenanceState), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/maintenance")]
async fn set_maintenance(
    app: Data<App>,
    credential: Credential,
    seen: Seen,
    body: Json<Maintenance>,
) -> VersionedReply<MaintenanceState> {
    Ok(app
        .for_caller(credential, move |services, caller| services.operations.set_maintenance(caller, &body, &seen))
        .await?
        .into())
}

/// Verifies the audit log's chain and reports where it breaks.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = AuditCheck), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/audit/check")]
async fn check_audit(app: Data<App>, credential: Credential) -> Reply<AuditCheck> {
    Ok(Json(app.for_caller(credential, |services, caller| services.storage.check_audit(caller)).await?))
}

/// The setup list: which steps are done or open, and who has to act.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Setup), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/setup")]
async fn setup(app: Data<App>, credential: Credential) -> Reply<Setup> {
    Ok(Json(app.for_caller(credential, |services, caller| services.operations.setup(caller)).await?))
}

/// Dismisses a step of the setup list.
#[utoipa::path(tag = "service", request_body = Dismiss, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Setup), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/setup/{id}/dismissed")]
async fn dismiss_step(app: Data<App>, credential: Credential, id: Path<String>, body: Json<Dismiss>) -> Reply<Setup> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.operations.dismiss_step(caller, &id, &body)).await?))
}

/// Restores a dismissed step of the setup list.
#[utoipa::path(tag = "service", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Setup), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/setup/{id}/dismissed")]
async fn restore_step(app: Data<App>, credential: Credential, id: Path<String>) -> Reply<Setup> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.operations.restore_step(caller, &id)).await?))
}

/// How the service's own records are protected.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Protection), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/protection")]
async fn protection(app: Data<App>, credential: Credential) -> Reply<Protection> {
    Ok(Json(app.for_caller(credential, |services, caller| services.storage.see_protection(caller)).await?))
}

/// The audit log, latest first.
#[utoipa::path(tag = "service", params(AuditQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<AuditEntry>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/audit")]
async fn audit_log(app: Data<App>, credential: Credential, query: Query<AuditQuery>) -> Reply<Page<AuditEntry>> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.identity.audit_log(caller, &query)).await?))
}

/// The audit log as a file, latest first: CSV, or one JSON object per line.
#[utoipa::path(tag = "service", params(AuditQuery, ExportQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, content((String = "text/csv"), (String = "application/x-ndjson"))), (status = "default", body = Problem, content_type = "application/problem+json")))]
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
    app.for_caller(credential.clone(), move |services, caller| services.identity.export_audit(caller, &query, form, before)).await
}

/// How the service announces itself on the network.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Discovery), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/discovery")]
async fn discovery(app: Data<App>, credential: Credential) -> VersionedReply<Discovery> {
    Ok(app.for_caller(credential, |services, caller| services.operations.discovery(caller)).await?.into())
}

/// Sets how the service announces itself, with immediate effect.
#[utoipa::path(tag = "service", request_body = DiscoverySettings, params(("if-match" = Option<String>, Header, description = "The ETag of what the change was decided on.")), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Discovery), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/discovery")]
async fn set_discovery(
    app: Data<App>,
    credential: Credential,
    seen: Seen,
    body: Json<DiscoverySettings>,
) -> VersionedReply<Discovery> {
    Ok(app.for_caller(credential, move |services, caller| services.operations.set_discovery(caller, &body, &seen)).await?.into())
}

/// Settings of the office.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = OfficeSettings), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/settings")]
async fn settings(app: Data<App>, credential: Credential) -> VersionedReply<OfficeSettings> {
    Ok(app.for_caller(credential, |services, caller| services.operations.settings(caller)).await?.into())
}

/// Changes the settings of the office.
#[utoipa::path(tag = "service", request_body = OfficeSettings, params(("if-match" = Option<String>, Header, description = "The ETag of what the change was decided on.")), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = OfficeSettings), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/settings")]
async fn set_settings(
    app: Data<App>,
    credential: Credential,
    seen: Seen,
    body: Json<OfficeSettings>,
) -> VersionedReply<OfficeSettings> {
    Ok(app.for_caller(credential, move |services, caller| services.operations.set_settings(caller, &body, &seen)).await?.into())
}

/// All current alerts, the most severe first.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Alerts), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/alerts")]
async fn alerts(app: Data<App>, credential: Credential) -> Reply<Alerts> {
    Ok(Json(app.for_caller(credential, |services, caller| services.operations.alerts_shown(caller)).await?))
}

/// The office at a glance: how many workstations are in which state, what became of the backups of the last days, and how full it is.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Office), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/office")]
async fn office(app: Data<App>, credential: Credential) -> Reply<Office> {
    Ok(Json(app.for_caller(credential, |services, caller| services.operations.today(caller)).await?))
}

/// Looks for words in the names of workstations, accounts, groups, destinations and codes, and for a text in the audit log.
#[utoipa::path(tag = "service", params(SearchQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = SearchResult), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/search")]
async fn search(app: Data<App>, credential: Credential, query: Query<SearchQuery>) -> Reply<SearchResult> {
    let text = query.into_inner().text.unwrap_or_default();
    Ok(Json(app.for_caller(credential, move |services, caller| services.operations.search(caller, &text)).await?))
}

/// Where mail goes, and whether it is delivered.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = MailState), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/mail")]
async fn mail(app: Data<App>, credential: Credential) -> VersionedReply<MailState> {
    Ok(app.for_caller(credential, |services, caller| services.operations.mail(caller)).await?.into())
}

/// Sets where mail goes. Current alerts are sent again.
#[utoipa::path(tag = "service", request_body = SetMail, params(("if-match" = Option<String>, Header, description = "The ETag of what the change was decided on.")), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = MailState), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/mail")]
async fn set_mail(app: Data<App>, credential: Credential, seen: Seen, body: Json<SetMail>) -> VersionedReply<MailState> {
    Ok(app.for_caller(credential, move |services, caller| services.operations.set_mail(caller, &body, &seen)).await?.into())
}

/// Turns mail off.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = MailState), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/mail")]
async fn end_mail(app: Data<App>, credential: Credential) -> Reply<MailState> {
    Ok(Json(app.for_caller(credential, |services, caller| services.operations.end_mail(caller)).await?))
}

/// Sends a test message and reports the result.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = MailState), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/mail/test")]
async fn try_mail(app: Data<App>, credential: Credential) -> Reply<MailState> {
    Ok(Json(app.for_caller(credential, |services, caller| services.operations.try_mail(caller)).await?))
}

/// Checks a form field against the rule that applies when it is sent. Changes nothing.
#[utoipa::path(tag = "service", request_body = Typed, security((), ("bearer" = []), ("cookie" = [])), responses((status = 200, body = Ruling), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/rules")]
async fn rule_on(app: Data<App>, credential: Credential, body: Json<Typed>) -> Reply<Ruling> {
    let ruling = app.run(move |services| services.operations.rule_on(&credential, &body)).await?;
    Ok(Json(Ruling { complaint: ruling.complaint.as_deref().map(sentence) }))
}
