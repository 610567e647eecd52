//! Image stores and points: what is kept, held, removed and brought back.

use super::super::{App, Reply, Trouble, VersionedReply};
use actix_web::web::{Data, Json, Path};
use actix_web::{HttpResponse, delete, get, post, put};
use jetfrost_types::ImageStoreId;
use jetfrost_wire::job::Job;
use jetfrost_wire::point::Point;
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

/// A recovery point's file: head in clear, body sealed.
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

/// What is set for an image store.
#[utoipa::path(tag = "stores", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = StoreSettings), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/stores/{id}/settings")]
async fn store_settings(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> VersionedReply<StoreSettings> {
    Ok(app.for_caller(credential, move |services, caller| services.retention.store_settings(caller, &id)).await?.into())
}

/// Sets an image store's limit, and what it keeps if not what its destination says.
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

/// Puts a hold on an image store: nothing of it goes.
#[utoipa::path(tag = "stores", request_body = NewHold, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/stores/{id}/hold")]
async fn hold_store(app: Data<App>, credential: Credential, id: Path<ImageStoreId>, body: Json<NewHold>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.hold_store(caller, &id, &body)).await?))
}

/// Takes the hold off an image store.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/stores/{id}/hold")]
async fn release_store(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.release_store(caller, &id)).await?))
}

/// Removes an image store. It goes when its waiting time is over.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/stores/{id}/removal")]
async fn remove_store(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.remove_store(caller, &id)).await?))
}

/// Removes an image store at once, once the protected time of its points is over. It cannot be brought back.
#[utoipa::path(tag = "stores", request_body = RemoveNow, params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Job), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/stores/{id}/removal/now")]
async fn remove_store_now(app: Data<App>, credential: Credential, id: Path<ImageStoreId>, body: Json<RemoveNow>) -> Reply<Job> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.remove_store_now(caller, &id, &body)).await?))
}

/// Brings an image store back whose waiting time is not over.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Workstation), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/stores/{id}/removal")]
async fn undelete_store(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> Reply<Workstation> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.undelete_store(caller, &id)).await?))
}

/// Puts a hold on a point: it does not go.
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

/// Takes the hold off a point.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Point), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/stores/{id}/points/{sequence}/hold")]
async fn release_point(app: Data<App>, credential: Credential, path: Path<(ImageStoreId, u64)>) -> Reply<Point> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.release_point(caller, &path.0, path.1)).await?))
}

/// Removes a point. It goes when its waiting time is over.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Point), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/stores/{id}/points/{sequence}/removal")]
async fn remove_point(app: Data<App>, credential: Credential, path: Path<(ImageStoreId, u64)>) -> Reply<Point> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.remove_point(caller, &path.0, path.1)).await?))
}

/// Removes a point at once, once its protected time is over. It cannot be brought back.
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

/// Brings a point back whose waiting time is not over.
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

/// Begins a thinning now.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Job), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/stores/{id}/thinning")]
async fn begin_thinning(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> Reply<Job> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.begin_thinning(caller, &id)).await?))
}

/// What opens an image store: kinds, labels and ages of its key slots.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<UnlockMethod>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/stores/{id}/unlock-methods")]
async fn unlock_methods(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> Reply<Page<UnlockMethod>> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.unlock_methods(caller, &id)).await?))
}

/// Adds a key slot. One that is there is never written over.
#[utoipa::path(tag = "stores", request_body = NewSlot, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = UnlockMethod), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/stores/{id}/slots")]
async fn add_slot(app: Data<App>, credential: Credential, id: Path<ImageStoreId>, body: Json<NewSlot>) -> Reply<UnlockMethod> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.backups.add_slot(caller, &id, &body)).await?))
}

/// Takes a key slot away; never the last passphrase or recovery key.
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

/// Begins a scrub now.
#[utoipa::path(tag = "stores", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Job), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/stores/{id}/scrub")]
async fn begin_scrub(app: Data<App>, credential: Credential, id: Path<ImageStoreId>) -> Reply<Job> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.retention.begin_scrub(caller, &id)).await?))
}

/// What a limit would mean; changes nothing.
#[utoipa::path(tag = "stores", request_body = AskAdvice, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = LimitAdvice), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/advice/limit")]
async fn advise(app: Data<App>, credential: Credential, body: Json<AskAdvice>) -> Reply<LimitAdvice> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.operations.advise(caller, &body)).await?))
}

/// What a capacity would mean; changes nothing.
#[utoipa::path(tag = "destinations", request_body = AskCapacity, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = CapacityAdvice), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/advice/capacity")]
async fn advise_capacity(app: Data<App>, credential: Credential, body: Json<AskCapacity>) -> Reply<CapacityAdvice> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.operations.advise_capacity(caller, &body)).await?))
}
