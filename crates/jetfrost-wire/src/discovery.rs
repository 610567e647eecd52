//! Being found on the network: DNS-SD (RFC 6763) over multicast DNS (RFC 6762), or over the office's own DNS.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::version::{HasVersion, Version};

/// The service type, as in PTR records, without a domain.
pub const SERVICE_TYPE: &str = "_jetfrost._tcp";
/// Version of what the TXT record says, in its key `v`.
pub const TXT_VERSION: &str = "1";

/// Whether workstations can find the service by themselves.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DiscoveryState {
    /// It is announced.
    Announced,
    /// Somebody decided that it is not.
    Silent,
    /// It is not while backups are not let in.
    BackupsPaused,
    /// None of the chosen interfaces is there, or the service listens on none of them.
    NoInterface,
    /// The network refused.
    Failed,
}

/// A network interface of the server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Interface {
    /// Its name.
    pub name: String,
    /// Its addresses on which the service listens.
    pub addresses: Vec<String>,
    /// Whether the service is announced on it.
    pub announced: bool,
}

/// How the service announces itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Discovery {
    /// Whether workstations can find it by themselves.
    pub state: DiscoveryState,
    /// What is decided.
    pub settings: DiscoverySettings,
    /// The name under which it is announced: the decided one, or with a number where another service has that.
    pub announced_as: Option<String>,
    /// What the network refused.
    pub trouble: Option<String>,
    /// The server's interfaces that can carry an announcement.
    pub interfaces: Vec<Interface>,
    /// Lines for the zone of the office's domain, so that workstations in other networks find the service as well.
    pub records: Vec<String>,
    /// Stands for how it is set, for `If-Match`.
    #[serde(default)]
    #[schema(required)]
    pub version: Version,
}

impl HasVersion for Discovery {
    fn version(&self) -> &Version {
        &self.version
    }
}

/// What is decided of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DiscoverySettings {
    /// Whether it announces itself.
    pub announce: bool,
    /// The name under which it does, 1 to 48 bytes without a dot; the usual one when absent.
    #[serde(default)]
    pub name: Option<String>,
    /// Names of the interfaces on which it does; all when empty.
    #[serde(default)]
    pub interfaces: Vec<String>,
}
