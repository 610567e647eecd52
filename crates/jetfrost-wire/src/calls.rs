//! Every call of the API: its method, path, body and answer. Made from the OpenAPI document: a test holds the two to each other, and
//! writes this file anew when it is asked to (`tests/tests/e2e/api.rs`).

use std::fmt::Display;

use http::Method;

use crate::access::*;
use crate::alerts::*;
use crate::call::{Call, File, Octets, segment};
use crate::destination::*;
use crate::diagnosis::*;
use crate::discovery::*;
use crate::downloads::*;
use crate::enrolment::*;
use crate::job::*;
use crate::office::*;
use crate::order::*;
use crate::page::{Found, Page};
use crate::people::*;
use crate::point::*;
use crate::restore::*;
use crate::retention::*;
use crate::roster::*;
use crate::rules::*;
use crate::run::*;
use crate::schedule::*;
use crate::service::*;
use crate::setup::*;
use crate::sizing::*;
use crate::workstation::*;

/// `GET /access`
#[must_use]
pub fn access() -> Call<(), Page<AccessLine>> {
    Call::new(Method::GET, "/access")
}

/// `GET /accounts`
#[must_use]
pub fn accounts() -> Call<(), Page<Account>> {
    Call::new(Method::GET, "/accounts")
}

/// `POST /accounts`
#[must_use]
pub fn add_account() -> Call<NewAccount, Account> {
    Call::new(Method::POST, "/accounts")
}

/// `GET /accounts/{id}`
#[must_use]
pub fn account(id: impl Display) -> Call<(), Account> {
    Call::new(Method::GET, format!("/accounts/{}", segment(id)))
}

/// `PATCH /accounts/{id}`
#[must_use]
pub fn change_account(id: impl Display) -> Call<AccountChange, Account> {
    Call::new(Method::PATCH, format!("/accounts/{}", segment(id)))
}

/// `PUT /accounts/{id}/disabled`
#[must_use]
pub fn disable_account(id: impl Display) -> Call<(), Account> {
    Call::new(Method::PUT, format!("/accounts/{}/disabled", segment(id)))
}

/// `DELETE /accounts/{id}/disabled`
#[must_use]
pub fn enable_account(id: impl Display) -> Call<(), Account> {
    Call::new(Method::DELETE, format!("/accounts/{}/disabled", segment(id)))
}

/// `PUT /accounts/{id}/password`
#[must_use]
pub fn set_password(id: impl Display) -> Call<NewPassword, PasswordSet> {
    Call::new(Method::PUT, format!("/accounts/{}/password", segment(id)))
}

/// `POST /accounts/{id}/removal`
#[must_use]
pub fn remove_account(id: impl Display) -> Call<AccountRemoval, ()> {
    Call::new(Method::POST, format!("/accounts/{}/removal", segment(id)))
}

/// `DELETE /accounts/{id}/second-factor`
#[must_use]
pub fn end_second_factor_of(id: impl Display) -> Call<(), Account> {
    Call::new(Method::DELETE, format!("/accounts/{}/second-factor", segment(id)))
}

/// `GET /accounts/{id}/ties`
#[must_use]
pub fn account_ties(id: impl Display) -> Call<(), AccountTies> {
    Call::new(Method::GET, format!("/accounts/{}/ties", segment(id)))
}

/// `POST /advice/capacity`
#[must_use]
pub fn advise_capacity() -> Call<AskCapacity, CapacityAdvice> {
    Call::new(Method::POST, "/advice/capacity")
}

/// `POST /advice/limit`
#[must_use]
pub fn advise() -> Call<AskAdvice, LimitAdvice> {
    Call::new(Method::POST, "/advice/limit")
}

/// `GET /alerts`
#[must_use]
pub fn alerts() -> Call<(), Alerts> {
    Call::new(Method::GET, "/alerts")
}

/// `GET /audit`
#[must_use]
pub fn audit_log() -> Call<(), Page<AuditEntry>> {
    Call::new(Method::GET, "/audit")
}

/// `GET /audit/check`
#[must_use]
pub fn check_audit() -> Call<(), AuditCheck> {
    Call::new(Method::GET, "/audit/check")
}

/// `GET /audit/export`
#[must_use]
pub fn audit_export() -> Call<(), File> {
    Call::new(Method::GET, "/audit/export")
}

/// `GET /destinations`
#[must_use]
pub fn destinations() -> Call<(), Page<Destination>> {
    Call::new(Method::GET, "/destinations")
}

/// `POST /destinations`
#[must_use]
pub fn add_destination() -> Call<NewDestination, Destination> {
    Call::new(Method::POST, "/destinations")
}

/// `POST /destinations/adoption`
#[must_use]
pub fn adopt() -> Call<Adopt, Adopted> {
    Call::new(Method::POST, "/destinations/adoption")
}

/// `POST /destinations/check`
#[must_use]
pub fn check_directory() -> Call<CheckDirectory, Verdict> {
    Call::new(Method::POST, "/destinations/check")
}

/// `GET /destinations/{id}`
#[must_use]
pub fn destination(id: impl Display) -> Call<(), Destination> {
    Call::new(Method::GET, format!("/destinations/{}", segment(id)))
}

/// `PATCH /destinations/{id}`
#[must_use]
pub fn change_destination(id: impl Display) -> Call<DestinationChange, Destination> {
    Call::new(Method::PATCH, format!("/destinations/{}", segment(id)))
}

/// `POST /destinations/{id}/diagnosis`
#[must_use]
pub fn diagnose(id: impl Display) -> Call<DiagnoseFor, Diagnosis> {
    Call::new(Method::POST, format!("/destinations/{}/diagnosis", segment(id)))
}

/// `GET /destinations/{id}/erasure`
#[must_use]
pub fn preview_erasure(id: impl Display) -> Call<(), ErasurePreview> {
    Call::new(Method::GET, format!("/destinations/{}/erasure", segment(id)))
}

/// `POST /destinations/{id}/erasure`
#[must_use]
pub fn ask_erasure(id: impl Display) -> Call<AskErasure, ErasurePreview> {
    Call::new(Method::POST, format!("/destinations/{}/erasure", segment(id)))
}

/// `PUT /destinations/{id}/erasure`
#[must_use]
pub fn confirm_erasure(id: impl Display) -> Call<ConfirmErasure, Destination> {
    Call::new(Method::PUT, format!("/destinations/{}/erasure", segment(id)))
}

/// `DELETE /destinations/{id}/erasure`
#[must_use]
pub fn call_erasure_off(id: impl Display) -> Call<(), Destination> {
    Call::new(Method::DELETE, format!("/destinations/{}/erasure", segment(id)))
}

/// `GET /destinations/{id}/schedule`
#[must_use]
pub fn destination_schedule(id: impl Display) -> Call<(), OwnSchedule> {
    Call::new(Method::GET, format!("/destinations/{}/schedule", segment(id)))
}

/// `PUT /destinations/{id}/schedule`
#[must_use]
pub fn set_destination_schedule(id: impl Display) -> Call<ScheduleSettings, OwnSchedule> {
    Call::new(Method::PUT, format!("/destinations/{}/schedule", segment(id)))
}

/// `PUT /destinations/{id}/withdrawn`
#[must_use]
pub fn withdraw(id: impl Display) -> Call<(), Destination> {
    Call::new(Method::PUT, format!("/destinations/{}/withdrawn", segment(id)))
}

/// `DELETE /destinations/{id}/withdrawn`
#[must_use]
pub fn reinstate_destination(id: impl Display) -> Call<(), Destination> {
    Call::new(Method::DELETE, format!("/destinations/{}/withdrawn", segment(id)))
}

/// `GET /discovery`
#[must_use]
pub fn discovery() -> Call<(), Discovery> {
    Call::new(Method::GET, "/discovery")
}

/// `PUT /discovery`
#[must_use]
pub fn set_discovery() -> Call<DiscoverySettings, Discovery> {
    Call::new(Method::PUT, "/discovery")
}

/// `GET /downloads`
#[must_use]
pub fn downloads() -> Call<(), Downloads> {
    Call::new(Method::GET, "/downloads")
}

/// `GET /enrolment-codes`
#[must_use]
pub fn enrolment_codes() -> Call<(), Page<EnrolmentCode>> {
    Call::new(Method::GET, "/enrolment-codes")
}

/// `POST /enrolment-codes`
#[must_use]
pub fn issue_code() -> Call<NewEnrolmentCode, IssuedCode> {
    Call::new(Method::POST, "/enrolment-codes")
}

/// `DELETE /enrolment-codes/{id}`
#[must_use]
pub fn cancel_code(id: impl Display) -> Call<(), EnrolmentCode> {
    Call::new(Method::DELETE, format!("/enrolment-codes/{}", segment(id)))
}

/// `POST /enrolment-codes/{id}/renewal`
#[must_use]
pub fn renew_code(id: impl Display) -> Call<(), IssuedCode> {
    Call::new(Method::POST, format!("/enrolment-codes/{}/renewal", segment(id)))
}

/// `POST /enrolments`
#[must_use]
pub fn enrol() -> Call<Enrol, Enrolled> {
    Call::new(Method::POST, "/enrolments")
}

/// `POST /enrolments/claim`
#[must_use]
pub fn claim_workstation() -> Call<Claim, Enrolled> {
    Call::new(Method::POST, "/enrolments/claim")
}

/// `POST /enrolments/look`
#[must_use]
pub fn look_at_code() -> Call<LookAtCode, CodeIsFor> {
    Call::new(Method::POST, "/enrolments/look")
}

/// `PUT /escrow`
#[must_use]
pub fn start_escrow() -> Call<NewEscrow, Escrow> {
    Call::new(Method::PUT, "/escrow")
}

/// `DELETE /escrow`
#[must_use]
pub fn end_escrow() -> Call<(), ()> {
    Call::new(Method::DELETE, "/escrow")
}

/// `GET /events`
#[must_use]
pub fn listen() -> Call<(), File> {
    Call::new(Method::GET, "/events")
}

/// `POST /first-administrator`
#[must_use]
pub fn first_administrator() -> Call<FirstAdministrator, Account> {
    Call::new(Method::POST, "/first-administrator")
}

/// `GET /groups`
#[must_use]
pub fn groups() -> Call<(), Page<Group>> {
    Call::new(Method::GET, "/groups")
}

/// `POST /groups`
#[must_use]
pub fn add_group() -> Call<NewGroup, Group> {
    Call::new(Method::POST, "/groups")
}

/// `GET /groups/{id}`
#[must_use]
pub fn group(id: impl Display) -> Call<(), Group> {
    Call::new(Method::GET, format!("/groups/{}", segment(id)))
}

/// `PATCH /groups/{id}`
#[must_use]
pub fn change_group(id: impl Display) -> Call<GroupChange, Group> {
    Call::new(Method::PATCH, format!("/groups/{}", segment(id)))
}

/// `DELETE /groups/{id}`
#[must_use]
pub fn remove_group(id: impl Display) -> Call<(), ()> {
    Call::new(Method::DELETE, format!("/groups/{}", segment(id)))
}

/// `PUT /groups/{id}/logins`
#[must_use]
pub fn set_group_logins(id: impl Display) -> Call<GroupLogins, Group> {
    Call::new(Method::PUT, format!("/groups/{}/logins", segment(id)))
}

/// `GET /groups/{id}/schedule`
#[must_use]
pub fn group_schedule(id: impl Display) -> Call<(), OwnSchedule> {
    Call::new(Method::GET, format!("/groups/{}/schedule", segment(id)))
}

/// `PUT /groups/{id}/schedule`
#[must_use]
pub fn set_group_schedule(id: impl Display) -> Call<ScheduleSettings, OwnSchedule> {
    Call::new(Method::PUT, format!("/groups/{}/schedule", segment(id)))
}

/// `POST /hand-outs`
#[must_use]
pub fn hand_outs() -> Call<AskHandOuts, File> {
    Call::new(Method::POST, "/hand-outs")
}

/// `GET /jobs`
#[must_use]
pub fn jobs() -> Call<(), Page<Job>> {
    Call::new(Method::GET, "/jobs")
}

/// `GET /jobs/{id}`
#[must_use]
pub fn job(id: impl Display) -> Call<(), Job> {
    Call::new(Method::GET, format!("/jobs/{}", segment(id)))
}

/// `PUT /jobs/{id}/order`
#[must_use]
pub fn order_job(id: impl Display) -> Call<JobOrder, Job> {
    Call::new(Method::PUT, format!("/jobs/{}/order", segment(id)))
}

/// `GET /mail`
#[must_use]
pub fn mail() -> Call<(), MailState> {
    Call::new(Method::GET, "/mail")
}

/// `PUT /mail`
#[must_use]
pub fn set_mail() -> Call<SetMail, MailState> {
    Call::new(Method::PUT, "/mail")
}

/// `DELETE /mail`
#[must_use]
pub fn end_mail() -> Call<(), MailState> {
    Call::new(Method::DELETE, "/mail")
}

/// `POST /mail/test`
#[must_use]
pub fn try_mail() -> Call<(), MailState> {
    Call::new(Method::POST, "/mail/test")
}

/// `GET /maintenance`
#[must_use]
pub fn maintenance() -> Call<(), MaintenanceState> {
    Call::new(Method::GET, "/maintenance")
}

/// `PUT /maintenance`
#[must_use]
pub fn set_maintenance() -> Call<Maintenance, MaintenanceState> {
    Call::new(Method::PUT, "/maintenance")
}

/// `GET /office`
#[must_use]
pub fn office() -> Call<(), Office> {
    Call::new(Method::GET, "/office")
}

/// `POST /orders/{id}/answer`
#[must_use]
pub fn answer_order(id: impl Display) -> Call<AnswerOrder, RestoreOrder> {
    Call::new(Method::POST, format!("/orders/{}/answer", segment(id)))
}

/// `POST /orders/{id}/withdrawal`
#[must_use]
pub fn withdraw_order(id: impl Display) -> Call<(), RestoreOrder> {
    Call::new(Method::POST, format!("/orders/{}/withdrawal", segment(id)))
}

/// `GET /overview`
#[must_use]
pub fn overview() -> Call<(), Overview> {
    Call::new(Method::GET, "/overview")
}

/// `GET /protection`
#[must_use]
pub fn protection() -> Call<(), Protection> {
    Call::new(Method::GET, "/protection")
}

/// `GET /restores`
#[must_use]
pub fn restore_report() -> Call<(), Page<ReportedRestore>> {
    Call::new(Method::GET, "/restores")
}

/// `PATCH /restores/{id}`
#[must_use]
pub fn restore_progress(id: impl Display) -> Call<Progress, Restore> {
    Call::new(Method::PATCH, format!("/restores/{}", segment(id)))
}

/// `POST /restores/{id}/cancellation`
#[must_use]
pub fn cancel_restore(id: impl Display) -> Call<(), Restore> {
    Call::new(Method::POST, format!("/restores/{}/cancellation", segment(id)))
}

/// `PUT /restores/{id}/checklist`
#[must_use]
pub fn check_off(id: impl Display) -> Call<CheckedOff, Restore> {
    Call::new(Method::PUT, format!("/restores/{}/checklist", segment(id)))
}

/// `POST /restores/{id}/end`
#[must_use]
pub fn end_restore(id: impl Display) -> Call<EndRestore, Restore> {
    Call::new(Method::POST, format!("/restores/{}/end", segment(id)))
}

/// `POST /restores/{id}/give-up`
#[must_use]
pub fn give_up_restore(id: impl Display) -> Call<GiveUp, Restore> {
    Call::new(Method::POST, format!("/restores/{}/give-up", segment(id)))
}

/// `GET /roster`
#[must_use]
pub fn roster() -> Call<(), File> {
    Call::new(Method::GET, "/roster")
}

/// `POST /roster`
#[must_use]
pub fn apply_roster() -> Call<Roster, RosterDone> {
    Call::new(Method::POST, "/roster")
}

/// `POST /roster/plan`
#[must_use]
pub fn plan_roster() -> Call<Roster, RosterPlan> {
    Call::new(Method::POST, "/roster/plan")
}

/// `POST /rules`
#[must_use]
pub fn rule_on() -> Call<Typed, Ruling> {
    Call::new(Method::POST, "/rules")
}

/// `PATCH /runs/{id}`
#[must_use]
pub fn progress(id: impl Display) -> Call<Progress, Run> {
    Call::new(Method::PATCH, format!("/runs/{}", segment(id)))
}

/// `POST /runs/{id}/give-up`
#[must_use]
pub fn give_up_run(id: impl Display) -> Call<GiveUp, Run> {
    Call::new(Method::POST, format!("/runs/{}/give-up", segment(id)))
}

/// `PUT /runs/{id}/needs`
#[must_use]
pub fn put_needs(id: impl Display) -> Call<Octets, ()> {
    Call::new(Method::PUT, format!("/runs/{}/needs", segment(id)))
}

/// `POST /runs/{id}/point`
#[must_use]
pub fn commit(id: impl Display) -> Call<CommitPoint, PointCommitted> {
    Call::new(Method::POST, format!("/runs/{}/point", segment(id)))
}

/// `GET /search`
#[must_use]
pub fn search() -> Call<(), SearchResult> {
    Call::new(Method::GET, "/search")
}

/// `GET /service`
#[must_use]
pub fn service_info() -> Call<(), ServiceInfo> {
    Call::new(Method::GET, "/service")
}

/// `GET /sessions`
#[must_use]
pub fn sessions() -> Call<(), Page<Session>> {
    Call::new(Method::GET, "/sessions")
}

/// `POST /sessions`
#[must_use]
pub fn sign_in() -> Call<SignIn, SignedIn> {
    Call::new(Method::POST, "/sessions")
}

/// `DELETE /sessions`
#[must_use]
pub fn end_other_sessions() -> Call<(), SessionsEnded> {
    Call::new(Method::DELETE, "/sessions")
}

/// `GET /sessions/current`
#[must_use]
pub fn me() -> Call<(), Account> {
    Call::new(Method::GET, "/sessions/current")
}

/// `DELETE /sessions/current`
#[must_use]
pub fn sign_out() -> Call<(), ()> {
    Call::new(Method::DELETE, "/sessions/current")
}

/// `POST /sessions/current/enrolment-code`
#[must_use]
pub fn issue_own_code() -> Call<NewOwnCode, IssuedCode> {
    Call::new(Method::POST, "/sessions/current/enrolment-code")
}

/// `PUT /sessions/current/password`
#[must_use]
pub fn set_own_password() -> Call<OwnPassword, PasswordSet> {
    Call::new(Method::PUT, "/sessions/current/password")
}

/// `POST /sessions/current/second-factor`
#[must_use]
pub fn offer_second_factor() -> Call<(), SecondFactorOffer> {
    Call::new(Method::POST, "/sessions/current/second-factor")
}

/// `PUT /sessions/current/second-factor`
#[must_use]
pub fn confirm_second_factor() -> Call<ConfirmSecondFactor, SpareCodes> {
    Call::new(Method::PUT, "/sessions/current/second-factor")
}

/// `POST /sessions/current/second-factor/end`
#[must_use]
pub fn end_second_factor() -> Call<EndSecondFactor, Account> {
    Call::new(Method::POST, "/sessions/current/second-factor/end")
}

/// `DELETE /sessions/{id}`
#[must_use]
pub fn end_session(id: impl Display) -> Call<(), ()> {
    Call::new(Method::DELETE, format!("/sessions/{}", segment(id)))
}

/// `GET /settings`
#[must_use]
pub fn settings() -> Call<(), OfficeSettings> {
    Call::new(Method::GET, "/settings")
}

/// `PUT /settings`
#[must_use]
pub fn set_settings() -> Call<OfficeSettings, OfficeSettings> {
    Call::new(Method::PUT, "/settings")
}

/// `GET /setup`
#[must_use]
pub fn setup() -> Call<(), Setup> {
    Call::new(Method::GET, "/setup")
}

/// `PUT /setup/{id}/dismissed`
#[must_use]
pub fn dismiss_step(id: impl Display) -> Call<Dismiss, Setup> {
    Call::new(Method::PUT, format!("/setup/{}/dismissed", segment(id)))
}

/// `DELETE /setup/{id}/dismissed`
#[must_use]
pub fn restore_step(id: impl Display) -> Call<(), Setup> {
    Call::new(Method::DELETE, format!("/setup/{}/dismissed", segment(id)))
}

/// `POST /stores/{id}/chunks/fetch`
#[must_use]
pub fn fetch(id: impl Display) -> Call<Octets, File> {
    Call::new(Method::POST, format!("/stores/{}/chunks/fetch", segment(id)))
}

/// `POST /stores/{id}/chunks/missing`
#[must_use]
pub fn missing(id: impl Display) -> Call<Octets, File> {
    Call::new(Method::POST, format!("/stores/{}/chunks/missing", segment(id)))
}

/// `GET /stores/{id}/chunks/near-damage`
#[must_use]
pub fn near_damage(id: impl Display) -> Call<(), File> {
    Call::new(Method::GET, format!("/stores/{}/chunks/near-damage", segment(id)))
}

/// `PUT /stores/{id}/hold`
#[must_use]
pub fn hold_store(id: impl Display) -> Call<NewHold, Workstation> {
    Call::new(Method::PUT, format!("/stores/{}/hold", segment(id)))
}

/// `DELETE /stores/{id}/hold`
#[must_use]
pub fn release_store(id: impl Display) -> Call<(), Workstation> {
    Call::new(Method::DELETE, format!("/stores/{}/hold", segment(id)))
}

/// `GET /stores/{id}/integrity`
#[must_use]
pub fn integrity(id: impl Display) -> Call<(), Integrity> {
    Call::new(Method::GET, format!("/stores/{}/integrity", segment(id)))
}

/// `GET /stores/{id}/points/{sequence}`
#[must_use]
pub fn point_bytes(id: impl Display, sequence: impl Display) -> Call<(), PointBytes> {
    Call::new(Method::GET, format!("/stores/{}/points/{}", segment(id), segment(sequence)))
}

/// `PUT /stores/{id}/points/{sequence}/hold`
#[must_use]
pub fn hold_point(id: impl Display, sequence: impl Display) -> Call<NewHold, Point> {
    Call::new(Method::PUT, format!("/stores/{}/points/{}/hold", segment(id), segment(sequence)))
}

/// `DELETE /stores/{id}/points/{sequence}/hold`
#[must_use]
pub fn release_point(id: impl Display, sequence: impl Display) -> Call<(), Point> {
    Call::new(Method::DELETE, format!("/stores/{}/points/{}/hold", segment(id), segment(sequence)))
}

/// `PUT /stores/{id}/points/{sequence}/mark`
#[must_use]
pub fn mark_point(id: impl Display, sequence: impl Display) -> Call<MarkPoint, Point> {
    Call::new(Method::PUT, format!("/stores/{}/points/{}/mark", segment(id), segment(sequence)))
}

/// `PUT /stores/{id}/points/{sequence}/removal`
#[must_use]
pub fn remove_point(id: impl Display, sequence: impl Display) -> Call<(), Point> {
    Call::new(Method::PUT, format!("/stores/{}/points/{}/removal", segment(id), segment(sequence)))
}

/// `DELETE /stores/{id}/points/{sequence}/removal`
#[must_use]
pub fn undelete_point(id: impl Display, sequence: impl Display) -> Call<(), Point> {
    Call::new(Method::DELETE, format!("/stores/{}/points/{}/removal", segment(id), segment(sequence)))
}

/// `POST /stores/{id}/points/{sequence}/removal/now`
#[must_use]
pub fn remove_point_now(id: impl Display, sequence: impl Display) -> Call<RemoveNow, Job> {
    Call::new(Method::POST, format!("/stores/{}/points/{}/removal/now", segment(id), segment(sequence)))
}

/// `PUT /stores/{id}/removal`
#[must_use]
pub fn remove_store(id: impl Display) -> Call<(), Workstation> {
    Call::new(Method::PUT, format!("/stores/{}/removal", segment(id)))
}

/// `DELETE /stores/{id}/removal`
#[must_use]
pub fn undelete_store(id: impl Display) -> Call<(), Workstation> {
    Call::new(Method::DELETE, format!("/stores/{}/removal", segment(id)))
}

/// `POST /stores/{id}/removal/now`
#[must_use]
pub fn remove_store_now(id: impl Display) -> Call<RemoveNow, Job> {
    Call::new(Method::POST, format!("/stores/{}/removal/now", segment(id)))
}

/// `POST /stores/{id}/scrub`
#[must_use]
pub fn begin_scrub(id: impl Display) -> Call<(), Job> {
    Call::new(Method::POST, format!("/stores/{}/scrub", segment(id)))
}

/// `PUT /stores/{id}/segments/{hash}`
#[must_use]
pub fn put_segment(id: impl Display, hash: impl Display) -> Call<Octets, ()> {
    Call::new(Method::PUT, format!("/stores/{}/segments/{}", segment(id), segment(hash)))
}

/// `GET /stores/{id}/settings`
#[must_use]
pub fn store_settings(id: impl Display) -> Call<(), StoreSettings> {
    Call::new(Method::GET, format!("/stores/{}/settings", segment(id)))
}

/// `PUT /stores/{id}/settings`
#[must_use]
pub fn set_store(id: impl Display) -> Call<StoreSettings, Workstation> {
    Call::new(Method::PUT, format!("/stores/{}/settings", segment(id)))
}

/// `GET /stores/{id}/slots`
#[must_use]
pub fn slots(id: impl Display) -> Call<(), Slots> {
    Call::new(Method::GET, format!("/stores/{}/slots", segment(id)))
}

/// `POST /stores/{id}/slots`
#[must_use]
pub fn add_slot(id: impl Display) -> Call<NewSlot, UnlockMethod> {
    Call::new(Method::POST, format!("/stores/{}/slots", segment(id)))
}

/// `DELETE /stores/{id}/slots/{slot}`
#[must_use]
pub fn remove_slot(id: impl Display, slot: impl Display) -> Call<(), ()> {
    Call::new(Method::DELETE, format!("/stores/{}/slots/{}", segment(id), segment(slot)))
}

/// `GET /stores/{id}/thinning`
#[must_use]
pub fn preview_thinning(id: impl Display) -> Call<(), ThinningPreview> {
    Call::new(Method::GET, format!("/stores/{}/thinning", segment(id)))
}

/// `POST /stores/{id}/thinning`
#[must_use]
pub fn begin_thinning(id: impl Display) -> Call<(), Job> {
    Call::new(Method::POST, format!("/stores/{}/thinning", segment(id)))
}

/// `GET /stores/{id}/unlock-methods`
#[must_use]
pub fn unlock_methods(id: impl Display) -> Call<(), Page<UnlockMethod>> {
    Call::new(Method::GET, format!("/stores/{}/unlock-methods", segment(id)))
}

/// `POST /tokens`
#[must_use]
pub fn add_token() -> Call<NewToken, IssuedToken> {
    Call::new(Method::POST, "/tokens")
}

/// `GET /volumes`
#[must_use]
pub fn volumes() -> Call<(), Page<Volume>> {
    Call::new(Method::GET, "/volumes")
}

/// `GET /workstations`
#[must_use]
pub fn workstations() -> Call<(), Found<Workstation>> {
    Call::new(Method::GET, "/workstations")
}

/// `GET /workstations/{id}`
#[must_use]
pub fn workstation(id: impl Display) -> Call<(), Workstation> {
    Call::new(Method::GET, format!("/workstations/{}", segment(id)))
}

/// `PUT /workstations/{id}/agent`
#[must_use]
pub fn report_agent(id: impl Display) -> Call<AgentReport, AgentState> {
    Call::new(Method::PUT, format!("/workstations/{}/agent", segment(id)))
}

/// `PUT /workstations/{id}/asked-backup`
#[must_use]
pub fn ask_backup(id: impl Display) -> Call<(), Workstation> {
    Call::new(Method::PUT, format!("/workstations/{}/asked-backup", segment(id)))
}

/// `DELETE /workstations/{id}/asked-backup`
#[must_use]
pub fn unask_backup(id: impl Display) -> Call<(), Workstation> {
    Call::new(Method::DELETE, format!("/workstations/{}/asked-backup", segment(id)))
}

/// `GET /workstations/{id}/diagnosis`
#[must_use]
pub fn last_diagnosis(id: impl Display) -> Call<(), LastDiagnosis> {
    Call::new(Method::GET, format!("/workstations/{}/diagnosis", segment(id)))
}

/// `POST /workstations/{id}/diagnosis`
#[must_use]
pub fn diagnose_own(id: impl Display) -> Call<(), Diagnosis> {
    Call::new(Method::POST, format!("/workstations/{}/diagnosis", segment(id)))
}

/// `PUT /workstations/{id}/diagnosis`
#[must_use]
pub fn keep_diagnosis(id: impl Display) -> Call<Diagnosis, LastDiagnosis> {
    Call::new(Method::PUT, format!("/workstations/{}/diagnosis", segment(id)))
}

/// `GET /workstations/{id}/orders`
#[must_use]
pub fn orders(id: impl Display) -> Call<(), Page<RestoreOrder>> {
    Call::new(Method::GET, format!("/workstations/{}/orders", segment(id)))
}

/// `POST /workstations/{id}/orders`
#[must_use]
pub fn give_order(id: impl Display) -> Call<NewOrder, RestoreOrder> {
    Call::new(Method::POST, format!("/workstations/{}/orders", segment(id)))
}

/// `PUT /workstations/{id}/pause`
#[must_use]
pub fn pause_workstation(id: impl Display) -> Call<NewPause, Workstation> {
    Call::new(Method::PUT, format!("/workstations/{}/pause", segment(id)))
}

/// `DELETE /workstations/{id}/pause`
#[must_use]
pub fn resume_workstation(id: impl Display) -> Call<(), Workstation> {
    Call::new(Method::DELETE, format!("/workstations/{}/pause", segment(id)))
}

/// `GET /workstations/{id}/points`
#[must_use]
pub fn points(id: impl Display) -> Call<(), Page<Point>> {
    Call::new(Method::GET, format!("/workstations/{}/points", segment(id)))
}

/// `POST /workstations/{id}/probe`
#[must_use]
pub fn write_probe(id: impl Display) -> Call<Octets, File> {
    Call::new(Method::POST, format!("/workstations/{}/probe", segment(id)))
}

/// `PUT /workstations/{id}/proof`
#[must_use]
pub fn prove(id: impl Display) -> Call<NewProof, Proof> {
    Call::new(Method::PUT, format!("/workstations/{}/proof", segment(id)))
}

/// `GET /workstations/{id}/restores`
#[must_use]
pub fn restores(id: impl Display) -> Call<(), Page<Restore>> {
    Call::new(Method::GET, format!("/workstations/{}/restores", segment(id)))
}

/// `POST /workstations/{id}/restores`
#[must_use]
pub fn begin_restore(id: impl Display) -> Call<BeginRestore, Restore> {
    Call::new(Method::POST, format!("/workstations/{}/restores", segment(id)))
}

/// `PUT /workstations/{id}/retired`
#[must_use]
pub fn retire(id: impl Display) -> Call<(), Workstation> {
    Call::new(Method::PUT, format!("/workstations/{}/retired", segment(id)))
}

/// `GET /workstations/{id}/runs`
#[must_use]
pub fn runs(id: impl Display) -> Call<(), Page<Run>> {
    Call::new(Method::GET, format!("/workstations/{}/runs", segment(id)))
}

/// `POST /workstations/{id}/runs`
#[must_use]
pub fn begin_run(id: impl Display) -> Call<BeginRun, RunBegun> {
    Call::new(Method::POST, format!("/workstations/{}/runs", segment(id)))
}

/// `GET /workstations/{id}/schedule`
#[must_use]
pub fn workstation_schedule(id: impl Display) -> Call<(), OwnSchedule> {
    Call::new(Method::GET, format!("/workstations/{}/schedule", segment(id)))
}

/// `PUT /workstations/{id}/schedule`
#[must_use]
pub fn set_workstation_schedule(id: impl Display) -> Call<ScheduleSettings, OwnSchedule> {
    Call::new(Method::PUT, format!("/workstations/{}/schedule", segment(id)))
}

/// `GET /workstations/{id}/waits`
#[must_use]
pub fn waits(id: impl Display) -> Call<(), Page<Wait>> {
    Call::new(Method::GET, format!("/workstations/{}/waits", segment(id)))
}
