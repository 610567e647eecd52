//! Chunks and segments: calls whose bodies and answers are bytes.

use std::io::Read;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use jetfrost_image::{ChunkName, SegmentHash};
use jetfrost_wire::call::Call;
use jetfrost_wire::calls;
use jetfrost_wire::chunks::{FRAME_HEAD, FrameStatus};
use reqwest::blocking::Body;

use super::bulk::{Incoming, Lent};
use super::{Api, MOST_PROBLEM, Result, note_units, refusal};
use crate::error::ClientError;
use crate::throttle::{Throttle, Throttled};

impl Api {
    /// Sends a segment; repeating it does no harm.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn put_segment(&self, store: &str, hash: &SegmentHash, bytes: &Bytes) -> Result<()> {
        self.put_bytes(&calls::put_segment(store, hash), bytes)
    }

    /// Sends a segment no faster than it may be.
    ///
    /// # Errors
    /// As [`Api::put_segment`].
    pub(crate) fn put_segment_by(&self, throttle: &Arc<Throttle>, store: &str, hash: &SegmentHash, bytes: &Bytes) -> Result<()> {
        if !throttle.is_limited() {
            return self.put_segment(store, hash, bytes);
        }
        self.put_body(&calls::put_segment(store, hash), bytes.len(), || {
            let read = Throttled { bytes: bytes.clone(), throttle: Arc::clone(throttle) };
            Body::sized(read, bytes.len() as u64)
        })
    }

    /// Has the service write a probe and read it back. Returns how long it took to send and write it, and to fetch it.
    ///
    /// # Errors
    /// [`ClientError::NotReadBack`] when it does not come back as it was; what the service or the network said.
    pub(crate) fn probe(&self, workstation: &str, probe: &Bytes) -> Result<(Duration, Duration)> {
        let began = Instant::now();
        let request = self.request_of(&calls::write_probe(workstation)).body(probe.clone());
        let response = self.checked(request)?;
        let sent = began.elapsed();
        let back = self.bounded(response, probe.len() as u64)?;
        if back == *probe { Ok((sent, began.elapsed() - sent)) } else { Err(ClientError::NotReadBack) }
    }

    /// Which of these chunks the store does not have.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn missing(&self, store: &str, names: &[ChunkName]) -> Result<Vec<bool>> {
        let call = calls::missing(store);
        let answer = self.patiently(|| {
            let response = self.checked(self.request(call.method().clone(), call.path()).body(joined(names)))?;
            self.bounded(response, names.len() as u64)
        })?;
        if answer.len() != names.len() {
            return Err(ClientError::Unexpected("another number of answers than questions".into()));
        }
        Ok(answer.iter().map(|byte| *byte != 0).collect())
    }

    /// Fetches sealed chunks and gives each to `each` in the order of `names`; `None` for one that is damaged or missing.
    ///
    /// # Errors
    /// What the service, the network or `each` said.
    pub fn fetch(
        &self,
        store: &str,
        names: &[ChunkName],
        mut each: impl FnMut(usize, Option<&mut [u8]>) -> Result<()>,
    ) -> Result<()> {
        let call = calls::fetch(store);
        let (mut done, mut frame) = (0, Vec::new());
        let connection = self.bulk.lend()?;
        // What has been given out is not fetched again.
        self.patiently(|| {
            let mut incoming = self.incoming(&connection, &call, joined(&names[done..]))?;
            while done < names.len() {
                let sealed = self.read_frame(&mut incoming, &mut frame)?;
                each(done, sealed)?;
                done += 1;
            }
            Ok(())
        })
    }

    /// Sends what asks for much data, and checks the status.
    fn incoming<'c, B, A>(&self, connection: &'c Lent<'_>, call: &Call<B, A>, body: Vec<u8>) -> Result<Incoming<'c>> {
        let request = connection.http().request(call.method().clone(), self.url(call.path())).body(body);
        let request = match &self.credential {
            Some(credential) => request.bearer_auth(credential),
            None => request,
        };
        let incoming = connection.send(request).map_err(|error| self.failed(&error))?;
        note_units(incoming.response.headers());
        let status = incoming.response.status();
        if status.is_success() {
            return Ok(incoming);
        }
        Err(refusal(status, &self.bounded(incoming, MOST_PROBLEM).unwrap_or_default()))
    }

    /// Reads a frame into `frame`, which may be longer, and gives what it holds if that is sound.
    fn read_frame<'f>(&self, incoming: &mut impl Read, frame: &'f mut Vec<u8>) -> Result<Option<&'f mut [u8]>> {
        let broken = |e: std::io::Error| ClientError::Unreachable { address: self.address.clone(), why: e.to_string() };
        let mut head = [0; FRAME_HEAD];
        incoming.read_exact(&mut head).map_err(broken)?;
        let status = FrameStatus::from_byte(head[0]).ok_or_else(|| ClientError::Unexpected("an unknown frame".into()))?;
        let len = u32::from_le_bytes([head[1], head[2], head[3], head[4]]) as usize;
        if len > 2 * jetfrost_image::format::MAX_CHUNK {
            return Err(ClientError::Unexpected("a chunk longer than chunks are".into()));
        }
        if frame.len() < len {
            frame.resize(len, 0);
        }
        let sealed = &mut frame[..len];
        incoming.read_exact(sealed).map_err(broken)?;
        Ok((status == FrameStatus::Sound).then_some(sealed))
    }
}

fn joined(names: &[ChunkName]) -> Vec<u8> {
    names.iter().flat_map(|name| *name.as_bytes()).collect()
}
