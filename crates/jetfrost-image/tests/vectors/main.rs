//! The vectors in `docs/vectors/`: bytes with fixed keys, each with what a reader must make of it.
//!
//! `JETFROST_WRITE_VECTORS=1 cargo test --workspace --test vectors` writes them anew; a change in them is a change of the format.

mod listed;
mod samples;

use std::collections::HashMap;
use std::fs;
use std::io::Read as _;
use std::path::PathBuf;

use jetfrost_image::ChunkName;
use jetfrost_image::crypto::{
    BoxReader, OfficeKey, Secret, open_chunk, open_order, open_point, unwrap_key, unwrap_with_office_key,
};
use jetfrost_image::format::{
    Content, EntryPage, FormatError, IndexEntry, NeedsScanner, OfficeKeyFile, Part, PointFile, Receipt, RecoveryKey, RunHead,
    SegmentScanner, Slot, StoreFile, exceptions_from_page,
};
use jetfrost_image::tree::{ChunkSource, expand_parts};
use serde::{Deserialize, Serialize};

use listed::vectors;
use samples::{KEY, STORE, border_lengths, hex, keys};

/// A vector as it stands in its file.
#[derive(Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Vector {
    /// What it shows.
    pub(crate) about: String,
    /// Which structure the bytes are.
    pub(crate) structure: String,
    /// The bytes, in hexadecimal.
    pub(crate) bytes: String,
    /// `sound`, or why a reader refuses them.
    pub(crate) expect: String,
    /// What a sound one holds, or what goes with it.
    pub(crate) with: serde_json::Map<String, serde_json::Value>,
}

fn directory() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/vectors")
}

#[test]
fn the_vectors_are_what_this_code_writes() {
    let write = std::env::var_os("JETFROST_WRITE_VECTORS").is_some();
    let mut names = Vec::new();
    for (name, vector) in vectors() {
        let path = directory().join(format!("{name}.json"));
        if write {
            fs::write(&path, serde_json::to_string_pretty(&vector).expect("JSON") + "\n").expect("written");
        }
        let kept: Vector = serde_json::from_slice(&fs::read(&path).expect("it is there")).expect("a vector");
        assert_eq!(kept, vector, "{name}");
        names.push(format!("{name}.json"));
    }
    let mut there: Vec<_> =
        fs::read_dir(directory()).expect("there").filter_map(|e| e.ok()?.file_name().into_string().ok()).collect();
    there.retain(|file| file.ends_with(".json"));
    there.sort_unstable();
    names.sort_unstable();
    assert_eq!(there, names, "no vector is forgotten");
}

/// Reads what a vector holds and compares it with what the file says.
fn read(vector: &Vector) -> Result<(), String> {
    let mut bytes = data_encoding::HEXLOWER.decode(vector.bytes.as_bytes()).expect("hexadecimal");
    let text = |key: &str| vector.with.get(key).and_then(|v| v.as_str()).map(str::to_owned);
    let said = |e: &dyn std::error::Error| e.to_string();
    match vector.structure.as_str() {
        "store" => assert_eq!(StoreFile::from_bytes(&bytes).map_err(|e| said(&e))?.store, STORE),
        "slot" => {
            let slot = Slot::from_bytes(&bytes).map_err(|e| said(&e))?;
            let recovery = text("recovery_key").map(|printed| RecoveryKey::parse(&printed).expect("a recovery key"));
            let passphrase = text("passphrase").unwrap_or_default();
            if let Some(file) = text("office_key_file") {
                let file = data_encoding::HEXLOWER.decode(file.as_bytes()).expect("hexadecimal");
                let file = OfficeKeyFile::from_bytes(&file).map_err(|e| said(&e))?;
                let office = OfficeKey::unwrap(&file, &text("office_passphrase").expect("one")).map_err(|e| said(&e))?;
                assert_eq!(unwrap_with_office_key(&slot, &office).map_err(|e| said(&e))?, KEY);
                return Ok(());
            }
            let given = recovery.as_ref().map_or(Secret::Passphrase(&passphrase), Secret::RecoveryKey);
            let secret = if vector.with.get("open").is_some() { Secret::None } else { given };
            assert_eq!(unwrap_key(&slot, secret).map_err(|e| said(&e))?, KEY);
        }
        "chunk" => {
            let name = text("name").expect("a name").parse().expect("a name");
            let content = open_chunk(&keys(), &name, &mut bytes).map_err(|e| said(&e))?;
            assert_eq!(Some(hex(content)), text("content"));
        }
        "segment" => {
            let mut scanner = SegmentScanner::new(STORE);
            scanner.push(&bytes).map_err(|e| said(&e))?;
            let (hash, entries) = scanner.finish().map_err(|e| said(&e))?;
            assert_eq!((Some(hash.to_string()), entries.len()), (text("hash"), 2));
        }
        "needs" => {
            let mut scanner = NeedsScanner::default();
            scanner.push(&bytes, |_, _| Ok::<_, FormatError>(())).map_err(|e| said(&e))?;
            let head = scanner.finish().map_err(|e| said(&e))?.head;
            assert_eq!(vector.with.get("base").and_then(serde_json::Value::as_u64), Some(head.base));
            let removed = vector.with.get("removed").and_then(|names| names.as_array()).map_or(0, Vec::len);
            assert_eq!(head.removed, removed as u64);
        }
        "order" => {
            let order = open_order(&keys(), &bytes).map_err(|e| said(&e))?;
            assert_eq!(vector.with.get("paths"), listed::ordered(&order).get("paths"));
            assert_eq!(order.login, text("login").expect("a login"));
        }
        "receipt" => {
            let receipt = Receipt::from_bytes(&bytes).map_err(|e| said(&e))?;
            assert_eq!(vector.with.get("committed").and_then(serde_json::Value::as_i64), Some(receipt.committed));
        }
        "point" => {
            let file = PointFile::from_bytes(&bytes).map_err(|e| said(&e))?;
            let body = open_point(&keys(), &file).map_err(|e| said(&e))?;
            assert_eq!((Some(body.host), body.selection), (text("host"), text("selection")));
            // The clear part says of the root what is so.
            let entries =
                EntryPage::read(&Pages::of(vector).get(&body.root.parts[0].name.expect("a page")).map_err(|e| said(&e))?)
                    .map_err(|e| said(&e))?;
            let files = entries.iter().filter(|entry| entry.kind == jetfrost_image::format::EntryKind::File);
            let (count, bytes) = files.fold((0, 0), |(count, bytes), entry| (count + 1, bytes + entry.len()));
            assert_eq!((count, bytes), (file.head.files, file.head.bytes));
        }
        "page" => {
            let names = EntryPage::read(&bytes).map_err(|e| said(&e))?.into_iter().map(|entry| entry.name);
            let names: Vec<String> = names.map(|name| String::from_utf8_lossy(&name).into_owned()).collect();
            assert_eq!(Some(&serde_json::json!(names)), vector.with.get("names"));
        }
        "exceptions" => {
            let found = exceptions_from_page(&bytes).map_err(|e| said(&e))?;
            let paths: Vec<_> = found.iter().map(|one| String::from_utf8_lossy(&one.path).into_owned()).collect();
            assert_eq!(Some(&serde_json::json!(paths)), vector.with.get("paths"));
        }
        "content" => {
            let content: Content = minicbor::decode(&bytes).expect("CBOR");
            content.check().map_err(|e| said(&e))?;
            let mut parts = Vec::new();
            let expanded = expand_parts(&Pages::of(vector), &content, &mut |part: Part| {
                parts.push(part.len);
                Ok(())
            });
            expanded.map_err(|e: FormatError| said(&e))?;
            assert_eq!(Some(&serde_json::json!(parts)), vector.with.get("lengths"));
        }
        "index run" => {
            let head = RunHead::from_bytes(&bytes, bytes.len() as u64).map_err(|e| said(&e))?;
            assert_eq!((head.store, head.entries), (STORE, 2));
            let entries = bytes[bytes.len() - 2 * IndexEntry::LEN..].chunks_exact(IndexEntry::LEN);
            let names: Vec<String> =
                entries.map(|entry| IndexEntry::from_bytes(entry.try_into().expect("exact")).name.to_string()).collect();
            assert_eq!(Some(&serde_json::json!(names)), vector.with.get("names"));
        }
        "box" => {
            let file = data_encoding::HEXLOWER.decode(text("office_key_file").expect("one").as_bytes()).expect("hexadecimal");
            let file = OfficeKeyFile::from_bytes(&file).map_err(|e| said(&e))?;
            let office = OfficeKey::unwrap(&file, &text("office_passphrase").expect("one")).map_err(|e| said(&e))?;
            let mut content = Vec::new();
            let mut opened = BoxReader::open(&bytes[..], &office).map_err(|e| said(&e))?;
            opened.read_to_end(&mut content).map_err(|e| said(&e))?;
            assert_eq!(Some(hex(content)), text("content"));
        }
        "recovery key" => {
            let typed = String::from_utf8(bytes).expect("ASCII");
            assert_eq!(RecoveryKey::parse(&typed).map_err(|e| said(&e))?.to_string(), text("as_printed").expect("one"));
        }
        "borders" => assert_eq!(Some(&serde_json::json!(border_lengths(&bytes))), vector.with.get("lengths")),
        other => panic!("{other}"),
    }
    Ok(())
}

#[test]
fn a_reader_makes_of_each_vector_what_it_says() {
    for (name, vector) in vectors() {
        match read(&vector) {
            Ok(()) => assert_eq!(vector.expect, "sound", "{name}"),
            Err(refusal) => assert!(refusal.ends_with(&vector.expect), "{name}: {refusal}"),
        }
    }
}

/// The pages that go with a vector.
struct Pages(HashMap<ChunkName, Vec<u8>>);

impl Pages {
    fn of(vector: &Vector) -> Self {
        let pages = vector.with.get("pages").and_then(|pages| pages.as_object()).into_iter().flatten();
        let decoded = pages.map(|(name, bytes)| {
            let bytes = data_encoding::HEXLOWER.decode(bytes.as_str().expect("text").as_bytes()).expect("hexadecimal");
            (name.parse().expect("a name"), bytes)
        });
        Self(decoded.collect())
    }
}

impl ChunkSource for Pages {
    type Error = FormatError;

    fn get(&self, name: &ChunkName) -> Result<Vec<u8>, FormatError> {
        Ok(self.0.get(name).expect("the vector brings the page").clone())
    }
}
