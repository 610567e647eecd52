//! Heads of the audit log on the destinations: which entry was the last, and its link, signed (Ed25519, RFC 8032) by a key that
//! lies beside the records and never in them. Whoever alters the records file cannot make them agree.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use data_encoding::HEXLOWER;
use jetfrost_image::crypto::{Random, random_array};
use jiff::Timestamp;
use ring::signature::{ED25519, Ed25519KeyPair, KeyPair, UnparsedPublicKey};
use serde::{Deserialize, Serialize};

use crate::records_backup::records_directory;

/// The key's seed in the state directory, in hexadecimal. It is not in the copies of the records: whoever starts again from one
/// signs with another key.
const KEY: &str = "audit-key";
const BEGIN: &str = "audit-heads-";
const END: &str = ".jsonl";
/// A head an hour is 3 MB a year; a longer file is not ours alone.
const MOST_FILE: u64 = 16 << 20;
/// The latest heads are within this much of a file's end.
const TAIL: u64 = 16 << 10;
const DOMAIN: &[u8] = b"jetfrost audit head v1";

/// A head as a line of the file has it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Head {
    /// The number of the last entry.
    pub(crate) number: i64,
    pub(crate) at: Timestamp,
    /// That entry's link, in hexadecimal.
    pub(crate) link: String,
    /// The public half of the key that signed this, in hexadecimal.
    key: String,
    signature: String,
}

/// What signs heads.
pub(crate) struct HeadSigner {
    pair: Ed25519KeyPair,
    service: String,
}

impl HeadSigner {
    /// The key of the state directory. Says whether it had to be made.
    pub(crate) fn load_or_make(state: &Path, service: &str, random: &dyn Random) -> io::Result<(Self, bool)> {
        let path = state.join(KEY);
        match fs::read_to_string(&path) {
            Ok(text) => {
                let seed = HEXLOWER.decode(text.trim().as_bytes()).ok().and_then(|seed| seed.try_into().ok());
                let bad =
                    || io::Error::other(format!("{} is no key of an audit log; move it away to have one made", path.display()));
                Ok((Self::of(&seed.ok_or_else(bad)?, service), false))
            }
            Err(e) if e.kind() == io::ErrorKind::NotFound => {
                let seed: [u8; 32] = random_array(random);
                let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path)?;
                file.write_all(HEXLOWER.encode(&seed).as_bytes())?;
                file.sync_all()?;
                File::open(state)?.sync_all()?;
                Ok((Self::of(&seed, service), true))
            }
            Err(e) => Err(e),
        }
    }

    pub(crate) fn of(seed: &[u8; 32], service: &str) -> Self {
        let pair = Ed25519KeyPair::from_seed_unchecked(seed).expect("every 32 bytes are a seed");
        Self { pair, service: service.to_owned() }
    }

    /// The public half, in hexadecimal.
    pub(crate) fn key(&self) -> String {
        HEXLOWER.encode(self.pair.public_key().as_ref())
    }

    pub(crate) fn sign(&self, number: i64, at: Timestamp, link: &[u8]) -> Head {
        let signature = self.pair.sign(&self.message(number, at, link));
        let hex = |bytes: &[u8]| HEXLOWER.encode(bytes);
        Head { number, at, link: hex(link), key: self.key(), signature: hex(signature.as_ref()) }
    }

    /// Whether the head says that this key signed it.
    pub(crate) fn is_named_by(&self, head: &Head) -> bool {
        head.key == self.key()
    }

    /// Whether this key signed the head.
    pub(crate) fn signed(&self, head: &Head) -> bool {
        let decode = |text: &str| HEXLOWER.decode(text.as_bytes()).ok();
        let (Some(link), Some(signature)) = (decode(&head.link), decode(&head.signature)) else { return false };
        let message = self.message(head.number, head.at, &link);
        UnparsedPublicKey::new(&ED25519, self.pair.public_key()).verify(&message, &signature).is_ok()
    }

    fn message(&self, number: i64, at: Timestamp, link: &[u8]) -> Vec<u8> {
        let mut message = DOMAIN.to_vec();
        for field in [self.service.as_bytes(), &number.to_le_bytes(), &at.as_millisecond().to_le_bytes(), link] {
            message.extend((field.len() as u64).to_le_bytes());
            message.extend(field);
        }
        message
    }
}

/// What the files of a destination hold.
#[derive(Debug, Default)]
pub(crate) struct HeadsRead {
    pub(crate) heads: Vec<Head>,
    /// Lines that are no heads, and files that are too long to be read to their end.
    pub(crate) unreadable: u64,
}

/// All heads on a destination, oldest file first.
pub(crate) fn read_all(destination: &Path) -> io::Result<HeadsRead> {
    let mut read = HeadsRead::default();
    for path in files(destination)? {
        let file = File::open(&path)?;
        read.unreadable += u64::from(file.metadata()?.len() > MOST_FILE);
        let mut text = Vec::new();
        file.take(MOST_FILE).read_to_end(&mut text)?;
        for line in text.split(|byte| *byte == b'\n').filter(|line| !line.is_empty()) {
            match serde_json::from_slice(line) {
                Ok(head) => read.heads.push(head),
                Err(_) => read.unreadable += 1,
            }
        }
    }
    Ok(read)
}

/// The last head on a destination that this signer signed.
pub(crate) fn last(destination: &Path, signer: &HeadSigner) -> io::Result<Option<Head>> {
    let Some(path) = files(destination)?.pop() else { return Ok(None) };
    let mut file = File::open(path)?;
    let len = file.metadata()?.len();
    file.seek(SeekFrom::Start(len.saturating_sub(TAIL)))?;
    let mut text = Vec::new();
    file.take(TAIL).read_to_end(&mut text)?;
    let heads = text.split(|byte| *byte == b'\n').rev().filter_map(|line| serde_json::from_slice::<Head>(line).ok());
    Ok(heads.filter(|head| signer.signed(head)).max_by_key(|head| head.number))
}

/// Adds a head, durably. A line that a power cut left unfinished is ended first, so that it spoils only itself.
pub(crate) fn append(destination: &Path, head: &Head) -> io::Result<()> {
    let directory = records_directory(destination)?;
    let path = directory.join(format!("{BEGIN}{}{END}", head.at.to_zoned(jiff::tz::TimeZone::UTC).year()));
    let mut file = OpenOptions::new().read(true).append(true).create(true).mode(0o600).open(path)?;
    let mut line = serde_json::to_vec(head).map_err(io::Error::other)?;
    line.push(b'\n');
    if file.metadata()?.len() > 0 {
        file.seek(SeekFrom::End(-1))?;
        let mut last = [0];
        file.read_exact(&mut last)?;
        if last != *b"\n" {
            line.insert(0, b'\n');
        }
    }
    file.write_all(&line)?;
    file.sync_all()?;
    File::open(directory)?.sync_all()
}

/// The files with heads, oldest first.
fn files(destination: &Path) -> io::Result<Vec<PathBuf>> {
    let directory = destination.join(crate::media::RECORDS);
    let entries = match fs::read_dir(&directory) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        entries => entries?,
    };
    let mut found = Vec::new();
    for entry in entries {
        let entry = entry?;
        let name = entry.file_name().to_string_lossy().into_owned();
        if entry.file_type()?.is_file() && name.starts_with(BEGIN) && name.ends_with(END) {
            found.push(entry.path());
        }
    }
    found.sort();
    Ok(found)
}

#[cfg(test)]
mod tests {
    use jetfrost_image::crypto::SeededRandom;

    use super::*;

    fn at(text: &str) -> Timestamp {
        text.parse().expect("a time")
    }

    #[test]
    fn heads_are_read_back_and_a_torn_line_spoils_only_itself() {
        let place = tempfile::tempdir().expect("a directory");
        let signer = HeadSigner::of(&[7; 32], "abc");
        let heads = [
            signer.sign(3, at("2026-12-31T23:00:00Z"), &[1; 32]),
            signer.sign(9, at("2027-01-01T01:00:00Z"), &[2; 32]),
            signer.sign(12, at("2027-01-01T02:00:00Z"), &[3; 32]),
        ];
        append(place.path(), &heads[0]).expect("appended");
        append(place.path(), &heads[1]).expect("appended");
        let path = files(place.path()).expect("listed").pop().expect("two years, two files");
        let torn = OpenOptions::new().append(true).open(&path).and_then(|mut file| file.write_all(b"{\"number\":1"));
        torn.expect("torn");
        append(place.path(), &heads[2]).expect("appended");
        let read = read_all(place.path()).expect("read");
        assert_eq!((read.heads.as_slice(), read.unreadable), (heads.as_slice(), 1));
        assert_eq!(last(place.path(), &signer).expect("read"), Some(heads[2].clone()));
    }

    #[test]
    fn a_head_of_another_key_service_or_content_is_not_signed() {
        let signer = HeadSigner::of(&[7; 32], "abc");
        let head = signer.sign(3, at("2026-12-31T23:00:00Z"), &[1; 32]);
        assert!(signer.signed(&head));
        for other in [HeadSigner::of(&[8; 32], "abc"), HeadSigner::of(&[7; 32], "abd")] {
            assert!(!other.signed(&head));
        }
        for altered in [
            Head { number: 4, ..head.clone() },
            Head { at: at("2026-12-31T23:00:01Z"), ..head.clone() },
            Head { link: HEXLOWER.encode(&[2; 32]), ..head.clone() },
            Head { signature: String::new(), ..head.clone() },
        ] {
            assert!(!signer.signed(&altered), "{altered:?}");
        }
    }

    #[test]
    fn the_key_is_made_once_and_only_its_owner_reads_it() {
        use std::os::unix::fs::PermissionsExt;
        let state = tempfile::tempdir().expect("a directory");
        let random = SeededRandom::new(b"audit");
        let (first, made) = HeadSigner::load_or_make(state.path(), "abc", &random).expect("made");
        let (again, made_again) = HeadSigner::load_or_make(state.path(), "abc", &random).expect("loaded");
        assert_eq!((made, made_again, first.key()), (true, false, again.key()));
        let mode = fs::metadata(state.path().join(KEY)).expect("there").permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
        fs::write(state.path().join(KEY), "none").expect("written");
        assert!(HeadSigner::load_or_make(state.path(), "abc", &random).is_err(), "a damaged key is not silently replaced");
    }
}
