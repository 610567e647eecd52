//! Orders of restores.

use actix_web::web::{Data, Json, Path, Query};
use actix_web::{get, post};
use jetfrost_types::{RestoreOrderId, WorkstationId};
use jetfrost_wire::order::{AnswerOrder, NewOrder, OrderQuery, RestoreOrder};
use jetfrost_wire::{Page, Problem};

use super::super::{App, Reply};
use crate::shared::Credential;

serve!(orders, give_order, answer_order, withdraw_order,);

/// The orders of a workstation, latest first.
#[utoipa::path(tag = "orders", params(("id" = String, Path), OrderQuery), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<RestoreOrder>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/workstations/{id}/orders")]
async fn orders(
    app: Data<App>,
    credential: Credential,
    id: Path<WorkstationId>,
    query: Query<OrderQuery>,
) -> Reply<Page<RestoreOrder>> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.orders(caller, &id, &query)).await?))
}

/// Asks a workstation's agent to restore something. What, is sealed with the workstation's store key.
#[utoipa::path(tag = "orders", request_body = NewOrder, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = RestoreOrder), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/workstations/{id}/orders")]
async fn give_order(
    app: Data<App>,
    credential: Credential,
    id: Path<WorkstationId>,
    body: Json<NewOrder>,
) -> Reply<RestoreOrder> {
    let body = body.into_inner();
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.give_order(caller, &id, body)).await?))
}

/// Says what became of an order; the workstation does.
#[utoipa::path(tag = "orders", request_body = AnswerOrder, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = RestoreOrder), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/orders/{id}/answer")]
async fn answer_order(
    app: Data<App>,
    credential: Credential,
    id: Path<RestoreOrderId>,
    body: Json<AnswerOrder>,
) -> Reply<RestoreOrder> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.answer_order(caller, &id, &body)).await?))
}

/// Withdraws an order that has not ended. If it is being carried out, its restore is cancelled.
#[utoipa::path(tag = "orders", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = RestoreOrder), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/orders/{id}/withdrawal")]
async fn withdraw_order(app: Data<App>, credential: Credential, id: Path<RestoreOrderId>) -> Reply<RestoreOrder> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.withdraw_order(caller, &id)).await?))
}
