//! Network interfaces, as the kernel shows them (`Documentation/ABI/testing/sysfs-class-net`), and what NetworkManager knows of them where
//! it runs.

use std::fs;
use std::io;
use std::net::IpAddr;
use std::path::Path;
use std::process::{Command, Stdio};

use nix::ifaddrs::getifaddrs;

use crate::{Link, LinkKind, Network, System};

/// It is there while NetworkManager runs.
const NETWORK_MANAGER: &str = "/run/NetworkManager";
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

    fn is_metered(own: IpAddr) -> io::Result<bool> {
        let Some(link) = Self::link_of(own)? else { return Ok(false) };
        if is_mobile(Path::new(INTERFACES), &link.interface) {
            return Ok(true);
        }
        if link.kind == LinkKind::SameMachine || !Path::new(NETWORK_MANAGER).exists() {
            return Ok(false);
        }
        // What has no hardware of its own, such as a VPN, goes over the connection that all else goes over.
        let of_device = if link.kind == LinkKind::Virtual { None } else { device_of(&link.interface)? };
        let (path, interface) = match &of_device {
            Some(device) => (device.as_str(), "org.freedesktop.NetworkManager.Device"),
            None => ("/org/freedesktop/NetworkManager", "org.freedesktop.NetworkManager"),
        };
        Ok(says_metered(&ask_network_manager(&["get-property", "org.freedesktop.NetworkManager", path, interface, "Metered"])?))
    }
}

/// Whether an interface belongs to a modem.
fn is_mobile(interfaces: &Path, name: &str) -> bool {
    let said = fs::read_to_string(interfaces.join(name).join("uevent")).unwrap_or_default();
    said.lines().any(|line| line == "DEVTYPE=wwan")
}

/// NetworkManager's object for an interface; none where it does not manage it.
fn device_of(interface: &str) -> io::Result<Option<String>> {
    let object = "/org/freedesktop/NetworkManager";
    let name = "org.freedesktop.NetworkManager";
    let said = ask_network_manager(&["call", name, object, name, "GetDeviceByIpIface", "s", interface])?;
    Ok(said.split('"').nth(1).map(str::to_owned))
}

/// What NetworkManager says over the system's bus, as `busctl(1)` prints it. It is asked without being started.
fn ask_network_manager(what: &[&str]) -> io::Result<String> {
    let said =
        Command::new("busctl").args(["--system", "--auto-start=no", "--timeout=3"]).args(what).stderr(Stdio::null()).output()?;
    Ok(String::from_utf8_lossy(&said.stdout).into_owned())
}

/// Whether a value of `NMMetered` says yes, or supposes so (1 and 3).
fn says_metered(said: &str) -> bool {
    matches!(said.trim(), "u 1" | "u 3")
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
    fn a_modem_is_paid_by_the_byte_and_what_network_manager_says_or_supposes_to_be() {
        let root = tempfile::tempdir().expect("a directory");
        for (name, said) in [("wwan0", "DEVTYPE=wwan\nINTERFACE=wwan0\n"), ("eth0", "INTERFACE=eth0\n")] {
            fs::create_dir(root.path().join(name)).expect("made");
            fs::write(root.path().join(name).join("uevent"), said).expect("written");
        }
        assert!(is_mobile(root.path(), "wwan0") && !is_mobile(root.path(), "eth0") && !is_mobile(root.path(), "none"));
        assert_eq!(["u 0\n", "u 1\n", "u 2\n", "u 3\n", "u 4\n", ""].map(says_metered), [false, true, false, true, false, false]);
    }

    #[test]
    fn this_machine_reaches_itself_without_a_network() {
        let link = System::link_of(Ipv4Addr::LOCALHOST.into()).expect("asked");
        assert_eq!(link.map(|link| link.kind), Some(LinkKind::SameMachine));
        assert!(!System::is_metered(Ipv4Addr::LOCALHOST.into()).expect("asked"));
        assert_eq!(System::link_of(Ipv4Addr::new(192, 0, 2, 7).into()).expect("asked"), None);
    }
}
