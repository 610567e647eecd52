//! Every route against every role, as `docs/access.md` has it.

use std::collections::BTreeMap;

use jetfrost_client::api::Api;
use jetfrost_client::state_dir::StateDir;
use jetfrost_tests::office::{ADMINISTRATOR, Office, PASSWORD};
use jetfrost_wire::Binary;
use jetfrost_wire::order::NewOrder;
use jetfrost_wire::people::{Account, Group, NewGroup, Role};
use jetfrost_wire::run::RunBegun;
use jetfrost_wire::service::{IssuedToken, NewToken, TokenScope};
use reqwest::Method;
use reqwest::blocking::Client;
use serde_json::{Map, Value, json};

/// The columns of the table.
const CALLERS: [&str; 6] = ["administrator", "helpdesk", "member", "workstation", "token that sees", "nobody"];

/// What a caller has of a route.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum May {
    Yes,
    Own,
    No,
}

impl May {
    fn word(self) -> &'static str {
        match self {
            Self::Yes => "yes",
            Self::Own => "own",
            Self::No => "–",
        }
    }
}

struct Route {
    method: Method,
    path: String,
    body: Option<Value>,
}

impl Route {
    fn name(&self) -> String {
        format!("{} {}", self.method, self.path.trim_start_matches("/api/v1"))
    }
}

fn routes() -> Vec<Route> {
    let document: Value = serde_json::from_str(&jetfrost_service::openapi_json()).expect("JSON");
    let mut routes = Vec::new();
    for (path, methods) in document["paths"].as_object().expect("paths") {
        for (method, operation) in methods.as_object().expect("methods") {
            let schema = &operation["requestBody"]["content"]["application/json"]["schema"];
            let body = (!schema.is_null()).then(|| least(schema, &document));
            routes.push(Route { method: method.to_uppercase().parse().expect("a method"), path: path.clone(), body });
        }
    }
    routes
}

/// The least value that a schema takes: what a route needs to look at who asks.
fn least(schema: &Value, document: &Value) -> Value {
    if let Some(name) = schema["$ref"].as_str() {
        let path = name.trim_start_matches('#');
        return least(document.pointer(path).expect("a schema"), document);
    }
    for many in ["oneOf", "anyOf", "allOf"] {
        if let Some(first) = schema[many].as_array().and_then(|all| all.last()) {
            return least(first, document);
        }
    }
    if let Some(value) = schema["enum"].as_array().and_then(|all| all.first()) {
        return value.clone();
    }
    let kind = schema["type"].as_str().or_else(|| schema["type"].as_array().and_then(|all| all[0].as_str())).unwrap_or("object");
    match kind {
        "object" => {
            let required = schema["required"].as_array().cloned().unwrap_or_default();
            let field = |name: &Value| name.as_str().map(|name| (name.to_owned(), least(&schema["properties"][name], document)));
            Value::Object(required.iter().filter_map(field).collect::<Map<_, _>>())
        }
        "array" => json!([]),
        "integer" | "number" => json!(0),
        "boolean" => json!(false),
        _ if schema["format"] == "date-time" => json!("2026-10-01T10:00:00Z"),
        _ => json!(""),
    }
}

/// Ids of one owner's things, by what stands before `{id}` in a path.
type Things = BTreeMap<&'static str, String>;

fn filled(path: &str, things: &Things) -> String {
    let noun = path.trim_start_matches("/api/v1/").split('/').next().unwrap_or_default();
    path.replace("{id}", things.get(noun).map_or("nothing", String::as_str))
        .replace("{sequence}", "1")
        .replace("{hash}", &"0".repeat(64))
        .replace("{slot}", &"0".repeat(16))
}

struct Offices {
    office: Office,
    /// Things of the member that asks, and of somebody else.
    own: Things,
    other: Things,
    credentials: [Option<String>; 6],
}

fn credential(home: &StateDir) -> String {
    home.membership().expect("joined").credential
}

fn furnished() -> Offices {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let stations = ["avocet", "dunlin"].map(|name| office.workstation(name));
    let group = NewGroup { name: "survey".into(), default_limit: None, default_quota: None };
    let group: Group = office.api.post("/groups", &group).expect("added");
    let accounts: Vec<Account> = office.api.list("/accounts").expect("listed");
    office.account("desk", Role::Helpdesk);
    let things = [0, 1].map(|i| {
        let station = &stations[i];
        station.write("letter", "here");
        station.back_up().expect("backed up");
        let (m, device) = station.home.device_api().expect("joined");
        let run = format!("/workstations/{}/runs", m.workstation);
        let begun: RunBegun = device.post(&run, &json!({ "client_version": "0", "kind": "files" })).expect("begun");
        let begin = json!({ "point": 1, "scope": "everything" });
        let restore: Value = device.post(&format!("/workstations/{}/restores", m.workstation), &begin).expect("begun");
        let order = NewOrder { sealed: Binary(vec![0; 4126]) };
        let order: Value = office.api.post(&format!("/workstations/{}/orders", m.workstation), &order).expect("given");
        let job: Value = office.api.post(&format!("/stores/{}/scrub", m.store), &()).expect("begun");
        let account = accounts.iter().find(|a| a.login == m.login).expect("its account").id.0.clone();
        Things::from([
            ("workstations", m.workstation),
            ("stores", m.store),
            ("runs", begun.run.id.0),
            ("restores", restore["id"].as_str().expect("an id").to_owned()),
            ("orders", order["id"].as_str().expect("an id").to_owned()),
            ("accounts", account),
            ("jobs", job["id"].as_str().expect("an id").to_owned()),
            ("groups", group.id.0.clone()),
            ("destinations", shelf.id.0.clone()),
        ])
    });
    let token = |api: &Api, scope| -> String {
        let new = NewToken { label: "roles".into(), scope, days: 1, password: PASSWORD.into() };
        api.post::<_, IssuedToken>("/tokens", &new).expect("a token").token
    };
    let credentials = [
        Some(token(&office.signed_in(ADMINISTRATOR), TokenScope::All)),
        Some(token(&office.signed_in("desk"), TokenScope::All)),
        Some(token(&office.signed_in("owner of avocet"), TokenScope::All)),
        Some(credential(&stations[0].home)),
        Some(token(&office.signed_in(ADMINISTRATOR), TokenScope::See)),
        None,
    ];
    let [own, other] = things;
    Offices { office, own, other, credentials }
}

impl Offices {
    /// Whether a call is let through to its use case. What may not be seen is as if it were not there.
    fn allows(&self, client: &Client, route: &Route, caller: usize, things: &Things) -> bool {
        let url = format!("https://{}{}", self.office.address(), filled(&route.path, things));
        let mut request = client.request(route.method.clone(), url);
        if let Some(credential) = &self.credentials[caller] {
            request = request.bearer_auth(credential);
        }
        let request = match &route.body {
            Some(body) => request.json(body),
            // Names of chunks, where bytes are asked for.
            None if route.method != Method::GET => request.body(vec![0; 32]),
            None => request,
        };
        let response = request.send().expect("an answer");
        let status = response.status().as_u16();
        if status == 200 {
            return true;
        }
        let problem: Value = response.json().unwrap_or_default();
        let kind = problem["type"].as_str().unwrap_or_default().trim_start_matches("urn:jetfrost:problem:").to_owned();
        // Whoever is told that there is no such way in was let into the store.
        let inside = problem["title"].as_str().is_some_and(|title| title.contains("unlock method"));
        let hidden = !inside && kind == "not-found" && !things.is_empty() && route.path.contains("{id}");
        assert!(kind != "bad-request", "{} as {}: {problem}", route.name(), CALLERS[caller]);
        !hidden && !["not-allowed", "not-signed-in"].contains(&kind.as_str())
    }

    fn found(&self, client: &Client, route: &Route, caller: usize) -> May {
        // What an administrator may do is not done here: the call is for something that is not there. What they may not do
        // is tried on what is there.
        let nothing = Things::new();
        if caller == 0 {
            let of_machine = ["agent", "diagnosis", "probe", "proof"]
                .iter()
                .any(|end| route.method != Method::GET && route.path.ends_with(&format!("workstations/{{id}}/{end}")));
            let posts = ["/runs", "/slots", "/answer"].iter().any(|end| route.path.ends_with(end));
            let adds = (route.method == Method::POST && posts) || of_machine;
            let adds_bytes = ["segments", "missing", "/v1/runs/"].iter().any(|part| route.path.contains(part));
            let things = if adds || adds_bytes { &self.own } else { &nothing };
            return if self.allows(client, route, caller, things) { May::Yes } else { May::No };
        }
        match (self.allows(client, route, caller, &self.own), self.allows(client, route, caller, &self.other)) {
            (true, true) => May::Yes,
            (true, false) => May::Own,
            (false, _) => May::No,
        }
    }
}

#[test]
fn every_route_allows_whom_the_page_says() {
    let offices = furnished();
    let _ = rustls::crypto::ring::default_provider().install_default();
    let client = Client::builder().tls_danger_accept_invalid_certs(true).no_proxy().build().expect("a client");
    // The first has no end; the others end a session, also the one that asks, which other tests look at.
    let skipped = ["GET /events", "DELETE /sessions", "DELETE /sessions/current", "DELETE /sessions/{id}"];
    let routes: Vec<Route> = routes().into_iter().filter(|route| !skipped.contains(&route.name().as_str())).collect();
    let mut table = BTreeMap::new();
    for route in &routes {
        // From whom the least is expected to whom the most is.
        let mut row = [May::No; 6];
        for caller in (0..CALLERS.len()).rev() {
            row[caller] = offices.found(&client, route, caller);
        }
        table.insert(route.name(), row);
    }
    let line = |(name, row): (&String, &[May; 6])| format!("| `{name}` | {} |", row.map(May::word).join(" | "));
    let found: Vec<String> = table.iter().map(line).collect();
    let page = include_str!("../../../docs/access.md");
    let written: Vec<&str> = page.lines().filter(|line| line.starts_with("| `")).collect();
    assert_eq!(written, found, "docs/access.md should say:\n{}", found.join("\n"));
}

#[test]
fn a_stranger_is_told_to_sign_in_by_every_operation_that_is_not_for_everybody() {
    let office = Office::open();
    let client = Client::builder().tls_danger_accept_invalid_certs(true).no_proxy().build().expect("a client");
    let page = include_str!("../../../docs/access.md");
    let is_for_nobody =
        |name: &str| page.lines().any(|line| line.starts_with(&format!("| `{name}` |")) && line.ends_with("| yes |"));
    let mut asked = 0;
    for route in routes().into_iter().filter(|route| !is_for_nobody(&route.name())) {
        let url = format!("https://{}{}", office.address(), filled(&route.path, &Things::new()));
        let request = client.request(route.method.clone(), url);
        let request = match &route.body {
            Some(body) => request.json(body),
            None if route.method != Method::GET => request.body(vec![0; 32]),
            None => request,
        };
        let response = request.send().expect("an answer");
        assert_eq!(response.status().as_u16(), 401, "{}", route.name());
        assert!(response.headers().contains_key("WWW-Authenticate"), "{}", route.name());
        asked += 1;
    }
    assert!(asked > 100, "{asked} operations");
}
