//! Live changes, as the service tells them: Server-Sent Events (WHATWG HTML, section 9.2).

use std::io::{BufRead, BufReader, Read};

use jetfrost_wire::calls;
use jetfrost_wire::event::Event;

use super::{Api, Result};
use crate::error::ClientError;

/// A line has so many bytes at most; what is longer is none of ours.
const MOST_LINE: u64 = 256 << 10;

impl Api {
    /// Listens until the connection ends or `heard` says that it is enough. It is given `None` once the service listens to us, and
    /// then each change; one of a kind that this version does not know is left out.
    ///
    /// # Errors
    /// What the service or the network said.
    pub fn listen(&self, mut heard: impl FnMut(Option<Event>) -> bool) -> Result<()> {
        let response = self.checked(self.request_of(&calls::listen()))?;
        if !heard(None) {
            return Ok(());
        }
        let mut lines = BufReader::new(response);
        while let Some(line) = self.next_line(&mut lines)? {
            let event = line.strip_prefix("data: ").and_then(|json| serde_json::from_str::<Event>(json).ok());
            if let Some(event) = event
                && !heard(Some(event))
            {
                return Ok(());
            }
        }
        Ok(())
    }

    /// The next line without its end; `None` at the end of the answer.
    fn next_line(&self, lines: &mut impl BufRead) -> Result<Option<String>> {
        let mut line = Vec::new();
        let broken = |e: std::io::Error| ClientError::Unreachable { address: self.address.clone(), why: e.to_string() };
        if lines.by_ref().take(MOST_LINE).read_until(b'\n', &mut line).map_err(broken)? == 0 {
            return Ok(None);
        }
        if line.pop() != Some(b'\n') {
            return Err(ClientError::Unexpected("an event that does not end".into()));
        }
        String::from_utf8(line).map(Some).map_err(|_| ClientError::Unexpected("an event that is not text".into()))
    }
}
