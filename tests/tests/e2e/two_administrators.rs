//! Two administrators at once: neither overwrites what the other set without knowing it.

use std::process::Stdio;

use jetfrost_client::ClientError;
use jetfrost_client::api::{Api, Method};
use jetfrost_demo::mail_stand_in::MailStandIn;
use jetfrost_tests::office::{ADMINISTRATOR, Office, mail_to};
use jetfrost_tests::programs::{jetfrost, jetfrost_ends};
use jetfrost_wire::calls;
use jetfrost_wire::destination::Destination;
use jetfrost_wire::people::{Account, Group, Role};
use jetfrost_wire::service::AuditEntry;
use jetfrost_wire::{ProblemKind, Version};
use serde_json::{Value, json};

fn version_at(api: &Api, path: &str) -> Version {
    let now: Value = api.get(path).expect("there");
    let version = if now["store"].is_object() { &now["store"]["version"] } else { &now["version"] };
    Version(version.as_str().expect("a version").to_owned())
}

fn refusal(answer: Result<Value, ClientError>) -> (Option<ProblemKind>, String) {
    match answer {
        Err(ClientError::Refused(problem)) => (problem.known_kind(), problem.title),
        other => panic!("not refused: {other:?}"),
    }
}

#[test]
fn whoever_changes_what_another_changed_meanwhile_is_told_and_changes_nothing() {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let station = office.workstation("knot");
    let group: Group = office.api.post("/groups", &json!({ "name": "survey" })).expect("a group");
    let owner = office.account("tove", Role::Member);
    office.account("sture", Role::Administrator);
    let sture = office.signed_in("sture");
    let post_office = MailStandIn::start(([127, 0, 0, 1], 0).into(), &office.path("mail"), None).expect("it listens");
    let mail = |hour: u8| {
        let mut set = mail_to(&post_office);
        set.settings.summary_hour = Some(hour);
        serde_json::to_value(set).expect("JSON")
    };
    let workstation = format!("/workstations/{}", station.home.membership().expect("joined").workstation);
    let (destination, account, groups) =
        (format!("/destinations/{}", shelf.id), format!("/accounts/{}", owner.id), format!("/groups/{}", group.id));
    let (store, logins) = (format!("{}/settings", station.store()), format!("{groups}/logins"));
    // Where it is read, how and where it is changed, and what the first and the second make of it.
    let cases = [
        (&destination, Method::PATCH, &destination, json!({ "capacity": 3_000_000 }), json!({ "description": "for laptops" })),
        (
            &destination,
            Method::PATCH,
            &destination,
            json!({ "grants": { "logins": ["tove"] } }),
            json!({ "grants": { "logins": [] } }),
        ),
        (&account, Method::PATCH, &account, json!({ "quota": 5_000_000 }), json!({ "display_name": "Tove Lund" })),
        (&groups, Method::PATCH, &groups, json!({ "default_quota": 7 }), json!({ "default_limit": 7 })),
        (&groups, Method::PUT, &logins, json!({ "logins": ["tove"] }), json!({ "logins": [] })),
        (&workstation, Method::PUT, &store, json!({ "limit": 9_000_000 }), json!({ "retention": null })),
        (&"/mail".to_owned(), Method::PUT, &"/mail".to_owned(), mail(6), mail(9)),
        (
            &"/maintenance".to_owned(),
            Method::PUT,
            &"/maintenance".to_owned(),
            json!({ "backups": { "state": "off" }, "restores": true }),
            json!({ "backups": { "state": "on" }, "restores": false }),
        ),
        (
            &"/discovery".to_owned(),
            Method::PUT,
            &"/discovery".to_owned(),
            json!({ "announce": false, "name": "Backups" }),
            json!({ "announce": true }),
        ),
    ];
    for (at, method, change, first, second) in cases {
        let seen = version_at(&office.api, at);
        let _: Value = sture.send_seen(method.clone(), change, &first, &seen).expect("nobody was faster");
        let after_first: Value = office.api.get(at).expect("there");
        let (kind, title) = refusal(office.api.send_seen(method.clone(), change, &second, &seen));
        assert_eq!(kind, Some(ProblemKind::ChangedMeanwhile), "{change}");
        assert!(title.starts_with("'sture' changed this at "), "{change}: {title}");
        let now = version_at(&office.api, at);
        assert_eq!(Version(after_first["version"].as_str().unwrap_or(&now.0).to_owned()), now, "{change} is as the first set it");
        // Whoever has seen it decides again.
        let _: Value = office.api.send_seen(method, change, &second, &now).expect("seen");
    }
    let entries: Vec<AuditEntry> = office.api.first(&calls::audit_log(), &[], 100).expect("listed");
    assert_eq!(entries.iter().filter(|entry| entry.what == "destination changed").count(), 4, "refused changes changed nothing");
}

#[test]
fn figures_that_change_by_themselves_do_not_stand_in_the_way_of_a_change() {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let station = office.workstation("knot");
    let path = format!("/destinations/{}", shelf.id);
    let seen = version_at(&office.api, &path);
    station.write("letter", [7; 100_000]);
    station.back_up().expect("backed up");
    let after: Destination = office.api.get(&path).expect("there");
    assert!(after.used > shelf.used && after.version == seen, "{after:?}");
    let changed: Destination = office.api.send_seen(Method::PATCH, &path, &json!({ "waiting_days": 9 }), &seen).expect("changed");
    assert_ne!(changed.version, seen);
}

#[test]
fn access_granted_by_several_commands_at_once_is_all_granted() {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let nobody = json!({ "grants": { "everybody": false } });
    let _: Destination = office.patch(&format!("/destinations/{}", shelf.id), &nobody).expect("closed");
    let logins = ["tove", "sture", "ragna", "embla"];
    logins.iter().for_each(|login| drop::<Account>(office.account(login, Role::Member)));
    let home = office.path("desk");
    let sign_in = ["sign-in", &office.address(), "--login", ADMINISTRATOR, "--fingerprint", &office.fingerprint()];
    let _ = jetfrost_ends(&home, &sign_in, 0);
    let commands = logins.map(|login| {
        let mut command = jetfrost(&home);
        command.args(["access", "grant", "shelf", "--login", login]).stdout(Stdio::null()).spawn().expect("it runs")
    });
    for mut command in commands {
        assert!(command.wait().expect("it ends").success());
    }
    let now: Destination = office.api.get(&format!("/destinations/{}", shelf.id)).expect("there");
    let mut grants = now.grants.logins;
    grants.sort_unstable();
    assert_eq!(grants, ["embla", "ragna", "sture", "tove"]);
}
