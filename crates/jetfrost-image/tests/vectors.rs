//! The vectors in `docs/vectors/`: bytes with fixed keys, each with what a reader must make of it.
//!
//! `JETFROST_WRITE_VECTORS=1 cargo test --workspace --test vectors` writes them anew; a change in them is a change of the format.

use std::fs;
use std::path::PathBuf;

use jetfrost_image::crypto::{
    Effort, OfficeKey, Sealer, Secret, SeededRandom, StoreKey, StoreKeys, open_chunk, open_point, seal_point, unwrap_key,
    unwrap_with_office_key, wrap_for_office, wrap_key,
};
use jetfrost_image::format::{
    ArgonCost, Content, Entry, EntryKind, EntryPage, FormatError, NeedsScanner, OfficeKeyFile, PointBody, PointFile, PointHead,
    PointKind, Receipt, RecoveryKey, SegmentBuilder, SegmentScanner, Slot, StoreFile, encode_needs, needs_check,
};
use jetfrost_image::{ChunkName, PointId, StoreId};
use serde::{Deserialize, Serialize};

/// The store and the key of all vectors.
const STORE: StoreId = StoreId(*b"vector store 001");
const KEY: StoreKey = StoreKey(*b"a store key that protects no one");
const PASSPHRASE: &str = "Möwe über dem Kliff";
const RECOVERY: RecoveryKey = RecoveryKey(*b"recovery vector!");
const CONTENT: &[u8] =
    b"Benchmark 14: 4.213 m above datum. Benchmark 14: 4.213 m above datum. Benchmark 14: 4.213 m above datum.";

/// A vector as it stands in its file.
#[derive(Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Vector {
    /// What it shows.
    about: String,
    /// Which structure the bytes are.
    structure: String,
    /// The bytes, in hexadecimal.
    bytes: String,
    /// `sound`, or why a reader refuses them.
    expect: String,
    /// What a sound one holds, or what goes with it.
    with: serde_json::Map<String, serde_json::Value>,
}

fn hex(bytes: impl AsRef<[u8]>) -> String {
    data_encoding::HEXLOWER.encode(bytes.as_ref())
}

fn keys() -> StoreKeys {
    StoreKeys::derive(STORE, &KEY)
}

fn sealed(content: &[u8]) -> (ChunkName, Vec<u8>) {
    let name = keys().name(content);
    let mut out = Vec::new();
    Sealer::new(keys(), Effort::Quick).seal(&name, content, &SeededRandom::new(b"vectors"), &mut out);
    (name, out)
}

fn point() -> PointFile {
    let (name, _) = sealed(CONTENT);
    let head = PointHead {
        store: STORE,
        id: PointId(*b"vector point 001"),
        sequence: 2,
        kind: PointKind::Files,
        created: 1_790_000_000_000,
        previous: Some(PointId(*b"vector point 000")),
        needed: 1,
        needed_xor: name.0,
        bytes: CONTENT.len() as u64,
        files: 1,
        exceptions: 0,
        needs: needs_check(&needs()),
    };
    let body = PointBody {
        root: Content { len: 7, depth: 0, parts: vec![] },
        folders: vec![b"/srv/maps".to_vec().into()],
        skipped: vec!["*.tmp".into()],
        host: "avocet".into(),
        exceptions: Content::empty(),
        writer: "vectors".into(),
    };
    seal_point(&keys(), head, &PointBody { root: Content::empty(), ..body }, &SeededRandom::new(b"point"))
}

fn needs() -> Vec<u8> {
    encode_needs(STORE, 2, 1, &[sealed(CONTENT).0], &[])
}

/// What the service says of that point.
fn receipt() -> Receipt {
    Receipt {
        store: STORE,
        sequence: 2,
        point: *blake3::hash(&point().to_bytes()).as_bytes(),
        committed: 1_790_000_060_000,
        needs: needs_check(&needs()).expect("whole"),
        next_needs: None,
    }
}

fn page() -> Vec<u8> {
    let (name, _) = sealed(CONTENT);
    let mut file = Entry::new(b"level book.txt".to_vec(), EntryKind::File);
    file.mode = 0o640;
    file.owner = Some("aud".into());
    file.mtime = 1_790_000_000;
    file.mtime_nanos = 123_456_789;
    file.content = Some(Content {
        len: CONTENT.len() as u64 + 4096,
        depth: 0,
        parts: vec![
            jetfrost_image::format::Part { len: CONTENT.len() as u64, name: Some(name) },
            jetfrost_image::format::Part { len: 4096, name: None },
        ],
    });
    let mut link = Entry::new(b"newest".to_vec(), EntryKind::Symlink);
    link.mode = 0o777;
    link.target = Some(b"level book.txt".to_vec().into());
    [file.to_bytes(), link.to_bytes()].concat()
}

/// A block device in a point of kind disk, and one that is only itself.
fn disks() -> Vec<u8> {
    let (name, _) = sealed(CONTENT);
    let mut disk = Entry::new(b"loop7".to_vec(), EntryKind::BlockDevice);
    disk.device = Some((7, 7));
    disk.content = Some(Content {
        len: CONTENT.len() as u64 + (1 << 20),
        depth: 0,
        parts: vec![
            jetfrost_image::format::Part { len: 1 << 20, name: None },
            jetfrost_image::format::Part { len: CONTENT.len() as u64, name: Some(name) },
        ],
    });
    let mut bare = Entry::new(b"loop8".to_vec(), EntryKind::BlockDevice);
    bare.device = Some((7, 8));
    [disk.to_bytes(), bare.to_bytes()].concat()
}

fn vector(about: &str, structure: &str, bytes: &[u8], expect: &str, with: serde_json::Value) -> Vector {
    let serde_json::Value::Object(with) = with else { panic!("what goes with a vector is an object") };
    Vector { about: about.into(), structure: structure.into(), bytes: hex(bytes), expect: expect.into(), with }
}

/// All vectors, by the name of their file.
fn vectors() -> Vec<(&'static str, Vector)> {
    let random = SeededRandom::new(b"slots");
    let cost = ArgonCost { memory: 256, passes: 2, lanes: 1 };
    let slot = wrap_key(STORE, &KEY, Secret::Passphrase(PASSPHRASE), cost, 1_790_000_000, &random).to_bytes();
    let open = wrap_key(STORE, &KEY, Secret::None, cost, 1_790_000_000, &SeededRandom::new(b"open vector")).to_bytes();
    let recovery = wrap_key(STORE, &KEY, Secret::RecoveryKey(&RECOVERY), cost, 1_790_000_000, &random).to_bytes();
    let office = OfficeKey::generate(&random);
    let escrow = wrap_for_office(STORE, &KEY, &office.public(), 1_790_000_000, &random).expect("wrapped").to_bytes();
    let office_file = office.wrap(PASSPHRASE, cost, &random).to_bytes();
    let mut hostile = Slot::from_bytes(&slot).expect("sound");
    hostile.cost = Some(ArgonCost { memory: 100 << 20, passes: 4, lanes: 1 });
    let hostile = hostile.to_bytes();
    let (name, chunk) = sealed(CONTENT);
    let (short_name, short) = sealed(b"short");
    let mut builder = SegmentBuilder::new(STORE, 4096);
    builder.push(name, &chunk);
    builder.push(short_name, &short);
    let segment = builder.finish();
    let mut flipped = chunk.clone();
    flipped[30] ^= 1;
    let mut newer = point().to_bytes();
    newer[8] = 2;
    let needs = needs();
    let slash = Entry::new(b"../../etc/cron.d/x".to_vec(), EntryKind::Fifo).to_bytes();
    let keyed = serde_json::json!({ "store": STORE.to_string(), "store_key": hex(KEY.0) });
    let of = |more: serde_json::Value| {
        let mut all = keyed.clone();
        all.as_object_mut().expect("an object").extend(more.as_object().expect("an object").clone());
        all
    };
    vec![
        (
            "store",
            vector(
                "the description of a store",
                "store",
                &StoreFile::new(STORE, 1_790_000_000).to_bytes(),
                "sound",
                keyed.clone(),
            ),
        ),
        (
            "store-open",
            vector(
                "the description of a store that is not encrypted",
                "store",
                &StoreFile::open(STORE, 1_790_000_000).to_bytes(),
                "sound",
                keyed.clone(),
            ),
        ),
        (
            "slot-passphrase",
            vector(
                "a passphrase with an umlaut, in NFC",
                "slot",
                &slot,
                "sound",
                of(serde_json::json!({ "passphrase": PASSPHRASE })),
            ),
        ),
        (
            "slot-recovery-key",
            vector(
                "the recovery key, as printed",
                "slot",
                &recovery,
                "sound",
                of(serde_json::json!({ "recovery_key": RECOVERY.to_string() })),
            ),
        ),
        (
            "slot-open",
            vector("no secret: whoever has the store reads it", "slot", &open, "sound", of(serde_json::json!({ "open": true }))),
        ),
        (
            "slot-escrow",
            vector(
                "wrapped for the office key",
                "slot",
                &escrow,
                "sound",
                of(serde_json::json!({ "office_key_file": hex(&office_file), "office_passphrase": PASSPHRASE })),
            ),
        ),
        (
            "slot-hostile-cost",
            vector("asks for 100 GiB", "slot", &hostile, "it asks for more memory or time than a slot may", keyed.clone()),
        ),
        (
            "chunk-compressed",
            vector(
                "a chunk that compresses",
                "chunk",
                &chunk,
                "sound",
                of(serde_json::json!({ "name": name.to_string(), "content": hex(CONTENT) })),
            ),
        ),
        (
            "chunk-stored",
            vector(
                "a chunk that does not",
                "chunk",
                &short,
                "sound",
                of(serde_json::json!({ "name": short_name.to_string(), "content": hex(b"short") })),
            ),
        ),
        (
            "chunk-flipped-bit",
            vector(
                "one bit is another",
                "chunk",
                &flipped,
                "the bytes are not what was stored",
                of(serde_json::json!({ "name": name.to_string() })),
            ),
        ),
        (
            "segment",
            vector(
                "two chunks",
                "segment",
                &segment.bytes,
                "sound",
                of(serde_json::json!({ "hash": segment.hash.to_string(), "chunks": 2 })),
            ),
        ),
        (
            "segment-cut-short",
            vector(
                "the last byte is missing",
                "segment",
                &segment.bytes[..segment.bytes.len() - 1],
                "a segment is cut short",
                keyed.clone(),
            ),
        ),
        (
            "needs",
            vector(
                "one name more than point 1",
                "needs",
                &needs,
                "sound",
                of(serde_json::json!({ "sequence": 2, "base": 1, "added": [name.to_string()] })),
            ),
        ),
        (
            "needs-cut-short",
            vector("the check is missing", "needs", &needs[..needs.len() - 32], "a needs file is cut short", keyed.clone()),
        ),
        (
            "point",
            vector(
                "a point of files",
                "point",
                &point().to_bytes(),
                "sound",
                of(serde_json::json!({ "sequence": 2, "host": "avocet" })),
            ),
        ),
        (
            "receipt",
            vector(
                "what the service says of that point: it and its needs file, and when it was committed",
                "receipt",
                &receipt().to_bytes(),
                "sound",
                of(serde_json::json!({ "sequence": 2, "committed": 1_790_000_060_000_i64 })),
            ),
        ),
        (
            "receipt-flipped-bit",
            vector(
                "one bit of the time is another",
                "receipt",
                &{
                    let mut bytes = receipt().to_bytes();
                    let at = bytes.len() - 70;
                    bytes[at] ^= 1;
                    bytes
                },
                "the receipt of a recovery point is damaged: it does not match its check",
                keyed.clone(),
            ),
        ),
        (
            "point-unknown-version",
            vector(
                "written by a later program",
                "point",
                &newer,
                "a recovery point has format version 2, and this program knows version 1; use a newer one",
                keyed.clone(),
            ),
        ),
        (
            "listing-page",
            vector(
                "a file with a hole, and a link",
                "page",
                &page(),
                "sound",
                serde_json::json!({ "names": ["level book.txt", "newest"] }),
            ),
        ),
        (
            "listing-page-disks",
            vector(
                "a block device with its content, as in a point of kind disk, and one without",
                "page",
                &disks(),
                "sound",
                serde_json::json!({ "names": ["loop7", "loop8"] }),
            ),
        ),
        (
            "listing-page-traversal",
            vector("a name that leads elsewhere", "page", &slash, "it holds a name that no file can have", serde_json::json!({})),
        ),
    ]
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
            assert_eq!(scanner.finish().map_err(|e| said(&e))?.head.base, 1);
        }
        "receipt" => {
            let receipt = Receipt::from_bytes(&bytes).map_err(|e| said(&e))?;
            assert_eq!(vector.with.get("committed").and_then(serde_json::Value::as_i64), Some(receipt.committed));
        }
        "point" => {
            let file = PointFile::from_bytes(&bytes).map_err(|e| said(&e))?;
            assert_eq!(Some(open_point(&keys(), &file).map_err(|e| said(&e))?.host), text("host"));
        }
        "page" => assert_eq!(EntryPage::read(&bytes).map_err(|e| said(&e))?.len(), 2),
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
