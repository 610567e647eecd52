//! Network interfaces, as the kernel shows them (`Documentation/ABI/testing/sysfs-class-net`).

use std::fs;
use std::io;
use std::net::IpAddr;
use std::path::Path;

use nix::ifaddrs::getifaddrs;

use crate::{Link, LinkKind, Network, System};

const INTERFACES: &str = "/sys/class/net";
/// `ARPHRD_LOOPBACK` of `linux/if_arp.h`.
const LOOPBACK: &str = "772";

impl Network for System {
    fn link_of(own: IpAddr) -> io::Result<Option<Link>> {
        let address_of = |storage: nix::sys::socket::SockaddrStorage| {
            let v4 = storage.as_sockaddr_in().map(|v4| IpAddr::V4(v4.ip()));
            v4.or_else(|| storage.as_sockaddr_in6().map(|v6| IpAddr::V6(v6.ip())))
        };
        let mut all = getifaddrs()?;
        let found = all.find(|one| one.address.and_then(address_of) == Some(own.to_canonical()));
        Ok(found.map(|one| link(Path::new(INTERFACES), &one.interface_name)))
    }
}

fn link(interfaces: &Path, name: &str) -> Link {
    let at = interfaces.join(name);
    let said = |file: &str| fs::read_to_string(at.join(file)).map(|text| text.trim().to_owned()).unwrap_or_default();
    let has = |file: &str| at.join(file).exists();
    let kind = if said("type") == LOOPBACK {
        LinkKind::SameMachine
    } else if has("wireless") || has("phy80211") {
        LinkKind::Wireless
    } else if has("device") {
        LinkKind::Wired
    } else {
        LinkKind::Virtual
    };
    // In megabits a second; -1 where it is not known.
    let bits_per_second = said("speed").parse::<u64>().ok().filter(|mbit| *mbit > 0).map(|mbit| mbit * 1_000_000);
    Link { interface: name.to_owned(), kind, bits_per_second }
}

#[cfg(test)]
mod tests {
    use std::net::Ipv4Addr;

    use super::*;

    /// An interface with these files; those that end in a slash are directories.
    fn with(files: &[(&str, &str)]) -> Link {
        let root = tempfile::tempdir().expect("a directory");
        let at = root.path().join("if0");
        fs::create_dir(&at).expect("made");
        for (name, text) in files {
            match name.strip_suffix('/') {
                Some(directory) => fs::create_dir(at.join(directory)).expect("made"),
                None => fs::write(at.join(name), format!("{text}\n")).expect("written"),
            }
        }
        link(root.path(), "if0")
    }

    #[test]
    fn cables_radios_and_tunnels_are_told_apart() {
        let cable = with(&[("type", "1"), ("device/", ""), ("speed", "1000")]);
        assert_eq!((cable.kind, cable.bits_per_second), (LinkKind::Wired, Some(1_000_000_000)));
        let radio = with(&[("type", "1"), ("device/", ""), ("wireless/", ""), ("speed", "-1")]);
        assert_eq!((radio.kind, radio.bits_per_second), (LinkKind::Wireless, None));
        assert_eq!(with(&[("type", "65534")]).kind, LinkKind::Virtual);
        assert_eq!(with(&[("type", "772")]).kind, LinkKind::SameMachine);
    }

    #[test]
    fn this_machine_reaches_itself_without_a_network() {
        let link = System::link_of(Ipv4Addr::LOCALHOST.into()).expect("asked");
        assert_eq!(link.map(|link| link.kind), Some(LinkKind::SameMachine));
        assert_eq!(System::link_of(Ipv4Addr::new(192, 0, 2, 7).into()).expect("asked"), None);
    }
}
