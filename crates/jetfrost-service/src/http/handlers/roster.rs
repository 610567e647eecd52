//! The roster, and hand-outs.

use actix_web::web::{Data, Json, Query};
use actix_web::{HttpResponse, get, post};
use jetfrost_wire::Problem;
use jetfrost_wire::roster::{AskHandOuts, HandOutForm, Roster, RosterDone, RosterPlan, RosterQuery};

use super::super::large::Large;
use super::super::{App, Reply, Trouble};
use crate::shared::Credential;

serve!(roster, plan_roster, apply_roster, hand_outs);

/// The header of a roster, or the office as a roster.
#[utoipa::path(tag = "roster", params(RosterQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = String, content_type = "text/csv"), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/roster")]
async fn roster(app: Data<App>, credential: Credential, query: Query<RosterQuery>) -> Result<HttpResponse, Trouble> {
    let text = app.for_caller(credential, move |services, caller| services.backups.roster(caller, &query)).await?;
    Ok(HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8")
        .insert_header(("Content-Disposition", "attachment; filename=roster.csv"))
        .body(text))
}

/// What importing a roster would do; changes nothing.
#[utoipa::path(tag = "roster", request_body = Roster, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = RosterPlan), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/roster/plan")]
async fn plan_roster(app: Data<App>, credential: Credential, body: Large<Roster>) -> Reply<RosterPlan> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.plan_roster(caller, &body.body)).await?))
}

/// Imports a roster, all of it or nothing. Importing it again changes nothing more.
#[utoipa::path(tag = "roster", request_body = Roster, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = RosterDone), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/roster")]
async fn apply_roster(app: Data<App>, credential: Credential, body: Large<Roster>) -> Reply<RosterDone> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.apply_roster(caller, &body.body)).await?))
}

/// Hand-outs for enrolment codes, a page each, in one file.
#[utoipa::path(tag = "roster", request_body = AskHandOuts, security(("bearer" = []), ("cookie" = [])), responses((status = 200, content((String = "text/html"), (Vec<u8> = "application/pdf"))), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/hand-outs")]
async fn hand_outs(app: Data<App>, credential: Credential, ask: Large<AskHandOuts>) -> Result<HttpResponse, Trouble> {
    let (kind, name) = match ask.body.form {
        HandOutForm::Html => ("text/html; charset=utf-8", "hand-outs.html"),
        HandOutForm::Pdf => ("application/pdf", "hand-outs.pdf"),
    };
    let bytes = app.for_caller(credential, move |services, caller| services.backups.hand_outs(caller, &ask.body)).await?;
    Ok(HttpResponse::Ok()
        .content_type(kind)
        .insert_header(("Content-Disposition", format!("attachment; filename={name}")))
        .body(bytes))
}
