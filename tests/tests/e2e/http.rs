//! The service as HTTP clients that nobody here wrote see it (RFC 9110), with curl and with bytes on a socket.

use std::fs;
use std::io::Read;
use std::net::{Shutdown, TcpListener, TcpStream};
use std::process::Command;
use std::time::{Duration, Instant};

use jetfrost_client::api::{Api, Method};
use jetfrost_tests::office::Office;
use jetfrost_tests::programs::{Daemon, first_sign_in, jetfrost_ends};
use jetfrost_tests::raw::RawCall;
use jetfrost_wire::Call;
use jetfrost_wire::destination::{Destination, DestinationState};
use jetfrost_wire::enrolment::{CodeState, EnrolmentCode};
use jetfrost_wire::people::{Account, NewAccount, Role};
use serde_json::{Value, json};

/// What curl was answered.
struct Answer {
    status: u16,
    head: String,
    body: String,
}

impl Answer {
    fn header(&self, name: &str) -> Option<&str> {
        self.head.lines().find_map(|line| {
            let (key, value) = line.split_once(':')?;
            key.eq_ignore_ascii_case(name).then(|| value.trim())
        })
    }
}

fn curl(office: &Office, path: &str, arguments: &[&str]) -> Answer {
    let output = Command::new("curl")
        .args(["--silent", "--show-error", "--insecure", "--http1.1", "--max-time", "30", "--include"])
        .args(arguments)
        .arg(format!("https://{}{path}", office.address()))
        .output()
        .expect("curl is there");
    assert!(output.status.success(), "{path} {arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let (head, body) = text.split_once("\r\n\r\n").expect("a head");
    let status = head.split_whitespace().nth(1).and_then(|status| status.parse().ok()).expect("a status");
    Answer { status, head: head.into(), body: body.into() }
}

/// A token of the administrator's, as a program has it.
fn token(office: &Office) -> String {
    let call = json!({ "login": "ingrid", "password": jetfrost_tests::office::PASSWORD, "carry": "token" });
    let api = Api::new(&office.address(), Some(&office.fingerprint())).expect("a service");
    let signed_in: Value = api.post("/sessions", &call).expect("signed in");
    signed_in["token"].as_str().expect("a token").to_owned()
}

#[test]
fn head_answers_as_get_without_the_body_on_probes_pages_and_calls() {
    let office = Office::open();
    let credential = format!("authorization: bEaReR {}", token(&office));
    for path in ["/readyz", "/healthz", "/metrics", "/", "/api/v1/openapi.json", "/api/v1/accounts", "/api/v1/events"] {
        let head = curl(&office, path, &["--head", "--header", &credential]);
        assert_eq!((head.status, head.body.as_str()), (200, ""), "{path}");
        if path != "/api/v1/events" {
            let get = curl(&office, path, &["--header", &credential]);
            assert_eq!(head.header("content-type"), get.header("content-type"), "{path}");
            assert_eq!(get.header("content-length"), head.header("content-length"), "{path}");
        }
    }
    assert_eq!(curl(&office, "/api/v1/accounts", &["--head"]).status, 401);
    assert_eq!(curl(&office, "/api/v1/nothing", &["--head"]).status, 404);
}

#[test]
fn what_a_path_takes_is_said_by_options_and_with_a_refusal() {
    let office = Office::open();
    let options = curl(&office, "/api/v1/accounts", &["--request", "OPTIONS"]);
    assert_eq!((options.status, options.header("allow")), (204, Some("GET, HEAD, OPTIONS, POST")));
    assert_eq!(curl(&office, "/readyz", &["--request", "OPTIONS"]).header("allow"), Some("GET, HEAD, OPTIONS"));
    for (path, allow) in
        [("/api/v1/accounts", "GET, HEAD, OPTIONS, POST"), ("/readyz", "GET, HEAD, OPTIONS"), ("/", "GET, HEAD, OPTIONS")]
    {
        let refused = curl(&office, path, &["--request", "DELETE"]);
        assert_eq!((refused.status, refused.header("allow")), (405, Some(allow)), "{path}");
        assert_eq!(refused.header("content-type"), Some("application/problem+json"));
    }
    let refused = curl(&office, "/api/v1/sessions", &["--data", "login=ingrid"]);
    assert_eq!(refused.status, 415, "a form is no JSON: {}", refused.body);
    let refused = curl(&office, "/api/v1/accounts", &[]);
    assert_eq!((refused.status, refused.header("www-authenticate")), (401, Some("Bearer realm=\"jetfrost\"")));
}

#[test]
fn a_call_with_a_key_is_made_once_and_its_answer_can_be_had_again() {
    let office = Office::open();
    let credential = format!("authorization: Bearer {}", token(&office));
    let add = |key: &str, body: &str| {
        let key = format!("idempotency-key: {key}");
        let json = "content-type: application/json";
        curl(&office, "/api/v1/accounts", &["--header", &credential, "--header", &key, "--header", json, "--data", body])
    };
    let tove = r#"{"login":"tove","role":"member"}"#;
    let (first, again) = (add("one", tove), add("one", tove));
    assert_eq!((first.status, first.body.as_str()), (200, again.body.as_str()));
    assert_eq!(add("two", tove).status, 409, "with another key it is another call");
    assert_eq!(add("one", r#"{"login":"sture","role":"member"}"#).status, 422, "a key is of one call");
    assert_eq!(curl(&office, "/api/v1/sessions/current", &["--request", "DELETE", "--header", &credential]).status, 204);
    assert_eq!(add("one", tove).status, 401, "who was signed out since does not get it again");
    let accounts: Vec<Account> = office.api.list("/accounts").expect("listed");
    assert_eq!(accounts.iter().filter(|account| account.login == "tove").count(), 1);
}

#[test]
fn a_change_holds_only_for_the_version_that_it_names() {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let credential = format!("authorization: Bearer {}", token(&office));
    let path = format!("/api/v1/destinations/{}", shelf.id);
    let read = curl(&office, &path, &["--header", &credential]);
    let tag = read.header("etag").expect("a tag").to_owned();
    assert!(tag.starts_with('"') && tag.ends_with('"'), "a strong tag: {tag}");
    let change = |path: &str, method: &str, tag: &str, body: &str| {
        let (tag, json) = (format!("if-match: {tag}"), "content-type: application/json");
        curl(&office, path, &["--request", method, "--header", &credential, "--header", &tag, "--header", json, "--data", body])
    };
    let set = |tag: &str, days: u8| change(&path, "PATCH", tag, &format!("{{\"waiting_days\":{days}}}"));
    let first = set(&tag, 8);
    assert_eq!(first.status, 200, "{}", first.body);
    assert!(first.header("etag").is_some_and(|new| new != tag), "its answer has the next tag");
    for stale in [tag.as_str(), "\"somebody-elses\"", &format!("W/{}", first.header("etag").expect("a tag"))] {
        let refused = set(stale, 9);
        assert_eq!((refused.status, refused.header("content-type")), (412, Some("application/problem+json")), "{stale}");
    }
    assert_eq!(set("unquoted", 9).status, 400);
    assert_eq!(set(&format!("\"other\", {}", first.header("etag").expect("a tag")), 10).status, 200, "one of several");
    assert_eq!(set("*", 11).status, 200, "whatever is there");
    let withdrawn = change(&format!("{path}/withdrawn"), "PUT", &tag, "");
    assert_eq!(withdrawn.status, 400, "a condition that is not heeded is not accepted: {}", withdrawn.body);
    let now: Destination = office.api.get(&format!("/destinations/{}", shelf.id)).expect("there");
    assert_eq!((now.waiting_days, now.state), (11, DestinationState::Ready));
}

#[test]
fn an_enrolment_whose_answer_was_lost_does_not_use_the_code_up() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    let membership = station.home.membership().expect("joined");
    // The machine is set up anew; its code hands it the workstation again.
    let issued: Value =
        office.api.post("/enrolment-codes", &json!({ "login": membership.login, "claims": membership.name })).expect("issued");
    let code = jetfrost_wire::enrolment::Invitation::parse(issued["code"].as_str().expect("a code")).expect("a code");
    let body = serde_json::to_string(&json!({
        "secret": jetfrost_wire::Binary(code.secret.to_vec()), "platform": "Linux", "client_version": "0", "disk_bytes": null,
    }))
    .expect("JSON");
    let call = format!(
        "POST /api/v1/enrolments/claim HTTP/1.1\r\nhost: localhost\r\ncontent-type: application/json\r\nidempotency-key: a-lost-answer\r\n\
         content-length: {}\r\n\r\n{body}",
        body.len()
    );
    let unread = RawCall::send(&office.address(), call.as_bytes());
    let used = || {
        let codes: Vec<EnrolmentCode> = office.api.list("/enrolment-codes").expect("listed");
        codes.iter().any(|code| code.claims.is_some() && code.state == CodeState::Used)
    };
    let began = Instant::now();
    while !used() {
        assert!(began.elapsed() < Duration::from_secs(30), "it claims the workstation");
        std::thread::yield_now();
    }
    // It was answered, and nobody was there to hear it.
    unread.leave();
    let mut again = RawCall::send(&office.address(), call.as_bytes());
    let answer = again.answer();
    assert!(answer.starts_with("HTTP/1.1 200") && answer.contains("\"credential\""), "{answer}");
    let another_key = call.replace("a-lost-answer", "another-call");
    assert!(RawCall::send(&office.address(), another_key.as_bytes()).answer().starts_with("HTTP/1.1 403"), "the code is used up");
}

#[test]
fn of_a_long_body_that_nobody_known_sends_little_is_read() {
    let office = Office::open();
    for key in ["", "idempotency-key: a-crowd\r\n"] {
        let head = format!(
            "POST /api/v1/roster HTTP/1.1\r\nhost: localhost\r\nauthorization: Bearer jfs_unknown\r\n{key}content-type: application/json\r\n\
             content-length: 2000000\r\n\r\n"
        );
        // A part of what is announced, and no more of it comes.
        let call = [head.as_bytes(), &[b' '; 80 << 10]].concat();
        let answer = RawCall::send(&office.address(), &call).answer();
        assert!(answer.starts_with("HTTP/1.1 401"), "{answer}");
    }
}

#[test]
fn a_service_that_cannot_write_to_any_destination_is_not_ready() {
    let office = Office::open();
    assert_eq!(curl(&office, "/readyz", &[]).status, 200, "before there is any");
    office.destination("shelf");
    assert_eq!(curl(&office, "/readyz", &[]).status, 200);
    fs::rename(office.path("shelf"), office.path("elsewhere")).expect("moved away");
    let answer = curl(&office, "/readyz", &[]);
    assert_eq!((answer.status, answer.body.as_str()), (503, "no destination can be written to\n"));
    assert!(answer.header("retry-after").is_some());
    assert_eq!(curl(&office, "/readyz", &["--head"]).status, 503);
    assert_eq!(curl(&office, "/healthz", &[]).status, 200);
}

#[test]
fn roles_and_methods_hold_for_head_as_for_get() {
    let office = Office::open();
    let new = NewAccount { password: Some(jetfrost_tests::office::PASSWORD.into()), ..NewAccount::new("member", Role::Member) };
    let _: Account = office.api.post("/accounts", &new).expect("added");
    let call = json!({ "login": "member", "password": jetfrost_tests::office::PASSWORD, "carry": "token" });
    let signed_in: Value = office.api.post("/sessions", &call).expect("signed in");
    let credential = format!("authorization: Bearer {}", signed_in["token"].as_str().expect("a token"));
    assert_eq!(curl(&office, "/api/v1/accounts", &["--head", "--header", &credential]).status, 403);
}

#[test]
fn a_log_in_a_file_has_no_colours_and_mistakes_of_callers_are_no_errors_in_it() {
    let test = tempfile::tempdir().expect("a directory");
    let at = |name: &str| test.path().join(name);
    let text = |path: &std::path::Path| path.to_str().expect("text").to_owned();
    let daemon = Daemon::start(&at("state"), 0);
    first_sign_in(&daemon, &at("desk"));
    let _ = jetfrost_ends(&at("desk"), &["destination", "add", "shelf", &text(&at("shelf"))], 0);
    let _ = jetfrost_ends(&at("desk"), &["access", "grant", "shelf", "--everybody"], 0);
    let code = jetfrost_ends(&at("desk"), &["--json", "enrolment", "add", "ingrid"], 0);
    let code: Value = serde_json::from_str(&code.out).expect("JSON");
    let _ = jetfrost_ends(&at("station"), &["join", code["code"].as_str().expect("a code"), "--name", "knot"], 0);
    fs::create_dir(at("files")).expect("made");
    let _ = jetfrost_ends(&at("station"), &["include", &text(&at("files"))], 0);
    for call in ["POST /api/v1/sessions HTTP/1.1\r\ncontent-length: 1\r\n\r\n{", "GET /api/v1/nothing HTTP/1.1\r\n\r\n"] {
        let call = call.replacen("HTTP/1.1\r\n", "HTTP/1.1\r\nhost: localhost\r\n", 1);
        assert!(RawCall::send(&daemon.address, call.as_bytes()).answer().starts_with("HTTP/1.1 4"));
    }
    fs::rename(at("shelf"), at("elsewhere")).expect("moved away");
    let _ = jetfrost_ends(&at("station"), &["backup"], 5);
    let log = Daemon::log(&at("state"));
    assert!(log.contains("a request was refused"), "{log}");
    assert!(!log.contains('\u{1b}') && !log.contains("ERROR"), "{log}");
}

/// Stands between a client and the service, and lets so many bytes of the service's answers through on the first connection.
fn cutting_off(office: &Office, after: u64) -> String {
    let (listener, service) = (TcpListener::bind("127.0.0.1:0").expect("a port"), office.address());
    let address = format!("localhost:{}", listener.local_addr().expect("bound").port());
    std::thread::spawn(move || {
        for (connection, left) in
            listener.incoming().map_while(Result::ok).zip([after].into_iter().chain(std::iter::repeat(u64::MAX)))
        {
            let Ok(there) = TcpStream::connect(&service) else { return };
            let (Ok(mut asks), Ok(mut asked)) = (connection.try_clone(), there.try_clone()) else { return };
            std::thread::spawn(move || std::io::copy(&mut asks, &mut asked));
            std::thread::spawn(move || {
                let _ = std::io::copy(&mut Read::take(&there, left), &mut &connection);
                let _ = (connection.shutdown(Shutdown::Both), there.shutdown(Shutdown::Both));
            });
        }
    });
    address
}

#[test]
fn an_answer_that_breaks_off_is_asked_for_again() {
    let office = Office::open();
    let between = |after| Api::new(&cutting_off(&office, after), Some(&office.fingerprint())).expect("an address");
    let once = between(60_000).call_once::<Value>(&Call::new(Method::GET, "/openapi.json")).expect_err("cut off");
    assert!(once.is_passing(), "{once}");
    let document: Value = between(60_000).get("/openapi.json").expect("whole the second time");
    assert!(document["paths"].is_object());
}

#[test]
fn programs_are_fetched_and_checked_by_whoever_has_nothing_yet_and_no_key_comes_with_them() {
    let office = Office::open();
    let none: Value = serde_json::from_str(&curl(&office, "/api/v1/downloads", &[]).body).expect("JSON");
    assert_eq!(none, json!({ "files": [] }));
    let directory = office.state().join("downloads");
    fs::create_dir(&directory).expect("made");
    let name = "jetfrost_0.3.0_amd64.deb";
    fs::write(directory.join(name), "a program").expect("written");
    std::os::unix::fs::symlink("../identity.pem", directory.join("key")).expect("linked");
    let listed: Value = serde_json::from_str(&curl(&office, "/api/v1/downloads", &[]).body).expect("JSON");
    assert_eq!((listed["files"].as_array().map(Vec::len), &listed["files"][0]["name"]), (Some(1), &name.into()));

    let fetched = curl(&office, &format!("/downloads/{name}"), &[]);
    assert_eq!((fetched.status, fetched.body.as_str()), (200, "a program"));
    let part = curl(&office, &format!("/downloads/{name}"), &["--range", "2-"]);
    assert_eq!((part.status, part.body.as_str()), (206, "program"), "a download that broke off goes on");
    let sums = curl(&office, "/downloads/SHA256SUMS", &[]);
    fs::write(directory.join("SHA256SUMS"), sums.body).expect("written");
    let checked = Command::new("sha256sum").args(["--check", "--strict", "SHA256SUMS"]).current_dir(&directory).output();
    assert!(checked.expect("sha256sum is there").status.success());

    for path in
        ["key", "../identity.pem", "..%2Fidentity.pem", "%2e%2e/identity.pem", "..%5Cidentity.pem", ".", "%00", "/etc/passwd"]
    {
        let answer = curl(&office, &format!("/downloads/{path}"), &["--path-as-is"]);
        let is_page = answer.body.contains("<div id=\"app\">");
        assert!(answer.status == 404 || is_page, "{path}: {} {}", answer.status, answer.body);
        assert!(!answer.body.contains("PRIVATE KEY") && !answer.body.contains("root:"), "{path}");
    }
}
