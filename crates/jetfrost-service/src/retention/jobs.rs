//! Jobs: long work, one piece at a time, that can be paused and cancelled and survives a restart.

use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use jetfrost_image::StoreId;
use jetfrost_image::store::{Compacted, Headway, Scrubbed, StoreError};
use jetfrost_office::access::Act;
use jetfrost_types::JobId;
use jetfrost_wire::event::Event;
use jetfrost_wire::job::{Job, JobKind, JobState, Order};
use jetfrost_wire::size::show;
use jetfrost_wire::{Page, PageQuery};

use crate::media::MediaError;
use crate::records::{Count, Id, JobRow, Removal, WorkstationLine};
use crate::retention::Retention;
use crate::secrets::new_id;
use crate::shared::{Caller, Conflict, Result, SERVICE, ServiceError, Thing, convert, number_cursor, place, to_db};
use crate::storage::removal;

/// Headway is put on record this often.
const NOTE_EVERY: Duration = Duration::from_secs(1);

/// While backups arrive, a job rests this long between its steps.
const GIVE_WAY: Duration = Duration::from_millis(100);

/// What failed or was cancelled does not fall due again before this.
const REST_MS: i64 = 24 * 3600 * 1000;

/// A wait for a job's end is not longer than this.
const MOST_WAIT: Duration = Duration::from_secs(30);

/// What the worker and those who give orders share.
#[derive(Default)]
pub(crate) struct Jobs {
    orders: Mutex<HashMap<JobId, Order>>,
    /// Told whenever a job is asked for, ordered about or ends.
    changed: Condvar,
    stopping: AtomicBool,
}

impl Jobs {
    fn lock(&self) -> MutexGuard<'_, HashMap<JobId, Order>> {
        self.orders.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn is_stopping(&self) -> bool {
        self.stopping.load(Ordering::SeqCst)
    }
}

/// What a thinning came to. What is not needed any more and lies between much that is needed stays until there is more of it.
fn said_of_thinning(points: usize, compacted: &Compacted) -> String {
    let freed = show(u64::try_from(compacted.freed).unwrap_or(0));
    let plural = if points == 1 { "" } else { "s" };
    let later = match compacted.dead {
        0 => String::new(),
        dead => format!("; {} more will, once it is more than a tenth of the store", show(dead)),
    };
    format!("{points} point{plural} went, {freed} came back{later}")
}

fn said_of_scrub(scrubbed: &Scrubbed) -> String {
    let read = format!("{} in {} segments read", show(scrubbed.bytes), scrubbed.segments);
    match scrubbed.found {
        0 => format!("{read}, all sound"),
        1 => format!("{read}, 1 thing is wrong"),
        found => format!("{read}, {found} things are wrong"),
    }
}

/// How a job's work ended.
enum End {
    Done(String),
    Cancelled,
    /// The service stops; the job is gone on with after the next start.
    Interrupted,
}

impl Retention {
    /// Asks for a job. One of the same kind for the same store that has not ended is the one.
    pub(crate) fn enqueue(&self, kind: JobKind, line: &WorkstationLine, by: &str) -> Result<Job> {
        let row = self.records.write(|on| {
            let same = |row: &JobRow| row.kind.0 == kind && row.store_id == line.store.id;
            if let Some(row) = JobRow::unfinished(on)?.into_iter().find(same) {
                return Ok::<_, ServiceError>(row);
            }
            let row = JobRow {
                number: 0,
                id: Id(new_id(&*self.random)),
                kind: kind.into(),
                store_id: line.store.id.clone(),
                state: JobState::Waiting.into(),
                done: Count::ZERO,
                total: Count::ZERO,
                by: by.into(),
                created: self.clock.now(),
                started: None,
                ended: None,
                outcome: None,
            };
            Ok(row.insert(on)?)
        })?;
        self.jobs.changed.notify_all();
        Ok(self.tell_job(&row, line))
    }

    /// Asks for a job that fell due by itself. One that failed or was cancelled is let rest for a day, else it would come
    /// back at once.
    pub(crate) fn enqueue_due(&self, kind: JobKind, line: &WorkstationLine) -> Result<()> {
        let latest = self.records.read(|on| Ok::<_, ServiceError>(JobRow::latest(kind.word(), &line.store.id, on)?))?;
        let rests = latest.is_some_and(|row| {
            let ended_badly = matches!(row.state.0, JobState::Failed | JobState::Cancelled);
            ended_badly && row.ended.is_some_and(|ended| self.clock.now() - ended < REST_MS)
        });
        if rests { Ok(()) } else { self.enqueue(kind, line, SERVICE).map(drop) }
    }

    /// Jobs, latest first.
    pub(crate) fn list_jobs(&self, caller: &Caller, page: &PageQuery) -> Result<Page<Job>> {
        caller.may(&Act::SeeOffice)?;
        let before = number_cursor(page.after.as_ref())?;
        let rows = self.records.read(|on| {
            let rows = JobRow::list(before, page.size() + 1, on)?;
            let with_line = |row: JobRow| Ok::<_, ServiceError>((WorkstationLine::by_store_also_gone(&row.store_id, on)?, row));
            rows.into_iter().map(with_line).collect::<Result<Vec<_>>>()
        })?;
        let page = Page::from_one_more(rows, page.size(), |(_, row)| row.number.to_string());
        let shown = page.items.iter().filter_map(|(line, row)| Some(convert::job(row, line.as_ref()?)));
        Ok(Page { items: shown.collect(), next: page.next })
    }

    /// A job; waits for its end if that is wished.
    pub(crate) fn job(&self, caller: &Caller, id: &JobId, wait_seconds: Option<u32>) -> Result<Job> {
        caller.may(&Act::SeeOffice)?;
        let until = Instant::now() + Duration::from_secs(wait_seconds.unwrap_or(0).into()).min(MOST_WAIT);
        let mut orders = self.jobs.lock();
        loop {
            let (row, line) = self.find_job(id)?;
            let job = convert::job(&row, &line);
            let left = until.saturating_duration_since(Instant::now());
            if job.state.has_ended() || left.is_zero() || self.jobs.is_stopping() {
                return Ok(job);
            }
            orders = self.jobs.changed.wait_timeout(orders, left).unwrap_or_else(PoisonError::into_inner).0;
        }
    }

    /// Pauses, goes on with or cancels a job.
    pub(crate) fn order_job(&self, caller: &Caller, id: &JobId, order: Order) -> Result<Job> {
        caller.may(&Act::ChangeOffice)?;
        let mut orders = self.jobs.lock();
        let (mut row, line) = self.find_job(id)?;
        let state = match (row.state.0, order) {
            (JobState::Waiting | JobState::Underway | JobState::Paused, Order::Cancel) => JobState::Cancelled,
            (JobState::Waiting | JobState::Underway, Order::Pause) => JobState::Paused,
            (JobState::Paused, Order::Resume) => JobState::Waiting,
            (JobState::Waiting | JobState::Underway, Order::Resume) | (JobState::Paused, Order::Pause) => {
                return Ok(convert::job(&row, &line));
            }
            _ => return Err(ServiceError::Conflict(Conflict::JobEnded)),
        };
        // The worker sees the order at its next step and leaves the row alone.
        orders.insert(row.id.0.clone(), order);
        row.state = state.into();
        if state.has_ended() {
            row.ended = Some(self.clock.now());
        }
        self.records.write(|on| {
            row.update(on)?;
            self.trail.note(
                caller,
                &format!("job {}", state.word()),
                &format!("{} of {}", row.kind.0.word(), line.workstation.name),
                on,
            )
        })?;
        self.jobs.changed.notify_all();
        Ok(self.tell_job(&row, &line))
    }

    /// Works on jobs until the service stops.
    pub(crate) fn work_on_jobs(&self) {
        if let Err(error) = self.take_up_interrupted() {
            tracing::error!(%error, "taking up interrupted jobs");
        }
        while !self.jobs.is_stopping() {
            match self.next_job() {
                Ok(Some(row)) => self.work_on(row),
                Ok(None) => {
                    let orders = self.jobs.lock();
                    if !self.jobs.is_stopping() {
                        // A job that was asked for between the look and the lock is found after a second.
                        drop(self.jobs.changed.wait_timeout(orders, NOTE_EVERY));
                    }
                }
                Err(error) => {
                    tracing::error!(%error, "looking for the next job");
                    drop(self.jobs.changed.wait_timeout(self.jobs.lock(), NOTE_EVERY));
                }
            }
        }
    }

    /// Ends the worker at its next step.
    pub(crate) fn stop_jobs(&self) {
        self.jobs.stopping.store(true, Ordering::SeqCst);
        let _orders = self.jobs.lock();
        self.jobs.changed.notify_all();
    }

    fn take_up_interrupted(&self) -> Result<()> {
        self.records.write(|on| {
            for mut row in JobRow::unfinished(on)?.into_iter().filter(|row| row.state.0 == JobState::Underway) {
                row.state = JobState::Waiting.into();
                row.update(on)?;
            }
            Ok(())
        })
    }

    /// The oldest job that waits, now underway.
    fn next_job(&self) -> Result<Option<JobRow>> {
        let mut orders = self.jobs.lock();
        let now = self.clock.now();
        let next = self.records.write(|on| {
            let waiting = JobRow::unfinished(on)?.into_iter().find(|row| row.state.0 == JobState::Waiting);
            let Some(mut row) = waiting else { return Ok::<_, ServiceError>(None) };
            row.state = JobState::Underway.into();
            row.started.get_or_insert(now);
            row.update(on)?;
            Ok(Some(row))
        })?;
        if let Some(row) = &next {
            orders.remove(&row.id);
        }
        Ok(next)
    }

    fn work_on(&self, mut row: JobRow) {
        let line = match self.find_job(&row.id) {
            Ok((_, line)) => line,
            Err(error) => return tracing::error!(%error, "a job without an image store"),
        };
        self.tell_job(&row, &line);
        let (mut noted, mut done) = (Instant::now(), (0, 0));
        let result = self.do_job(&row, &line, &mut |headway| {
            done = (headway.done, headway.total);
            if noted.elapsed() >= NOTE_EVERY {
                noted = Instant::now();
                self.note_headway(&row, &line, headway);
            }
            self.may_go_on(&row.id)
        });
        let orders = self.jobs.lock();
        let state = match &result {
            Ok(End::Done(_)) => JobState::Done,
            Ok(End::Interrupted) => JobState::Waiting,
            Ok(End::Cancelled) => JobState::Cancelled,
            Err(error) => {
                tracing::error!(%error, job = row.kind.0.word(), workstation = line.workstation.name, "a job failed");
                JobState::Failed
            }
        };
        // An order that ended or paused the job has been written to the row already.
        if matches!(orders.get(&row.id), None | Some(Order::Resume)) || matches!(result, Ok(End::Done(_))) {
            (row.done, row.total) = (to_db(done.0).unwrap_or_default(), to_db(done.1).unwrap_or_default());
            row.state = state.into();
            row.ended = state.has_ended().then(|| self.clock.now());
            row.outcome = match result {
                Ok(End::Done(outcome)) => Some(outcome),
                Ok(End::Interrupted | End::Cancelled) => None,
                Err(error) => Some(error.to_string()),
            };
            if let Err(error) = self.records.write(|on| Ok::<_, ServiceError>(row.update(on)?)) {
                tracing::error!(%error, "putting the end of a job on record");
            }
        }
        drop(orders);
        // As it is on record now: an order may have changed it.
        if let Ok((row, line)) = self.find_job(&row.id) {
            self.tell_job(&row, &line);
        }
        self.jobs.changed.notify_all();
    }

    fn do_job(&self, row: &JobRow, line: &WorkstationLine, go_on: &mut dyn FnMut(Headway) -> bool) -> Result<End> {
        let end = match row.kind.0 {
            JobKind::Thinning => {
                self.thin(line, go_on).map(|(points, compacted)| End::Done(said_of_thinning(points, &compacted)))
            }
            JobKind::Scrub => self.scrub(line, go_on).map(|scrubbed| End::Done(said_of_scrub(&scrubbed))),
            JobKind::Removal => self.remove_for_good(line).map(|()| End::Done("the image store is gone".into())),
        };
        match end {
            Err(ServiceError::Media(MediaError::Store(StoreError::Interrupted))) if self.jobs.is_stopping() => {
                Ok(End::Interrupted)
            }
            Err(ServiceError::Media(MediaError::Store(StoreError::Interrupted))) => Ok(End::Cancelled),
            other => other,
        }
    }

    /// Removes a store whose waiting time is over. Its workstation's history stays on record; its credential ends. It is judged,
    /// set aside and noted in one transaction, so that a hold that was acknowledged counts.
    fn remove_for_good(&self, line: &WorkstationLine) -> Result<()> {
        let id: StoreId = line.store.id.as_str().parse().map_err(|_| ServiceError::NotFound(Thing::ImageStore))?;
        self.records.write(|on| {
            let line = WorkstationLine::by_store(&line.store.id, on)?.ok_or(ServiceError::NotFound(Thing::ImageStore))?;
            let now = self.clock.now();
            let goes = removal::store_goes(&line, now, on)?;
            let Some(Removal { by, .. }) = line.store.removal.0.clone().filter(|_| goes) else {
                return Err(ServiceError::Conflict(Conflict::StoreStays));
            };
            self.media.set_aside(&place(&line.destination), id)?;
            let mut store = line.store.clone();
            store.gone = Some(now);
            store.update(on)?;
            line.workstation.retire(now, on)?;
            self.trail.note_as(&by, "", "image store gone", &line.workstation.name, on)
        })?;
        self.media.clear_removed(&place(&line.destination))?;
        self.events.workstation_changed(&line.workstation.id);
        Ok(())
    }

    /// Whether a job may take its next step. Gives way to backups.
    fn may_go_on(&self, id: &JobId) -> bool {
        let orders = self.jobs.lock();
        let ordered_off = |orders: &HashMap<JobId, Order>| matches!(orders.get(id), Some(Order::Pause | Order::Cancel));
        if self.jobs.is_stopping() || ordered_off(&orders) {
            return false;
        }
        if !self.media.is_busy() {
            return true;
        }
        let orders = self.jobs.changed.wait_timeout(orders, GIVE_WAY).unwrap_or_else(PoisonError::into_inner).0;
        !self.jobs.is_stopping() && !ordered_off(&orders)
    }

    fn note_headway(&self, row: &JobRow, line: &WorkstationLine, headway: Headway) {
        let (Ok(done), Ok(total)) = (to_db(headway.done), to_db(headway.total)) else { return };
        // Told, not written: after a restart the job begins its count again.
        self.tell_job(&JobRow { done, total, ..row.clone() }, line);
    }

    fn find_job(&self, id: &JobId) -> Result<(JobRow, WorkstationLine)> {
        self.records.read(|on| {
            let row = JobRow::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Job))?;
            let line = WorkstationLine::by_store_also_gone(&row.store_id, on)?.ok_or(ServiceError::NotFound(Thing::Job))?;
            Ok((row, line))
        })
    }

    fn tell_job(&self, row: &JobRow, line: &WorkstationLine) -> Job {
        let job = convert::job(row, line);
        self.events.tell(Event::Job { job: job.clone() });
        job
    }
}

#[cfg(test)]
mod tests {
    use jetfrost_wire::PageQuery;

    use crate::shared::testing::Office;

    #[test]
    fn in_an_office_without_stores_no_work_falls_due() {
        let office = Office::open();
        office.destination("shelf");
        office.pass(400 * crate::shared::DAY_MS);
        office.services.operations.tend().expect("nothing fails");
        let jobs = office.services.retention.list_jobs(&office.ingrid, &PageQuery::default()).expect("listed");
        assert!(jobs.items.is_empty(), "{jobs:?}");
    }
}
