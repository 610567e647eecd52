//! Being found: networks of the test's own with several hosts, one of them on two networks and one behind a router; a browser
//! of DNS-SD and a name server that are not ours.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use jetfrost_tests::network::{Host, Networks};
use jetfrost_tests::programs::{Going, program, start};
use serde_json::Value;
use tempfile::TempDir;

const NAME: &str = "backup.office.example";

/// A service on a host, with an administrator.
struct Service {
    host: Host,
    home: PathBuf,
    going: Going,
    id: String,
}

fn service(host: &Host, directory: &Path, name: &str) -> Service {
    service_on(host, directory, name, "0.0.0.0:7410")
}

fn service_on(host: &Host, directory: &Path, name: &str, listen: &str) -> Service {
    let (state, home) = (directory.join(name), directory.join(format!("{name}-administrator")));
    let mut command = host.command(program("jetfrostd").to_str().expect("text"));
    command.args(["serve", "--public-name", NAME, "--listen", listen, "--state-directory"]).arg(&state);
    let going = start(&mut command);
    let word = |line: String| line.split_whitespace().last().unwrap_or_default().to_owned();
    let fingerprint = word(going.line("the fingerprint", |line| line.split_whitespace().last().is_some_and(|w| w.len() == 64)));
    let mut arguments = vec!["sign-in", "127.0.0.1:7410", "--login", "ingrid", "--fingerprint", &fingerprint, "--first"];
    let code = word(going.line("the first code", |line| line.contains("first code")));
    arguments.push(&code);
    done(host, &home, &arguments);
    let info = done(host, &home, &["discovery", "show"]);
    let records = info["records"].to_string();
    let id = records.split("id=").nth(1).and_then(|rest| rest.split('\\').next()).expect("its id").to_owned();
    Service { host: host.clone(), home, going, id }
}

/// What a command of `jetfrost` answered.
fn done(host: &Host, home: &Path, words: &[&str]) -> Value {
    let output = host.jetfrost(home, words);
    let (out, err) = (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    assert!(output.status.success(), "{words:?}: {out}{err}");
    serde_json::from_str(&out).unwrap_or(Value::Null)
}

/// The step of a diagnosis that explains the rest.
fn explains(host: &Host, home: &Path) -> Value {
    let output = host.jetfrost(home, &["diagnose"]);
    let said: Value = serde_json::from_slice(&output.stdout).expect("JSON");
    let last = said["diagnosis"]["steps"].as_array().and_then(|steps| steps.last()).expect("a step").clone();
    assert_eq!(last["result"], "failed", "{said}");
    last
}

impl Service {
    fn does(&self, words: &[&str]) -> Value {
        done(&self.host, &self.home, words)
    }
}

fn finds(host: &Host, home: &Path, seconds: &str) -> Vec<Value> {
    done(host, home, &["discover", "--seconds", seconds]).as_array().expect("a list").clone()
}

/// As [`finds`], asked again a few times until there are so many entries: multicast is not reliable, and a host that has just
/// answered a neighbour keeps still for a second (RFC 6762 section 6).
fn finds_in_the_end(host: &Host, home: &Path, entries: usize) -> Vec<Value> {
    let mut found = Vec::new();
    for _ in 0..4 {
        found = finds(host, home, "5");
        if found.len() == entries {
            break;
        }
    }
    found
}

/// Avahi on a host, and its browser: a line for whatever comes (`=`) and goes (`-`).
fn avahi(host: &Host, directory: &Path) -> Going {
    let settings = directory.join("avahi.conf");
    fs::write(&settings, "[server]\nallow-interfaces=eth0\nuse-ipv6=no\n[publish]\ndisable-publishing=yes\n").expect("written");
    let script = format!(
        "mount -t tmpfs tmpfs /run && mkdir -p /run/dbus && \
         dbus-daemon --system --nopidfile && avahi-daemon -D -f {} --no-drop-root --no-chroot --no-rlimits && \
         trap 'avahi-daemon -k; pkill -P $$' EXIT && exec avahi-browse -rp _jetfrost._tcp",
        settings.display()
    );
    start(host.command("unshare").args(["-m", "-p", "-f", "--kill-child", "sh", "-c", &script]))
}

/// NSD on a host, with the lines that a service prints in the zone of the office.
fn name_server(host: &Host, directory: &Path, address: &str, records: &Value) -> Going {
    let mut zone = format!(
        "$ORIGIN office.example.\n$TTL 60\n@ SOA ns admin 1 3600 600 86400 60\n@ NS ns\nns A {address}\nbackup A 10.81.1.1\n"
    );
    for record in records.as_array().expect("lines") {
        zone.push_str(record.as_str().expect("text"));
        zone.push('\n');
    }
    let path = |name: &str| directory.join(name).display().to_string();
    fs::write(path("office.zone"), zone).expect("written");
    let settings = format!(
        "server:\n username: \"\"\n zonesdir: \"{0}\"\n ip-address: {address}\n pidfile: \"\"\n zonelistfile: \"{0}/zones\"\n \
         xfrdfile: \"{0}/xfrd\"\nremote-control:\n control-enable: no\nzone:\n name: office.example\n zonefile: \"{0}/office.zone\"\n",
        directory.display()
    );
    fs::write(path("nsd.conf"), settings).expect("written");
    let checked = Command::new("nsd-checkconf").arg(path("nsd.conf")).output().expect("nsd is installed");
    assert!(checked.status.success(), "{}", String::from_utf8_lossy(&checked.stderr));
    start(host.command("sh").args(["-c", &format!("exec nsd -d -c {} 2>&1", path("nsd.conf"))]))
}

#[test]
#[cfg_attr(no_networks, ignore = "needs network namespaces: run it as root")]
fn a_service_is_found_by_its_neighbours_behind_a_router_and_by_a_stranger() {
    let directory = TempDir::new().expect("a directory");
    let path = |name: &str| directory.path().join(name);
    let mut networks = Networks::new(&["lan", "lab", "branch"]);
    let quay = networks.host("quay", &[("lan", "10.81.1.1/24"), ("lab", "10.81.2.1/24")]);
    let pier = networks.host("pier", &[("lan", "10.81.1.2/24")]);
    let neighbour = networks.host("near", &[("lan", "10.81.1.3/24")]);
    let in_the_lab = networks.host("lab", &[("lab", "10.81.2.3/24")]);
    let router = networks.host("router", &[("lan", "10.81.1.9/24"), ("branch", "10.81.3.9/24")]);
    let far = networks.host("far", &[("branch", "10.81.3.3/24")]);
    router.forward();
    quay.route_by("10.81.1.9");
    far.route_by("10.81.3.9");

    // Two services of one name: one of them gets its id behind it, and ours keep them apart.
    let first = service(&quay, directory.path(), "quay");
    let browser = avahi(&neighbour, directory.path());
    let seen = browser.line("the first service", |line| line.starts_with('=') && line.contains(&first.id));
    assert!(seen.contains(";_jetfrost._tcp;local;") && seen.contains(";10.81.1.1;7410;"), "{seen}");
    assert!(seen.contains("Backups\\032at\\032backup;") && seen.contains("\"v=1\""), "{seen}");
    let second = service(&pier, directory.path(), "pier");
    let renamed = format!("Backups\\032at\\032backup\\032\\040{}\\041;", &second.id[..4]);
    let _ = browser.line("the second service, renamed on conflict", |line| line.starts_with('=') && line.contains(&renamed));
    let found = finds_in_the_end(&neighbour, &path("near"), 2);
    let mut ids: Vec<&str> = found.iter().filter_map(|one| one["id"].as_str()).collect();
    ids.sort_unstable();
    let mut both = [first.id.as_str(), second.id.as_str()];
    both.sort_unstable();
    assert_eq!(ids, both, "one entry for each: {found:?}");

    // The host on two networks is one service to each of them, at the address that is reached from there.
    let found = finds_in_the_end(&in_the_lab, &path("lab"), 1);
    assert_eq!((found.len(), found[0]["id"].as_str()), (1, Some(first.id.as_str())));
    assert_eq!(found[0]["address"], "10.81.2.1:7410", "no DNS here: by address");

    // Behind the router nothing is announced; the lines for the zone do it, and a plain address does anyhow.
    assert_eq!(finds(&far, &path("far"), "2"), Vec::<Value>::new());
    let server = name_server(&router, directory.path(), "10.81.3.9", &first.does(&["discovery", "show"])["records"]);
    let _started = server.line("the name server", |line| line.contains("nsd started"));
    far.resolve_by("10.81.3.9", "office.example");
    let found = finds(&far, &path("far"), "3");
    assert_eq!(found.len(), 1, "{found:?}");
    assert_eq!(found[0]["id"].as_str(), Some(first.id.as_str()));
    // This name server turns capitals into small letters, as DNS may (RFC 4343).
    assert_eq!(found[0]["name"].as_str().map(str::to_lowercase).as_deref(), Some("backups at backup"));
    assert_eq!(found[0]["address"], format!("{NAME}:7410"), "the name is preferred where it resolves");
    let fingerprint = found[0]["fingerprint"].as_str().expect("a fingerprint");
    done(&far, &path("far"), &["sign-in", "10.81.1.1:7410", "--login", "ingrid", "--fingerprint", fingerprint]);

    // A code whose address leads nowhere is enough where the service is announced.
    fs::create_dir(path("shelf")).expect("made");
    let shelf = path("shelf");
    first.does(&[
        "destination",
        "add",
        "Shelf",
        shelf.join("here").to_str().expect("text"),
        "--for-everybody",
        "--reserve",
        "0B",
    ]);
    first.does(&["account", "add", "anna"]);
    let issued = first.does(&["enrolment", "add", "anna"]);
    let joined = done(&in_the_lab, &path("lab"), &["join", issued["code"].as_str().expect("a code")]);
    assert_eq!(joined["login"], "anna");

    // A diagnosis says how far it comes, and where the service is now if it is elsewhere.
    assert_eq!(explains(&in_the_lab, &path("lab"))["step"], "sources", "nothing is included yet");
    let moved_to = |address: &str| {
        let known = path("lab").join("workstation.json");
        let mut membership: Value = serde_json::from_slice(&fs::read(&known).expect("there")).expect("JSON");
        membership["address"] = address.into();
        fs::write(&known, membership.to_string()).expect("written");
    };
    moved_to("10.81.2.77:7410");
    let explained = explains(&in_the_lab, &path("lab"));
    assert_eq!(explained["step"], "port", "{explained}");
    assert!(
        explained["next"].as_str().is_some_and(|next| next.contains("jetfrost accept-address 10.81.2.1:7410")),
        "{explained}"
    );
    let found = (0..4).find_map(|_| {
        let output = in_the_lab.jetfrost(&path("lab"), &["accept-address"]);
        output.status.success().then(|| String::from_utf8_lossy(&output.stdout).into_owned())
    });
    assert!(found.as_ref().is_some_and(|said| said.contains("10.81.2.1:7410")), "{found:?}");
    assert_eq!(explains(&in_the_lab, &path("lab"))["step"], "sources");
    // A firewall that swallows what goes back: nothing is refused, and nothing answers.
    let answers = |word: &str| {
        let done = quay.command("ip").args(["route", word, "blackhole", "10.81.2.3/32"]).status().expect("it runs");
        assert!(done.success());
    };
    answers("add");
    let explained = explains(&in_the_lab, &path("lab"));
    answers("del");
    assert_eq!((&explained["step"], &explained["whose_move"]), (&"port".into(), &"administrator".into()), "{explained}");
    assert!(explained["next"].as_str().is_some_and(|next| next.contains("firewall")), "{explained}");
    moved_to("192.0.2.1:7410");
    let explained = explains(&in_the_lab, &path("lab"));
    assert_eq!(
        (&explained["step"], &explained["says"].as_str().map(|says| says.contains("no way to"))),
        (&"port".into(), &Some(true))
    );
    moved_to("10.81.2.1:7410");

    // It is withdrawn while backups are not let in, where it is not wanted, and when it stops.
    let gone = |line: &str| line.starts_with("-;eth0;IPv4;Backups\\032at\\032backup;");
    let back = |line: &str| line.starts_with('=') && line.contains(&first.id);
    first.does(&["maintenance", "pause", "backups"]);
    let _withdrawn = browser.line("the goodbye of a pause", gone);
    first.does(&["maintenance", "resume", "backups"]);
    let _returned = browser.line("the return after a pause", back);
    first.does(&["discovery", "announce", "--on", "eth1", "--name", "Lab backups"]);
    let _withdrawn = browser.line("the goodbye on the first network", gone);
    let found = finds_in_the_end(&in_the_lab, &path("lab"), 1);
    assert_eq!(found[0]["name"], "Lab backups");
    let state = first.does(&["discovery", "show"]);
    let announced: Vec<bool> =
        state["interfaces"].as_array().expect("a list").iter().filter_map(|one| one["announced"].as_bool()).collect();
    assert_eq!(announced, [false, true]);
    first.does(&["discovery", "announce"]);
    let _returned = browser.line("the return to both networks", back);
    first.going.terminate();
    let _withdrawn = browser.line("the goodbye of a stop", gone);
    assert_eq!(finds(&in_the_lab, &path("lab"), "3"), Vec::<Value>::new());
}

#[test]
#[cfg_attr(no_networks, ignore = "needs network namespaces: run it as root")]
fn where_hosts_have_only_what_the_link_gives_them_the_service_is_found_and_reached() {
    let directory = TempDir::new().expect("a directory");
    let mut networks = Networks::new(&["lan"]);
    let quay = networks.host("quay", &[("lan", "")]);
    let near = networks.host("near", &[("lan", "")]);
    let service = service_on(&quay, directory.path(), "quay", "[::]:7410");
    let found = finds_in_the_end(&near, &directory.path().join("near"), 1);
    assert_eq!(found.len(), 1, "{found:?}");
    let address = found[0]["address"].as_str().expect("an address");
    assert!(address.starts_with("[fe80::") && address.ends_with("%eth0]:7410"), "{address}");
    let fingerprint = found[0]["fingerprint"].as_str().expect("a fingerprint");
    let signed_in =
        done(&near, &directory.path().join("near"), &["sign-in", address, "--login", "ingrid", "--fingerprint", fingerprint]);
    assert_eq!(signed_in["login"].as_str(), Some("ingrid"), "{signed_in}");
    assert_eq!(found[0]["id"].as_str(), Some(service.id.as_str()));
}

#[test]
#[cfg_attr(no_networks, ignore = "needs network namespaces: run it as root")]
fn two_services_of_one_name_that_start_at_once_are_both_seen_by_a_stranger() {
    let directory = TempDir::new().expect("a directory");
    let mut networks = Networks::new(&["lan"]);
    let hosts = [networks.host("quay", &[("lan", "10.82.1.1/24")]), networks.host("pier", &[("lan", "10.82.1.2/24")])];
    let neighbour = networks.host("near", &[("lan", "10.82.1.3/24")]);
    let browser = avahi(&neighbour, directory.path());
    let services: Vec<Service> = std::thread::scope(|scope| {
        let starting: Vec<_> = hosts
            .iter()
            .zip(["quay", "pier"])
            .map(|(host, name)| {
                let directory = directory.path();
                scope.spawn(move || service(host, directory, name))
            })
            .collect();
        starting.into_iter().map(|one| one.join().expect("it starts")).collect()
    });
    // What the browser has at this moment, by name: the order in which the two come is as it happens.
    let mut shown: BTreeMap<String, String> = BTreeMap::new();
    let _ = browser.line("both at the same time", |line| {
        let fields: Vec<&str> = line.split(';').collect();
        let name = fields[3].to_owned();
        match fields[0] {
            "-" => drop(shown.remove(&name)),
            "=" => drop(shown.insert(name, line.to_owned())),
            _ => {}
        }
        services.iter().all(|service| shown.values().any(|line| line.contains(&service.id)))
    });
}

/// The real NetworkManager on a host, with a connection that it was told is metered or not, and an agent beside it.
fn agent_beside_network_manager(host: &Host, home: &Path, directory: &Path, address: &str, metered: &str) -> Going {
    let settings = directory.join("network-manager.conf");
    fs::write(&settings, "[main]\nplugins=keyfile\n[keyfile]\nunmanaged-devices=none\n").expect("written");
    let script = format!(
        "mount -t tmpfs none /run && mkdir -p /run/dbus /run/NetworkManager && mount -t tmpfs none /var/lib/NetworkManager && \
         mount -t tmpfs none /etc/NetworkManager/system-connections && mount -o remount,bind,ro /sys && \
         dbus-daemon --system --nopidfile && NetworkManager --config {} && \
         nmcli connection add type ethernet ifname eth0 con-name office ipv4.method manual ipv4.addresses {address} \
           ipv4.gateway 10.83.1.1 ipv6.method disabled connection.metered {metered} && \
         until nmcli --wait 20 connection up office; do :; done && exec {} agent run",
        settings.display(),
        program("jetfrost").display()
    );
    let mut command = host.command("unshare");
    command.args(["-m", "-p", "-f", "--mount-proc", "--kill-child", "sh", "-c", &script]).env("JETFROST_HOME", home);
    start(&mut command)
}

#[test]
#[cfg_attr(no_networks, ignore = "needs network namespaces: run it as root")]
fn a_backup_waits_for_as_long_as_network_manager_says_that_the_connection_is_metered() {
    let directory = TempDir::new().expect("a directory");
    let mut networks = Networks::new(&["lan"]);
    let quay = networks.host("quay", &[("lan", "10.83.1.1/24")]);
    let laptop = networks.host("laptop", &[("lan", "10.83.1.2/24")]);
    let service = service(&quay, directory.path(), "quay");
    let (shelf, home, letters) =
        (directory.path().join("shelf"), directory.path().join("laptop"), directory.path().join("letters"));
    fs::create_dir(&letters).expect("made");
    fs::write(letters.join("one"), "dear Aud").expect("written");
    let text = |path: &Path| path.to_str().expect("text").to_owned();
    fs::create_dir(&shelf).expect("made");
    service.does(&["destination", "add", "Shelf", &text(&shelf.join("here")), "--for-everybody", "--reserve", "0B"]);
    let issued = service.does(&["enrolment", "add", "ingrid"]);
    done(&laptop, &home, &["join", issued["code"].as_str().expect("a code")]);
    done(&laptop, &home, &["include", &text(&letters)]);
    let status = || serde_json::from_slice::<Value>(&laptop.jetfrost(&home, &["agent", "status"]).stdout).unwrap_or_default();
    for (metered, expected) in [("yes", "metered_connection"), ("no", "a point")] {
        let agent = agent_beside_network_manager(&laptop, &home, directory.path(), "10.83.1.2/24", metered);
        let is_so = |status: &Value| match metered {
            "yes" => status["now"]["reason"] == expected,
            _ => status["completed"].is_string(),
        };
        let end = std::time::Instant::now() + std::time::Duration::from_secs(90);
        let mut said = status();
        while !is_so(&said) && std::time::Instant::now() < end {
            std::thread::yield_now();
            said = status();
        }
        assert!(is_so(&said), "{expected}: {said}");
        drop(agent);
    }
}
