//! Making a recovery point.

use std::collections::HashSet;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use bytes::Bytes;
use consistent::Consistent;
use jetfrost_image::crypto::{StoreKeys, SystemRandom, open_point, random_array, seal_point};
use jetfrost_image::format::{Content, Exception, PointBody, PointFile, PointHead, encode_needs, needs_check};
use jetfrost_image::tree::{ChunkSink, Chunker, store_content};
use jetfrost_image::{ChunkName, PointId};
use jetfrost_platform::path_bytes;
use jetfrost_types::Changes;
use jetfrost_wire::Binary;
use jetfrost_wire::calls;
use jetfrost_wire::point::Point;
use jetfrost_wire::run::{BeginRun, CommitPoint, ExceptionCounts, GiveUp, Phase, PointCommitted, RunBegun};
use jetfrost_wire::workstation::PointKind;
use pipeline::Pipeline;

use crate::api::Api;
use crate::clock::minute_of_day;
use crate::error::ClientError;
use crate::exclusion::Templates;
use crate::hooks::{Around, Came};
use crate::join::host_name;
use crate::progress::{Meter, Reporter};
use crate::scan::{
    ChangeCache, ChangeCacheWriter, Counts, Difference, Kept, KnownFolders, Needs, Reading, StandIns, View, Walk, WalkResult,
    count, count_disks, forget,
};
use crate::selection::{Folder, Patterns, Selection, SelectionTree};
use crate::state_dir::{Membership, Seen, StateDir};
use crate::throttle::Throttle;

mod carried;
mod consistent;
mod hints;
mod packing;
mod pipeline;
mod read_back;

pub use hints::{ChangeHints, Looked, Told};
pub use read_back::ReadBack;

type Result<T> = std::result::Result<T, ClientError>;

/// Folders that a run looks at although the system told of no change in them.
const LOOKED_AT_BY_CHANCE: usize = 64;

/// Whoever waits in the service's queue asks again after this, and looks meanwhile whether it is to stop.
const ASK_AGAIN: Duration = Duration::from_secs(2);
const LOOK_WHETHER_STOPPED: Duration = Duration::from_millis(200);

/// What a backup came to.
#[derive(Debug)]
pub struct BackupReport {
    /// The point that was made.
    pub point: Point,
    /// What was counted on the way.
    pub counts: Counts,
    /// Exceptions by cause.
    pub exceptions: ExceptionCounts,
    /// The exceptions, 10,000 at most.
    pub listed: Vec<Exception>,
    /// Bytes that were sent.
    pub sent: u64,
    /// How long it took.
    pub took: Duration,
    /// Points that the service says are damaged or lost.
    pub damaged_points: Vec<u64>,
    /// Why this machine could not remember the walk, if so: the next run reads everything again.
    pub not_remembered: Option<ClientError>,
    /// Why the command after the backup failed, if it did.
    pub after_failed: Option<String>,
    /// Where the volumes begin that were read from a snapshot.
    pub snapshots: Vec<PathBuf>,
    /// Why a volume that has snapshots was read without one, if so.
    pub no_snapshot: Option<String>,
    /// Where it looked.
    pub looked: Looked,
    /// The point's id, in hexadecimal.
    pub point_id: String,
    /// BLAKE3 of what the point's root refers to: equal trees of an image store have equal ones.
    pub tree: [u8; 32],
}

/// Makes a recovery point of the folders or of the disks that were chosen on this workstation. Where the service has enough to do, it
/// waits for its turn; the meter says at which place.
///
/// # Errors
/// [`ClientError`] says what is in the way. What was sent is kept, and is not sent again.
pub fn back_up(state_dir: &StateDir, kind: PointKind, read_back: ReadBack, meter: &Arc<Meter>) -> Result<BackupReport> {
    loop {
        let queue = match back_up_unless_queued(state_dir, kind, read_back, None, meter) {
            Err(ClientError::Refused(problem)) if problem.queue.is_some() => problem.queue,
            other => return other,
        };
        meter.wait_at(queue);
        let until = Instant::now() + ASK_AGAIN;
        while Instant::now() < until {
            if meter.is_stopped() {
                return Err(ClientError::Stopped);
            }
            std::thread::sleep(LOOK_WHETHER_STOPPED);
        }
    }
}

/// The same, without waiting: it is refused where it would have to. Where `hints` fit what this machine remembers, it looks only where
/// something changed.
///
/// # Errors
/// As [`back_up`]; the problem has the place at which it would wait.
pub fn back_up_unless_queued(
    state_dir: &StateDir,
    kind: PointKind,
    read_back: ReadBack,
    hints: Option<&ChangeHints>,
    meter: &Arc<Meter>,
) -> Result<BackupReport> {
    let started = Instant::now();
    let (membership, api) = state_dir.device_api()?;
    let keys = state_dir.keys(&membership)?;
    let selection = state_dir.selection()?;
    if selection.of_kind(kind).is_empty() {
        return Err(ClientError::NothingIncluded);
    }
    let missing = selection.missing(kind);
    if missing.len() == selection.of_kind(kind).len() {
        return Err(ClientError::NothingThere(missing));
    }
    // What cannot be understood is told before the run begins.
    drop(Patterns::of(&selection, Templates::NONE)?);
    let hooks = state_dir.hooks()?;
    let _lock = state_dir.lock()?;
    let begin = BeginRun { kind, client_version: crate::VERSION.into() };
    let begun: RunBegun = api.call_patiently(&calls::begin_run(&membership.workstation), &begin)?;
    meter.begin();
    let run = RunUnderway {
        state_dir,
        membership: &membership,
        api: &api,
        keys: &keys,
        kind,
        selection: &selection,
        begun: &begun,
        read_back,
        meter,
    };
    let around = Around { hooks: &hooks, kind, run: begun.run.id.as_str() };
    let result = run.between(&around, hints);
    let after_failed = around.after(came(&result));
    match result {
        Ok(done) => Ok(BackupReport { took: started.elapsed(), after_failed, ..done }),
        Err(error) => {
            let why = GiveUp {
                stopped: matches!(error, ClientError::Stopped),
                reason: error.without_names().into_text(),
                progress: meter.progress(),
            };
            // If even this does not arrive, the service notes the run as lost.
            let _ = api.call_with(&calls::give_up_run(&begun.run.id), &why);
            Err(error)
        }
    }
}

/// A run between its beginning and its commit.
struct RunUnderway<'r> {
    state_dir: &'r StateDir,
    membership: &'r Membership,
    api: &'r Api,
    keys: &'r StoreKeys,
    kind: PointKind,
    selection: &'r Selection,
    begun: &'r RunBegun,
    read_back: ReadBack,
    meter: &'r Arc<Meter>,
}

/// What a run goes by.
#[derive(Clone, Copy)]
struct With<'r> {
    patterns: &'r Patterns,
    included: &'r [Folder],
    source: &'r Consistent,
    hints: Option<&'r ChangeHints>,
}

/// What came of a run, for the command after it.
fn came(result: &Result<BackupReport>) -> Came {
    match result {
        Ok(done) => Came::Point(done.point.sequence),
        Err(ClientError::Stopped) => Came::Stopped,
        Err(_) => Came::Failed,
    }
}

impl RunUnderway<'_> {
    /// The command before, and then the run.
    fn between(&self, around: &Around<'_>, hints: Option<&ChangeHints>) -> Result<BackupReport> {
        {
            // The service hears that the run is alive for as long as the command takes.
            let _reporter = self.report();
            around.before(self.meter)?;
        }
        let patterns = Patterns::of(self.selection, self.begun.exclude)?;
        let included = self.selection.included_now(self.kind, &patterns);
        let source = match self.kind {
            PointKind::Files => Consistent::take(&included),
            PointKind::Disk => Consistent::default(),
        };
        let with = With { patterns: &patterns, included: &included, source: &source, hints };
        let done = self.go(with, true).or_else(|error| self.again_if_not_believed(with, error))?;
        Ok(BackupReport { snapshots: source.volumes(), no_snapshot: source.why_not, ..done })
    }

    /// A point that the service does not take as it is may rest on a memory that is wrong, or on needs of an earlier point that
    /// are damaged there: then everything is read again, in the same run, and the new point rests on nothing.
    fn again_if_not_believed(&self, with: With<'_>, error: ClientError) -> Result<BackupReport> {
        let directory = self.state_dir.memory_directory(self.kind)?;
        let looked = match error {
            // What was read is right; where it was read was not all.
            ClientError::HintsNotEnough => Looked::Everywhere,
            ClientError::HintsWrong => Looked::EverywhereInTheEnd,
            _ if (error.is_not_believed() || matches!(error, ClientError::CacheDamaged)) && ChangeCache::is_there(&directory) => {
                forget(&directory).map_err(ClientError::file("removing", &directory))?;
                Looked::Everywhere
            }
            _ => return Err(error),
        };
        self.meter.begin_again();
        self.go(with, false).map(|done| BackupReport { looked, ..done })
    }

    /// Makes the point. Only where the hints are believed it takes anything over without looking.
    fn go(&self, With { patterns, included, source, hints }: With<'_>, are_believed: bool) -> Result<BackupReport> {
        let latest = self.authentic_latest()?;
        self.check_not_rolled_back(latest.as_ref())?;
        let directory = self.state_dir.memory_directory(self.kind)?;
        let base = head(self.begun.latest_of_kind.as_ref())?;
        let cache = base.and_then(|head| ChangeCache::open(&directory, &self.membership.store, &head));
        let known = self.known(cache.as_ref(), source, hints.filter(|_| are_believed));
        let tree = SelectionTree::of(included);
        let _reporter = self.report();
        // As much as the last time, unless something else was chosen since.
        let expected = cache.as_ref().filter(|cache| cache.selection() == self.selection_text()).map(ChangeCache::size);
        self.meter.enter(Phase::Sending);
        let lost = self.lost()?;
        let base = cache.as_ref().map_or((0, Needs::default()), |cache| (cache.sequence(), cache.needs.clone()));
        let there = if self.begun.lost_more {
            // So much is lost that nothing counts as there.
            Needs::default()
        } else if lost.is_empty() {
            base.1.clone()
        } else {
            base.1.without(&lost)
        };
        // A cache whose outermost folder is damaged is none.
        let usable = cache.as_ref().filter(|_| !self.begun.lost_more);
        let last_walk = usable.and_then(|cache| cache.walk(known.is_some()).ok());
        let known = known.filter(|_| last_walk.is_some());
        let throttle = Throttle::new(self.begun.rate, minute_of_day);
        let empty = self.begun.store_is_empty;
        let mut pipeline = Pipeline::begin(self.api, &self.membership.store, self.keys, there, empty, throttle, self.meter);
        let writer = match (&cache, &known) {
            (Some(cache), Some(_)) => ChangeCacheWriter::go_on(cache, self.begun.sequence),
            _ => ChangeCacheWriter::begin(&directory, self.begun.sequence),
        };
        let writer = writer.map_err(ClientError::file("writing", &directory))?;
        let unmounted = self.selection.unmounted();
        let view = View {
            tree: &tree,
            patterns,
            unmounted: &unmounted,
            own: path_bytes(self.state_dir.directory()),
            reading: match self.kind {
                PointKind::Files => Reading::Files,
                PointKind::Disk => Reading::Disks,
            },
            stand_ins: StandIns(&source.stand_ins),
            known: known.as_ref(),
            about_to_list: hints.map(|hints| &*hints.about_to_list),
            sees_all_programs: hints.is_none_or(|hints| hints.sees_all_programs),
        };
        let walk = Walk::new(self.keys, view, &mut pipeline, last_walk, writer, Arc::clone(self.meter)).reading_again(lost);
        let walked = self.expecting(expected, view, || walk.run());
        let walked = walked.and_then(|walked| {
            let exceptions = store_exceptions(self.keys, &mut pipeline, &walked)?;
            Ok((walked, exceptions))
        });
        // A failure in the pipeline is the cause of the walk's.
        let given = pipeline.finish();
        let ((mut walked, exceptions), given) = match (walked, given) {
            (_, Err(cause)) => return Err(cause),
            (walked, Ok(given)) => (walked?, given),
        };
        if let Some(hints) = hints.filter(|_| known.is_some()) {
            hints.bear_out(&walked.surprises)?;
        }
        self.meter.enter(Phase::Sealing);
        let (store, top) = (&self.membership.store, [&walked.root, &exceptions.content]);
        self.read_back.of(given, top, self.api, store, self.keys, self.meter)?;
        let looked = if known.is_some() { Looked::WhereChanged } else { Looked::Everywhere };
        let needs = ToNeed::after(&base.1, cache.as_ref(), &mut walked, &exceptions)?;
        walked.changes = walked.changes.zip(cache.as_ref()).map(|(changes, before)| self.of_whole(changes, before));
        let done = self.commit(walked, exceptions, base.0, &needs, latest.as_ref(), self.meter.progress().sent)?;
        Ok(BackupReport { looked, ..done })
    }

    /// How a point differs from the whole of the one before.
    fn of_whole(&self, changes: Changes, before: &ChangeCache) -> Changes {
        let (files_before, bytes_before) = before.size();
        Changes { files_before, bytes_before, selection_changed: before.selection() != self.selection_text(), ..changes }
    }

    /// Where nothing changed since the last walk, by what the system told of; none where everything is to be looked at.
    fn known(&self, cache: Option<&ChangeCache>, source: &Consistent, hints: Option<&ChangeHints>) -> Option<KnownFolders> {
        let (cache, hints) = (cache?, hints?);
        let fits = self.kind == PointKind::Files
            && hints.since.as_deref() == Some(cache.point())
            && cache.selection() == self.selection_text()
            && source.stand_ins.is_empty()
            && self.begun.lost.0.is_empty()
            && !self.begun.lost_more;
        if !fits {
            return None;
        }
        // Asked now: the command before the backup may have written something.
        let told = (hints.now)()?;
        Some(cache.folders()?.looking_at(told, LOOKED_AT_BY_CHANCE, &SystemRandom::default()))
    }

    /// Does `work`, and counts beside it what there is to do, unless that is known.
    fn expecting<T>(&self, expected: Option<(u64, u64)>, view: View<'_>, work: impl FnOnce() -> T) -> T {
        let disks = || Some(count_disks(self.selection.disks.iter().map(|disk| disk.0.as_path())));
        let expect = |counted: Option<(u64, u64)>| {
            if let Some((files, bytes)) = counted {
                self.meter.expect(files, bytes);
            }
        };
        if expected.is_some() || self.kind == PointKind::Disk {
            expect(expected.or_else(disks));
            return work();
        }
        let (enough, counted) = (AtomicBool::new(false), View { about_to_list: None, ..view });
        std::thread::scope(|scope| {
            scope.spawn(|| expect(count(counted, self.meter, &enough)));
            let done = work();
            enough.store(true, Ordering::Relaxed);
            done
        })
    }

    /// Chunks that the service lost; this run brings those that this machine still has.
    fn lost(&self) -> Result<HashSet<ChunkName>> {
        let bytes = &self.begun.lost.0;
        if !bytes.len().is_multiple_of(ChunkName::LEN) {
            return Err(ClientError::Unexpected("half a name among the lost chunks".into()));
        }
        Ok(bytes.chunks_exact(ChunkName::LEN).map(|name| ChunkName(name.try_into().expect("exact"))).collect())
    }

    /// The clear part of the latest point that the service shows. It is bound to a body that only this store's key seals: a
    /// service cannot make one up.
    fn authentic_latest(&self) -> Result<Option<PointHead>> {
        let Some(bytes) = &self.begun.latest else { return Ok(None) };
        let file = PointFile::from_bytes(&bytes.0)?;
        open_point(self.keys, &file)?;
        Ok(Some(file.head))
    }

    /// A service that does not show the point that this workstation made last was rolled back, or shows another history. One that
    /// says that this point is damaged or lost may go on: that is reported, and is no success.
    fn check_not_rolled_back(&self, latest: Option<&PointHead>) -> Result<()> {
        let seen = self.state_dir.seen()?;
        let shown = latest.map_or(0, |head| head.sequence);
        let is_another = latest.is_some_and(|head| head.sequence == seen.sequence && head.id.to_string() != seen.point);
        let is_older = shown < seen.sequence && !self.begun.damaged_points.contains(&seen.sequence);
        if is_another || is_older { Err(ClientError::RolledBack { shown, seen: seen.sequence }) } else { Ok(()) }
    }

    fn selection_text(&self) -> String {
        serde_json::to_string(&(self.selection, self.begun.exclude)).unwrap_or_default()
    }

    fn report(&self) -> Reporter {
        let (api, meter, call) = (self.api.clone(), Arc::clone(self.meter), calls::progress(&self.begun.run.id));
        Reporter::begin(move || {
            // The next report says it all again.
            let _ = api.call_with(&call, &meter.progress());
        })
    }

    fn commit(
        &self,
        walked: WalkResult,
        exceptions: StoredExceptions,
        base: u64,
        to_need: &ToNeed,
        latest: Option<&PointHead>,
        sent: u64,
    ) -> Result<BackupReport> {
        let Difference { added, removed } = &to_need.difference;
        let needs = encode_needs(self.keys.store, self.begun.sequence, base, added, removed);
        let check = needs_check(&needs);
        self.api.put_bytes(&calls::put_needs(&self.begun.run.id), &Bytes::from(needs))?;
        let file = seal_point(
            self.keys,
            self.head(&walked, &to_need.needs, latest, check),
            &self.body(&walked, exceptions.content),
            &SystemRandom::default(),
        );
        let commit =
            CommitPoint { point: Binary(file.to_bytes()), progress: self.meter.progress(), exceptions: walked.exceptions.counts };
        let tree = *blake3::hash(format!("{:?}", walked.root).as_bytes()).as_bytes();
        let committed: PointCommitted = self.api.call_patiently(&calls::commit(&self.begun.run.id), &commit)?;
        let point = file.head.id.to_string();
        // The point is there; that this machine could not remember it must not be told as a failure of the backup.
        let seen = self.state_dir.keep_seen(&Seen { sequence: file.head.sequence, point: point.clone() });
        let of = Kept {
            store: &self.membership.store,
            point: &point,
            files: walked.counts.files,
            bytes: walked.counts.bytes,
            selection: self.selection_text(),
            beside: &exceptions.names,
        };
        let kept = walked.writer.keep(&of, to_need.is_changed.then_some(&to_need.needs));
        let kept = kept.map_err(ClientError::file("writing", self.state_dir.directory()));
        Ok(BackupReport {
            damaged_points: self.begun.damaged_points.clone(),
            not_remembered: seen.and(kept).err(),
            after_failed: None,
            snapshots: Vec::new(),
            no_snapshot: None,
            looked: Looked::Everywhere,
            point_id: point,
            tree,
            point: committed.point,
            counts: walked.counts,
            exceptions: walked.exceptions.counts,
            listed: walked.exceptions.listed,
            sent,
            took: Duration::ZERO,
        })
    }

    fn head(&self, walked: &WalkResult, needed: &Needs, latest: Option<&PointHead>, needs: Option<[u8; 32]>) -> PointHead {
        PointHead {
            store: self.keys.store,
            id: PointId(random_array(&SystemRandom::default())),
            sequence: self.begun.sequence,
            kind: self.kind,
            created: self.begun.run.started.as_millisecond(),
            previous: latest.map(|head| head.id),
            needed: needed.len() as u64,
            needed_xor: needed.xor,
            bytes: walked.counts.bytes,
            files: walked.counts.files,
            exceptions: walked.exceptions.counts.total(),
            needs,
            changes: walked.changes,
        }
    }

    fn body(&self, walked: &WalkResult, exceptions: Content) -> PointBody {
        PointBody {
            root: walked.root.clone(),
            folders: self.selection.of_kind(self.kind).iter().map(|f| path_bytes(&f.0).to_vec().into()).collect(),
            excluded: self.selection.rules(self.begun.exclude).into_iter().map(|rule| rule.pattern).collect(),
            host: host_name(),
            exceptions,
            writer: format!("jetfrost {}", crate::VERSION),
            selection: toml::to_string(self.selection).ok(),
        }
    }
}

fn head(point: Option<&Binary>) -> Result<Option<PointHead>> {
    Ok(point.map(|bytes| PointFile::from_bytes(&bytes.0)).transpose()?.map(|file| file.head))
}

/// The list of exceptions, and the chunks that it consists of.
struct StoredExceptions {
    content: Content,
    names: Vec<ChunkName>,
}

/// Stores the list of exceptions; its chunks are needed by the point, too.
fn store_exceptions(keys: &StoreKeys, pipeline: &mut Pipeline, walked: &WalkResult) -> Result<StoredExceptions> {
    let bytes: Vec<u8> = walked.exceptions.listed.iter().flat_map(Exception::to_bytes).collect();
    let mut chunker = Chunker::new(keys.border_seed());
    let parts = store_content(keys, &mut chunker, pipeline, &bytes[..])?;
    let mut names: Vec<ChunkName> = parts.iter().filter_map(|p| p.name).collect();
    let content = Content::from_parts(parts, |page| {
        let name = keys.name(&page);
        names.push(name);
        pipeline.put(name, &page).map(|()| name)
    })?;
    Ok(StoredExceptions { content, names })
}

/// What a point needs, and what is new of it.
struct ToNeed {
    needs: Needs,
    difference: Difference,
    /// Whether it is anything else than the point before needed.
    is_changed: bool,
}

impl ToNeed {
    /// What a point needs after a walk: counted anew, or what the point before needed with what changed since.
    fn after(base: &Needs, cache: Option<&ChangeCache>, walked: &mut WalkResult, exceptions: &StoredExceptions) -> Result<Self> {
        let mut needed = std::mem::take(&mut walked.needed);
        needed.extend(&exceptions.names);
        let now = Needs::of(needed);
        let Some(mut passed) = walked.passed.take() else {
            return Ok(Self { difference: now.since(base), needs: now, is_changed: true });
        };
        passed.extend(cache.and_then(ChangeCache::beside).ok_or(ClientError::CacheDamaged)?);
        let before = Needs::of(passed);
        if before == now {
            return Ok(Self { needs: base.clone(), difference: Difference::default(), is_changed: false });
        }
        let needs = base.changed(&before, &now).ok_or(ClientError::CacheDamaged)?;
        Ok(Self { difference: needs.since(base), needs, is_changed: true })
    }
}
