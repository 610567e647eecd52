//! Finding services: DNS-SD (RFC 6763) over multicast DNS (RFC 6762) on the local network, and over the office's own DNS where
//! a router is between.
//!
//! What is heard is anybody's word: it helps to find a service, and proves nothing. A service is known by its identity.

mod dns;
mod multicast;

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::time::{Duration, Instant};

use serde::Serialize;

use crate::error::ClientError;

/// A TXT record that says more than this is none of ours.
const MOST_VALUE: usize = 260;
/// A network with more services than this is not an office.
const MOST_FOUND: usize = 200;

/// How a service was found.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum FoundBy {
    /// It announces itself on the local network.
    Announcement,
    /// The DNS of this domain names it.
    Domain(String),
}

/// A service that was found: one entry, however many addresses it has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FoundService {
    /// Its id, by which services of one name are told apart.
    pub id: String,
    /// The name that its administrator gave it.
    pub name: String,
    /// Where to reach it from here, `host:port`: by its name where that resolves, else by an address.
    pub address: String,
    /// All addresses that were heard.
    pub addresses: Vec<IpAddr>,
    /// What it says that the SHA-256 of its identity's certificate is, in hexadecimal.
    pub fingerprint: String,
    /// How it was found.
    pub by: Vec<FoundBy>,
    /// Seconds since it was last heard.
    pub seconds_ago: u64,
}

/// One answer about one service.
#[derive(Debug, Clone)]
struct Heard {
    name: String,
    host: String,
    port: u16,
    addresses: Vec<IpAddr>,
    /// One that is good on one link alone, with its interface: `fe80::5%eth0`.
    link_local: Option<String>,
    txt: BTreeMap<String, String>,
    by: FoundBy,
    at: Instant,
}

/// Looks for services for so long. Domains are asked as well as the local network: those given, or else this machine's own.
///
/// # Errors
/// [`ClientError::Unexpected`] when neither the local network nor DNS can be asked.
pub fn look(patience: Duration, domains: &[String]) -> Result<Vec<FoundService>, ClientError> {
    let (named, announced) = std::thread::scope(|scope| {
        let named = scope.spawn(|| dns::ask(domains, patience));
        let announced = multicast::listen(patience);
        (named.join().unwrap_or_else(|_| Err("asking DNS failed".into())), announced)
    });
    let heard: Vec<Heard> = match (named, announced) {
        (Err(dns), Err(multicast)) => {
            return Err(ClientError::Unexpected(format!("services cannot be looked for: {multicast}; {dns}")));
        }
        (named, announced) => named.into_iter().chain(announced).flatten().collect(),
    };
    let resolves = dns::Names::new();
    Ok(merge(heard, |name| resolves.has(name)))
}

/// One entry for each service, by name.
fn merge(heard: Vec<Heard>, resolves: impl Fn(&str) -> bool) -> Vec<FoundService> {
    let mut by_id: BTreeMap<String, Vec<Heard>> = BTreeMap::new();
    for one in heard {
        if let Some(id) = one.txt.get("id").filter(|id| is_id(id))
            && (by_id.contains_key(id) || by_id.len() < MOST_FOUND)
        {
            by_id.entry(id.clone()).or_default().push(one);
        }
    }
    let mut found: Vec<FoundService> = by_id.into_iter().filter_map(|(id, heard)| entry(id, heard, &resolves)).collect();
    found.sort_by(|a, b| (a.name.to_lowercase(), &a.id).cmp(&(b.name.to_lowercase(), &b.id)));
    found
}

fn entry(id: String, mut heard: Vec<Heard>, resolves: impl Fn(&str) -> bool) -> Option<FoundService> {
    heard.sort_by_key(|one| std::cmp::Reverse(one.at));
    let latest = heard.first()?;
    let fingerprint =
        latest.txt.get("fp").filter(|fp| fp.len() == 64 && fp.bytes().all(|b| b.is_ascii_hexdigit()))?.to_lowercase();
    let mut addresses: Vec<IpAddr> = heard.iter().flat_map(|one| one.addresses.iter().copied()).collect();
    addresses.sort_unstable_by_key(|address| (address.is_ipv6(), *address));
    addresses.dedup();
    let mut by: Vec<FoundBy> = heard.iter().map(|one| one.by.clone()).collect();
    by.sort_unstable();
    by.dedup();
    let named = latest.txt.get("at").filter(|at| is_host_and_port(at)).cloned();
    let host =
        (!latest.host.ends_with(".local")).then(|| format!("{}:{}", latest.host, latest.port)).filter(|at| is_host_and_port(at));
    let by_name = named.into_iter().chain(host).find(|at| at.rsplit_once(':').is_some_and(|(name, _)| resolves(name)));
    let usable = |address: &&IpAddr| !matches!(address, IpAddr::V6(v6) if v6.is_unicast_link_local());
    let by_address = addresses.iter().find(usable).map(|address| match address {
        IpAddr::V4(v4) => format!("{v4}:{}", latest.port),
        IpAddr::V6(v6) => format!("[{v6}]:{}", latest.port),
    });
    let by_link = heard.iter().find_map(|one| one.link_local.as_ref()).map(|address| format!("[{address}]:{}", latest.port));
    Some(FoundService {
        id,
        name: latest.name.chars().filter(|c| !c.is_control()).take(64).collect(),
        address: by_name.or(by_address).or(by_link)?,
        addresses,
        fingerprint,
        by,
        seconds_ago: latest.at.elapsed().as_secs(),
    })
}

fn is_id(text: &str) -> bool {
    !text.is_empty() && text.len() <= 64 && text.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-')
}

/// A name of letters, digits, hyphens and dots, and a port.
fn is_host_and_port(text: &str) -> bool {
    let Some((host, port)) = text.rsplit_once(':') else { return false };
    let fits =
        !host.is_empty() && text.len() <= MOST_VALUE && host.bytes().all(|b| b.is_ascii_alphanumeric() || b"-.".contains(&b));
    fits && host != "localhost" && port.parse::<u16>().is_ok_and(|port| port > 0)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn heard(id: &str, name: &str, address: &str, by: FoundBy) -> Heard {
        let txt = [("id", id), ("fp", &"ab".repeat(32)), ("at", "quay.office.example:7410")];
        Heard {
            name: name.into(),
            host: "jetfrost-1.local".into(),
            port: 7410,
            addresses: vec![address.parse().expect("an address")],
            link_local: None,
            txt: txt.map(|(key, value)| (key.to_owned(), value.to_owned())).into(),
            by,
            at: Instant::now(),
        }
    }

    fn merged(heard: Vec<Heard>, resolves: bool) -> Vec<FoundService> {
        merge(heard, |_| resolves)
    }

    #[test]
    fn a_service_is_one_entry_however_many_addresses_it_has() {
        let by_domain = FoundBy::Domain("office.example".into());
        let found = merged(
            vec![
                heard("a1", "Quay", "10.0.1.5", FoundBy::Announcement),
                heard("a1", "Quay", "10.0.2.5", FoundBy::Announcement),
                heard("a1", "Quay", "fd00::5", by_domain.clone()),
            ],
            true,
        );
        assert_eq!(found.len(), 1);
        assert_eq!((found[0].addresses.len(), found[0].address.as_str()), (3, "quay.office.example:7410"));
        assert_eq!(found[0].by, [FoundBy::Announcement, by_domain]);
    }

    #[test]
    fn an_address_stands_in_where_the_name_does_not_resolve() {
        let found = merged(vec![heard("a1", "Quay", "10.0.1.5", FoundBy::Announcement)], false);
        assert_eq!(found[0].address, "10.0.1.5:7410");
        let mut on_a_link = heard("a1", "Quay", "fe80::5", FoundBy::Announcement);
        assert_eq!(merged(vec![on_a_link.clone()], false), [], "nobody knows on which link");
        on_a_link.link_local = Some("fe80::5%eth0".into());
        assert_eq!(merged(vec![on_a_link.clone()], false)[0].address, "[fe80::5%eth0]:7410");
        let both = vec![on_a_link, heard("a1", "Quay", "10.0.1.5", FoundBy::Announcement)];
        assert_eq!(merged(both, false)[0].address, "10.0.1.5:7410");
    }

    #[test]
    fn services_of_one_name_are_told_apart() {
        let found = merged(
            vec![heard("b2", "Quay", "10.0.1.6", FoundBy::Announcement), heard("a1", "quay", "10.0.1.5", FoundBy::Announcement)],
            true,
        );
        assert_eq!(found.iter().map(|one| one.id.as_str()).collect::<Vec<_>>(), ["a1", "b2"]);
    }

    #[test]
    fn nonsense_is_passed_over() {
        let mut bad_id = heard("a b", "x", "10.0.0.1", FoundBy::Announcement);
        let mut bad_mark = heard("a1", "x", "10.0.0.1", FoundBy::Announcement);
        bad_mark.txt.insert("fp".into(), "short".into());
        bad_id.name = "\u{1b}[2Jx".into();
        assert_eq!(merged(vec![bad_id, bad_mark], true), []);
        let mut odd = heard("a1", "\u{1b}[2Jquay", "10.0.0.1", FoundBy::Announcement);
        odd.txt.insert("at".into(), "x;rm -rf:7410".into());
        let found = merged(vec![odd], true);
        assert_eq!((found[0].name.as_str(), found[0].address.as_str()), ("[2Jquay", "10.0.0.1:7410"));
    }
}
