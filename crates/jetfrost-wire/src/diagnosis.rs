//! Diagnosis: the steps that a backup needs, tried one after the other from the server for an account, or at a workstation for itself.

use jetfrost_types::labels;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::WhoseMove;

/// A probe's content is not longer than this, in bytes.
pub const MOST_PROBE: usize = 4 << 20;
/// A diagnosis has no more steps than this.
pub const MOST_STEPS: usize = 40;
/// A sentence of a diagnosis is not longer than this, in characters.
pub const MOST_SENTENCE: usize = 500;

/// The steps. A workstation tries all of them, in this order; the service those from the account to the probe.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DiagnosisStep {
    /// The machine is a workstation of a service.
    Joined,
    /// The service's name resolves.
    Name,
    /// The service is found on the local network or by DNS.
    Discovery,
    /// Something listens at its address and port.
    Port,
    /// It is the service that the workstation knows.
    Identity,
    /// The clocks of workstation and service agree.
    Clock,
    /// The service accepts the workstation's credential.
    Credential,
    /// The account can be used.
    Account,
    /// New backups are accepted.
    Maintenance,
    /// The destination is available and accepts backups.
    Destination,
    /// The account has access to it.
    Access,
    /// No limit is reached.
    Capacity,
    /// A probe is written, made durable, read back and removed.
    WriteTest,
    /// A probe of the workstation comes back as it was; the rates both ways.
    RoundTrip,
    /// The latest recovery point there is the one made last here.
    History,
    /// The key of the image store is here.
    Keys,
    /// Everything that is included is there.
    Sources,
    /// There is room for what the next backup sends.
    Room,
    /// How the machine is connected.
    Network,
    /// The agent runs, and nothing is in the way of the next backup.
    Agent,
    /// A drill restored files.
    Drill,
    /// A person proved that a secret opens the image store.
    Proof,
}

labels!(DiagnosisStep: Joined = "joined", Name = "name", Discovery = "discovery", Port = "port", Identity = "identity", Clock = "clock",
    Credential = "credential", Account = "account", Maintenance = "maintenance", Destination = "destination", Access = "access",
    Capacity = "capacity", WriteTest = "write_test", RoundTrip = "round_trip", History = "history", Keys = "keys",
    Sources = "sources", Room = "room", Network = "network", Agent = "agent", Drill = "drill", Proof = "proof");

/// What a step came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum StepResult {
    /// It is as it must be.
    Passed,
    /// Backups can be made, but something should be looked at.
    Noticed,
    /// This keeps backups from being made.
    Failed,
}

labels!(StepResult: Passed = "passed", Noticed = "noticed", Failed = "failed");

/// The result of a step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DiagnosisLine {
    /// The step.
    pub step: DiagnosisStep,
    /// What it came to.
    pub result: StepResult,
    /// What was found, in a sentence. A longer one is cut.
    #[schema(max_length = 500)]
    pub says: String,
    /// What to do, unless it passed. A longer text is cut.
    #[schema(max_length = 500)]
    pub next: Option<String>,
    /// Whose move that is.
    pub whose_move: Option<WhoseMove>,
    /// Milliseconds that it took.
    #[serde(default)]
    #[schema(required)]
    pub ms: u64,
}

/// A diagnosis. It ends with the first step that fails: that one explains the rest.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Diagnosis {
    /// Whether no step failed.
    pub well: bool,
    /// The steps that were tried.
    pub steps: Vec<DiagnosisLine>,
    /// Bytes that the service would take from the workstation now, if that was found out.
    #[serde(default)]
    pub room: Option<u64>,
}

/// The diagnosis that a workstation made last.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LastDiagnosis {
    /// When the service was told, by its own clock; absent if none was ever made.
    pub at: Option<Timestamp>,
    /// What was found.
    pub found: Option<Diagnosis>,
}

/// Diagnoses an account's access from the server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DiagnoseFor {
    /// Login name of the account.
    pub login: String,
}
