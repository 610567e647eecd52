//! What the vectors are made of: a store, its key, and things in it.

use jetfrost_image::crypto::{Effort, Sealer, SeededRandom, StoreKey, StoreKeys, seal_order, seal_point};
use jetfrost_image::format::{
    Content, Entry, EntryKind, Flags, LargeAttribute, Order, Part, PointBody, PointFile, PointHead, PointKind, Receipt,
    RecoveryKey, encode_needs, needs_check,
};
use jetfrost_image::tree::Chunker;
use jetfrost_image::{ChunkName, OrderId, PointId, StoreId};
use jetfrost_types::Changes;

/// The store and the key of all vectors.
pub(super) const STORE: StoreId = StoreId(*b"vector store 001");
pub(super) const KEY: StoreKey = StoreKey(*b"a store key that protects no one");
pub(super) const PASSPHRASE: &str = "Möwe über dem Kliff";
pub(super) const RECOVERY: RecoveryKey = RecoveryKey(*b"recovery vector!");
pub(super) const CONTENT: &[u8] =
    b"Benchmark 14: 4.213 m above datum. Benchmark 14: 4.213 m above datum. Benchmark 14: 4.213 m above datum.";

pub(super) fn hex(bytes: impl AsRef<[u8]>) -> String {
    data_encoding::HEXLOWER.encode(bytes.as_ref())
}

pub(super) fn keys() -> StoreKeys {
    StoreKeys::derive(STORE, &KEY)
}

pub(super) fn sealed(content: &[u8]) -> (ChunkName, Vec<u8>) {
    let name = keys().name(content);
    let mut out = Vec::new();
    Sealer::new(keys(), Effort::Quick).seal(&name, content, &SeededRandom::new(b"vectors"), &mut out);
    (name, out)
}

/// A point of one file with a hole, and a link.
pub(super) fn point() -> PointFile {
    let changes = Changes {
        files_before: 2,
        bytes_before: 5000,
        changed: 1,
        changed_bytes: 4200,
        gone: 1,
        gone_bytes: 800,
        ..Changes::default()
    };
    point_with(Some("folders = [\"/srv/maps\"]\nexclude = [\"*.tmp\"]\n"), Some(changes))
}

/// As a point was that does not hold the workstation's selection as a whole.
pub(super) fn first_version_point() -> PointFile {
    point_with(None, None)
}

fn point_with(selection: Option<&str>, changes: Option<Changes>) -> PointFile {
    let needed = [sealed(CONTENT).0, keys().name(&page())];
    let needed_xor = std::array::from_fn(|i| needed[0].0[i] ^ needed[1].0[i]);
    let head = PointHead {
        store: STORE,
        id: PointId(*b"vector point 001"),
        sequence: 2,
        kind: PointKind::Files,
        created: 1_790_000_000_000,
        previous: Some(PointId(*b"vector point 000")),
        needed: 2,
        needed_xor,
        bytes: CONTENT.len() as u64 + 4096,
        files: 1,
        exceptions: 0,
        needs: needs_check(&needs()),
        changes,
    };
    let part = Part { len: page().len() as u64, name: Some(needed[1]) };
    let body = PointBody {
        root: Content { len: part.len, depth: 0, parts: vec![part] },
        folders: vec![b"/srv/maps".to_vec().into()],
        excluded: vec!["*.tmp".into()],
        host: "avocet".into(),
        exceptions: Content::empty(),
        writer: "vectors".into(),
        selection: selection.map(str::to_owned),
    };
    seal_point(&keys(), head, &body, &SeededRandom::new(b"point"))
}

/// Both names more than point 1 needs.
pub(super) fn needs() -> Vec<u8> {
    let mut added = [sealed(CONTENT).0, keys().name(&page())];
    added.sort_unstable();
    encode_needs(STORE, 2, 1, &added, &[])
}

/// What the service says of that point.
pub(super) fn receipt() -> Receipt {
    Receipt {
        store: STORE,
        sequence: 2,
        point: *blake3::hash(&point().to_bytes()).as_bytes(),
        committed: 1_790_000_060_000,
        needs: needs_check(&needs()).expect("whole"),
        next_needs: None,
    }
}

pub(super) fn page() -> Vec<u8> {
    let (name, _) = sealed(CONTENT);
    let mut file = Entry::new(b"level book.txt".to_vec(), EntryKind::File);
    file.mode = 0o640;
    file.owner = Some("aud".into());
    file.mtime = 1_790_000_000;
    file.mtime_nanos = 123_456_789;
    file.content = Some(Content {
        len: CONTENT.len() as u64 + 4096,
        depth: 0,
        parts: vec![Part { len: CONTENT.len() as u64, name: Some(name) }, Part { len: 4096, name: None }],
    });
    let mut link = Entry::new(b"newest".to_vec(), EntryKind::Symlink);
    link.mode = 0o777;
    link.target = Some(b"level book.txt".to_vec().into());
    [file.to_bytes(), link.to_bytes()].concat()
}

/// A block device in a point of kind disk, and one that is only itself.
pub(super) fn disks() -> Vec<u8> {
    let (name, _) = sealed(CONTENT);
    let mut disk = Entry::new(b"loop7".to_vec(), EntryKind::BlockDevice);
    disk.device = Some((7, 7));
    disk.content = Some(Content {
        len: CONTENT.len() as u64 + (1 << 20),
        depth: 0,
        parts: vec![Part { len: 1 << 20, name: None }, Part { len: CONTENT.len() as u64, name: Some(name) }],
    });
    let mut bare = Entry::new(b"loop8".to_vec(), EntryKind::BlockDevice);
    bare.device = Some((7, 8));
    [disk.to_bytes(), bare.to_bytes()].concat()
}

/// Entries with all that is seldom: attributes small and large, several links, a device, flags.
pub(super) fn seldom() -> Vec<u8> {
    let (name, _) = sealed(CONTENT);
    let mut laden = Entry::new(b"laden".to_vec(), EntryKind::File);
    laden.content = Some(Content::empty());
    laden.xattrs = Some(vec![(b"user.note".to_vec().into(), b"surveyed\0".to_vec().into())]);
    let value =
        Content { len: CONTENT.len() as u64, depth: 0, parts: vec![Part { len: CONTENT.len() as u64, name: Some(name) }] };
    laden.large_xattrs = Some(vec![LargeAttribute { name: b"user.plan".to_vec().into(), value }]);
    laden.links = Some((64_769, 4711));
    laden.set_flags(Flags { unsettled: true, partial: false });
    let mut linked = Entry::new(b"same as laden".to_vec(), EntryKind::File);
    linked.content = Some(Content::empty());
    linked.links = laden.links;
    let mut shut = Entry::new(b"shut".to_vec(), EntryKind::Directory);
    shut.content = Some(Content::empty());
    shut.set_flags(Flags { unsettled: false, partial: true });
    let mut console = Entry::new(b"tty".to_vec(), EntryKind::CharDevice);
    console.device = Some((5, 0));
    [laden, linked, shut, console].iter().flat_map(Entry::to_bytes).collect()
}

/// Content by pages.
pub(super) struct Paged {
    pub(super) content: Content,
    /// What it leads to, by name.
    pub(super) pages: Vec<(ChunkName, Vec<u8>)>,
    /// The lengths of its parts.
    pub(super) lengths: Vec<u64>,
}

/// Content of 300 parts.
pub(super) fn paged() -> Paged {
    let part = |n: u64| {
        let name = ChunkName(*blake3::hash(&n.to_le_bytes()).as_bytes());
        Part { len: 1000 + n, name: (n % 50 != 49).then_some(name) }
    };
    let parts: Vec<Part> = (0..300).map(part).collect();
    let lengths = parts.iter().map(|part| part.len).collect();
    let mut pages = Vec::new();
    let content = Content::from_parts(parts, |page| {
        let name = keys().name(&page);
        pages.push((name, page));
        Ok::<_, std::convert::Infallible>(name)
    });
    let Ok(content) = content;
    Paged { content, pages, lengths }
}

/// The lengths that the store's borders cut content into: so many bytes of BLAKE3's output, in XOF mode, of the text given.
pub(super) fn border_lengths(of: &[u8]) -> Vec<u64> {
    let mut content = vec![0; 3_000_000];
    let mut hasher = blake3::Hasher::new();
    hasher.update(of);
    hasher.finalize_xof().fill(&mut content);
    let mut lengths = Vec::new();
    let cut = Chunker::new(keys().border_seed()).cut(&content[..], |_, len| {
        lengths.push(len as u64);
        Ok::<_, std::io::Error>(())
    });
    cut.expect("memory is readable");
    lengths
}

/// An order of two things into a folder.
pub(super) fn order() -> Order {
    Order {
        id: OrderId(*b"vector order 001"),
        point: 2,
        paths: vec![b"/srv/maps/harbour".to_vec().into(), b"/srv/maps/\xffnot text".to_vec().into()],
        into: Some(b"/srv/maps/found".to_vec().into()),
        login: "ingrid".into(),
        session: "5e5510".into(),
        created: 1_790_000_000_000,
        expires: 1_790_604_800_000,
    }
}

pub(super) fn sealed_order(order: &Order) -> Vec<u8> {
    seal_order(&keys(), order, &SeededRandom::new(b"vectors"))
}
