//! Calls as the API says them: body and answer belong to the path.

use std::io::Write;
use std::time::Duration;

use bytes::Bytes;
use data_encoding::HEXLOWER;
use jetfrost_image::crypto::{SystemRandom, random_array};
use jetfrost_wire::call::{File, Octets};
use jetfrost_wire::{Call, Page, Version};
use reqwest::Method;
use reqwest::blocking::{Body, RequestBuilder, Response};
use reqwest::header::IF_MATCH;
use serde::Serialize;
use serde::de::DeserializeOwned;

use super::{Api, PAGE, Result, SILENCE, SLOWEST};
use crate::error::ClientError;

/// What narrows a list: names of parameters and what they are to be.
pub type Query<'q> = [(&'q str, Option<String>)];

impl Api {
    /// Makes a call that takes no body. One that only reads is tried again after passing failures.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn call<A: DeserializeOwned>(&self, call: &Call<(), A>) -> Result<A> {
        self.call_for(call, &[])
    }

    /// The same, with parameters.
    ///
    /// # Errors
    /// As [`Api::call`].
    pub fn call_for<A: DeserializeOwned>(&self, call: &Call<(), A>, query: &Query<'_>) -> Result<A> {
        let ask = || self.json(self.request_of(call).query(query));
        if *call.method() == Method::GET { self.patiently(ask) } else { ask() }
    }

    /// Makes a call that takes no body, once: for whoever asks again anyhow.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn call_once<A: DeserializeOwned>(&self, call: &Call<(), A>) -> Result<A> {
        self.json(self.request_of(call))
    }

    /// Makes a call with a body, once.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn call_with<B: Serialize, A: DeserializeOwned>(&self, call: &Call<B, A>, body: &B) -> Result<A> {
        self.json(self.request_of(call).json(body))
    }

    /// Makes a call with a body, and again after passing failures. What it does is done once however often it is sent: the service
    /// gives the answer that was lost again.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn call_patiently<B: Serialize, A: DeserializeOwned>(&self, call: &Call<B, A>, body: &B) -> Result<A> {
        let key = HEXLOWER.encode(&random_array::<16>(&SystemRandom::default()));
        self.patiently(|| self.json(self.request_of(call).header("idempotency-key", &key).json(body)))
    }

    /// Changes what had this version when it was read; refused if somebody else changed it since.
    ///
    /// # Errors
    /// What the service or the network said; [`ClientError::is_changed_meanwhile`] tells that refusal.
    pub fn change<B: Serialize, A: DeserializeOwned>(&self, call: &Call<B, A>, body: &B, version: &Version) -> Result<A> {
        self.json(self.request_of(call).header(IF_MATCH, version.tag()).json(body))
    }

    /// All entries of a list, page by page.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn all<T: DeserializeOwned>(&self, call: &Call<(), Page<T>>) -> Result<Vec<T>> {
        self.first(call, &[], usize::MAX)
    }

    /// The first entries of a list, of those that a query is for.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn first<T: DeserializeOwned>(&self, call: &Call<(), Page<T>>, query: &Query<'_>, most: usize) -> Result<Vec<T>> {
        let mut items = Vec::new();
        let mut after: Option<String> = None;
        loop {
            let size = (most - items.len()).clamp(1, PAGE).to_string();
            let page = [("after", after.take()), ("most", Some(size))];
            let page: Page<T> = self.patiently(|| self.json(self.request_of(call).query(query).query(&page)))?;
            items.extend(page.items);
            items.truncate(most);
            match page.next {
                Some(next) if items.len() < most => after = Some(next),
                _ => return Ok(items),
            }
        }
    }

    /// Writes the file that a call answers with, piece by piece.
    ///
    /// # Errors
    /// As for every call; [`ClientError::Unexpected`] when it cannot be written.
    pub fn download(&self, call: &Call<(), File>, query: &Query<'_>, out: &mut dyn Write) -> Result<()> {
        copied(self.checked(self.request_of(call).query(query))?, out)
    }

    /// Writes the file that a call with a body answers with.
    ///
    /// # Errors
    /// As [`Api::download`].
    pub fn download_with<B: Serialize>(&self, call: &Call<B, File>, body: &B, out: &mut dyn Write) -> Result<()> {
        copied(self.checked(self.request_of(call).json(body))?, out)
    }

    /// Sends bytes; repeating it does no harm.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn put_bytes(&self, call: &Call<Octets, ()>, bytes: &Bytes) -> Result<()> {
        self.put_body(call, bytes.len(), || bytes.clone().into())
    }

    /// Sends a body of so many bytes, made anew for each try. It may take as long as the service allows.
    pub(super) fn put_body(&self, call: &Call<Octets, ()>, len: usize, body: impl Fn() -> Body) -> Result<()> {
        let long_enough = SILENCE + Duration::from_secs(len as u64 / SLOWEST);
        self.patiently(|| self.checked(self.request_of(call).timeout(long_enough).body(body())).map(drop))
    }

    pub(super) fn request_of<B, A>(&self, call: &Call<B, A>) -> RequestBuilder {
        self.request(call.method().clone(), call.path())
    }
}

fn copied(mut response: Response, out: &mut dyn Write) -> Result<()> {
    std::io::copy(&mut response, out).map(drop).map_err(|e| ClientError::Unexpected(format!("copying the answer: {e}")))
}
