//! Announcing the service by DNS-SD (RFC 6763) over multicast DNS (RFC 6762).

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use jetfrost_wire::discovery::SERVICE_TYPE;
use mdns_sd::{DaemonEvent, IfKind, IfPredicate, Receiver, ServiceDaemon, ServiceEvent, ServiceInfo};
use nix::ifaddrs::getifaddrs;
use nix::net::if_::InterfaceFlags;

/// Saying goodbye takes so long at most; who does not hear it forgets the service after two minutes.
const GOODBYE: Duration = Duration::from_secs(1);
/// So much of the id tells services of one name apart.
const ID_IN_NAME: usize = 4;

/// What is announced, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Announcement {
    /// The name that people see.
    pub(crate) name: String,
    /// Host name within `.local`, of this service alone.
    pub(crate) host: String,
    pub(crate) port: u16,
    /// Keys and values of the TXT record.
    pub(crate) txt: Vec<(&'static str, String)>,
    /// Interfaces by name, with the addresses on which the service listens.
    pub(crate) interfaces: BTreeMap<String, BTreeSet<IpAddr>>,
}

/// Announces one service, or none.
#[derive(Default)]
pub(crate) struct Announcer(Mutex<State>);

#[derive(Default)]
struct State {
    spoken: Option<Spoken>,
    trouble: Option<String>,
}

struct Spoken {
    /// What was asked for.
    what: Announcement,
    daemon: ServiceDaemon,
    full_name: String,
    /// Tells when another service has the name.
    events: Receiver<DaemonEvent>,
    /// Tells what else is announced: two services that ask for one name at the same moment may both take it for theirs.
    others: Receiver<ServiceEvent>,
    /// The name that it has.
    name: String,
}

/// That the service is to be announced anew.
struct Again {
    name: String,
    /// Another is announced under the name that this one had: saying goodbye for it would say so of the other.
    is_shared: bool,
}

impl Announcer {
    /// Sees to it that this is announced, and nothing else.
    pub(crate) fn announce(&self, wanted: Option<Announcement>) {
        let mut state = self.lock();
        let mut name = wanted.as_ref().map(|wanted| wanted.name.clone());
        if state.spoken.as_ref().map(|spoken| &spoken.what) == wanted.as_ref() {
            // One that was renamed begins anew: the library would go on answering for the old name, too, and so take it from the
            // service that has it.
            let Some(again) = state.spoken.as_ref().and_then(Spoken::looked_at) else { return };
            if again.is_shared
                && let Some(spoken) = state.spoken.take()
            {
                spoken.fall_silent();
            }
            name = Some(again.name);
        }
        if let Some(spoken) = state.spoken.take() {
            spoken.withdraw();
        }
        state.trouble = None;
        match wanted.zip(name).map(|(wanted, name)| Spoken::announce(wanted, name)).transpose() {
            Ok(spoken) => state.spoken = spoken,
            Err(error) => {
                tracing::warn!(%error, "announcing the service");
                state.trouble = Some(error.to_string());
            }
        }
    }

    /// The name under which the service is announced, if it is.
    pub(crate) fn name(&self) -> Option<String> {
        self.lock().spoken.as_ref().map(|spoken| spoken.name.clone())
    }

    /// Why it is not announced.
    pub(crate) fn trouble(&self) -> Option<String> {
        self.lock().trouble.clone()
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Drop for Announcer {
    fn drop(&mut self) {
        self.announce(None);
    }
}

impl Spoken {
    fn announce(what: Announcement, name: String) -> mdns_sd::Result<Self> {
        let daemon = ServiceDaemon::new()?;
        let addresses = what.interfaces.clone();
        daemon.disable_interface(IfKind::All)?;
        let chosen = IfPredicate::new(move |one| addresses.get(&one.name).is_some_and(|own| own.contains(&one.ip())));
        daemon.enable_interface(IfKind::Predicate(chosen))?;
        let txt: Vec<(&str, &str)> = what.txt.iter().map(|(key, value)| (*key, value.as_str())).collect();
        let service_type = format!("{SERVICE_TYPE}.local.");
        let host = format!("{}.local.", what.host);
        let info = ServiceInfo::new(&service_type, &name, &host, "", what.port, &txt[..])?.enable_addr_auto();
        let full_name = info.get_fullname().to_owned();
        let events = daemon.monitor()?;
        let others = daemon.browse(&service_type)?;
        daemon.register(info)?;
        Ok(Self { what, daemon, full_name, events, others, name })
    }

    /// The name under which it is to be announced anew, if another service turned out to have the same: of two, the one whose id
    /// comes first keeps it, and says once more that it has it.
    fn looked_at(&self) -> Option<Again> {
        let rivals = self.rivals();
        if self.was_renamed() {
            return Some(Again { name: self.other_name(), is_shared: false });
        }
        if rivals.is_empty() {
            return None;
        }
        let gives_way = rivals.iter().any(|rival| rival.as_str() < self.id());
        Some(Again { name: if gives_way { self.other_name() } else { self.name.clone() }, is_shared: true })
    }

    fn id(&self) -> &str {
        self.what.txt.iter().find(|(key, _)| *key == "id").map_or("", |(_, id)| id.as_str())
    }

    /// What it is called where another has its name: by the id, so that the name is the same after each start and several
    /// services that meet do not run after one another through the numbers.
    fn other_name(&self) -> String {
        let id: String = self.id().chars().take(ID_IN_NAME).collect();
        let with_id = format!("{} ({id})", self.what.name);
        if self.name.starts_with(&with_id) { next_name(&self.name) } else { with_id }
    }

    /// The ids of other services that are announced under this one's name.
    fn rivals(&self) -> Vec<String> {
        let mut rivals = Vec::new();
        while let Ok(event) = self.others.try_recv() {
            if let ServiceEvent::ServiceResolved(service) = event
                && service.fullname.eq_ignore_ascii_case(&self.full_name)
                && let Some(id) = service.get_property_val_str("id").filter(|id| *id != self.id())
            {
                rivals.push(id.to_owned());
            }
        }
        rivals
    }

    /// Whether the library gave it another name, because one answered that has its own.
    fn was_renamed(&self) -> bool {
        self.events
            .try_iter()
            .any(|event| matches!(event, DaemonEvent::NameChange(change) if change.original.contains(SERVICE_TYPE)))
    }

    /// Ends without a word.
    fn fall_silent(self) {
        if let Ok(done) = self.daemon.shutdown() {
            let _ = done.recv_timeout(GOODBYE);
        }
    }

    fn withdraw(self) {
        if let Ok(done) = self.daemon.unregister(&self.full_name) {
            let _ = done.recv_timeout(GOODBYE);
        }
        if let Ok(done) = self.daemon.shutdown() {
            let _ = done.recv_timeout(GOODBYE);
        }
    }
}

/// The name with a number, or with the next one.
fn next_name(name: &str) -> String {
    let numbered =
        name.strip_suffix(')').and_then(|name| name.rsplit_once(" (")).and_then(|(name, n)| Some((name, n.parse::<u32>().ok()?)));
    match numbered {
        Some((name, n)) => format!("{name} ({})", n.saturating_add(1)),
        None => format!("{name} (2)"),
    }
}

/// The interfaces that can carry an announcement, with those of their addresses on which a service listens that listens on
/// `listen`. A service that only this machine reaches is announced nowhere.
pub(crate) fn interfaces(listen: IpAddr) -> BTreeMap<String, BTreeSet<IpAddr>> {
    let mut found: BTreeMap<String, BTreeSet<IpAddr>> = BTreeMap::new();
    for one in getifaddrs().into_iter().flatten() {
        let can = one.flags.contains(InterfaceFlags::IFF_UP | InterfaceFlags::IFF_MULTICAST)
            && !one.flags.contains(InterfaceFlags::IFF_LOOPBACK);
        let Some(address) = one.address.filter(|_| can) else { continue };
        let v4 = address.as_sockaddr_in().map(|address| IpAddr::V4(address.ip()));
        let v6 = address.as_sockaddr_in6().map(|address| IpAddr::V6(address.ip()));
        found.entry(one.interface_name).or_default().extend(v4.or(v6).filter(|address| is_listened_on(listen, *address)));
    }
    found.retain(|_, addresses| !addresses.is_empty());
    found
}

fn is_listened_on(listen: IpAddr, address: IpAddr) -> bool {
    match listen {
        // A socket of version 6 takes calls of version 4 as well.
        IpAddr::V6(any) if any.is_unspecified() => true,
        IpAddr::V4(any) if any.is_unspecified() => address.is_ipv4(),
        one => one == address,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_addresses_that_are_listened_on_are_announced() {
        let address = |text: &str| text.parse::<IpAddr>().expect("an address");
        for (listen, at, is) in [
            ("0.0.0.0", "10.0.0.5", true),
            ("0.0.0.0", "fe80::1", false),
            ("::", "10.0.0.5", true),
            ("::", "fe80::1", true),
            ("10.0.0.5", "10.0.0.5", true),
            ("10.0.0.5", "10.0.0.6", false),
            ("127.0.0.1", "10.0.0.5", false),
        ] {
            assert_eq!(is_listened_on(address(listen), address(at)), is, "{listen} {at}");
        }
    }

    #[test]
    fn whoever_gives_way_takes_the_next_number() {
        assert_eq!(next_name("Backups at quay"), "Backups at quay (2)");
        assert_eq!(next_name("Backups at quay (9)"), "Backups at quay (10)");
        assert_eq!(next_name("Backups (old)"), "Backups (old) (2)");
    }

    #[test]
    fn a_service_that_only_this_machine_reaches_is_announced_nowhere() {
        assert!(interfaces("127.0.0.1".parse().expect("an address")).is_empty());
    }
}
