//! Calls by a path, with types that the caller names and nobody holds against it: for tests, which speak to the service as any program
//! would. The client and the command line use [`jetfrost_wire::calls`].

use jetfrost_wire::{Call, Version};
use reqwest::Method;
use serde::Serialize;
use serde::de::DeserializeOwned;

use super::{Api, Result};

impl Api {
    /// `GET`, JSON.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T> {
        self.call(&Call::new(Method::GET, path.to_owned()))
    }

    /// All entries of a list, page by page.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn list<T: DeserializeOwned>(&self, path: &str) -> Result<Vec<T>> {
        self.all(&Call::new(Method::GET, path.to_owned()))
    }

    /// A call with a JSON body, tried once.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn send<B: Serialize, T: DeserializeOwned>(&self, method: Method, path: &str, body: &B) -> Result<T> {
        self.json(self.request(method, path).json(body))
    }

    /// `POST`, JSON, tried once.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn post<B: Serialize, T: DeserializeOwned>(&self, path: &str, body: &B) -> Result<T> {
        self.send(Method::POST, path, body)
    }

    /// `POST`, JSON, for calls that answer with nothing.
    ///
    /// # Errors
    /// As for every call.
    pub fn post_without_answer<B: Serialize>(&self, path: &str, body: &B) -> Result<()> {
        self.checked(self.request(Method::POST, path).json(body)).map(drop)
    }

    /// A change to what had this version, with a JSON body, tried once.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn send_seen<B: Serialize, T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        body: &B,
        version: &Version,
    ) -> Result<T> {
        self.change(&Call::<&B, T>::new(method, path.to_owned()), &body, version)
    }

    /// `DELETE`, whatever it answers with.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn delete(&self, path: &str) -> Result<()> {
        self.checked(self.request(Method::DELETE, path)).map(drop)
    }
}
