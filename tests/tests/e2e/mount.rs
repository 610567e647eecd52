//! All points as folders, for file managers: with the clients that Debian has.

use std::fs;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex};
use std::thread;

use jetfrost_client::ClientError;
use jetfrost_client::browse::Browser;
use jetfrost_client::mount::{Address, Mounting, Unmounted, mount};
use jetfrost_client::progress::Meter;
use jetfrost_platform::{Accounts, System};
use jetfrost_tests::office::{Office, Workstation};
use jetfrost_tests::programs::Said;
use jetfrost_wire::restore::{Purpose, Restore};
use jetfrost_wire::run::Outcome;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_decode_str, percent_encode};

use crate::disks::Stop;
use crate::integrity::noise;
use crate::refusals::glob;

/// An account that is neither root nor has anything of the workstation.
const SOMEBODY: &str = "65534";

/// Mounts all points, and unmounts them when `look` is done. Returns what was damaged as well.
fn mounted(station: &Workstation, also: Option<u32>, look: impl FnOnce(&str)) -> (Unmounted, Vec<String>) {
    let browser = Browser::open(&station.home).expect("opened");
    let (meter, damaged) = (Arc::new(Meter::default()), Arc::new(Mutex::new(Vec::new())));
    let noted = Arc::clone(&damaged);
    let on_damage = Box::new(move |path: &[u8]| noted.lock().expect("no panic").push(String::from_utf8_lossy(path).into_owned()));
    let (told, address) = std::sync::mpsc::channel::<Address>();
    let unmounted = thread::scope(|scope| {
        let serving = scope.spawn(|| {
            let how = Mounting { port: 0, also, on_damage };
            mount(&browser, how, &meter, |address| told.send(address.clone()).expect("awaited"))
        });
        let _end = Stop(&meter);
        let Address { at, path, .. } = address.recv().expect("it is ready");
        look(&format!("http://{at}{path}"));
        meter.stop();
        serving.join().expect("no panic").expect("served")
    });
    let damaged = std::mem::take(&mut *damaged.lock().expect("no panic"));
    (unmounted, damaged)
}

fn curl(arguments: &[&str]) -> Said {
    Said::of(&Command::new("curl").args(["-s", "--max-time", "30"]).args(arguments).output().expect("curl runs"))
}

/// The number of the answer.
fn status(arguments: &[&str]) -> String {
    curl(&[&["-o", "/dev/null", "-w", "%{http_code}"], arguments].concat()).out
}

/// RFC 3986, § 2.3.
const RESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

fn escaped(path: &[u8]) -> String {
    percent_encode(path, RESERVED).to_string().replace("%2F", "/")
}

/// The addresses of the points' folders, the earliest first.
fn points(address: &str) -> Vec<String> {
    let listed = curl(&["-X", "PROPFIND", "-H", "Depth: 1", address]).out;
    let root = address.find("://").and_then(|at| address[at + 3..].find('/').map(|slash| &address[..at + 3 + slash]));
    let hrefs = listed.split("<D:href>").skip(2).filter_map(|rest| rest.split("</D:href>").next());
    hrefs.map(|href| format!("{}{href}", root.expect("an address"))).collect()
}

/// A file's address in a point.
fn in_point(point: &str, path: &Path) -> String {
    format!("{}{}", point.trim_end_matches('/'), escaped(path.as_os_str().as_bytes()))
}

fn setup() -> (Office, Workstation) {
    let (office, station) = Office::with_station("knot");
    station.write("letters/one.odt", "dear Aud");
    station.write("letters/large", noise("mount", 5 << 20));
    station.back_up().expect("a point");
    station.write("letters/one.odt", "dear Tove");
    station.back_up().expect("a point");
    (office, station)
}

#[test]
fn each_point_is_a_folder_in_which_everything_is_as_it_was() {
    let (office, station) = setup();
    let odd = station.folder.join("odd");
    fs::create_dir(&odd).expect("made");
    for name in [&b"m\xfcnster"[..], b"100% #1?.txt", b"new\nline", b"<b>&amp;", "grüße".as_bytes(), b"empty"] {
        let content = if name == b"empty" { &b""[..] } else { name };
        fs::write(odd.join(std::ffi::OsStr::from_bytes(name)), content).expect("written");
    }
    symlink("../letters/one.odt", odd.join("link")).expect("linked");
    symlink("link", odd.join("link to the link")).expect("linked");
    symlink("..", odd.join("round")).expect("linked");
    symlink("/nowhere", odd.join("dangling")).expect("linked");
    symlink("itself", odd.join("itself")).expect("linked");
    station.back_up().expect("a point");
    let (unmounted, damaged) = mounted(&station, None, |address| {
        let points = points(address);
        assert_eq!(points.len(), 3, "{points:?}");
        let one = station.folder.join("letters/one.odt");
        let read = |point: &str, path: &Path| curl(&[&in_point(point, path)]).out;
        assert_eq!([read(&points[0], &one), read(&points[1], &one)], ["dear Aud", "dear Tove"]);
        let back = office.path("back");
        for entry in fs::read_dir(&odd).expect("listed") {
            let path = entry.expect("an entry").path();
            let address = in_point(&points[2], &path);
            let code = curl(&["-o", back.to_str().expect("text"), "-w", "%{http_code}", &address]).out;
            match fs::read(&path) {
                Ok(content) => assert!(code == "200" && fs::read(&back).unwrap_or_default() == content, "{}", path.display()),
                Err(_) => assert_eq!(code, "404", "{}", path.display()),
            }
        }
        // What a folder shows is what can be opened, with the sizes and times that it has.
        let listed = curl(&["-X", "PROPFIND", "-H", "Depth: 1", &in_point(&points[2], &odd)]).out;
        assert_eq!(listed.matches("<D:response>").count(), 1 + 6 + 2, "{listed}");
        let large = station.folder.join("letters/large");
        let head = curl(&["-I", &in_point(&points[0], &large)]).out.to_lowercase();
        assert!(head.contains(&format!("content-length: {}", 5 << 20)), "{head}");
        let modified = Command::new("date").args(["-u", "-R", "-r"]).arg(&large).output().expect("date runs");
        let modified = String::from_utf8_lossy(&modified.stdout).trim().to_lowercase().replace("+0000", "gmt");
        // RFC 9110 has two digits of the day.
        assert!(head.contains(&modified[5..]) || head.contains(&format!("0{}", &modified[5..])), "{modified}: {head}");
    });
    assert!(damaged.is_empty() && unmounted.bytes > 0);
}

#[test]
fn any_part_of_a_file_can_be_asked_for() {
    let (_office, station) = setup();
    let large = station.folder.join("letters/large");
    let content = fs::read(&large).expect("read");
    mounted(&station, None, |address| {
        let address = in_point(&points(address)[0], &large);
        let end = content.len();
        for (range, part) in [
            ("0-0", &content[..1]),
            ("1048570-1048585", &content[1_048_570..1_048_586]),
            ("-7", &content[end - 7..]),
            ("3000000-", &content[3_000_000..]),
        ] {
            let got = Command::new("curl").args(["-s", "-r", range, &address]).output().expect("curl runs").stdout;
            assert!(got == part, "{range}: {} bytes", got.len());
        }
        assert_eq!(status(&["-r", &format!("{end}-"), &address]), "416");
        let several = curl(&["-r", "0-1,5-6", "-D", "-", "-o", "/dev/null", &address]).out;
        assert!(several.contains("206") && several.contains("multipart/byteranges"), "{several}");
        // Several at once share what is fetched.
        let hash = blake3::hash(&content);
        thread::scope(|scope| {
            let read = || {
                let read = Command::new("curl").args(["-s", &address]).output().expect("curl runs").stdout;
                assert_eq!(blake3::hash(&read), hash);
            };
            (0..8).for_each(|_| drop(scope.spawn(read)));
        });
    });
}

/// Other people on the machine, and pages in a browser of its own people.
#[test]
fn nobody_else_reads_and_nobody_changes_anything() {
    let (_office, station) = setup();
    mounted(&station, None, |address| {
        let (host, secret) = address["http://".len()..].split_once('/').expect("an address");
        assert_eq!(status(&[address]), "200");
        assert_eq!(status(&["-X", "PROPFIND", "-H", "Depth: 0", address.trim_end_matches('/')]), "207");
        assert_eq!(status(&[&format!("http://{host}/")]), "404");
        assert!(secret.ends_with("/knot/"), "file managers show the last part: {secret}");
        let other = if secret.starts_with('a') { 'b' } else { 'a' };
        assert_eq!(status(&[&format!("http://{host}/{other}{}", &secret[1..])]), "404");
        assert_eq!(status(&[&format!("http://{host}/knot/")]), "404");
        // A page of elsewhere whose name leads here, with the secret all the same.
        assert_eq!(status(&["-H", "Host: elsewhere.example", address]), "404");
        for above in ["../../etc/passwd", "../../../../etc/passwd", "%2e%2e/%2e%2e/etc/passwd"] {
            let code = status(&["--path-as-is", &format!("{address}{above}")]);
            assert!(!code.starts_with('2'), "{above}: {code}");
        }
        // Another account that has the address, as mounts show it to all.
        let as_somebody = |arguments: &[&str]| {
            let change = [&["--reuid", SOMEBODY, "--regid", SOMEBODY, "--clear-groups", "curl", "-s"], arguments].concat();
            Command::new("setpriv").args(change).output().expect("setpriv runs")
        };
        let refused = as_somebody(&[address]);
        assert!(!refused.status.success() && refused.stdout.is_empty(), "{refused:?}");
        let file = in_point(&points(address)[0], &station.folder.join("letters/one.odt"));
        for method in ["PUT", "DELETE", "MKCOL", "COPY", "MOVE", "PROPPATCH", "LOCK", "PATCH", "POST"] {
            let code = status(&["-X", method, "-d", "x", &file]);
            assert!(["405", "501"].contains(&code.as_str()), "{method}: {code}");
        }
        assert_eq!(curl(&[&file]).out, "dear Aud");
        // What is in a file does not run in a browser.
        let head = curl(&["-I", &file]).out.to_lowercase();
        for said in ["content-security-policy: sandbox", "nosniff", "no-referrer"] {
            assert!(head.contains(said), "{said}: {head}");
        }
    });
    // Unless it is let in.
    mounted(&station, Some(SOMEBODY.parse().expect("a number")), |address| {
        let change = ["--reuid", SOMEBODY, "--regid", SOMEBODY, "--clear-groups", "curl", "-s", address];
        let output = Command::new("setpriv").args(change).output().expect("setpriv runs");
        assert!(String::from_utf8_lossy(&output.stdout).contains("point 1"));
    });
}

/// Clients that say nothing, or half of something.
#[test]
fn who_connects_and_says_nothing_keeps_nobody_out() {
    let (_office, station) = setup();
    mounted(&station, None, |address| {
        let host = address["http://".len()..].split('/').next().expect("an address");
        let silent: Vec<TcpStream> = (0..40).map(|_| TcpStream::connect(host).expect("connected")).collect();
        silent.iter().for_each(|mut stream| stream.write_all(b"GET /").expect("written"));
        assert_eq!(status(&[address]), "200");
        drop(silent);
        assert_eq!(status(&[address]), "200");
    });
}

#[test]
fn what_is_read_is_on_record_and_what_is_damaged_is_named() {
    let (office, station) = setup();
    let one = station.folder.join("letters/one.odt");
    let (unmounted, damaged) = mounted(&station, None, |address| {
        let points = points(address);
        // Looked at again, it is still one file.
        for _ in 0..2 {
            assert_eq!(curl(&[&in_point(&points[0], &one)]).out, "dear Aud");
        }
    });
    assert_eq!((unmounted.bytes, damaged.len()), (16, 0));
    let records = restores(&office, &station);
    assert_eq!(records[0].purpose, Purpose::Mount);
    assert_eq!((records[0].point, records[0].progress.bytes_done, records[0].progress.files_done), (1, 16, 1));
    // A disk that flips a bit of what is nearly all there is.
    let segments = glob(&office.path("shelf"), "seg");
    let largest = segments.iter().max_by_key(|path| fs::metadata(path).map_or(0, |found| found.len())).expect("some");
    let mut bytes = fs::read(largest).expect("read");
    let middle = bytes.len() / 2;
    bytes[middle] ^= 8;
    fs::write(largest, bytes).expect("written");
    let (unmounted, damaged) = mounted(&station, None, |mounted_at| {
        let address = in_point(&points(mounted_at)[0], &station.folder.join("letters/large"));
        assert_eq!(curl(&[&in_point(&points(mounted_at)[1], &one)]).out, "dear Tove");
        let got = Command::new("curl").args(["-sf", &address]).output().expect("curl runs");
        assert!(!got.status.success(), "a file that is not whole is not taken for one");
    });
    assert_eq!(unmounted.damaged, 1);
    let records = restores(&office, &station);
    assert_eq!((records.len(), records[0].point, records[0].exceptions, records[1].exceptions), (3, 1, 1, 0));
    assert!(damaged[0].ends_with("letters/large"), "{damaged:?}");
}

#[test]
fn standard_clients_read_it() {
    let (office, station) = setup();
    let davfs = System::user_id("davfs2").expect("davfs2 is installed");
    let one = station.folder.join("letters/one.odt");
    mounted(&station, Some(davfs), |address| {
        let point = points(address)[0].rsplit('/').nth(1).map(decoded).expect("a name");
        let letters = one.parent().and_then(|folder| folder.strip_prefix("/").ok()).expect("a folder").display();
        let got = office.path("got").display().to_string();
        let said = fed("cadaver", &[address], &format!("cd \"{point}\"\ncd {letters}\nls\nget one.odt {got}\nquit\n"));
        assert!(said.contains("one.odt") && said.contains("5242880"), "{said}");
        assert_eq!(fs::read_to_string(office.path("got")).expect("got"), "dear Aud");
        let place = Davfs::mount(address, &office.path("davfs"));
        let path = place.0.join(&point).join(one.strip_prefix("/").expect("absolute"));
        assert_eq!(fs::read_to_string(&path).expect("read"), "dear Aud");
        let large = path.with_file_name("large");
        assert_eq!(fs::metadata(&large).expect("there").len(), 5 << 20);
        let content = fs::read(station.folder.join("letters/large")).expect("read");
        assert!(fs::read(&large).expect("read") == content);
        assert!(fs::write(&path, "changed").is_err());
    });
}

/// What the file manager of a desktop goes by.
#[test]
fn a_desktop_opens_it() {
    let (office, station) = setup();
    let runtime = office.path("runtime");
    fs::create_dir(&runtime).and_then(|()| fs::set_permissions(&runtime, fs::Permissions::from_mode(0o700))).expect("made");
    mounted(&station, None, |address| {
        let dav = |address: &str| address.replacen("http", "dav", 1);
        let letters = dav(&in_point(&points(address)[1], &station.folder.join("letters")));
        let script = format!("gio mount {0} && gio list {0} && gio list -l {letters} && gio cat {letters}/one.odt", dav(address));
        let ran = Command::new("dbus-run-session")
            .args(["--", "sh", "-c", &script])
            .env("XDG_RUNTIME_DIR", &runtime)
            .env("HOME", &runtime)
            .output()
            .expect("it runs");
        let said = Said::of(&ran);
        assert!(ran.status.success(), "{}{}", said.out, said.err);
        for part in ["point 1\n", "point 2\n", "large\t5242880\t(regular)", "dear Tove"] {
            assert!(said.out.contains(part), "{part}: {}", said.out);
        }
    });
}

fn decoded(name: &str) -> String {
    percent_decode_str(name).decode_utf8_lossy().into_owned()
}

/// What a program says that is given this on its standard input.
fn fed(program: &str, arguments: &[&str], input: &str) -> String {
    let mut child = Command::new(program)
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap_or_else(|error| panic!("{program}: {error}"));
    child.stdin.take().expect("piped").write_all(input.as_bytes()).expect("taken");
    let said = Said::of(&child.wait_with_output().expect("it ends"));
    format!("{}{}", said.out, said.err)
}

/// A folder that davfs2 has mounted.
struct Davfs(PathBuf);

impl Davfs {
    fn mount(address: &str, place: &Path) -> Self {
        fs::create_dir(place).expect("made");
        let said = fed("mount", &["-t", "davfs", "-o", "ro", address, place.to_str().expect("text")], "\n\n");
        let mounts = fs::read_to_string("/proc/self/mounts").expect("read");
        assert!(mounts.contains(place.to_str().expect("text")), "{said}");
        Self(place.into())
    }
}

impl Drop for Davfs {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg(&self.0).output();
    }
}

/// A suite for servers that can be written to: what it does before its tests is answered here as if it had been done.
struct AsIfWritten {
    address: String,
}

impl AsIfWritten {
    fn before(host: &str) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let (own, host) = (listener.local_addr().expect("bound").to_string(), host.to_owned());
        let address = own.clone();
        thread::spawn(move || {
            for client in listener.incoming() {
                let (client, host, own) = (client.expect("connected"), host.clone(), own.clone());
                thread::spawn(move || Self::serve(client, &host, &own));
            }
        });
        Self { address }
    }

    fn serve(mut client: TcpStream, host: &str, own: &str) {
        while let Some((head, body)) = message(&mut client) {
            let method = head.split(' ').next().unwrap_or_default();
            if ["MKCOL", "DELETE"].contains(&method) {
                let _ = client.write_all(b"HTTP/1.1 201 Created\r\nContent-Length: 0\r\n\r\n");
                continue;
            }
            let mut server = TcpStream::connect(host).expect("it serves");
            let head = head.replace(own, host).replacen("\r\n", "\r\nConnection: close\r\n", 1);
            server.write_all(&[head.as_bytes(), &body].concat()).expect("taken");
            let mut answer = Vec::new();
            server.read_to_end(&mut answer).expect("answered");
            let _ = client.write_all(&answer);
            // Its end may be all that tells where the answer ends.
            return;
        }
    }
}

/// A request's head and body.
fn message(client: &mut TcpStream) -> Option<(String, Vec<u8>)> {
    let (mut head, mut byte) = (Vec::new(), [0]);
    while !head.ends_with(b"\r\n\r\n") {
        client.read_exact(&mut byte).ok()?;
        head.push(byte[0]);
    }
    let head = String::from_utf8_lossy(&head).into_owned();
    let lower = head.to_lowercase();
    let len = lower.split("content-length:").nth(1).and_then(|rest| rest.split("\r\n").next()?.trim().parse().ok()).unwrap_or(0);
    let mut body = vec![0; len];
    client.read_exact(&mut body).ok()?;
    Some((head, body))
}

#[test]
fn the_parts_of_the_standard_suite_that_only_read_pass() {
    let (_office, station) = setup();
    station.write("litmus/one", "dear Aud");
    station.back_up().expect("a point");
    mounted(&station, None, |address| {
        let (host, _) = address["http://".len()..].split_once('/').expect("an address");
        let before = AsIfWritten::before(host);
        let folder = in_point(&points(address)[2], &station.folder).replace(host, &before.address);
        let run = |suite: &str| {
            let place = tempfile::tempdir().expect("a directory");
            let ran = Command::new("litmus").current_dir(&place).env("TESTS", suite).args(["-k", &format!("{folder}/")]).output();
            let said = Said::of(&ran.expect("litmus runs"));
            format!("{}{}", said.out, said.err)
        };
        for (suite, parts) in [("basic", &["options"][..]), ("props", &["propfind_invalid", "propfind_invalid2", "propfind_d0"])]
        {
            let said = run(suite);
            for part in parts {
                // Of a warning, which comes of what cannot be written, the result is on the line after it.
                let result: String = said.rsplit(&format!(" {part}.")).next().unwrap_or_default().lines().take(2).collect();
                let first = result.split("pass").next().unwrap_or_default();
                assert!(result.contains("pass") && !first.contains("FAIL"), "{part}: {said}");
            }
        }
    });
}

#[test]
fn a_mount_that_an_administrator_cancels_ends_at_the_workstation_and_says_who_wanted_it() {
    let (office, station) = setup();
    let browser = Browser::open(&station.home).expect("opened");
    let (told, address) = std::sync::mpsc::channel::<Address>();
    let ended = thread::scope(|scope| {
        let serving = scope.spawn(|| {
            let how = Mounting { port: 0, also: None, on_damage: Box::new(|_| ()) };
            mount(&browser, how, &Meter::default(), |address| told.send(address.clone()).expect("awaited"))
        });
        let Address { at, path, .. } = address.recv().expect("it is ready");
        let point = &points(&format!("http://{at}{path}"))[0];
        assert_eq!(curl(&[&in_point(point, &station.folder.join("letters/one.odt"))]).out, "dear Aud");
        let [record] = &restores(&office, &station)[..] else { panic!("one point was read") };
        assert!(record.origin.is_some(), "{record:?}");
        let _: Restore = office.api.post(&format!("/restores/{}/cancellation", record.id), &()).expect("cancelled");
        serving.join().expect("no panic")
    });
    assert!(matches!(ended, Err(ClientError::Cancelled(who)) if who == "ingrid"));
    let [record] = &restores(&office, &station)[..] else { panic!("it stays on record") };
    assert_eq!((record.outcome, record.cancelled_by.as_deref()), (Outcome::Stopped, Some("ingrid")));
}

fn restores(office: &Office, station: &Workstation) -> Vec<Restore> {
    let id = station.home.membership().expect("joined").workstation;
    office.api.list(&format!("/workstations/{id}/restores")).expect("listed")
}
