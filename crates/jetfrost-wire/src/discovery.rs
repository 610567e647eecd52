//! Being found on the network: DNS-SD (RFC 6763) over multicast DNS (RFC 6762), or over the office's own DNS.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::version::{HasVersion, Version};

/// The service type, as in PTR records, without a domain.
pub const SERVICE_TYPE: &str = "_jetfrost._tcp";
/// Version of the TXT record's content, in its key `v`.
pub const TXT_VERSION: &str = "1";

/// Whether workstations can discover the service.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DiscoveryState {
    /// It is announced.
    Announced,
    /// It is turned off.
    Silent,
    /// It is suspended while new backups are paused.
    BackupsPaused,
    /// None of the chosen interfaces exists, or the service listens on none of them.
    NoInterface,
    /// The network refused the announcement.
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
    /// Whether workstations can discover it.
    pub state: DiscoveryState,
    /// The settings.
    pub settings: DiscoverySettings,
    /// The name under which it is announced: the configured one, extended if another service has that name.
    pub announced_as: Option<String>,
    /// The network's error.
    pub trouble: Option<String>,
    /// The server's interfaces that support announcements.
    pub interfaces: Vec<Interface>,
    /// Records for the DNS zone of the office's domain, so that workstations in other networks discover the service too.
    pub records: Vec<String>,
    /// Version of the settings, for `If-Match`.
    #[serde(default)]
    #[schema(required)]
    pub version: Version,
}

impl HasVersion for Discovery {
    fn version(&self) -> &Version {
        &self.version
    }
}

/// The settings of the announcement.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DiscoverySettings {
    /// Whether the service announces itself.
    pub announce: bool,
    /// The announced name, 1 to 48 bytes without a dot; the default when absent.
    #[serde(default)]
    pub name: Option<String>,
    /// Names of the interfaces on which it is announced; all when empty.
    #[serde(default)]
    pub interfaces: Vec<String>,
}
