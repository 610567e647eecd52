//! What a call shows to say who it is from.

use std::future::{Ready, ready};

use actix_web::http::header::{AUTHORIZATION, HOST, ORIGIN};
use actix_web::{FromRequest, HttpRequest, dev};

use super::Trouble;
use crate::shared::{Credential, ServiceError};

/// The cookie of a browser's session. The prefix makes browsers insist on `Secure` and on the whole host (RFC 6265bis).
pub(crate) const COOKIE: &str = "__Host-jetfrost";

impl FromRequest for Credential {
    type Error = Trouble;
    type Future = Ready<Result<Self, Trouble>>;

    fn from_request(request: &HttpRequest, _: &mut dev::Payload) -> Self::Future {
        ready(credential(request))
    }
}

/// The address that a call came from.
pub(super) fn origin(request: &HttpRequest) -> String {
    request.peer_addr().map_or_else(|| "unknown".into(), |address| address.ip().to_string())
}

pub(super) fn credential(request: &HttpRequest) -> Result<Credential, Trouble> {
    let origin = origin(request);
    let call = format!("{} {}", request.method(), request.path());
    if let Some(value) = request.headers().get(AUTHORIZATION) {
        let bearer = value.to_str().ok().and_then(|v| bearer(v));
        return Ok(Credential { secret: bearer.map(str::to_owned), origin, call });
    }
    match request.cookie(COOKIE) {
        Some(cookie) if request.method().is_safe() || is_same_origin(request) => {
            Ok(Credential { secret: Some(cookie.value().to_owned()), origin, call })
        }
        Some(_) => Err(ServiceError::NotAllowed.into()),
        None => Ok(Credential { secret: None, origin, call }),
    }
}

/// What a header `Authorization: Bearer …` shows (RFC 6750); the scheme's name is written in any case (RFC 9110, section 11.1).
fn bearer(value: &str) -> Option<&str> {
    let (scheme, token) = value.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then(|| token.trim_start())
}

/// A write with a cookie must come from this service's own pages.
fn is_same_origin(request: &HttpRequest) -> bool {
    let header = |name| request.headers().get(name).and_then(|v| v.to_str().ok());
    let host = header(HOST).map(str::to_owned).or_else(|| request.uri().authority().map(ToString::to_string));
    match (header(ORIGIN), host) {
        (Some(origin), Some(host)) => origin.strip_prefix("https://") == Some(host.as_str()),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use actix_web::cookie::Cookie;
    use actix_web::test::TestRequest;

    use super::*;

    fn post_with_cookie(origin: Option<&str>) -> Result<Credential, Trouble> {
        let request = TestRequest::post().uri("/x").insert_header((HOST, "office:7410")).cookie(Cookie::new(COOKIE, "jfs_1"));
        let request = match origin {
            Some(origin) => request.insert_header((ORIGIN, origin)),
            None => request,
        };
        credential(&request.to_http_request())
    }

    #[test]
    fn a_write_with_a_cookie_comes_from_our_own_pages_or_is_refused() {
        assert!(post_with_cookie(Some("https://office:7410")).is_ok());
        for origin in [None, Some("https://elsewhere"), Some("http://office:7410"), Some("null")] {
            assert!(post_with_cookie(origin).is_err(), "{origin:?}");
        }
    }
}
