//! Versions in HTTP: `ETag` with what is read, `If-Match` with what is changed (RFC 9110, sections 8.8.3 and 13.1.1).

use std::future::{Ready, ready};

use actix_web::body::BoxBody;
use actix_web::http::header::{ETAG, Header, IF_MATCH, IfMatch};
use actix_web::{FromRequest, HttpRequest, HttpResponse, Responder, dev};
use jetfrost_wire::{HasVersion, Version};
use serde::Serialize;

use super::Trouble;
use crate::shared::Seen;

impl FromRequest for Seen {
    type Error = Trouble;
    type Future = Ready<Result<Self, Trouble>>;

    fn from_request(request: &HttpRequest, _: &mut dev::Payload) -> Self::Future {
        ready(seen(request))
    }
}

fn seen(request: &HttpRequest) -> Result<Seen, Trouble> {
    if !request.headers().contains_key(IF_MATCH) {
        return Ok(Seen::Anything);
    }
    match IfMatch::parse(request) {
        Ok(IfMatch::Any) => Ok(Seen::Anything),
        // What is weak matches nothing: two that are alike by it may differ (section 8.8.3.2).
        Ok(IfMatch::Items(tags)) if !tags.is_empty() => {
            Ok(Seen::OneOf(tags.iter().filter(|tag| !tag.weak).map(|tag| Version(tag.tag().to_owned())).collect()))
        }
        _ => Err(Trouble::bad_request("'If-Match' has the ETag of an earlier answer, in its quotes")),
    }
}

/// An answer in JSON with its version.
pub(super) struct Versioned<T> {
    body: T,
    version: Version,
}

impl<T: HasVersion> From<T> for Versioned<T> {
    fn from(body: T) -> Self {
        Self { version: body.version().clone(), body }
    }
}

impl<T> From<(T, Version)> for Versioned<T> {
    fn from((body, version): (T, Version)) -> Self {
        Self { body, version }
    }
}

impl<T: Serialize> Responder for Versioned<T> {
    type Body = BoxBody;

    fn respond_to(self, _: &HttpRequest) -> HttpResponse {
        HttpResponse::Ok().insert_header((ETAG, self.version.tag())).json(self.body)
    }
}

#[cfg(test)]
mod tests {
    use actix_web::test::TestRequest;

    use super::*;

    fn seen_with(headers: &[&str]) -> Option<Seen> {
        let with = |request: TestRequest, value: &&str| request.append_header((IF_MATCH, *value));
        seen(&headers.iter().fold(TestRequest::put(), with).to_http_request()).ok()
    }

    #[test]
    fn if_match_has_tags_in_quotes_or_a_star() {
        let of = |versions: &[&str]| Some(Seen::OneOf(versions.iter().map(|v| Version((*v).to_owned())).collect()));
        assert_eq!(seen_with(&[]), Some(Seen::Anything));
        assert_eq!(seen_with(&["*"]), Some(Seen::Anything));
        assert_eq!(seen_with(&["\"a1\""]), of(&["a1"]));
        assert_eq!(seen_with(&["\"a1\", \"b2\""]), of(&["a1", "b2"]));
        assert_eq!(seen_with(&["W/\"a1\""]), of(&[]), "a weak tag matches nothing");
        assert_eq!(seen_with(&["a1"]), None);
        assert_eq!(seen_with(&[""]), None);
    }
}
