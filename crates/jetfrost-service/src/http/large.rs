//! Bodies that may be longer than names and settings are: only those of callers who are known, and so many at once, are read into memory.

use std::future::Future;

use actix_web::dev::{JsonBody, Payload};
use actix_web::http::header::CONTENT_LENGTH;
use actix_web::web::Data;
use actix_web::{FromRequest, HttpRequest};
use futures_util::FutureExt;
use futures_util::future::LocalBoxFuture;
use serde::de::DeserializeOwned;

use super::caps::Permit;
use super::credential::credential;
use super::{App, MOST_JSON, Trouble, problem};

/// The longest are a point with its file, and a table of people and machines.
pub(super) const MOST: usize = 2 << 20;

/// Lets one more long body in for whoever calls.
pub(super) fn permit(request: &HttpRequest) -> impl Future<Output = Result<Permit, Trouble>> + use<> {
    let (app, credential) = (request.app_data::<Data<App>>().cloned(), credential(request));
    async move {
        let app = app.ok_or_else(Trouble::stopping)?;
        app.large_for_caller(credential?).await
    }
}

/// A JSON body of up to two mebibytes.
pub(crate) struct Large<T> {
    pub(crate) body: T,
    _permit: Option<Permit>,
}

impl<T: DeserializeOwned + 'static> FromRequest for Large<T> {
    type Error = Trouble;
    type Future = LocalBoxFuture<'static, Result<Self, Trouble>>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let body = JsonBody::new(request, payload, None, true).limit(MOST);
        let length = request.headers().get(CONTENT_LENGTH).and_then(|length| length.to_str().ok()?.parse().ok());
        let permit = length.is_none_or(|length: usize| length > MOST_JSON).then(|| permit(request));
        async move {
            let permit = match permit {
                Some(permit) => Some(permit.await?),
                None => None,
            };
            let body = body.await.map_err(|error| problem::bad_json(&error))?;
            Ok(Self { body, _permit: permit })
        }
        .boxed_local()
    }
}
