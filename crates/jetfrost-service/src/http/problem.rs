//! The one place where errors become problem documents.

use std::fmt;
use std::sync::atomic::{AtomicU64, Ordering};

use actix_web::error::{JsonPayloadError, PayloadError};
use actix_web::http::StatusCode;
use actix_web::http::header::{RETRY_AFTER, WWW_AUTHENTICATE};
use actix_web::{HttpRequest, HttpResponse, Responder, ResponseError};
use jetfrost_image::store::StoreError;
use jetfrost_office::capacity::LimitKind;
use jetfrost_office::queue::ASK_AGAIN_MS;
use jetfrost_wire::problem::{Problem, ProblemKind as Kind, WhoseMove};
use jetfrost_wire::size::show;

use crate::clock::timestamp;
use crate::media::{MarkerError, MediaError};
use crate::records::{Ended, RecordsError};
use crate::shared::{Comes, NoRoom, ServiceError};

/// Whoever waits in the queue asks again after this; that its turn has come it hears at once.
const ASK_AGAIN_SECONDS: u64 = ASK_AGAIN_MS.unsigned_abs() / 1000;

static NUMBER: AtomicU64 = AtomicU64::new(1);

/// A problem on its way out.
#[derive(Debug)]
pub(crate) struct Trouble {
    problem: Box<Problem>,
}

impl Trouble {
    fn of(problem: Problem) -> Self {
        Self { problem: Box::new(problem) }
    }

    pub(crate) fn bad_request(detail: impl Into<String>) -> Self {
        let problem = Problem::new(Kind::BadRequest, "The request is malformed.", "Compare the call with the OpenAPI document.");
        Self::of(problem.with_detail(detail))
    }

    pub(crate) fn too_large(most: u64) -> Self {
        let problem = Problem::new(Kind::TooLarge, format!("The body is longer than {most} bytes."), "Send less in one call.");
        Self::of(problem)
    }

    pub(crate) fn method_not_allowed() -> Self {
        let next = "The 'Allow' header lists the methods of this path.";
        Self::of(Problem::new(Kind::MethodNotAllowed, "This path does not support this method.", next))
    }

    pub(crate) fn unsupported_media_type(takes: &str) -> Self {
        let title = format!("The body must be {takes}.");
        Self::of(Problem::new(Kind::UnsupportedMediaType, title, "Set 'Content-Type' to match the body."))
    }

    /// A call that was sent a second time before the first was answered.
    pub(crate) fn underway() -> Self {
        let problem =
            Problem::new(Kind::Conflict, "The same call is still in progress.", "Send it again in a moment to get its answer.");
        Self::of(problem.retry_after(1))
    }

    pub(crate) fn key_of_another_call() -> Self {
        let title = "This Idempotency-Key was used for another call.";
        Self::of(Problem::new(Kind::Invalid, title, "Use a new key for each call; repeat it only for the same call."))
    }

    /// A body of which nothing came for too long, or that takes too long altogether.
    pub(crate) fn stalled() -> Self {
        let problem = Problem::new(Kind::Stalled, "The upload stalled.", "Send it again; what arrived complete stays.");
        Self::of(problem.retry_after(1))
    }

    /// More at once than one caller, or all together, may have going.
    pub(crate) fn too_many() -> Self {
        let next = "Wait for some of it to finish. The client retries automatically.";
        Self::of(Problem::new(Kind::TooMuchAtOnce, "Too many transfers are in progress.", next).retry_after(5))
    }

    /// What it says, for where it is an answer and not a refusal.
    pub(crate) fn into_problem(self) -> Problem {
        *self.problem
    }

    pub(crate) fn stopping() -> Self {
        let problem = Problem::new(Kind::Stopping, "The service is stopping.", "Try again in a minute.");
        Self::of(problem.retry_after(10))
    }
}

impl fmt::Display for Trouble {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.problem.title)
    }
}

impl ResponseError for Trouble {
    fn status_code(&self) -> StatusCode {
        StatusCode::from_u16(self.problem.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }

    fn error_response(&self) -> HttpResponse {
        let mut response = HttpResponse::build(self.status_code());
        if self.problem.status == StatusCode::UNAUTHORIZED.as_u16() {
            response.insert_header((WWW_AUTHENTICATE, "Bearer realm=\"jetfrost\""));
        }
        if let Some(seconds) = self.problem.retry_after {
            response.insert_header((RETRY_AFTER, seconds.to_string()));
        }
        match serde_json::to_string(&*self.problem) {
            Ok(body) => response.content_type("application/problem+json").body(body),
            Err(_) => response.finish(),
        }
    }
}

impl std::error::Error for Trouble {}

impl Responder for Trouble {
    type Body = actix_web::body::BoxBody;

    fn respond_to(self, _: &HttpRequest) -> HttpResponse {
        self.error_response()
    }
}

pub(super) fn bad_json(error: &JsonPayloadError) -> Trouble {
    match error {
        JsonPayloadError::Overflow { limit } | JsonPayloadError::OverflowKnownLength { limit, .. } => {
            Trouble::too_large(*limit as u64)
        }
        JsonPayloadError::ContentType => Trouble::unsupported_media_type("application/json"),
        JsonPayloadError::Payload(PayloadError::Io(error)) if error.kind() == std::io::ErrorKind::TimedOut => Trouble::stalled(),
        other => Trouble::bad_request(other.to_string()),
    }
}

impl From<ServiceError> for Trouble {
    fn from(error: ServiceError) -> Self {
        let wait = match &error {
            ServiceError::TooManyAttempts { wait_seconds }
            | ServiceError::TooOften { wait_seconds, .. }
            | ServiceError::Paused { until: Some((_, wait_seconds)), .. } => Some(*wait_seconds),
            ServiceError::Queued { .. } => Some(ASK_AGAIN_SECONDS),
            ServiceError::Records(RecordsError::Busy(_) | RecordsError::Locked(_)) => Some(5),
            _ => None,
        };
        let mut problem = fold(&error);
        // Whoever waits in the queue asks every few seconds: that is in nobody's log.
        let is_routine = matches!(error, ServiceError::Queued { .. } | ServiceError::DrillWaits);
        if problem.status >= 500 && !is_routine {
            let number = NUMBER.fetch_add(1, Ordering::Relaxed);
            problem.request = Some(number.to_string());
            let error = chain(&error);
            // What a limit, a switch or a missing disk refuses is no fault of the service.
            if problem.whose_move == WhoseMove::Service {
                tracing::error!(number, error, "a request failed");
            } else {
                tracing::info!(number, error, "a request was refused");
            }
        }
        let retry_after = wait.or(problem.retry_after);
        Self::of(Problem { retry_after, ..problem })
    }
}

/// An error and its causes, in one line.
fn chain(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut source = error.source();
    while let Some(cause) = source {
        text.push_str(": ");
        text.push_str(&cause.to_string());
        source = cause.source();
    }
    text
}

/// Every refusal and failure of a use case as what is wrong, what to do, and whose move it is. No wildcard: a new
/// error must be given its words here.
fn fold(error: &ServiceError) -> Problem {
    match error {
        ServiceError::Records(records) => fold_records(records),
        ServiceError::Media(media) => fold_shelf(media),
        ServiceError::NotSignedIn => {
            Problem::new(Kind::NotSignedIn, "You are not signed in, or the session is over.", "Sign in again.")
        }
        ServiceError::UnknownDevice => Problem::new(
            Kind::NotSignedIn,
            "The service does not know this workstation.",
            "Its credential was made by another service, or is lost with the service's records. Ask the administrator for an enrolment code.",
        ),
        ServiceError::FormerDevice { name, ended, at } => {
            let (what, next) = match ended {
                Ended::Retired => ("was retired", "Its backups are still there. Ask the administrator for an enrolment code."),
                Ended::Claimed => (
                    "was taken over by another machine",
                    "The backups go on from there. If that was not meant, ask the administrator for an enrolment code that hands it back.",
                ),
                Ended::Removed => {
                    ("was removed together with its backups", "Ask the administrator for an enrolment code to begin anew.")
                }
            };
            Problem::new(
                Kind::NotSignedIn,
                format!("Workstation '{name}' {what} on {}.", timestamp(*at).strftime("%-d %B %Y")),
                next,
            )
        }
        ServiceError::WrongPassword => Problem::new(
            Kind::WrongPassword,
            "The login name or the account's password is wrong.",
            "Try again with the account's password, not an image passphrase. An administrator can set a new password.",
        ),
        ServiceError::TooManyAttempts { wait_seconds } => Problem::new(
            Kind::TooManyAttempts,
            "There were too many failed attempts.",
            format!("Wait {wait_seconds} s, then try again."),
        ),
        ServiceError::TooOften { what, wait_seconds } => Problem::new(
            Kind::TooMuchAtOnce,
            format!("Too many {what} started within an hour."),
            format!("Wait {} min. Stored data was not touched.", wait_seconds.div_ceil(60)),
        ),
        ServiceError::Queued { place, expected_seconds } => Problem::queued(*place, *expected_seconds),
        ServiceError::DrillWaits => Problem::new(
            Kind::Queued,
            "The service is busy: drills give way to backups that wait.",
            "Repeat the drill later; an agent does so by itself.",
        ),
        ServiceError::PointGone { sequence, at, why } => Problem::new(
            Kind::NotFound,
            format!("Recovery point {sequence} is gone since {}: {why}.", crate::clock::said(*at)),
            "List the recovery points and choose from them.",
        ),
        ServiceError::WrongCode(why) => {
            Problem::new(Kind::WrongCode, sentence(&why.to_string()), "Ask the administrator for a new code.")
                .with_reason(why.word())
        }
        ServiceError::SecondFactorNeeded => Problem::new(
            Kind::SecondFactorNeeded,
            "This account requires a second-factor code.",
            "Enter the six digits from the authenticator, or a spare code.",
        ),
        ServiceError::WrongSecondFactor => Problem::new(
            Kind::WrongSecondFactor,
            "The second-factor code is wrong or was already used.",
            "Wait for the next code and try again. If codes never work, compare the clocks of the authenticator and the server.",
        ),
        ServiceError::Disabled(whose) => {
            let next = "An administrator can enable it again. Stored data was not touched.";
            Problem::new(Kind::Disabled, sentence(&whose.to_string()), next).with_reason(whose.word())
        }
        ServiceError::NoAccess { login, destination: Some(destination) } => Problem::new(
            Kind::NoAccess,
            format!("'{login}' has no access to the destination '{destination}'."),
            format!("Grant it: jetfrost access grant '{destination}' --login '{login}'. Restores keep working."),
        ),
        ServiceError::NoAccess { login, destination: None } => Problem::new(
            Kind::NoAccess,
            format!("'{login}' has no access to any destination."),
            format!("Grant it: jetfrost access grant DESTINATION --login '{login}', or --everybody."),
        ),
        ServiceError::Withdrawn(name) => Problem::new(
            Kind::Withdrawn,
            format!("The destination '{name}' is withdrawn and takes no new backups."),
            format!("Reinstate it: jetfrost destination reinstate '{name}'. Restores keep working."),
        ),
        ServiceError::Paused { what, until: Some((until, _)) } => {
            let until = crate::clock::said(*until);
            let next = format!("They resume at {until}, or when an administrator resumes them.");
            Problem::new(Kind::Paused, format!("New {what} are paused until {until}."), next)
        }
        ServiceError::Paused { what, until: None } => {
            let next = format!("An administrator resumes them: jetfrost maintenance resume {what}.");
            Problem::new(Kind::Paused, format!("New {what} are paused."), next)
        }
        ServiceError::NotAllowed => Problem::new(
            Kind::NotAllowed,
            "Your role does not allow this.",
            "Ask an administrator to do it or to change your role.",
        ),
        ServiceError::NotFound(what) => {
            Problem::new(Kind::NotFound, sentence(&error.to_string()), "List what exists and choose from it.")
                .with_reason(what.word())
        }
        ServiceError::NameTaken(name) => {
            Problem::new(Kind::NameTaken, format!("The name '{name}' is taken."), "Choose another name.")
        }
        ServiceError::Invalid(what) => {
            let next = "Correct this and try again. Nothing was changed.";
            Problem::new(Kind::Invalid, sentence(&what.to_string()), next).with_reason(what.word())
        }
        ServiceError::Conflict(conflict) => {
            let (title, next) = conflict.said();
            Problem::new(Kind::Conflict, title, next).with_reason(conflict.word())
        }
        ServiceError::ChangedMeanwhile { by } => {
            let who = by.as_ref().map_or_else(
                || "Somebody else changed this after you opened it.".into(),
                |(who, at)| format!("'{who}' changed this at {}, after you opened it.", crate::clock::said(*at)),
            );
            Problem::new(Kind::ChangedMeanwhile, who, "Compare it with the current settings, then save yours or keep those.")
        }
        ServiceError::RunOver => Problem::new(
            Kind::RunOver,
            "This run has ended, or a later one replaced it.",
            "Start a new run. What was already sent is not sent again.",
        ),
        ServiceError::NoRoom(refusal) => fold_no_room(refusal),
    }
}

fn fold_shelf(error: &MediaError) -> Problem {
    match error {
        MediaError::Marker(marker) => fold_marker(marker),
        MediaError::Unfit(reasons) => Problem::new(
            Kind::UnfitDirectory,
            sentence(&reasons.join("; ")),
            "Choose an empty directory on a local volume of the server that is used for nothing else.",
        ),
        MediaError::Io { source, .. } if is_full(source) => full_volume(),
        MediaError::Io { doing, .. } => internal(&format!("The service failed at {doing}.")),
        MediaError::Store(store) => fold_store(store),
    }
}

fn fold_marker(error: &MarkerError) -> Problem {
    let next = match error {
        MarkerError::NotLookedAt(_) => {
            let next =
                "Try again in a minute. If it lasts, an administrator checks what uses the server's memory and open files.";
            let problem = Problem::new(Kind::ServerBusy, "The server has run out of open files or memory.", next);
            return problem.retry_after(10).with_detail(error.to_string());
        }
        MarkerError::Missing(_) => "An administrator mounts the destination's volume again. Nothing was written in its place.",
        MarkerError::Foreign(_) => "An administrator checks which volume is mounted there. Nothing was written to it.",
    };
    Problem::new(Kind::DestinationMissing, "The destination is not there.", next).with_detail(error.to_string())
}

fn fold_store(error: &StoreError) -> Problem {
    let detail = error.to_string();
    let run_again = "Run the backup again. What has arrived is not sent again.";
    match error {
        StoreError::Medium { source, .. } if is_full(source) => full_volume(),
        StoreError::Medium { source, .. } => match source.get_ref().and_then(|e| e.downcast_ref::<MarkerError>()) {
            Some(marker) => fold_marker(marker),
            None => internal("The image store could not be read or written.").with_detail(detail),
        },
        StoreError::Format(_) | StoreError::OtherStore | StoreError::WrongHash | StoreError::Needs(_) => {
            Problem::new(Kind::BadFormat, "The upload is corrupt or incomplete.", run_again).with_detail(detail)
        }
        StoreError::ChunksMissing { .. } => {
            Problem::new(Kind::BadFormat, "The recovery point is incomplete.", run_again).with_detail(detail)
        }
        StoreError::OutOfOrder { .. } | StoreError::OtherPredecessor => {
            Problem::new(Kind::RunOver, "Another recovery point was committed in the meantime.", run_again).with_detail(detail)
        }
        StoreError::NoPoint(_) | StoreError::NoChunk(_) => {
            Problem::new(Kind::NotFound, sentence(&detail), "List the recovery points and choose from them.")
        }
        StoreError::PointLost(_) | StoreError::OtherPoint(_) | StoreError::OtherReceipt(_) => {
            let next = "Choose another recovery point. An administrator can scrub the image store (jetfrost scrub start) to find all damage.";
            Problem::new(Kind::Damaged, sentence(&detail), next)
        }
        StoreError::OtherSuite => {
            Problem::new(Kind::Invalid, sentence(&detail), "To change this, enrol the machine again. Nothing was changed.")
        }
        StoreError::LastUnlockMethod => {
            Problem::new(Kind::Conflict, sentence(&detail), "Add another passphrase or recovery key first.")
        }
        StoreError::SlotTaken | StoreError::TooManySlots => {
            Problem::new(Kind::Conflict, sentence(&detail), "Remove one that is no longer used. Nothing was changed.")
        }
        StoreError::NoSlot => {
            Problem::new(Kind::NotFound, "There is no such unlock method.", "List the unlock methods and choose from them.")
        }
        StoreError::LatestStays => {
            Problem::new(Kind::Conflict, sentence(&detail), "Remove another one, or the whole image store.")
        }
        StoreError::Interrupted => {
            Problem::new(Kind::Conflict, "This was interrupted.", "Start it again; it resumes where it stopped.")
        }
        StoreError::StoreExists => {
            Problem::new(Kind::Conflict, sentence(&detail), "Join again: a new image store is made each time.")
        }
        StoreError::NoStore | StoreError::DamagedChunk { .. } => internal("The image store is damaged.").with_detail(detail),
        StoreError::Folded => Problem::new(Kind::Conflict, sentence(&detail), "Try again."),
    }
}

fn fold_no_room(refusal: &NoRoom) -> Problem {
    let NoRoom { level, of, wanted, left, comes } = refusal;
    let (what, who, next) = match level.bound {
        LimitKind::StoreLimit => {
            ("limit", format!("workstation '{of}'"), format!("jetfrost workstation set '{of}' --limit SIZE"))
        }
        LimitKind::Quota => ("quota", format!("account '{of}'"), format!("jetfrost account set '{of}' --quota SIZE")),
        LimitKind::Capacity => {
            ("capacity", format!("destination '{of}'"), format!("jetfrost destination set '{of}' --capacity SIZE"))
        }
        LimitKind::Reserve => {
            let next = format!("free space on its volume, or jetfrost destination set '{of}' --reserve SIZE");
            ("volume less its reserve", format!("destination '{of}'"), next)
        }
    };
    Problem::new(
        Kind::NoRoom,
        format!("No room left: the {what} of {who} is reached."),
        format!(
            "An administrator can raise it ({next}). {} What has arrived stays.",
            said_of_what_comes(comes.as_ref(), level.bound)
        ),
    )
    .with_detail(format!(
        "{} of {} used; {} more needed, {} left for content",
        show(level.used),
        show(level.limit),
        show(*wanted),
        show(*left)
    ))
}

/// When room comes by itself. Removing points gives none at once: they wait, so that they can be brought back.
fn said_of_what_comes(comes: Option<&Comes>, bound: LimitKind) -> String {
    if matches!(bound, LimitKind::Capacity | LimitKind::Reserve) {
        return "Removed points free their room after the destination's waiting time.".into();
    }
    let by_itself = match comes {
        Some(Comes { at, bytes }) if *bytes > 0 => {
            format!("{} become free automatically on {}.", show(*bytes), timestamp(*at).strftime("%-d %B %Y"))
        }
        _ => "No room becomes free automatically soon.".into(),
    };
    format!("{by_itself} 'jetfrost point remove' frees room after the waiting time, with --now at once.")
}

fn full_volume() -> Problem {
    Problem::new(Kind::NoRoom, "The destination is full.", "An administrator frees space on its volume. What has arrived stays.")
        .with_detail("its volume is full")
}

fn fold_records(error: &RecordsError) -> Problem {
    match error {
        RecordsError::Busy(_) | RecordsError::Locked(_) => Problem::new(
            Kind::RecordsBusy,
            "The service's records are busy.",
            "Try again in a moment. Nothing was changed. If it lasts, another program on the server has the database open.",
        ),
        RecordsError::Full(_) => Problem::new(
            Kind::RecordsFull,
            "The volume of the service's records is full.",
            "Free space on the volume of the state directory, then try again. Nothing was changed.",
        ),
        RecordsError::Open(_) | RecordsError::Statement(_) => internal("The service's records could not be read or written."),
    }
}

fn internal(title: &str) -> Problem {
    Problem::new(Kind::Internal, title, "The service's log has the details; search it for the number in 'request'.")
}

fn is_full(error: &std::io::Error) -> bool {
    matches!(error.kind(), std::io::ErrorKind::StorageFull | std::io::ErrorKind::QuotaExceeded)
}

/// Begins with a capital and ends with a full stop.
pub(super) fn sentence(text: &str) -> String {
    let end = if text.ends_with(['.', '!', '?']) { "" } else { "." };
    format!("{}{end}", capital(text))
}

fn capital(text: &str) -> String {
    let mut chars = text.chars();
    let first = chars.next().map(|c| c.to_uppercase().to_string()).unwrap_or_default();
    format!("{first}{}", chars.as_str())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::shared::Conflict;

    #[test]
    fn faults_of_the_service_are_5xx_and_carry_a_number_for_the_log() {
        let trouble = Trouble::from(ServiceError::Media(MediaError::Io { doing: "testing", source: std::io::Error::other("x") }));
        assert_eq!(trouble.problem.status, 500);
        assert!(trouble.problem.request.is_some());
    }

    #[test]
    fn a_full_volume_is_no_fault_of_the_service() {
        let source = std::io::Error::from(std::io::ErrorKind::StorageFull);
        let trouble = Trouble::from(ServiceError::from(StoreError::Medium { doing: "writing", source }));
        assert_eq!(trouble.problem.known_kind(), Some(Kind::NoRoom));
    }

    #[test]
    fn a_marker_that_vanished_during_a_write_says_so() {
        let source = std::io::Error::other(MarkerError::Missing("/backup".into()));
        let trouble = Trouble::from(ServiceError::from(StoreError::Medium { doing: "writing", source }));
        assert_eq!(trouble.problem.known_kind(), Some(Kind::DestinationMissing));
    }

    #[test]
    fn programs_can_tell_conflicts_apart_and_people_are_told_each_in_its_own_words() {
        let problems = Conflict::ALL.iter().map(|conflict| Trouble::from(ServiceError::Conflict(*conflict)).problem);
        let mut told = std::collections::BTreeSet::new();
        for problem in problems {
            assert_eq!(problem.known_kind(), Some(Kind::Conflict));
            assert!(told.insert(problem.reason.expect("a word")), "{}", problem.title);
            assert!(problem.title.ends_with('.') && problem.next_step.ends_with('.'), "{}: {}", problem.title, problem.next_step);
        }
    }
}
