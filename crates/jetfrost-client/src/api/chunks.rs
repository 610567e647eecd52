//! Chunks and segments: calls whose bodies and answers are bytes.

use std::io::Read;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use jetfrost_image::{ChunkName, SegmentHash};
use jetfrost_wire::call::Call;
use jetfrost_wire::calls;
use jetfrost_wire::chunks::{DAMAGED_HEAD, FRAME_HEAD, FrameStatus, NAME};
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

    /// Chunks that lay near damage in a store, with the segment that is damaged: `most` of them.
    ///
    /// # Errors
    /// What the service or the network said.
    pub(crate) fn near_damage(&self, store: &str, most: usize) -> Result<Vec<(ChunkName, SegmentHash)>> {
        let call = calls::near_damage(store);
        let connection = self.bulk.lend()?;
        self.patiently(|| {
            let mut incoming = self.incoming(&connection, &call, Vec::new())?;
            read_near_damage(&mut incoming, most).map_err(|error| self.broken(&error))
        })
    }

    fn broken(&self, error: &std::io::Error) -> ClientError {
        ClientError::Unreachable { address: self.address.clone(), why: error.to_string() }
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
        let mut head = [0; FRAME_HEAD];
        incoming.read_exact(&mut head).map_err(|error| self.broken(&error))?;
        let status = FrameStatus::from_byte(head[0]).ok_or_else(|| ClientError::Unexpected("an unknown frame".into()))?;
        let len = u32::from_le_bytes([head[1], head[2], head[3], head[4]]) as usize;
        if len > 2 * jetfrost_image::format::MAX_CHUNK {
            return Err(ClientError::Unexpected("a chunk longer than chunks are".into()));
        }
        if frame.len() < len {
            frame.resize(len, 0);
        }
        let sealed = &mut frame[..len];
        incoming.read_exact(sealed).map_err(|error| self.broken(&error))?;
        Ok((status == FrameStatus::Sound).then_some(sealed))
    }
}

/// Reads segments that are damaged and the names of their chunks, to the end or as many as are wanted.
fn read_near_damage(from: &mut impl Read, most: usize) -> std::io::Result<Vec<(ChunkName, SegmentHash)>> {
    let mut near = Vec::new();
    let mut head = [0; DAMAGED_HEAD];
    while from.read(&mut head[..1])? > 0 {
        from.read_exact(&mut head[1..])?;
        let (segment, names) = head.split_first_chunk().expect("it is longer");
        for _ in 0..u32::from_le_bytes(names.try_into().expect("four")) {
            if near.len() >= most {
                return Ok(near);
            }
            let mut name = [0; NAME];
            from.read_exact(&mut name)?;
            near.push((ChunkName(name), SegmentHash(*segment)));
        }
    }
    Ok(near)
}

fn joined(names: &[ChunkName]) -> Vec<u8> {
    names.iter().flat_map(|name| *name.as_bytes()).collect()
}

#[cfg(test)]
mod tests {
    use jetfrost_wire::chunks::damaged_head;
    use proptest::collection;
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn what_lay_near_damage_reads_back_up_to_as_much_as_is_wanted(
            segments in collection::vec(any::<([u8; 32], u8)>(), 0..5),
            most in 0_usize..300,
        ) {
            let names = |number: u8| (0..number % 20).map(|i| [i; 32]).collect::<Vec<_>>();
            let segments: Vec<_> = segments.into_iter().map(|(segment, number)| (segment, names(number))).collect();
            let (mut bytes, mut all) = (Vec::new(), Vec::new());
            for (segment, names) in &segments {
                bytes.extend(damaged_head(segment, u32::try_from(names.len()).expect("few")));
                names.iter().for_each(|name| bytes.extend(name));
                all.extend(names.iter().map(|name| (ChunkName(*name), SegmentHash(*segment))));
            }
            let read = read_near_damage(&mut bytes.as_slice(), most).expect("whole");
            prop_assert_eq!(&read, &all[..all.len().min(most)]);
            if !bytes.is_empty() && most > all.len() {
                // What is cut off is an error, and no shorter list.
                prop_assert!(read_near_damage(&mut &bytes[..bytes.len() - 1], most).is_err());
            }
        }

        #[test]
        fn a_service_that_lies_fills_no_memory(bytes: Vec<u8>) {
            let claims = [damaged_head(&[1; 32], u32::MAX).as_slice(), &[7; 3200], &bytes].concat();
            prop_assert!(read_near_damage(&mut claims.as_slice(), 50).expect("enough").len() == 50);
        }
    }
}
