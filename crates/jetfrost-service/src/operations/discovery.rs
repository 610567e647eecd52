//! Being found on the network.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

use jetfrost_office::access::Act;
use jetfrost_wire::Version;
use jetfrost_wire::discovery::{Discovery, DiscoverySettings, DiscoveryState, Interface, SERVICE_TYPE, TXT_VERSION};
use jetfrost_wire::event::Event;
use jetfrost_wire::service::NewBackups;

use crate::announcer::{Announcement, interfaces};
use crate::operations::Operations;
use crate::records::{DiscoveryRow, Switches};
use crate::shared::versions::{Made, Seen, version};
use crate::shared::{Caller, Invalid, Result, bounds, checked_name, gate};

type Interfaces = BTreeMap<String, BTreeSet<IpAddr>>;

impl Operations {
    /// How the service announces itself.
    pub(crate) fn discovery(&self, caller: &Caller) -> Result<Discovery> {
        caller.may(&Act::SeeOffice)?;
        let (row, accepting) = self.decided()?;
        let here = interfaces(self.installation.listen);
        let announced_as = self.announcer.name();
        let trouble = self.announcer.trouble();
        let state = match (&announced_as, &trouble) {
            (Some(_), _) => DiscoveryState::Announced,
            (None, _) if !row.announcing => DiscoveryState::Silent,
            (None, _) if !accepting => DiscoveryState::BackupsPaused,
            (None, Some(_)) => DiscoveryState::Failed,
            (None, None) => DiscoveryState::NoInterface,
        };
        let (chosen, is_announced) = (row.chosen(), announced_as.is_some());
        let interface = |(name, addresses): (&String, &BTreeSet<IpAddr>)| Interface {
            name: name.clone(),
            addresses: addresses.iter().map(IpAddr::to_string).collect(),
            announced: is_announced && is_chosen(&chosen, name),
        };
        Ok(Discovery {
            version: version_of(&row),
            state,
            announced_as,
            trouble,
            interfaces: here.iter().map(interface).collect(),
            records: self.zone_records(&self.announced_name(&row)),
            settings: DiscoverySettings { announce: row.announcing, name: row.announced_as, interfaces: chosen },
        })
    }

    /// Decides how the service announces itself. It counts at once.
    pub(crate) fn set_discovery(&self, caller: &Caller, to: &DiscoverySettings, seen: &Seen) -> Result<Discovery> {
        caller.may(&Act::ChangeOffice)?;
        let name = to.name.as_deref().map(checked_announced_name).transpose()?;
        let odd = |name: &String| {
            name.is_empty() || name.len() > bounds::INTERFACE || name.contains([',', '/']) || name.contains(char::is_whitespace)
        };
        if to.interfaces.len() > bounds::INTERFACES || to.interfaces.iter().any(odd) {
            return Err(Invalid::Interfaces.into());
        }
        let row = DiscoveryRow { announcing: to.announce, announced_as: name, announced_on: to.interfaces.join(",") };
        self.records.write(|on| {
            let before = DiscoveryRow::get(on)?;
            let (now, before) = (version_of(&before), said(&before));
            seen.check(&now, &Made { subject: None, after: &before }, on)?;
            row.set(on)?;
            self.trail.note_change(caller, "discovery set", "", Some(&before), Some(&said(&row)), on)
        })?;
        self.keep_announced()?;
        self.events.tell(Event::Office);
        self.discovery(caller)
    }

    /// Announces what is decided, where that can be done now.
    pub(crate) fn keep_announced(&self) -> Result<()> {
        let (row, accepting) = self.decided()?;
        let mut on: Interfaces = interfaces(self.installation.listen);
        let chosen = row.chosen();
        on.retain(|name, _| is_chosen(&chosen, name));
        let wanted = row.announcing && accepting && !on.is_empty();
        self.announcer.announce(wanted.then(|| Announcement {
            name: self.announced_name(&row),
            host: format!("jetfrost-{}", self.short_id()),
            port: self.installation.port,
            txt: self.txt(),
            interfaces: on,
        }));
        Ok(())
    }

    /// Announces nothing any more: the service stops.
    pub(crate) fn fall_silent(&self) {
        self.announcer.announce(None);
    }

    pub(crate) fn announced(&self) -> bool {
        self.announcer.name().is_some()
    }

    fn decided(&self) -> Result<(DiscoveryRow, bool)> {
        let now = self.clock.now();
        self.records.read(|on| {
            let accepting = gate::now(&Switches::get(on)?, now).backups == NewBackups::On;
            Ok((DiscoveryRow::get(on)?, accepting))
        })
    }

    fn short_id(&self) -> String {
        self.installation.service.chars().filter(char::is_ascii_alphanumeric).take(8).collect()
    }

    fn announced_name(&self, row: &DiscoveryRow) -> String {
        let host = self.installation.public_name.split('.').next().unwrap_or_default();
        let mut name = row.announced_as.clone().unwrap_or_else(|| format!("Backups at {host}"));
        while name.len() > bounds::ANNOUNCED_NAME {
            name.pop();
        }
        name
    }

    /// What the TXT record says: its version, which service this is, its certificate, and its address by name.
    fn txt(&self) -> Vec<(&'static str, String)> {
        vec![
            ("v", TXT_VERSION.into()),
            ("id", self.installation.service.clone()),
            ("fp", self.installation.certificates.fingerprint_text()),
            ("at", format!("{}:{}", self.installation.public_name, self.installation.port)),
        ]
    }

    /// The records of DNS-SD for a zone file (RFC 1035 section 5, RFC 6763 section 4), relative to the zone.
    fn zone_records(&self, name: &str) -> Vec<String> {
        let instance = format!("{}.{SERVICE_TYPE}", escaped(name));
        let txt: Vec<String> = self.txt().into_iter().map(|(key, value)| format!("\"{key}={value}\"")).collect();
        vec![
            format!("{SERVICE_TYPE} PTR {instance}"),
            format!("{instance} SRV 0 0 {} {}.", self.installation.port, self.installation.public_name),
            format!("{instance} TXT {}", txt.join(" ")),
        ]
    }
}

/// The name under which the service announces itself.
pub(crate) fn checked_announced_name(text: &str) -> Result<String> {
    let name = checked_name(text)?;
    if name.len() > bounds::ANNOUNCED_NAME || name.contains('.') {
        return Err(Invalid::AnnouncedName.into());
    }
    Ok(name)
}

fn is_chosen(chosen: &[String], name: &str) -> bool {
    chosen.is_empty() || chosen.iter().any(|one| one == name)
}

fn version_of(row: &DiscoveryRow) -> Version {
    version(&(row.announcing, &row.announced_as, &row.announced_on))
}

fn said(row: &DiscoveryRow) -> String {
    if !row.announcing {
        return "not announced".into();
    }
    let name = row.announced_as.as_deref().unwrap_or("the usual name");
    let on = if row.announced_on.is_empty() { "all interfaces" } else { &row.announced_on };
    format!("announced as {name} on {on}")
}

/// A label of a zone file: what is not a letter, a digit or a hyphen is written as `\` and three decimal digits.
fn escaped(label: &str) -> String {
    let escaped = |byte: u8| match byte {
        b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' => char::from(byte).to_string(),
        other => format!("\\{other:03}"),
    };
    label.bytes().map(escaped).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_is_written_as_zone_files_want_it() {
        assert_eq!(escaped("Backups at quay-1"), "Backups\\032at\\032quay-1");
        assert_eq!(escaped("Hällö.x"), "H\\195\\164ll\\195\\182\\046x");
    }
}
