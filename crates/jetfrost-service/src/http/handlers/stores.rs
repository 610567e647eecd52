//! Image stores and points: limits, retention, holds, removal and undeletion.

use super::super::{App, Reply, Trouble, VersionedReply};
use actix_web::web::{Data, Json, Path};
use actix_web::{HttpResponse, delete, get, post, put};
use jetfrost_types::ImageStoreId;
use jetfrost_wire::job::Job;
use jetfrost_wire::point::{MarkPoint, Point};
use jetfrost_wire::retention::{NewHold, RemoveNow, StoreSettings, ThinningPreview};
use jetfrost_wire::sizing::{AskAdvice, AskCapacity, CapacityAdvice, LimitAdvice};
use jetfrost_wire::workstation::{Integrity, NewSlot, PointBytes, Slots, UnlockMethod, Workstation};
use jetfrost_wire::{Page, Problem};

use crate::shared::{Credential, Seen};

serve!(
    store_settings,
    point_bytes,
    slots,
    set_store,
    hold_store,
    release_store,
    remove_store,
    remove_store_now,
    undelete_store,
    hold_point,
    release_point,
    mark_point,
    remove_point,
    remove_point_now,
    undelete_point,
    preview_thinning,
    begin_thinning,
    unlock_methods,
    add_slot,
    remove_slot,
    integrity,
    begin_scrub,
    advise,
    advise_capacity,
);

/// A recovery point's file: plain head, encrypted body.
#[utoipa::path(tag = "stores", params(("id" = String, Path), ("sequence" = u64, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = PointBytes), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/stores/{id}/points/{sequence}")]
async fn point_bytes(app: Data<App>, credential: Credential, path: Path<(ImageStoreId, u64)>) -> Reply<PointBytes> {
    let (id, sequence) = path.into_inner();
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.point_bytes(caller, &id, sequence)).await?))
}

/// An image store's key slots.
#[utoipa::path(tag = "stores", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Slots), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/stores/{id}/slots")]
async fn slots(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> Reply<Slots> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.slots(caller, &id)).await?))
}

/// Limit and retention of an image store.
#[utoipa::path(tag = "stores", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = StoreSettings), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/stores/{id}/settings")]
async fn store_settings(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> VersionedReply<StoreSettings> {
    Ok(app.for_caller(credential, move |services, caller| services.retention.store_settings(caller, &id)).await?.into())
}

/// Sets an image store's limit and retention.
#[utoipa::path(tag = "stores", request_body = StoreSettings, params(("if-match" = Option<String>, Header, description = "The ETag of what the change was decided on."), ("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/stores/{id}/settings")]
async fn set_store(
    app: Data<App>,
    credential: Credential,
    id: Path<ImageStoreId>,
    seen: Seen,
    body: Json<StoreSettings>,
) -> VersionedReply<Workstation> {
    Ok(app.for_caller(credential, move |services, caller| services.retention.set_store(caller, &id, &body, &seen)).await?.into())
}

/// Places a hold on an image store: nothing of it can be removed.
#[utoipa::path(tag = "stores", request_body = NewHold, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/stores/{id}/hold")]
async fn hold_store(app: Data<App>, credential: Credential, id: Path<ImageStoreId>, body: Json<NewHold>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.hold_store(caller, &id, &body)).await?))
}

/// Releases the hold on an image store.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/stores/{id}/hold")]
async fn release_store(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.release_store(caller, &id)).await?))
}

/// Removes an image store after the waiting time.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/stores/{id}/removal")]
async fn remove_store(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.remove_store(caller, &id)).await?))
}

/// Removes an image store without the waiting time, if no point is protected any more. This cannot be undone.
#[utoipa::path(tag = "stores", request_body = RemoveNow, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Job), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/stores/{id}/removal/now")]
async fn remove_store_now(app: Data<App>, credential: Credential, id: Path<ImageStoreId>, body: Json<RemoveNow>) -> Reply<Job> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.remove_store_now(caller, &id, &body)).await?))
}

/// Undeletes an image store during its waiting time.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/stores/{id}/removal")]
async fn undelete_store(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.undelete_store(caller, &id)).await?))
}

/// Places a hold on a point: it cannot be removed.
#[utoipa::path(tag = "stores", request_body = NewHold, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Point), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/stores/{id}/points/{sequence}/hold")]
async fn hold_point(
    app: Data<App>,
    credential: Credential,
    path: Path<(ImageStoreId, u64)>,
    body: Json<NewHold>,
) -> Reply<Point> {
    Ok(Json(
        app.for_caller(credential, move |services, caller| services.retention.hold_point(caller, &path.0, path.1, &body)).await?,
    ))
}

/// Releases the hold on a point.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Point), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/stores/{id}/points/{sequence}/hold")]
async fn release_point(app: Data<App>, credential: Credential, path: Path<(ImageStoreId, u64)>) -> Reply<Point> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.release_point(caller, &path.0, path.1)).await?))
}

/// Marks a point good, suspect or resolved. While the latest mark of a point is suspect, all older points stay.
#[utoipa::path(tag = "stores", request_body = MarkPoint, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Point), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/stores/{id}/points/{sequence}/mark")]
async fn mark_point(
    app: Data<App>,
    credential: Credential,
    path: Path<(ImageStoreId, u64)>,
    body: Json<MarkPoint>,
) -> Reply<Point> {
    Ok(Json(
        app.for_caller(credential, move |services, caller| services.retention.mark_point(caller, &path.0, path.1, &body)).await?,
    ))
}

/// Removes a point after the waiting time.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Point), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/stores/{id}/points/{sequence}/removal")]
async fn remove_point(app: Data<App>, credential: Credential, path: Path<(ImageStoreId, u64)>) -> Reply<Point> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.remove_point(caller, &path.0, path.1)).await?))
}

/// Removes a point without the waiting time, if it is not protected any more. This cannot be undone.
#[utoipa::path(tag = "stores", request_body = RemoveNow, params(("id" = String, Path), ("sequence" = u64, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Job), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/stores/{id}/points/{sequence}/removal/now")]
async fn remove_point_now(
    app: Data<App>,
    credential: Credential,
    path: Path<(ImageStoreId, u64)>,
    body: Json<RemoveNow>,
) -> Reply<Job> {
    Ok(Json(
        app.for_caller(credential, move |services, caller| services.retention.remove_point_now(caller, &path.0, path.1, &body))
            .await?,
    ))
}

/// Undeletes a point during its waiting time.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Point), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/stores/{id}/points/{sequence}/removal")]
async fn undelete_point(app: Data<App>, credential: Credential, path: Path<(ImageStoreId, u64)>) -> Reply<Point> {
    Ok(Json(
        app.for_caller(credential, move |services, caller| services.retention.undelete_point(caller, &path.0, path.1)).await?,
    ))
}

/// What the next thinning of an image store would do.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = ThinningPreview), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/stores/{id}/thinning")]
async fn preview_thinning(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> Reply<ThinningPreview> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.preview_thinning(caller, &id)).await?))
}

/// Starts a thinning now.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Job), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/stores/{id}/thinning")]
async fn begin_thinning(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> Reply<Job> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.begin_thinning(caller, &id)).await?))
}

/// An image store's unlock methods: kinds, labels and ages of its key slots.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<UnlockMethod>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/stores/{id}/unlock-methods")]
async fn unlock_methods(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> Reply<Page<UnlockMethod>> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.unlock_methods(caller, &id)).await?))
}

/// Adds a key slot. An existing one is never overwritten.
#[utoipa::path(tag = "stores", request_body = NewSlot, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = UnlockMethod), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/stores/{id}/slots")]
async fn add_slot(app: Data<App>, credential: Credential, id: Path<ImageStoreId>, body: Json<NewSlot>) -> Reply<UnlockMethod> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.add_slot(caller, &id, &body)).await?))
}

/// Removes a key slot, except the last passphrase or recovery key.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 204), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/stores/{id}/slots/{slot}")]
async fn remove_slot(
    app: Data<App>,
    credential: Credential,
    path: Path<(ImageStoreId, String)>,
) -> Result<HttpResponse, Trouble> {
    app.for_caller(credential, move |services, caller| services.backups.remove_slot(caller, &path.0, &path.1)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// What is known of an image store's integrity.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Integrity), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/stores/{id}/integrity")]
async fn integrity(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> Reply<Integrity> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.integrity(caller, &id)).await?))
}

/// Starts a scrub now.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Job), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/stores/{id}/scrub")]
async fn begin_scrub(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> Reply<Job> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.begin_scrub(caller, &id)).await?))
}

/// Advice on a limit; changes nothing.
#[utoipa::path(tag = "stores", request_body = AskAdvice, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = LimitAdvice), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/advice/limit")]
async fn advise(app: Data<App>, credential: Credential, body: Json<AskAdvice>) -> Reply<LimitAdvice> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.operations.advise(caller, &body)).await?))
}

/// Advice on a capacity; changes nothing.
#[utoipa::path(tag = "destinations", request_body = AskCapacity, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = CapacityAdvice), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/advice/capacity")]
async fn advise_capacity(app: Data<App>, credential: Credential, body: Json<AskCapacity>) -> Reply<CapacityAdvice> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.operations.advise_capacity(caller, &body)).await?))
}
