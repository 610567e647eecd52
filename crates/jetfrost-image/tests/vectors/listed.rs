//! The list of all vectors.

use std::io::Write as _;

use jetfrost_image::ChunkName;
use jetfrost_image::crypto::{BoxWriter, OfficeKey, Secret, SeededRandom, wrap_for_office, wrap_key};
use jetfrost_image::format::{
    ArgonCost, Cause, Entry, EntryKind, Exception, IndexEntry, Order, RunHead, SegmentBuilder, SegmentEntry, SegmentScanner,
    Slot, StoreFile, encode_needs,
};
use serde_json::{Value, json};

use super::Vector;
use super::samples::{
    CONTENT, KEY, PASSPHRASE, Paged, RECOVERY, STORE, border_lengths, disks, first_version_point, hex, keys, needs, order, page,
    paged, point, receipt, sealed, sealed_order, seldom,
};

/// A vector that a reader takes.
fn sound(about: &str, structure: &str, bytes: &[u8], with: Value) -> Vector {
    refused(about, structure, bytes, "sound", with)
}

/// A vector that a reader refuses, and why.
fn refused(about: &str, structure: &str, bytes: &[u8], why: &str, with: Value) -> Vector {
    let Value::Object(with) = with else { panic!("what goes with a vector is an object") };
    Vector { about: about.into(), structure: structure.into(), bytes: hex(bytes), expect: why.into(), with }
}

/// What goes with everything that takes the key.
fn keyed(more: Value) -> Value {
    let (Value::Object(mut all), Value::Object(more)) = (json!({ "store": STORE.to_string(), "store_key": hex(KEY.0) }), more)
    else {
        panic!("what goes with a vector is an object")
    };
    all.extend(more);
    Value::Object(all)
}

/// All vectors, by the name of their file.
pub(super) fn vectors() -> Vec<(&'static str, Vector)> {
    [slots(), stores(), chunks(), needed(), points(), listings(), others()].into_iter().flatten().collect()
}

const COST: ArgonCost = ArgonCost { memory: 256, passes: 2, lanes: 1 };
const MADE: i64 = 1_790_000_000;

/// As the first versions wrote a map: without the check that is its last key.
fn without_check(bytes: &[u8]) -> Vec<u8> {
    let mut old = bytes[..bytes.len() - 36].to_vec();
    old[0] -= 1;
    old
}

fn slots() -> Vec<(&'static str, Vector)> {
    let random = SeededRandom::new(b"slots");
    let slot = wrap_key(STORE, &KEY, Secret::Passphrase(PASSPHRASE), COST, MADE, &random).to_bytes();
    let open = wrap_key(STORE, &KEY, Secret::None, COST, MADE, &SeededRandom::new(b"open vector")).to_bytes();
    let recovery = wrap_key(STORE, &KEY, Secret::RecoveryKey(&RECOVERY), COST, MADE, &random).to_bytes();
    let office = OfficeKey::generate(&random);
    let escrow = wrap_for_office(STORE, &KEY, &office.public(), MADE, &random).expect("wrapped").to_bytes();
    let office_file = office.wrap(PASSPHRASE, COST, &random).to_bytes();
    let mut hostile = Slot::from_bytes(&slot).expect("sound");
    hostile.cost = Some(ArgonCost { memory: 100 << 20, passes: 4, lanes: 1 });
    let mut flipped = slot.clone();
    flipped[60] ^= 1;
    let mut sealed_box = BoxWriter::begin(Vec::new(), &office.public(), &SeededRandom::new(b"box")).expect("begun");
    sealed_box.write_all(CONTENT).expect("written");
    let sealed_box = sealed_box.finish().expect("finished");
    let with_office = |more: Value| {
        let mut all = json!({ "office_key_file": hex(&office_file), "office_passphrase": PASSPHRASE });
        all.as_object_mut().expect("an object").extend(more.as_object().expect("an object").clone());
        all
    };
    let mut mistyped = RECOVERY.to_string().into_bytes();
    // The third group, of which the symbols are at 10 to 13.
    mistyped[11] = if mistyped[11] == b'7' { b'8' } else { b'7' };
    vec![
        (
            "slot-passphrase",
            sound("a passphrase with an umlaut, in NFC", "slot", &slot, keyed(json!({ "passphrase": PASSPHRASE }))),
        ),
        (
            "slot-first-version",
            sound(
                "the same as the first versions wrote it: without a check",
                "slot",
                &without_check(&slot),
                keyed(json!({ "passphrase": PASSPHRASE })),
            ),
        ),
        (
            "slot-recovery-key",
            sound("the recovery key, as printed", "slot", &recovery, keyed(json!({ "recovery_key": RECOVERY.to_string() }))),
        ),
        ("slot-open", sound("no secret: whoever has the store reads it", "slot", &open, keyed(json!({ "open": true })))),
        ("slot-escrow", sound("wrapped for the office key", "slot", &escrow, keyed(with_office(json!({}))))),
        (
            "slot-hostile-cost",
            refused(
                "asks for 100 GiB",
                "slot",
                &hostile.to_bytes(),
                "it asks for more memory or time than a slot may",
                keyed(json!({})),
            ),
        ),
        (
            "slot-flipped-bit",
            refused(
                "one bit is another, which shows without the passphrase",
                "slot",
                &flipped,
                "a key slot is damaged: it does not match its check",
                keyed(json!({})),
            ),
        ),
        (
            "box",
            sound(
                "a box for the office key, as copies of the records are",
                "box",
                &sealed_box,
                with_office(json!({ "content": hex(CONTENT) })),
            ),
        ),
        (
            "recovery-key-typed",
            sound(
                "typed in small letters and with other blanks",
                "recovery key",
                RECOVERY.to_string().to_lowercase().replace('-', " ").as_bytes(),
                json!({ "as_printed": RECOVERY.to_string() }),
            ),
        ),
        (
            "recovery-key-mistyped",
            refused(
                "one symbol of the third group is another",
                "recovery key",
                &mistyped,
                "group 3 is mistyped: compare it with the printed key",
                json!({ "as_printed": RECOVERY.to_string() }),
            ),
        ),
    ]
}

fn stores() -> Vec<(&'static str, Vector)> {
    let store = StoreFile::new(STORE, MADE).to_bytes();
    let mut in_flight = store.clone();
    in_flight[0] += 1;
    vec![
        ("store", sound("the description of a store", "store", &store, keyed(json!({})))),
        (
            "store-first-version",
            sound("the same as the first versions wrote it: without a check", "store", &without_check(&store), keyed(json!({}))),
        ),
        (
            "store-open",
            sound(
                "the description of a store that is not encrypted",
                "store",
                &StoreFile::open(STORE, MADE).to_bytes(),
                keyed(json!({})),
            ),
        ),
        (
            "store-malformed",
            refused(
                "a map that announces one more key than it has",
                "store",
                &in_flight,
                "it is not the CBOR that belongs here",
                keyed(json!({})),
            ),
        ),
    ]
}

fn chunks() -> Vec<(&'static str, Vector)> {
    let (name, chunk) = sealed(CONTENT);
    let (short_name, short) = sealed(b"short");
    let mut builder = SegmentBuilder::new(STORE, 4096);
    builder.push(name, &chunk);
    builder.push(short_name, &short);
    let segment = builder.finish();
    let mut flipped = chunk.clone();
    flipped[30] ^= 1;
    let mut scanner = SegmentScanner::new(STORE);
    scanner.push(&segment.bytes).expect("sound");
    let (_, records) = scanner.finish().expect("sound");
    let entry = |record: &SegmentEntry| IndexEntry { name: record.name, segment: 0, offset: record.offset, len: record.len };
    let mut entries: Vec<IndexEntry> = records.iter().map(entry).collect();
    entries.sort_unstable();
    let first = (FIRST_STORED, FIRST_COMPRESSED);
    let of_chunk = |name: ChunkName, content: &[u8]| keyed(json!({ "name": name.to_string(), "content": hex(content) }));
    let unhex = |text: &str| data_encoding::HEXLOWER.decode(text.as_bytes()).expect("hexadecimal");
    vec![
        ("chunk-compressed", sound("a chunk that compresses, padded", "chunk", &chunk, of_chunk(name, CONTENT))),
        (
            "chunk-stored",
            sound("a chunk that does not, in a frame as it is, padded", "chunk", &short, of_chunk(short_name, b"short")),
        ),
        (
            "chunk-first-version",
            sound(
                "a chunk as the first versions wrote it: compressed, not padded",
                "chunk",
                &unhex(first.1),
                of_chunk(name, CONTENT),
            ),
        ),
        (
            "chunk-first-version-stored",
            sound(
                "as the first versions wrote what does not compress: method 0",
                "chunk",
                &unhex(first.0),
                of_chunk(short_name, b"short"),
            ),
        ),
        (
            "chunk-flipped-bit",
            refused(
                "one bit is another",
                "chunk",
                &flipped,
                "the bytes are not what was stored",
                keyed(json!({ "name": name.to_string() })),
            ),
        ),
        (
            "segment",
            sound("two chunks", "segment", &segment.bytes, keyed(json!({ "hash": segment.hash.to_string(), "chunks": 2 }))),
        ),
        (
            "segment-cut-short",
            refused(
                "the last byte is missing",
                "segment",
                &segment.bytes[..segment.bytes.len() - 1],
                "a segment is cut short",
                keyed(json!({})),
            ),
        ),
        (
            "index-run",
            sound(
                "where the chunks of that segment lie",
                "index run",
                &index_run(segment.hash.0, &entries),
                json!({ "store": STORE.to_string(), "names": entries.iter().map(|entry| entry.name.to_string()).collect::<Vec<_>>() }),
            ),
        ),
        (
            "borders",
            sound(
                "lengths that 3,000,000 bytes are cut into: the output of BLAKE3, in XOF mode, of these bytes",
                "borders",
                b"borders",
                keyed(json!({ "lengths": border_lengths(b"borders") })),
            ),
        ),
    ]
}

/// What the first versions sealed, by the same key, name and nonce.
const FIRST_STORED: &str = "548fa3a3d8ce06d741254f2fa02bd782dd405bf44189251b682c0e8f281a3eba9e85";
const FIRST_COMPRESSED: &str = "548fa3a3d8ce06d741254f2ff574233d7d58d73242379c20f4ad5356347d24ada5cc0af82ded945f86f8d86ae632e975e380c9963d51c86ebfd4cff3edc969a423570b3e6be29d0693c89470a65422f88b";

/// A run of one segment, in a single bucket.
fn index_run(segment: [u8; 32], entries: &[IndexEntry]) -> Vec<u8> {
    let mut bytes = RunHead::sized(STORE, 1, entries.len() as u64).to_bytes();
    bytes.extend(segment);
    for ordinal in [0, u32::try_from(entries.len()).expect("few")] {
        bytes.extend(ordinal.to_le_bytes());
    }
    bytes.extend(blake3::hash(&bytes).as_bytes());
    bytes.extend(entries.iter().flat_map(|entry| entry.to_bytes()));
    bytes
}

fn needed() -> Vec<(&'static str, Vector)> {
    let needs = needs();
    let mut added = [sealed(CONTENT).0, keys().name(&page())];
    added.sort_unstable();
    let names = |names: &[ChunkName]| names.iter().map(ToString::to_string).collect::<Vec<_>>();
    let fewer = encode_needs(STORE, 3, 2, &[sealed(b"short").0], &added);
    let removed = names(&added);
    vec![
        (
            "needs",
            sound(
                "two names more than point 1",
                "needs",
                &needs,
                keyed(json!({ "sequence": 2, "base": 1, "added": names(&added) })),
            ),
        ),
        (
            "needs-removing",
            sound(
                "one name more than point 2, and two less",
                "needs",
                &fewer,
                keyed(json!({ "sequence": 3, "base": 2, "added": [sealed(b"short").0.to_string()], "removed": removed })),
            ),
        ),
        (
            "needs-cut-short",
            refused("the check is missing", "needs", &needs[..needs.len() - 32], "a needs file is cut short", keyed(json!({}))),
        ),
    ]
}

fn points() -> Vec<(&'static str, Vector)> {
    let mut newer = point().to_bytes();
    newer[8] = 2;
    let mut flipped = receipt().to_bytes();
    let at = flipped.len() - 70;
    flipped[at] ^= 1;
    let mut flipped_order = sealed_order(&order());
    flipped_order[100] ^= 1;
    let selection = "folders = [\"/srv/maps\"]\nexclude = [\"*.tmp\"]\n";
    let pages = json!({ keys().name(&page()).to_string(): hex(page()) });
    vec![
        (
            "point",
            sound(
                "a point of one file, with the page that its root is",
                "point",
                &point().to_bytes(),
                keyed(json!({ "sequence": 2, "host": "avocet", "selection": selection, "pages": pages })),
            ),
        ),
        (
            "point-first-version",
            sound(
                "the same point as 0.2 wrote it, without the workstation's selection as a whole and without its changes",
                "point",
                &first_version_point().to_bytes(),
                keyed(json!({ "sequence": 2, "host": "avocet", "pages": pages })),
            ),
        ),
        (
            "point-unknown-version",
            refused(
                "written by a later program",
                "point",
                &newer,
                "a recovery point has format version 2, and this program knows version 1; use a newer one",
                keyed(json!({})),
            ),
        ),
        (
            "order",
            sound(
                "an order to bring two things of a point back into a folder",
                "order",
                &sealed_order(&order()),
                keyed(ordered(&order())),
            ),
        ),
        (
            "order-beside",
            sound(
                "an order to bring them back beside where they were",
                "order",
                &sealed_order(&Order { into: None, ..order() }),
                keyed(ordered(&Order { into: None, ..order() })),
            ),
        ),
        (
            "order-flipped-bit",
            refused(
                "one bit of what is sealed is another",
                "order",
                &flipped_order,
                "the bytes are not what was stored",
                keyed(json!({})),
            ),
        ),
        (
            "order-upwards",
            refused(
                "a path in it leads upwards",
                "order",
                &sealed_order(&Order { paths: vec![b"/srv/maps/../../etc".to_vec().into()], ..order() }),
                "an order is damaged: a path in it is none",
                keyed(json!({})),
            ),
        ),
        (
            "receipt",
            sound(
                "what the service says of that point: it and its needs file, and when it was committed",
                "receipt",
                &receipt().to_bytes(),
                keyed(json!({ "sequence": 2, "committed": 1_790_000_060_000_i64 })),
            ),
        ),
        (
            "receipt-flipped-bit",
            refused(
                "one bit of the time is another",
                "receipt",
                &flipped,
                "the receipt of a recovery point is damaged: it does not match its check",
                keyed(json!({})),
            ),
        ),
    ]
}

/// What an order says.
pub(super) fn ordered(order: &Order) -> Value {
    json!({
        "id": order.id.to_string(), "point": order.point, "paths": order.paths.iter().map(|path| hex(&**path)).collect::<Vec<_>>(),
        "into": order.into.as_ref().map(|into| hex(&**into)), "login": order.login, "session": order.session,
        "created": order.created, "expires": order.expires,
    })
}

fn listings() -> Vec<(&'static str, Vector)> {
    let slash = Entry::new(b"../../etc/cron.d/x".to_vec(), EntryKind::Fifo).to_bytes();
    let Paged { content, pages, lengths } = paged();
    let pages: serde_json::Map<String, Value> = pages.iter().map(|(name, page)| (name.to_string(), json!(hex(page)))).collect();
    let mut longer = content.clone();
    longer.len += 1;
    let cbor = |content| minicbor::to_vec(content).expect("memory takes it");
    vec![
        (
            "listing-page",
            sound("a file with a hole, and a link", "page", &page(), json!({ "names": ["level book.txt", "newest"] })),
        ),
        (
            "listing-page-seldom",
            sound(
                "keys 11 to 15: attributes small and large, several links, a device, flags",
                "page",
                &seldom(),
                json!({ "names": ["laden", "same as laden", "shut", "tty"] }),
            ),
        ),
        (
            "listing-page-disks",
            sound(
                "a block device with its content, as in a point of kind disk, and one without",
                "page",
                &disks(),
                json!({ "names": ["loop7", "loop8"] }),
            ),
        ),
        (
            "listing-page-traversal",
            refused("a name that leads elsewhere", "page", &slash, "it holds a name that no file can have", json!({})),
        ),
        (
            "content-paged",
            sound(
                "300 parts, some of them holes, by pages",
                "content",
                &cbor(&content),
                json!({ "lengths": lengths, "pages": pages }),
            ),
        ),
        (
            "content-too-long",
            refused("its length is not the sum of its parts", "content", &cbor(&longer), "its lengths do not add up", json!({})),
        ),
    ]
}

fn others() -> Vec<(&'static str, Vector)> {
    let exception =
        |cause, path: &str, explanation: &str| Exception { cause, path: path.into(), explanation: explanation.into() };
    let exceptions = [
        exception(Cause::ChangedWhileRead, "/srv/maps/open.db", "it kept changing while it was read; the last reading is kept"),
        exception(Cause::Unreadable, "/srv/maps/private", "permission denied"),
        exception(Cause::Disappeared, "/srv/maps/lock", "no such file or directory"),
    ];
    let bytes: Vec<u8> = exceptions.iter().flat_map(Exception::to_bytes).collect();
    let paths: Vec<String> = exceptions.iter().map(|one| String::from_utf8_lossy(&one.path).into_owned()).collect();
    vec![("exceptions", sound("one of each cause", "exceptions", &bytes, json!({ "paths": paths })))]
}
