//! What a call of the API is: where it goes, what it takes, what it answers with.

use std::borrow::Cow;
use std::fmt::Display;
use std::marker::PhantomData;

use http::Method;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

/// The unreserved characters of a URI (RFC 3986, section 2.3) stand for themselves.
const ENCODED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// A call: `B` is its body, `()` for none; `A` its answer, `()` for none.
pub struct Call<B, A> {
    method: Method,
    path: Cow<'static, str>,
    of: PhantomData<fn(B) -> A>,
}

impl<B, A> Call<B, A> {
    /// A call of one's own; those that there are, are in [`crate::calls`].
    #[must_use]
    pub fn new(method: Method, path: impl Into<Cow<'static, str>>) -> Self {
        Self { method, path: path.into(), of: PhantomData }
    }

    /// Its method.
    #[must_use]
    pub fn method(&self) -> &Method {
        &self.method
    }

    /// Its path, below [`crate::ROOT`].
    #[must_use]
    pub fn path(&self) -> &str {
        &self.path
    }
}

/// A body of bytes, as they are.
#[derive(Debug)]
pub enum Octets {}

/// An answer that is a file or a stream, of the media type that the call says.
#[derive(Debug)]
pub enum File {}

/// A value as one segment of a path. What no path has as a segment, nothing and the dots that lead here or up (RFC 3986, section 5.2.4, encoded
/// or not), becomes `_`, which nothing is called: the call goes to no other path.
pub(crate) fn segment(value: impl Display) -> String {
    match value.to_string().as_str() {
        "" | "." | ".." => "_".to_owned(),
        text => utf8_percent_encode(text, ENCODED).to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_person_typed_stays_one_segment_of_a_path() {
        let call: Call<(), ()> = Call::new(Method::GET, format!("/setup/{}", segment("../accounts/ö?x#y")));
        assert_eq!(call.path(), "/setup/..%2Faccounts%2F%C3%B6%3Fx%23y");
        assert_eq!(segment("94f1-3bac_~."), "94f1-3bac_~.");
        assert_eq!(["", ".", ".."].map(segment), ["_"; 3], "a call that ends one session must not become one that ends all");
    }
}
