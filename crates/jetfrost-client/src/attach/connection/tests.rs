//! A client's bytes against the server's, without a network.

use std::cell::RefCell;
use std::rc::Rc;

use proptest::prelude::*;

use super::*;

const HOLE: u64 = 5000;

/// Bytes that count upwards, behind a hole.
struct Counting(u64);

impl Readable for Counting {
    fn len(&self) -> u64 {
        self.0
    }

    fn read_data(&self, range: Range<u64>) -> Result<(Vec<Stretch>, Vec<u8>), ClientError> {
        let data = range.clone().filter(|at| *at >= HOLE).map(|at| u8::try_from(at % 251).expect("small")).collect();
        Ok((self.stretches(range)?, data))
    }

    fn stretches(&self, range: Range<u64>) -> Result<Vec<Stretch>, ClientError> {
        let border = HOLE.clamp(range.start, range.end);
        let stretches =
            [Stretch { len: border - range.start, is_hole: true }, Stretch { len: range.end - border, is_hole: false }];
        Ok(stretches.into_iter().filter(|stretch| stretch.len > 0).collect())
    }
}

/// What a client sends, all of it at once, and what it gets.
#[derive(Clone, Default)]
struct Script {
    sent: Rc<RefCell<io::Cursor<Vec<u8>>>>,
    got: Rc<RefCell<Vec<u8>>>,
}

impl Read for Script {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        self.sent.borrow_mut().read(buf)
    }
}

impl Write for Script {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        self.got.borrow_mut().write(buf)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

fn talk(sent: Vec<u8>) -> (io::Result<()>, Vec<u8>) {
    let script = Script { sent: Rc::new(RefCell::new(io::Cursor::new(sent))), ..Script::default() };
    let result = serve(script.clone(), &Counting(20_000), "ledger.raw", &|| {}, &|_| {});
    let got = script.got.take();
    (result, got)
}

fn option(number: u32, data: &[u8]) -> Vec<u8> {
    [&OPTION.to_be_bytes()[..], &number.to_be_bytes(), &(data.len() as u32).to_be_bytes(), data].concat()
}

fn go(name: &str) -> Vec<u8> {
    option(option::GO, &[&(name.len() as u32).to_be_bytes()[..], name.as_bytes(), &[0, 0]].concat())
}

fn request(command: u16, flags: u16, offset: u64, len: u32) -> Vec<u8> {
    let head = [&super::super::protocol::REQUEST.to_be_bytes()[..], &flags.to_be_bytes(), &command.to_be_bytes()].concat();
    [&head[..], &7_u64.to_be_bytes(), &offset.to_be_bytes(), &len.to_be_bytes()].concat()
}

const FLAGS: [u8; 4] = [0, 0, 0, 3];

/// What came after the handshake of a structured session with these requests.
fn session(requests: &[Vec<u8>]) -> Vec<u8> {
    let query = [&10_u32.to_be_bytes()[..], b"ledger.raw", &[0, 0, 0, 1], &[0, 0, 0, 15], ALLOCATION].concat();
    let begin = [&FLAGS[..], &option(8, b""), &option(10, &query), &go("ledger.raw")].concat();
    let (_, handshake) = talk(begin.clone());
    let (result, got) = talk([begin, requests.concat(), request(command::DISCONNECT, 0, 0, 0)].concat());
    result.expect("goes in peace");
    got[handshake.len()..].to_vec()
}

#[test]
fn a_read_tells_holes_from_data() {
    let got = session(&[request(command::READ, 0, 4990, 20)]);
    let hole = [&[0x66, 0x8e, 0x33, 0xef, 0, 0, 0, 2][..], &7_u64.to_be_bytes(), &[0, 0, 0, 12]].concat();
    assert_eq!(got[..20], hole);
    assert_eq!(got[20..32], [&4990_u64.to_be_bytes()[..], &10_u32.to_be_bytes()].concat());
    let data = [&[0x66, 0x8e, 0x33, 0xef, 0, 1, 0, 1][..], &7_u64.to_be_bytes(), &[0, 0, 0, 18]].concat();
    assert_eq!(got[32..52], data);
    let expected: Vec<u8> = (5000..5010).map(|at: u64| u8::try_from(at % 251).expect("small")).collect();
    assert_eq!(got[60..], expected);
}

#[test]
fn a_read_in_one_piece_is_one_piece() {
    let got = session(&[request(command::READ, DO_NOT_FRAGMENT, 4990, 20)]);
    assert_eq!(got[4..8], [0, 1, 0, 1]);
    assert_eq!(got.len(), 20 + 8 + 20);
}

#[test]
fn holes_are_told() {
    let got = session(&[request(command::BLOCK_STATUS, 0, 0, 20_000)]);
    let payload: Vec<u8> = [1, 5000, 3, 15_000, 0].into_iter().flat_map(u32::to_be_bytes).collect();
    assert_eq!(got[20..], payload);
    let got = session(&[request(command::BLOCK_STATUS, REQUEST_ONE, 0, 20_000)]);
    assert_eq!(got[20..], payload[..12]);
}

#[test]
fn writing_and_reading_beyond_the_end_are_refused_and_the_session_goes_on() {
    let write = [request(command::WRITE, 0, 0, 5), b"alien".to_vec()].concat();
    let got = session(&[write, request(command::READ, 0, 19_999, 2), request(command::READ, 0, u64::MAX, 9)]);
    let mut rest = &got[..];
    for errno in [1_u32, 22, 22] {
        assert_eq!(rest[4..8], [0, 1, 0x80, 1]);
        let len = u32::from_be_bytes(rest[16..20].try_into().expect("four")) as usize;
        assert_eq!(rest[20..24], errno.to_be_bytes());
        rest = &rest[20 + len..];
    }
    assert!(rest.is_empty());
}

#[test]
fn a_client_without_structured_replies_is_served_plainly() {
    let begin = [&FLAGS[..], &option(1, b"ledger.raw")].concat();
    let (_, handshake) = talk(begin.clone());
    assert_eq!(handshake[18..], [&20_000_u64.to_be_bytes()[..], &EXPORT_FLAGS.to_be_bytes()].concat());
    let (result, got) = talk([begin, request(command::READ, 0, 5000, 4)].concat());
    result.expect("it just went");
    assert_eq!(got[28..], [&[0x67, 0x44, 0x66, 0x98, 0, 0, 0, 0][..], &7_u64.to_be_bytes(), &[231, 232, 233, 234]].concat());
}

#[test]
fn another_export_is_unknown_and_long_options_are_passed_over() {
    let (_, got) = talk([&FLAGS[..], &option(4711, &vec![1; 40_000]), &go("other"), &option(2, b"")].concat());
    let answers: Vec<u32> = [18 + 12, 18 + 20 + 12].map(|at| u32::from_be_bytes(got[at..at + 4].try_into().expect("4"))).to_vec();
    assert_eq!(answers, [answer::TOO_BIG, answer::UNKNOWN]);
}

proptest! {
    #[test]
    fn any_bytes_end_in_peace_or_with_an_error(bytes: Vec<u8>, options in prop::collection::vec((0_u32..12, any::<Vec<u8>>()), 0..4), goes: bool) {
        let mut sent = FLAGS.to_vec();
        options.iter().for_each(|(number, data)| sent.extend(option(*number, data)));
        if goes {
            sent.extend(go(""));
            sent.extend(request(command::READ, 0, 0, 100));
        }
        sent.extend(bytes);
        let _ = talk(sent);
    }

    #[test]
    fn any_request_is_answered_or_refused(command in 0_u16..9, flags: u16, offset in 0_u64..30_000, len in 0_u32..30_000) {
        prop_assume!(command != command::WRITE && command != command::DISCONNECT);
        prop_assert!(session(&[request(command, flags, offset, len)]).len() >= 20);
    }
}
