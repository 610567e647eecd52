//! The API against its document, against strangers and against nonsense.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use jetfrost_client::ClientError;
use jetfrost_client::api::Api;
use jetfrost_tests::office::{Office, Workstation};
use jetfrost_wire::Problem;
use jetfrost_wire::people::Role;
use jetfrost_wire::point::Point;
use reqwest::Method;
use reqwest::blocking::{Client, Response};
use serde_json::{Value, json};

/// A client without manners: any certificate, any body.
fn rude() -> Client {
    let _ = rustls::crypto::ring::default_provider().install_default();
    Client::builder().tls_danger_accept_invalid_certs(true).no_proxy().build().expect("a client")
}

fn document() -> Value {
    serde_json::from_str(&jetfrost_service::openapi_json()).expect("JSON")
}

/// Every method and path of the document, with `{parameters}` filled in.
fn routes() -> Vec<(Method, String)> {
    calls().into_iter().map(|(method, path, _)| (method, path)).collect()
}

/// The same, with the media type of the body.
fn calls() -> Vec<(Method, String, String)> {
    let document = document();
    let paths = document["paths"].as_object().expect("paths").clone();
    let mut routes = Vec::new();
    for (path, methods) in paths {
        let filled = path
            .replace("{sequence}", "1")
            .replace("{hash}", &"0".repeat(64))
            .replace("{slot}", &"0".repeat(16))
            .replace("{id}", "nothing");
        for (method, call) in methods.as_object().expect("methods") {
            let takes = call["requestBody"]["content"].as_object().and_then(|takes| takes.keys().next().cloned());
            let takes = takes.unwrap_or_else(|| "application/json".into());
            routes.push((method.to_uppercase().parse().expect("a method"), filled.clone(), takes));
        }
    }
    assert!(routes.len() > 30, "{} routes", routes.len());
    routes
}

fn assert_problem(response: Response, what: &str) -> Problem {
    let status = response.status();
    assert!(status.is_client_error(), "{what}: {status}");
    assert_eq!(response.headers()["content-type"], "application/problem+json", "{what}");
    let problem: Problem = response.json().unwrap_or_else(|e| panic!("{what}: {e}"));
    assert_eq!(problem.status, status.as_u16(), "{what}");
    assert!(!problem.title.is_empty() && !problem.next_step.is_empty() && problem.known_kind().is_some(), "{what}: {problem:?}");
    problem
}

#[test]
fn the_document_that_the_consoles_types_are_made_from_is_the_present_one() {
    let kept: Value = serde_json::from_str(include_str!("../../../console/openapi.json")).expect("JSON");
    assert!(kept == document(), "run 'make types' and commit what changed");
}

/// `UPDATE_CALLS=1` writes the file anew.
#[test]
fn the_calls_of_the_rust_client_are_those_of_the_document() {
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../crates/jetfrost-wire/src/calls.rs");
    let kept = fs::read_to_string(&file).expect("the client's calls");
    let (imports, calls) = kept.split_once("\n\n/// `").expect("imports, then calls");
    let made = jetfrost_tests::calls::as_rust(&document());
    if std::env::var_os("UPDATE_CALLS").is_some() {
        return fs::write(&file, format!("{imports}\n{made}")).expect("written");
    }
    assert!(format!("\n/// `{calls}") == made, "run 'make types' and commit what changed");
}

#[test]
fn without_a_credential_every_documented_route_is_closed_but_for_the_open_ones() {
    let office = Office::open();
    let open = ["/api/v1/service", "/api/v1/downloads", "/api/v1/first-administrator", "/api/v1/sessions", "/api/v1/enrolments"];
    for (method, path, takes) in calls().into_iter().filter(|(_, path, _)| !open.contains(&path.as_str())) {
        let what = format!("{method} {path}");
        let url = format!("https://{}{path}", office.address());
        let response = rude().request(method.clone(), &url).header("content-type", &takes).body(body_for(&method)).send();
        let problem = assert_problem(response.expect("an answer"), &what);
        assert!(matches!(problem.status, 400 | 401), "{what}: {problem:?}");
        for credential in ["jfs_invented", "jfd_invented", "hello"] {
            let response = rude().request(method.clone(), &url).bearer_auth(credential).header("content-type", &takes);
            let problem = assert_problem(response.body(body_for(&method)).send().expect("an answer"), &what);
            assert!(matches!(problem.status, 400 | 401), "{what} with {credential}: {problem:?}");
        }
    }
}

fn body_for(method: &Method) -> String {
    if *method == Method::GET { String::new() } else { "{}".into() }
}

#[test]
fn nonsense_is_refused_with_a_problem_and_never_breaks_the_service() {
    let office = Office::open();
    let url = |path: &str| format!("https://{}{path}", office.address());
    let long = format!("{{\"login\":\"{}\"}}", "x".repeat(9 << 20));
    let deep = format!("{}{}", "[".repeat(100_000), "]".repeat(100_000));
    for body in ["", "{", "[]", "null", "{\"login\":7}", "\u{0}", deep.as_str(), long.as_str()] {
        let response =
            rude().post(url("/api/v1/sessions")).header("content-type", "application/json").body(body.to_owned()).send();
        assert_problem(response.expect("an answer"), &body.chars().take(20).collect::<String>());
    }
    let too_large =
        rude().post(url("/api/v1/sessions")).header("content-type", "application/json").body(long).send().expect("an answer");
    assert_eq!(too_large.status(), 413);
    for path in
        ["/api/v1/nothing", "/api/v1/../../etc/passwd", "/api/v1/%2e%2e/%2e%2e/etc/passwd", "/api/v1/stores/..%2f..%2fx/slots"]
    {
        let response = rude().get(url(path)).send().expect("an answer");
        assert!(!response.status().is_server_error(), "{path}: {}", response.status());
        assert!(!response.text().unwrap_or_default().contains("root:"), "{path}");
    }
    assert!(rude().get(url("/healthz")).send().expect("an answer").status().is_success());
    assert!(rude().get(url("/readyz")).send().expect("an answer").status().is_success());
}

fn status_of<T: std::fmt::Debug>(result: Result<T, ClientError>) -> u16 {
    match result {
        Err(ClientError::Refused(problem)) => problem.status,
        other => panic!("not refused: {other:?}"),
    }
}

fn put(office: &Office, path: &str, credential: &str, body: Vec<u8>) -> Response {
    rude().put(format!("https://{}/api/v1{path}", office.address())).bearer_auth(credential).body(body).send().expect("an answer")
}

#[test]
fn segments_under_false_names_or_with_false_content_are_refused() {
    let office = Office::open();
    let destination = office.destination("shelf");
    let station = office.workstation("knot");
    let membership = station.home.membership().expect("joined");
    let path = |hash: &str| format!("/stores/{}/segments/{hash}", membership.store);
    for hash in ["..", "..%2f..%2fowner.json", "ABC", &"G".repeat(64), &"a".repeat(63)] {
        let response = put(&office, &path(hash), &membership.credential, vec![1; 100]);
        assert!(response.status().is_client_error(), "{hash}: {}", response.status());
    }
    for body in [vec![], vec![0; 100], b"\x89JFSEG\r\n".to_vec(), vec![0xff; 1 << 20]] {
        let len = body.len();
        assert_problem(put(&office, &path(&"0".repeat(64)), &membership.credential, body), &format!("{len} bytes"));
    }
    let used = |office: &Office| {
        let all: Vec<jetfrost_wire::destination::Destination> = office.api.list("/destinations").expect("listed");
        all[0].used
    };
    let before = used(&office);
    assert_eq!(destination.stores, 0);
    assert_problem(put(&office, &path(&"0".repeat(64)), &membership.credential, vec![0; 65 << 20]), "too long");
    let names = format!("https://{}/api/v1/stores/{}/chunks/missing", office.address(), membership.store);
    for (body, status) in [(vec![0; 31], 400), (vec![], 400), (vec![0; 32 * 4097], 413)] {
        let response = rude().post(&names).bearer_auth(&membership.credential).body(body).send().expect("an answer");
        assert_eq!(assert_problem(response, "names").status, status);
    }
    assert_eq!(used(&office), before, "nothing stays of what was refused");
}

/// All that a device credential could try at another's workstation and store.
fn tries(api: &Api, victim: &Workstation) -> Vec<u16> {
    let m = victim.home.membership().expect("joined");
    let names = [jetfrost_image::ChunkName([0; 32])];
    let hash = jetfrost_image::SegmentHash([0; 32]);
    let begin = serde_json::json!({ "kind": "files", "client_version": "0" });
    vec![
        status_of(api.get::<Value>(&format!("/workstations/{}", m.workstation))),
        status_of(api.get::<Value>(&format!("/workstations/{}/points", m.workstation))),
        status_of(api.get::<Value>(&format!("/workstations/{}/runs", m.workstation))),
        status_of(api.get::<Value>(&format!("/workstations/{}/restores", m.workstation))),
        status_of(api.post::<_, Value>(&format!("/workstations/{}/runs", m.workstation), &begin)),
        status_of(api.post::<_, Value>(
            &format!("/workstations/{}/restores", m.workstation),
            &serde_json::json!({ "point": 1, "scope": "everything" }),
        )),
        status_of(api.get::<Value>(&format!("/stores/{}/points/1", m.store))),
        status_of(api.get::<Value>(&format!("/stores/{}/slots", m.store))),
        status_of(api.missing(&m.store, &names)),
        status_of(api.fetch(&m.store, &names, |_, _| Ok(()))),
        status_of(api.put_segment(&m.store, &hash, &vec![0; 100].into())),
    ]
}

#[test]
fn no_workstation_and_no_member_reaches_anothers_store() {
    let office = Office::open();
    office.destination("shelf");
    let (knot, dunlin) = (office.workstation("knot"), office.workstation("dunlin"));
    for station in [&knot, &dunlin] {
        station.write("a", "mine");
        station.back_up().expect("backed up");
    }
    for (attacker, victim) in [(&knot, &dunlin), (&dunlin, &knot)] {
        let (_, api) = attacker.home.device_api().expect("joined");
        let statuses = tries(&api, victim);
        assert!(statuses.iter().all(|s| *s == 404), "as if it were not there: {statuses:?}");
    }
    let statuses = tries(&office.signed_in("owner of knot"), &dunlin);
    assert!(statuses.iter().all(|s| *s == 404), "{statuses:?}");
    let seen: jetfrost_wire::workstation::Overview = office.signed_in("owner of knot").get("/overview").expect("an overview");
    assert_eq!(seen.workstations.iter().map(|w| w.name.as_str()).collect::<Vec<_>>(), ["knot"]);
    assert!(seen.destinations.is_empty());
}

/// Every file below a directory with its bytes.
fn files_below(directory: &Path, into: &mut BTreeMap<PathBuf, Vec<u8>>) {
    for entry in fs::read_dir(directory).expect("readable") {
        let path = entry.expect("an entry").path();
        if path.is_dir() {
            files_below(&path, into);
        } else {
            into.insert(path.clone(), fs::read(&path).expect("readable"));
        }
    }
}

/// A body that a route would take, were the caller allowed to call it.
fn tempting_body(method: &Method, path: &str) -> Value {
    match path {
        _ if *method == Method::GET || *method == Method::DELETE => Value::Null,
        _ if path.contains("/stores/") && path.ends_with("/settings") => {
            json!({ "limit": 1, "retention": { "kind": "thinned" } })
        }
        _ if path.contains("/destinations/") && *method == Method::PATCH => {
            json!({ "reserve": 0, "retention": { "kind": "thinned" }, "at_limit": "expire_oldest", "waiting_days": 0 })
        }
        _ if path.ends_with("/erasure") => json!({ "name": "shelf", "confirmation": "x" }),
        _ if path.ends_with("/removal") => json!({ "workstations": { "what": "remove" } }),
        _ if path.ends_with("/password") => json!({ "password": null }),
        _ if path.ends_with("/hold") => json!({ "reason": "none of your business" }),
        _ if path.ends_with("/order") => json!({ "order": "cancel" }),
        _ => json!({}),
    }
}

#[test]
fn whoever_stole_a_workstations_credential_can_remove_nothing_of_its_past() {
    let (office, clock) = Office::stepped("2026-10-01T10:00:00Z".parse().expect("a time"));
    let destination = office.destination("shelf");
    let station = office.workstation("knot");
    for day in 1..=3 {
        clock.set(format!("2026-10-0{day}T10:00:00Z").parse().expect("a time"));
        station.write("diary", format!("day {day}"));
        station.back_up().expect("backed up");
    }
    let mut before = BTreeMap::new();
    files_below(&office.path("shelf"), &mut before);
    let m = station.home.membership().expect("joined");
    let accounts: Vec<jetfrost_wire::people::Account> = office.api.list("/accounts").expect("listed");
    let mut tried = 0;
    for (method, path) in routes() {
        for id in [&m.store, &m.workstation, &destination.id.0, &accounts[0].id.0] {
            let path = path.replace("nothing", id);
            let body = serde_json::to_vec(&tempting_body(&method, &path)).expect("JSON");
            let request = rude().request(method.clone(), format!("https://{}{path}", office.address()));
            let request = request.bearer_auth(&m.credential).header("content-type", "application/json").body(body);
            // The stream of events has no end.
            if !path.ends_with("/events") {
                request.send().expect("an answer");
                tried += 1;
            }
        }
    }
    assert!(tried > 200, "{tried} calls");
    clock.set("2026-10-12T10:00:00Z".parse().expect("a time"));
    office.tend();
    let mut after = BTreeMap::new();
    files_below(&office.path("shelf"), &mut after);
    for (path, bytes) in &before {
        assert_eq!(after.get(path), Some(bytes), "{} is as it was", path.display());
    }
    let points: Vec<Point> = office.api.list(&format!("/workstations/{}/points", m.workstation)).expect("listed");
    assert_eq!(points.len(), 3);
    station.restore_all(&office.path("restored")).expect("restored");
    assert_eq!(fs::read(station.restored(&office.path("restored")).join("diary")).expect("there"), b"day 3");
}

#[test]
fn roles_see_and_change_what_they_may() {
    let office = Office::open();
    office.destination("shelf");
    office.account("desk", Role::Helpdesk);
    office.account("member", Role::Member);
    let new = serde_json::json!({ "login": "x", "role": "member" });
    let (desk, member) = (office.signed_in("desk"), office.signed_in("member"));
    assert!(desk.get::<Value>("/accounts").is_ok());
    assert_eq!(status_of(desk.post::<_, Value>("/accounts", &new)), 403);
    for path in ["/accounts", "/groups", "/destinations", "/enrolment-codes", "/audit"] {
        assert_eq!(status_of(member.get::<Value>(path)), 403, "{path}");
    }
    assert_eq!(status_of(member.post::<_, Value>("/accounts", &new)), 403);
    let log: Vec<jetfrost_wire::service::AuditEntry> = office.api.list("/audit").expect("listed");
    assert!(log.iter().any(|e| e.what == "account added" && e.who == "ingrid" && e.subject == "member"), "{log:?}");
}
