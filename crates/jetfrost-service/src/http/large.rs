//! Bodies that may be longer than names and settings are.

use actix_web::dev::{JsonBody, Payload};
use actix_web::{FromRequest, HttpRequest};
use futures_util::FutureExt;
use futures_util::future::LocalBoxFuture;
use serde::de::DeserializeOwned;

use super::{Trouble, problem};

/// The longest are a point with its file, and a table of people and machines.
pub(super) const MOST: usize = 2 << 20;

/// A JSON body of up to two mebibytes.
pub(crate) struct Large<T>(pub(crate) T);

impl<T: DeserializeOwned + 'static> FromRequest for Large<T> {
    type Error = Trouble;
    type Future = LocalBoxFuture<'static, Result<Self, Trouble>>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let body = JsonBody::new(request, payload, None, true).limit(MOST);
        body.map(|read| read.map(Large).map_err(|error| problem::bad_json(&error))).boxed_local()
    }
}
