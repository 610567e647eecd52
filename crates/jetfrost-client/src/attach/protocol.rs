//! The bytes of the network block device protocol (its specification is `doc/proto.md` of the NBD project): what a server
//! for reading needs of it.

use std::io;
use std::io::{Read, Write};

/// Magic at the front of the handshake.
pub(super) const INIT: u64 = 0x4e42_444d_4147_4943;
/// Magic of an option, from either side.
pub(super) const OPTION: u64 = 0x4948_4156_454f_5054;
pub(super) const OPTION_REPLY: u64 = 0x0003_e889_0455_65a9;
pub(super) const REQUEST: u32 = 0x2560_9513;
pub(super) const SIMPLE_REPLY: u32 = 0x6744_6698;
pub(super) const CHUNK_REPLY: u32 = 0x668e_33ef;

/// Handshake flags: fixed newstyle, and no zeroes after an export.
pub(super) const FIXED_NEWSTYLE: u16 = 1;
pub(super) const NO_ZEROES: u16 = 2;

/// Options of a client.
pub(super) mod option {
    pub(in super::super) const EXPORT_NAME: u32 = 1;
    pub(in super::super) const ABORT: u32 = 2;
    pub(in super::super) const LIST: u32 = 3;
    pub(in super::super) const INFO: u32 = 6;
    pub(in super::super) const GO: u32 = 7;
    pub(in super::super) const STRUCTURED_REPLY: u32 = 8;
    pub(in super::super) const LIST_META_CONTEXT: u32 = 9;
    pub(in super::super) const SET_META_CONTEXT: u32 = 10;
}

/// Answers to options.
pub(super) mod answer {
    pub(in super::super) const ACK: u32 = 1;
    pub(in super::super) const SERVER: u32 = 2;
    pub(in super::super) const INFO: u32 = 3;
    pub(in super::super) const META_CONTEXT: u32 = 4;
    pub(in super::super) const UNSUPPORTED: u32 = 1 << 31 | 1;
    pub(in super::super) const INVALID: u32 = 1 << 31 | 3;
    pub(in super::super) const UNKNOWN: u32 = 1 << 31 | 6;
    pub(in super::super) const TOO_BIG: u32 = 1 << 31 | 9;
}

/// Kinds of information about an export.
pub(super) mod info {
    pub(in super::super) const EXPORT: u16 = 0;
    pub(in super::super) const BLOCK_SIZE: u16 = 3;
}

/// Transmission flags: there are flags, reading only, flush is understood, do-not-fragment is understood, several
/// connections see the same.
pub(super) const EXPORT_FLAGS: u16 = 1 | 1 << 1 | 1 << 2 | 1 << 7 | 1 << 8;

/// Commands.
pub(super) mod command {
    pub(in super::super) const READ: u16 = 0;
    pub(in super::super) const WRITE: u16 = 1;
    pub(in super::super) const DISCONNECT: u16 = 2;
    pub(in super::super) const FLUSH: u16 = 3;
    pub(in super::super) const TRIM: u16 = 4;
    pub(in super::super) const WRITE_ZEROES: u16 = 6;
    pub(in super::super) const BLOCK_STATUS: u16 = 7;
}

/// Command flags: the answer comes in one piece; only one stretch is asked for.
pub(super) const DO_NOT_FRAGMENT: u16 = 1 << 2;
pub(super) const REQUEST_ONE: u16 = 1 << 3;

/// Pieces of a structured reply.
pub(super) mod chunk {
    pub(in super::super) const DONE: u16 = 1;
    pub(in super::super) const NONE: u16 = 0;
    pub(in super::super) const OFFSET_DATA: u16 = 1;
    pub(in super::super) const OFFSET_HOLE: u16 = 2;
    pub(in super::super) const BLOCK_STATUS: u16 = 5;
    pub(in super::super) const ERROR: u16 = 1 << 15 | 1;
}

/// The context `base:allocation`, by which holes are seen, the number by which we call it, and its flags for a hole that
/// reads as zeros.
pub(super) const ALLOCATION: &[u8] = b"base:allocation";
pub(super) const ALLOCATION_ID: u32 = 1;
pub(super) const HOLE_AND_ZERO: u32 = 3;

/// Errors, by the numbers that the protocol gives them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u32)]
pub(super) enum Errno {
    /// It is for reading only.
    NotPermitted = 1,
    /// It could not be read.
    Io = 5,
    /// The request makes no sense.
    Invalid = 22,
    /// The answer would be too long.
    Overflow = 75,
}

/// A request in the transmission phase.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Request {
    pub(super) flags: u16,
    pub(super) command: u16,
    /// Selection by the client, and given back.
    pub(super) cookie: u64,
    pub(super) offset: u64,
    pub(super) len: u32,
}

impl Request {
    /// Reads a request.
    ///
    /// # Errors
    /// Of the reader; `InvalidData` when it is none.
    pub(super) fn read(from: &mut impl Read) -> io::Result<Self> {
        if read_u32(from)? != REQUEST {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "this is no request"));
        }
        Ok(Self {
            flags: read_u16(from)?,
            command: read_u16(from)?,
            cookie: read_u64(from)?,
            offset: read_u64(from)?,
            len: read_u32(from)?,
        })
    }
}

fn read_array<const N: usize>(from: &mut impl Read) -> io::Result<[u8; N]> {
    let mut bytes = [0; N];
    from.read_exact(&mut bytes)?;
    Ok(bytes)
}

pub(super) fn read_u16(from: &mut impl Read) -> io::Result<u16> {
    read_array(from).map(u16::from_be_bytes)
}

pub(super) fn read_u32(from: &mut impl Read) -> io::Result<u32> {
    read_array(from).map(u32::from_be_bytes)
}

pub(super) fn read_u64(from: &mut impl Read) -> io::Result<u64> {
    read_array(from).map(u64::from_be_bytes)
}

/// Reads `len` bytes away.
pub(super) fn pass_over(from: &mut impl Read, len: u64) -> io::Result<()> {
    let passed = io::copy(&mut from.take(len), &mut io::sink())?;
    if passed == len { Ok(()) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
}

/// Writes an answer to an option.
pub(super) fn answer_option(to: &mut impl Write, option: u32, answer: u32, data: &[u8]) -> io::Result<()> {
    to.write_all(&OPTION_REPLY.to_be_bytes())?;
    to.write_all(&option.to_be_bytes())?;
    to.write_all(&answer.to_be_bytes())?;
    to.write_all(&length(data)?.to_be_bytes())?;
    to.write_all(data)
}

/// Writes a piece of a structured reply.
pub(super) fn write_chunk(to: &mut impl Write, cookie: u64, kind: u16, is_last: bool, payload: &[&[u8]]) -> io::Result<()> {
    let flags = if is_last { chunk::DONE } else { 0 };
    let len = payload.iter().map(|part| length(part)).sum::<io::Result<u32>>()?;
    to.write_all(&CHUNK_REPLY.to_be_bytes())?;
    to.write_all(&flags.to_be_bytes())?;
    to.write_all(&kind.to_be_bytes())?;
    to.write_all(&cookie.to_be_bytes())?;
    to.write_all(&len.to_be_bytes())?;
    payload.iter().try_for_each(|part| to.write_all(part))
}

/// Writes a simple reply; `error` is 0 for none.
pub(super) fn write_simple(to: &mut impl Write, cookie: u64, error: u32, data: &[u8]) -> io::Result<()> {
    to.write_all(&SIMPLE_REPLY.to_be_bytes())?;
    to.write_all(&error.to_be_bytes())?;
    to.write_all(&cookie.to_be_bytes())?;
    to.write_all(data)
}

fn length(data: &[u8]) -> io::Result<u32> {
    u32::try_from(data.len()).map_err(|_| io::ErrorKind::InvalidInput.into())
}
