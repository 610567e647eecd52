//! One connection of a client: the handshake, then requests until it goes.

use std::io::{self, BufReader, BufWriter, Read, Write};
use std::ops::Range;

use super::protocol::{
    ALLOCATION, ALLOCATION_ID, DO_NOT_FRAGMENT, EXPORT_FLAGS, Errno, FIXED_NEWSTYLE, HOLE_AND_ZERO, INIT, NO_ZEROES, OPTION,
    REQUEST_ONE, Request, answer, answer_option, chunk, command, info, option, pass_over, read_u32, read_u64, write_chunk,
    write_simple,
};
use crate::content_reader::{ContentReader, Stretch};
use crate::error::ClientError;

/// No request reads more at once; the protocol's usual bound.
pub(super) const MOST_READ: u32 = 32 << 20;
/// An option has a name and a few queries in it, not more.
const MOST_OPTION: u32 = 16 << 10;
/// Options in a handshake: a client that sends more is not going to begin.
const MOST_OPTIONS: usize = 64;
/// Stretches in one answer.
const MOST_STRETCHES: usize = 4096;

/// What is served: bytes that can be read from anywhere.
pub(super) trait Readable {
    /// Bytes of it.
    fn len(&self) -> u64;

    /// What is data and what is a hole in a range that lies within it, and the bytes of the data.
    fn read_data(&self, range: Range<u64>) -> Result<(Vec<Stretch>, Vec<u8>), ClientError>;

    /// What is data and what is a hole.
    fn stretches(&self, range: Range<u64>) -> Result<Vec<Stretch>, ClientError>;
}

impl Readable for ContentReader {
    fn len(&self) -> u64 {
        ContentReader::len(self)
    }

    fn read_data(&self, range: Range<u64>) -> Result<(Vec<Stretch>, Vec<u8>), ClientError> {
        ContentReader::read_data(self, range)
    }

    fn stretches(&self, range: Range<u64>) -> Result<Vec<Stretch>, ClientError> {
        ContentReader::stretches(self, range)
    }
}

/// Serves one client until it disconnects. `ready` is told when both agree on what is served, `served` about bytes that were read.
///
/// # Errors
/// Of the stream; `InvalidData` when the client does not keep to the protocol.
pub(super) fn serve(
    stream: impl Read + Write + Clone,
    disk: &impl Readable,
    export: &str,
    ready: &dyn Fn(),
    served: &dyn Fn(u64),
) -> io::Result<()> {
    let (from, to) = (BufReader::new(stream.clone()), BufWriter::with_capacity(1 << 18, stream));
    let mut connection = Connection { from, to, disk, export, served, structured: false, tells_holes: false };
    if !connection.handshake()? {
        return Ok(());
    }
    ready();
    connection.transmission()
}

struct Connection<'c, S: Read + Write, D> {
    from: BufReader<S>,
    to: BufWriter<S>,
    disk: &'c D,
    export: &'c str,
    served: &'c dyn Fn(u64),
    structured: bool,
    tells_holes: bool,
}

impl<S: Read + Write, D: Readable> Connection<'_, S, D> {
    /// Agrees with the client on what is served and how; false when it went away in peace.
    fn handshake(&mut self) -> io::Result<bool> {
        self.to.write_all(&INIT.to_be_bytes())?;
        self.to.write_all(&OPTION.to_be_bytes())?;
        self.to.write_all(&(FIXED_NEWSTYLE | NO_ZEROES).to_be_bytes())?;
        self.to.flush()?;
        let flags = read_u32(&mut self.from)?;
        if flags & !u32::from(FIXED_NEWSTYLE | NO_ZEROES) != 0 {
            return Err(broken("flags that nobody knows"));
        }
        for _ in 0..MOST_OPTIONS {
            if read_u64(&mut self.from)? != OPTION {
                return Err(broken("no option where one is expected"));
            }
            let (option, len) = (read_u32(&mut self.from)?, read_u32(&mut self.from)?);
            if len > MOST_OPTION {
                pass_over(&mut self.from, len.into())?;
                self.answer(option, answer::TOO_BIG, b"")?;
                continue;
            }
            let mut data = vec![0; len as usize];
            self.from.read_exact(&mut data)?;
            match self.option(option, &data, flags & u32::from(NO_ZEROES) != 0)? {
                Next::Option => {}
                Next::Transmission => return Ok(true),
                Next::End => return Ok(false),
            }
        }
        Err(broken("options without end"))
    }

    fn option(&mut self, option: u32, data: &[u8], no_zeroes: bool) -> io::Result<Next> {
        match option {
            option::EXPORT_NAME => {
                if !self.is_export(data) {
                    // This old option has no way to say so.
                    return Ok(Next::End);
                }
                self.to.write_all(&self.disk.len().to_be_bytes())?;
                self.to.write_all(&EXPORT_FLAGS.to_be_bytes())?;
                self.to.write_all(&[0; 124][..if no_zeroes { 0 } else { 124 }])?;
                self.to.flush()?;
                return Ok(Next::Transmission);
            }
            option::ABORT => {
                self.answer(option, answer::ACK, b"")?;
                return Ok(Next::End);
            }
            option::LIST if data.is_empty() => {
                let name = self.export.as_bytes();
                let entry = [&(name.len() as u32).to_be_bytes()[..], name].concat();
                self.answer(option, answer::SERVER, &entry)?;
                self.answer(option, answer::ACK, b"")?;
            }
            option::INFO | option::GO => {
                let Some(name) = field(data).map(|(name, _)| name) else { return self.invalid(option) };
                if !self.is_export(name) {
                    self.answer(option, answer::UNKNOWN, b"there is no such export")?;
                    return Ok(Next::Option);
                }
                self.describe(option)?;
                if option == option::GO {
                    return Ok(Next::Transmission);
                }
            }
            option::STRUCTURED_REPLY if data.is_empty() => {
                self.structured = true;
                self.answer(option, answer::ACK, b"")?;
            }
            option::LIST_META_CONTEXT | option::SET_META_CONTEXT => return self.contexts(option, data),
            option::LIST | option::STRUCTURED_REPLY => return self.invalid(option),
            _ => self.answer(option, answer::UNSUPPORTED, b"")?,
        }
        Ok(Next::Option)
    }

    fn answer(&mut self, option: u32, answer: u32, data: &[u8]) -> io::Result<()> {
        answer_option(&mut self.to, option, answer, data)?;
        self.to.flush()
    }

    fn invalid(&mut self, option: u32) -> io::Result<Next> {
        self.answer(option, answer::INVALID, b"")?;
        Ok(Next::Option)
    }

    /// There is one export; without a name it is meant, too.
    fn is_export(&self, name: &[u8]) -> bool {
        name.is_empty() || name == self.export.as_bytes()
    }

    fn describe(&mut self, option: u32) -> io::Result<()> {
        let size = [&info::EXPORT.to_be_bytes()[..], &self.disk.len().to_be_bytes(), &EXPORT_FLAGS.to_be_bytes()].concat();
        let blocks = [1, 4096, MOST_READ].map(u32::to_be_bytes).concat();
        answer_option(&mut self.to, option, answer::INFO, &size)?;
        answer_option(&mut self.to, option, answer::INFO, &[&info::BLOCK_SIZE.to_be_bytes()[..], &blocks].concat())?;
        self.answer(option, answer::ACK, b"")
    }

    /// Lists or chooses what is told about blocks; there is one thing to tell.
    fn contexts(&mut self, option: u32, data: &[u8]) -> io::Result<Next> {
        let Some(asked) = asked_contexts(data) else { return self.invalid(option) };
        if !self.is_export(asked.export) {
            self.answer(option, answer::UNKNOWN, b"there is no such export")?;
            return Ok(Next::Option);
        }
        let lists = option == option::LIST_META_CONTEXT;
        if !lists && !self.structured {
            return self.invalid(option);
        }
        let all = lists && (asked.queries.is_empty() || asked.queries.contains(&&b"base:"[..]));
        let chosen = all || asked.queries.contains(&ALLOCATION);
        if chosen {
            let id = if lists { 0 } else { ALLOCATION_ID };
            answer_option(&mut self.to, option, answer::META_CONTEXT, &[&id.to_be_bytes()[..], ALLOCATION].concat())?;
        }
        if !lists {
            self.tells_holes = chosen;
        }
        self.answer(option, answer::ACK, b"")?;
        Ok(Next::Option)
    }

    fn transmission(&mut self) -> io::Result<()> {
        loop {
            let request = match Request::read(&mut self.from) {
                // A client that is gone without a word is gone.
                Err(e) if e.kind() == io::ErrorKind::UnexpectedEof => return Ok(()),
                other => other?,
            };
            match request.command {
                command::DISCONNECT => return Ok(()),
                command::READ => self.read(&request)?,
                command::BLOCK_STATUS => self.block_status(&request)?,
                command::FLUSH => self.done(&request)?,
                command::WRITE => {
                    // What cannot be taken must still be passed over to find the next request.
                    pass_over(&mut self.from, request.len.into())?;
                    self.refuse(&request, Errno::NotPermitted, "this is a backup: it can only be read")?;
                }
                command::TRIM | command::WRITE_ZEROES => {
                    self.refuse(&request, Errno::NotPermitted, "this is a backup: it can only be read")?;
                }
                _ => self.refuse(&request, Errno::Invalid, "an unknown command")?,
            }
            // Several answers go out together when the next request is here already.
            if self.from.buffer().is_empty() {
                self.to.flush()?;
            }
        }
    }

    /// The range of a request, if it lies within the disk.
    fn range(&self, request: &Request) -> Option<Range<u64>> {
        let end = request.offset.checked_add(request.len.into())?;
        (request.len > 0 && end <= self.disk.len()).then_some(request.offset..end)
    }

    fn read(&mut self, request: &Request) -> io::Result<()> {
        let Some(range) = self.range(request) else {
            return self.refuse(request, Errno::Invalid, "beyond the end of the disk");
        };
        if request.len > MOST_READ {
            return self.refuse(request, Errno::Overflow, "more than is read at once");
        }
        let (stretches, data) = match self.disk.read_data(range) {
            Err(error) => return self.refuse(request, Errno::Io, &error.to_string()),
            Ok(read) => read,
        };
        (self.served)(request.len.into());
        if self.structured && request.flags & DO_NOT_FRAGMENT == 0 {
            return self.write_stretches(request, &stretches, &data);
        }
        let whole = with_zeros(&stretches, data);
        if self.structured {
            self.write_stretches(request, &[Stretch { len: request.len.into(), is_hole: false }], &whole)
        } else {
            write_simple(&mut self.to, request.cookie, 0, &whole)
        }
    }

    /// Writes data and holes, in order; `bytes` are those of the data.
    fn write_stretches(&mut self, request: &Request, stretches: &[Stretch], mut bytes: &[u8]) -> io::Result<()> {
        let mut offset = request.offset;
        for (i, stretch) in stretches.iter().enumerate() {
            let (is_last, at) = (i + 1 == stretches.len(), offset.to_be_bytes());
            if stretch.is_hole {
                let len = u32::try_from(stretch.len).expect("not more than is read at once").to_be_bytes();
                write_chunk(&mut self.to, request.cookie, chunk::OFFSET_HOLE, is_last, &[&at, &len])?;
            } else {
                let (data, rest) = bytes.split_at(usize::try_from(stretch.len).expect("not more than is read at once"));
                write_chunk(&mut self.to, request.cookie, chunk::OFFSET_DATA, is_last, &[&at, data])?;
                bytes = rest;
            }
            offset += stretch.len;
        }
        Ok(())
    }

    fn block_status(&mut self, request: &Request) -> io::Result<()> {
        let Some(range) = self.range(request).filter(|_| self.tells_holes) else {
            return self.refuse(request, Errno::Invalid, "nothing is told about this");
        };
        match self.disk.stretches(range) {
            Err(error) => self.refuse(request, Errno::Io, &error.to_string()),
            Ok(stretches) => {
                let most = if request.flags & REQUEST_ONE == 0 { MOST_STRETCHES } else { 1 };
                let mut payload = ALLOCATION_ID.to_be_bytes().to_vec();
                for stretch in stretches.iter().take(most) {
                    payload.extend(u32::try_from(stretch.len).expect("part of a 32-bit length").to_be_bytes());
                    payload.extend(if stretch.is_hole { HOLE_AND_ZERO } else { 0 }.to_be_bytes());
                }
                write_chunk(&mut self.to, request.cookie, chunk::BLOCK_STATUS, true, &[&payload])
            }
        }
    }

    fn done(&mut self, request: &Request) -> io::Result<()> {
        if self.structured {
            write_chunk(&mut self.to, request.cookie, chunk::NONE, true, &[])
        } else {
            write_simple(&mut self.to, request.cookie, 0, b"")
        }
    }

    fn refuse(&mut self, request: &Request, errno: Errno, why: &str) -> io::Result<()> {
        if !self.structured {
            return write_simple(&mut self.to, request.cookie, errno as u32, b"");
        }
        let why = &why.as_bytes()[..why.len().min(4096)];
        let len = u16::try_from(why.len()).expect("at most 4096").to_be_bytes();
        write_chunk(&mut self.to, request.cookie, chunk::ERROR, true, &[&(errno as u32).to_be_bytes(), &len, why])
    }
}

/// The bytes of all stretches, holes as zeros.
fn with_zeros(stretches: &[Stretch], data: Vec<u8>) -> Vec<u8> {
    if stretches.iter().all(|stretch| !stretch.is_hole) {
        return data;
    }
    let (mut whole, mut data) = (Vec::new(), &data[..]);
    for stretch in stretches {
        let len = usize::try_from(stretch.len).expect("not more than is read at once");
        if stretch.is_hole {
            whole.resize(whole.len() + len, 0);
        } else {
            let (taken, rest) = data.split_at(len);
            whole.extend(taken);
            data = rest;
        }
    }
    whole
}

/// What follows an option.
enum Next {
    Option,
    Transmission,
    End,
}

fn broken(why: &'static str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, why)
}

/// A length of 32 bits and so many bytes, and what follows.
fn field(data: &[u8]) -> Option<(&[u8], &[u8])> {
    let (len, rest) = data.split_first_chunk()?;
    rest.split_at_checked(u32::from_be_bytes(*len) as usize)
}

struct AskedContexts<'d> {
    export: &'d [u8],
    queries: Vec<&'d [u8]>,
}

fn asked_contexts(data: &[u8]) -> Option<AskedContexts<'_>> {
    let (export, rest) = field(data)?;
    let (count, mut rest) = rest.split_first_chunk()?;
    let mut queries = Vec::new();
    // Each takes four bytes at least, so this ends with the data.
    for _ in 0..u32::from_be_bytes(*count) {
        let (query, after) = field(rest)?;
        queries.push(query);
        rest = after;
    }
    rest.is_empty().then_some(AskedContexts { export, queries })
}

#[cfg(test)]
mod tests;
