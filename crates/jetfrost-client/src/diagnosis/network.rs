//! From a name to the service that this workstation knows.

use std::io::{self, ErrorKind};
use std::net::{IpAddr, SocketAddr, TcpStream, ToSocketAddrs};
use std::sync::mpsc;
use std::thread;
use std::time::Duration;

use jetfrost_wire::calls;
use jetfrost_wire::problem::WhoseMove;
use jetfrost_wire::service::ServiceInfo;
use jiff::{SignedDuration, Timestamp};

use super::{Advice, Found, Tried};
use crate::api::{Api, on_a_link};
use crate::discovery::FoundService;
use crate::error::ClientError;
use crate::state_dir::{Membership, StateDir};

/// A name that does not resolve within this does not.
const RESOLVING: Duration = Duration::from_secs(10);
/// So many addresses of a name are tried, for so long each.
const MOST_ADDRESSES: usize = 4;
const CONNECTING: Duration = Duration::from_secs(5);
/// Clocks that differ by more than this are worth a look; by more than that, an agent does not trust its own.
const WORTH_A_LOOK: SignedDuration = SignedDuration::from_mins(2);
const IMPLAUSIBLE: SignedDuration = SignedDuration::from_hours(24);

/// The addresses that the service's name leads to.
pub(super) fn name(address: &str) -> Tried<Vec<SocketAddr>> {
    if let Some((_, at)) = on_a_link(address) {
        return Ok((vec![at], Found::Passed(format!("{address} is an address of this link; no name is needed."))));
    }
    if let Ok(at) = address.parse::<SocketAddr>() {
        return Ok((vec![at], Found::Passed(format!("{} is an address; no name is needed.", at.ip()))));
    }
    let host = address.rsplit_once(':').map_or(address, |(host, _)| host);
    match resolve(address) {
        Ok(found) if !found.is_empty() => {
            let to: Vec<String> = found.iter().map(|at| at.ip().to_string()).collect();
            Ok((found, Found::Passed(format!("{host} resolves to {}.", to.join(", ")))))
        }
        resolved => {
            let why = resolved.err().map_or_else(|| "it has no address".into(), |error| error.to_string());
            Err(Found::InTheWay(Advice::to(
                WhoseMove::Administrator,
                format!("The name {host} does not resolve: {why}."),
                "At home or on a trip, connect to the office's network or VPN. In the office, look at this machine's DNS server and at the name's record there.",
            )))
        }
    }
}

/// The system's resolver cannot be told how long to take.
fn resolve(address: &str) -> io::Result<Vec<SocketAddr>> {
    let (tell, told) = mpsc::channel();
    let address = address.to_owned();
    thread::spawn(move || {
        let mut found: io::Result<Vec<SocketAddr>> = address.to_socket_addrs().map(Iterator::collect);
        if let Ok(found) = &mut found {
            found.truncate(MOST_ADDRESSES);
        }
        // Nobody waits any more if it took too long.
        let _ = tell.send(found);
    });
    told.recv_timeout(RESOLVING).unwrap_or_else(|_| Err(io::Error::new(ErrorKind::TimedOut, "no DNS server answered in time")))
}

/// Whether the service is found without its address, and if not why that need not matter.
pub(super) fn discovery(membership: &Membership, services: &[FoundService]) -> Found {
    if let Some(one) = services.iter().find(|one| one.fingerprint == membership.fingerprint) {
        return Found::Passed(format!("The service '{}' is discovered here, at {}.", one.name, one.address));
    }
    let others = match services {
        [] => String::new(),
        [one] => format!(" Another one is: '{}'.", one.name),
        several => format!(" {} others are.", several.len()),
    };
    Found::Passed(format!(
        "The service is not discovered here, and need not be: its address is known. Announcements cross no router or VPN.{others}"
    ))
}

/// This machine's address towards the service, once something listens there.
pub(super) fn port(address: &str, addresses: &[SocketAddr]) -> Tried<IpAddr> {
    let mut last = io::Error::from(ErrorKind::AddrNotAvailable);
    for at in addresses {
        match TcpStream::connect_timeout(at, CONNECTING).and_then(|stream| stream.local_addr()) {
            Ok(own) => return Ok((own.ip(), Found::Passed(format!("Something listens at {at}.")))),
            Err(error) => last = error,
        }
    }
    Err(Found::InTheWay(no_connection(address, &last)))
}

fn no_connection(address: &str, error: &io::Error) -> Advice {
    let port = address.rsplit_once(':').map_or("", |(_, port)| port);
    match error.kind() {
        ErrorKind::ConnectionRefused => Advice::to(
            WhoseMove::Administrator,
            format!("The host of {address} answers, but nothing listens on port {port}."),
            "On the server, look whether the service runs (systemctl status jetfrostd) and which port it is set to.",
        ),
        ErrorKind::NetworkUnreachable | ErrorKind::NetworkDown | ErrorKind::AddrNotAvailable => Advice::to(
            WhoseMove::Workstation,
            format!("This machine has no way to {address}: {error}."),
            "Connect it to the office's network or VPN.",
        ),
        ErrorKind::HostUnreachable => Advice::to(
            WhoseMove::Administrator,
            format!("The host of {address} cannot be reached: {error}."),
            "Look whether the server is on and in the network that its address belongs to.",
        ),
        ErrorKind::TimedOut => Advice::to(
            WhoseMove::Administrator,
            format!("Nothing answers at {address}."),
            format!("Look whether the server is on, and whether a firewall on the way lets TCP port {port} through."),
        ),
        _ => Advice::to(
            WhoseMove::Administrator,
            format!("{address} cannot be reached: {error}."),
            "Look at the network between this machine and the server.",
        ),
    }
}

/// When the service was asked, what its clock showed, and when it answered.
#[derive(Debug, Clone, Copy)]
pub(super) struct Clocks {
    asked: Timestamp,
    service: Timestamp,
    answered: Timestamp,
}

/// The service, which is the one that this workstation knows.
pub(super) fn identity(state_dir: &StateDir) -> Tried<(Api, Clocks)> {
    let (_, api) = state_dir.device_api()?;
    let asked = Timestamp::now();
    let info: ServiceInfo = api.call_once(&calls::service_info()).map_err(not_it)?;
    let clocks = Clocks { asked, service: info.now, answered: Timestamp::now() };
    let versions = if info.version == crate::VERSION {
        format!("version {}, as this program", info.version)
    } else {
        format!("version {}; this program has {}", info.version, crate::VERSION)
    };
    let says = format!("It is the service '{}' with the identity that this workstation knows ({versions}).", info.public_name);
    Ok(((api, clocks), Found::Passed(says)))
}

/// What answers at the service's address is not the service.
fn not_it(error: ClientError) -> Found {
    match error {
        ClientError::Unreachable { address, why } => Found::InTheWay(Advice::to(
            WhoseMove::Administrator,
            format!("Something listens at {address}, but does not answer as the service: {why}."),
            "Look which program has that port on the server, and whether a proxy or firewall on the way interferes with TLS.",
        )),
        other => Found::Failed(other),
    }
}

/// How far the clocks are apart.
pub(super) fn clock(clocks: &Clocks) -> Tried<()> {
    let halfway = clocks.asked + clocks.answered.duration_since(clocks.asked) / 2;
    let ahead = halfway.duration_since(clocks.service);
    let apart = ahead.abs();
    if apart < WORTH_A_LOOK {
        return Ok(((), Found::Passed(format!("The clocks of this machine and the service agree to {}.", short(apart)))));
    }
    let direction = if ahead.is_positive() { "ahead of" } else { "behind" };
    let says = format!("This machine's clock is {} {direction} the service's.", short(apart));
    let next = "Set the clock, and let it be set by the network: timedatectl set-ntp true. If the other machines say the same, it is the server's clock that is wrong.";
    let advice = Advice::to(WhoseMove::Workstation, says, next);
    if apart > IMPLAUSIBLE { Err(Found::InTheWay(advice)) } else { Ok(((), Found::Noticed(advice))) }
}

/// A span of time with one unit.
fn short(span: SignedDuration) -> String {
    match span.as_secs() {
        0..2 => "a second".into(),
        seconds @ 2..120 => format!("{seconds} s"),
        seconds @ 120..7_200 => format!("{} min", seconds / 60),
        seconds @ 7_200..172_800 => format!("{} h", seconds / 3_600),
        seconds => format!("{} days", seconds / 86_400),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ahead(seconds: i64) -> Clocks {
        let service: Timestamp = "2026-11-30T08:00:00Z".parse().expect("a time");
        let asked = service + SignedDuration::from_secs(seconds - 1);
        Clocks { asked, service, answered: asked + SignedDuration::from_secs(2) }
    }

    #[test]
    fn a_clock_that_is_a_little_off_is_told_and_one_that_is_days_off_explains_the_rest() {
        assert!(matches!(clock(&ahead(0)), Ok(((), Found::Passed(_)))));
        let Ok(((), Found::Noticed(advice))) = clock(&ahead(600)) else { panic!("ten minutes are told") };
        assert!(advice.says.contains("10 min ahead of"), "{}", advice.says);
        let Err(Found::InTheWay(advice)) = clock(&ahead(-3 * 86_400)) else { panic!("three days are in the way") };
        assert!(advice.says.contains("3 days behind"), "{}", advice.says);
    }

    #[test]
    fn each_way_not_to_be_reached_says_whose_move_it_is() {
        for (kind, word, whose) in [
            (ErrorKind::ConnectionRefused, "nothing listens on port 7410", WhoseMove::Administrator),
            (ErrorKind::NetworkUnreachable, "no way to", WhoseMove::Workstation),
            (ErrorKind::HostUnreachable, "cannot be reached", WhoseMove::Administrator),
            (ErrorKind::TimedOut, "Nothing answers", WhoseMove::Administrator),
        ] {
            let advice = no_connection("quay.office.example:7410", &kind.into());
            assert!(advice.says.contains(word) && advice.whose_move == whose, "{advice:?}");
        }
    }

    #[test]
    fn an_address_needs_no_name_and_a_name_that_nobody_has_is_told() {
        assert!(matches!(name("10.0.1.5:7410"), Ok((at, Found::Passed(_))) if at.len() == 1));
        assert!(
            matches!(name("quay.invalid:7410"), Err(Found::InTheWay(advice)) if advice.says.contains("quay.invalid does not resolve"))
        );
    }
}
