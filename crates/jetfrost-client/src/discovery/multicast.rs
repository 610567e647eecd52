//! The local network.

use std::net::IpAddr;
use std::time::{Duration, Instant};

use jetfrost_wire::discovery::SERVICE_TYPE;
use mdns_sd::{IfKind, ResolvedService, ScopedIp, ServiceDaemon, ServiceEvent};

use super::{FoundBy, Heard};

/// Listens to announcements for so long. What says goodbye meanwhile is not told.
pub(super) fn listen(patience: Duration) -> Result<Vec<Heard>, String> {
    let said = |e: mdns_sd::Error| e.to_string();
    let daemon = ServiceDaemon::new().map_err(said)?;
    for loopback in [IfKind::LoopbackV4, IfKind::LoopbackV6] {
        daemon.disable_interface(loopback).map_err(said)?;
    }
    let events = daemon.browse(&format!("{SERVICE_TYPE}.local.")).map_err(said)?;
    let end = Instant::now() + patience;
    let mut heard: Vec<(String, Heard)> = Vec::new();
    while let Ok(event) = events.recv_deadline(end) {
        match event {
            ServiceEvent::ServiceResolved(service) if heard.len() < super::MOST_FOUND * 4 => {
                heard.push((service.fullname.clone(), of(&service)));
            }
            ServiceEvent::ServiceRemoved(_, name) => heard.retain(|(other, _)| *other != name),
            _ => {}
        }
    }
    let _ = daemon.shutdown();
    Ok(heard.into_iter().map(|(_, heard)| heard).collect())
}

fn of(service: &ResolvedService) -> Heard {
    let name = service.fullname.split_once(&format!(".{SERVICE_TYPE}")).map_or(service.fullname.as_str(), |(name, _)| name);
    Heard {
        name: name.replace('\\', ""),
        host: service.host.trim_end_matches('.').to_owned(),
        port: service.port,
        addresses: service.addresses.iter().map(ScopedIp::to_ip_addr).collect::<Vec<IpAddr>>(),
        link_local: service.addresses.iter().find_map(link_local),
        txt: service.txt_properties.iter().map(|one| (one.key().to_lowercase(), one.val_str().to_owned())).collect(),
        by: FoundBy::Announcement,
        at: Instant::now(),
    }
}

/// An address that is good on one link alone, with the interface that leads there (RFC 4007, section 11).
fn link_local(address: &ScopedIp) -> Option<String> {
    let ScopedIp::V6(v6) = address else { return None };
    let interface = &v6.scope_id().name;
    (v6.addr().is_unicast_link_local() && !interface.is_empty()).then(|| format!("{}%{interface}", v6.addr()))
}
