//! An example of each type that calls take.

use data_encoding::BASE64;
use serde_json::{Value, json};

/// 32 bytes as base64, in place of a secret or a key.
const BYTES: &str = "AAECAwQFBgcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8=";

/// What a call of this type may look like.
pub(super) fn of(kind: &str) -> Option<Value> {
    let progress = json!({ "phase": "sending", "files_done": 1200, "files_total": 4100, "bytes_done": 5_300_000_000_u64, "bytes_total": 9_000_000_000_u64, "sent": 1_700_000_000 });
    Some(match kind {
        "AccountChange" => json!({ "display_name": "Tove Lund", "role": "helpdesk", "quota": 500_000_000_000_u64 }),
        "AccountRemoval" => json!({ "workstations": { "what": "to", "login": "ragna" } }),
        "Maintenance" => json!({ "backups": { "state": "paused", "until": "2026-12-01T06:00:00Z" }, "restores": true }),
        "Adopt" => json!({ "directory": "/backup/attic", "preview": true }),
        "AgentReport" => json!({ "delay": { "reason": "on_battery", "since": "2026-11-30T08:10:00Z" }, "failures": 0 }),
        "AskAdvice" => json!({ "destination": "Attic shelf", "disk_bytes": 512_000_000_000_u64 }),
        "AskCapacity" => json!({ "directory": "/backup/attic", "reserve": 50_000_000_000_u64 }),
        "AskErasure" => json!({ "name": "Attic shelf" }),
        "AskHandOuts" => json!({ "codes": ["JF1-EXAMPLE"], "form": "pdf" }),
        "BeginRestore" => json!({ "point": 12, "scope": "selection" }),
        "BeginRun" => json!({ "kind": "files", "client_version": "0.3.0" }),
        "Claim" => json!({ "secret": BYTES, "platform": "Debian 13", "client_version": "0.3.0" }),
        "CommitPoint" => {
            json!({ "point": BYTES, "progress": progress, "exceptions": { "unreadable": 0, "changed_while_read": 1, "disappeared": 0 } })
        }
        "ConfirmErasure" => json!({ "confirmation": "PLOVER-SEVEN" }),
        "ConfirmSecondFactor" => json!({ "code": "287082", "password": "a password of the account" }),
        "DestinationChange" => json!({ "capacity": 4_000_000_000_000_u64, "grants": { "groups": ["survey"] } }),
        "DiscoverySettings" => json!({ "announce": true, "name": "Backups of the office", "interfaces": ["eth0"] }),
        "EndRestore" => json!({ "progress": progress, "exceptions": 0 }),
        "EndSecondFactor" => json!({ "password": "a password of the account" }),
        "Enrol" => {
            json!({ "secret": BYTES, "name": "whimbrel", "platform": "Debian 13", "client_version": "0.3.0", "store": BYTES, "slots": [BYTES] })
        }
        "FirstAdministrator" => {
            json!({ "code": "HERON-PLOVER-SEVEN", "login": "ingrid", "password": "a password of the account" })
        }
        "GiveUp" => json!({ "stopped": true, "reason": "stopped by the person at the workstation", "progress": progress }),
        "GroupChange" => json!({ "default_limit": 300_000_000_000_u64, "logins": ["tove", "ragna"] }),
        "GroupLogins" => json!({ "logins": ["tove", "ragna"] }),
        "JobOrder" => json!({ "order": "pause" }),
        "LookAtCode" => json!({ "secret": BYTES }),
        "MarkPoint" => json!({ "mark": "good", "reason": "the survey was packed and moved", "seen": "suspect" }),
        "NewAccount" => json!({ "login": "tove", "display_name": "Tove Lund", "role": "member", "groups": ["survey"] }),
        "NewDestination" => json!({ "name": "Attic shelf", "directory": "/backup/attic", "grants": { "everybody": true } }),
        "NewEnrolmentCode" => {
            json!({ "login": "tove", "machine": "whimbrel", "hours": 72, "limit": { "what": "bytes", "bytes": 300_000_000_000_u64 } })
        }
        "NewEscrow" => json!({ "public_key": BYTES, "ask_workstations": true }),
        "NewGroup" => json!({ "name": "survey", "default_limit": 300_000_000_000_u64 }),
        "NewHold" => json!({ "reason": "tax year 2025" }),
        "NewOwnCode" => json!({ "destination": "Attic shelf" }),
        "NewPause" => json!({ "until": "2026-12-01T06:00:00Z" }),
        "NewPassword" => json!({ "password": "a new password" }),
        "NewSlot" => json!({ "slot": BYTES }),
        "NewToken" => json!({ "label": "monitoring", "scope": "see", "days": 90, "password": "a password of the account" }),
        "OfficeSettings" => json!({ "units": "decimal", "runs_at_once": 8, "own_machines": false }),
        "OwnPassword" => json!({ "old": "a password of the account", "new": "a new password" }),
        "Progress" => progress,
        "RemoveNow" => json!({ "password": "a password of the account", "code": "287082" }),
        "Roster" => json!({ "table": "account,machine,destination\ntove,whimbrel,Attic shelf\n" }),
        "SetMail" => json!({ "settings": {
            "server": "mail.office.example", "port": 465, "security": "tls", "login": "backups", "sender": "backups@office.example",
            "recipients": ["ingrid@office.example"], "summary_hour": 7,
        }, "password": "of the mail server" }),
        "Dismiss" => json!({ "why": "the office has no mail server" }),
        "ScheduleSettings" => json!({
            "rhythm_seconds": 7200, "hours": "06:00-22:00", "on_battery": false, "on_metered": false,
            "rate": { "kind": "limited", "bytes_per_second": 5_000_000, "hours": "08:00-18:00" },
        }),
        "SignIn" => json!({ "login": "ingrid", "password": "a password of the account", "carry": "token", "label": "a script" }),
        "StoreSettings" => json!({ "limit": 300_000_000_000_u64, "retention": null }),
        "CheckDirectory" => json!({ "directory": "/backup/attic" }),
        "Diagnosis" => json!({ "well": true, "steps": [
            { "step": "name", "result": "passed", "says": "quay.office.example resolves to 10.0.1.5.", "ms": 2 },
        ] }),
        "CheckedOff" => json!({ "items": [
            { "what": "Entries", "state": "right", "found": "466 of 466 are there: 433 files, 32 folders, 1 link, 0 others; 20.3 MB." },
        ] }),
        "NewOrder" => json!({ "sealed": BASE64.encode(&[0; 4126]) }),
        "AnswerOrder" => json!({ "answer": "declined", "reason": "Somebody at the workstation declined it." }),
        "NewProof" => json!({ "secret": "passphrase" }),
        "DiagnoseFor" => json!({ "login": "tove" }),
        "Typed" => json!({ "rule": "size", "text": "300GB" }),
        _ => return None,
    })
}
