//! People: renamed, shut out, removed; how they sign in; what they may reach; what is written down of it.

use jetfrost_client::ClientError;
use jetfrost_client::api::{Api, Method};
use jetfrost_tests::office::{ADMINISTRATOR, Office, PASSWORD};
use jetfrost_types::Limit;
use jetfrost_wire::access::AccessLine;
use jetfrost_wire::destination::Destination;
use jetfrost_wire::people::{
    Account, AccountChange, AccountRemoval, AccountTies, Group, GroupChange, NewAccount, NewGroup, NewPassword, OwnPassword,
    PasswordSet, Role, WorkstationsGo,
};
use jetfrost_wire::point::Point;
use jetfrost_wire::problem::ProblemKind;
use jetfrost_wire::retention::NewHold;
use jetfrost_wire::rules::{FieldRule, Ruling, Typed};
use jetfrost_wire::service::{
    AuditEntry, Carry, ConfirmSecondFactor, EndSecondFactor, IssuedToken, NewToken, SecondFactorOffer, Session, SessionsEnded,
    SignIn, SignedIn, SpareCodes, TokenScope,
};
use jetfrost_wire::workstation::{Overview, Workstation as Record, WorkstationState};
use serde_json::Value;
use totp_rs::Builder;

fn kind<T: std::fmt::Debug>(result: Result<T, ClientError>) -> Option<ProblemKind> {
    match result {
        Err(ClientError::Refused(problem)) => problem.known_kind(),
        other => panic!("it was not refused: {other:?}"),
    }
}

fn account(office: &Office, login: &str) -> Account {
    let all: Vec<Account> = office.api.list("/accounts").expect("listed");
    all.into_iter().find(|a| a.login == login).unwrap_or_else(|| panic!("no account '{login}'"))
}

fn sign_in(office: &Office, login: &str, password: &str, code: Option<&str>) -> Result<String, ClientError> {
    let api = Api::new(&office.address(), Some(&office.fingerprint())).expect("a service");
    let call = SignIn {
        login: login.into(),
        password: password.into(),
        code: code.map(str::to_owned),
        carry: Carry::Token,
        label: Some("a test".into()),
    };
    let signed_in: SignedIn = api.post("/sessions", &call)?;
    Ok(signed_in.token.expect("a token"))
}

fn with_token(office: &Office, token: &str) -> Api {
    Api::new(&office.address(), Some(&office.fingerprint())).expect("a service").with_credential(token)
}

fn audit(office: &Office) -> Vec<AuditEntry> {
    office.api.list("/audit").expect("listed")
}

#[test]
fn a_login_name_can_be_changed_and_no_workstation_notices() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "here");
    let before = account(&office, "owner of knot");
    let change =
        AccountChange { login: Some("Jörn".into()), display_name: Some("Jörn Dahl".into()), ..AccountChange::default() };
    let changed: Account = office.patch(&format!("/accounts/{}", before.id), &change).expect("changed");
    assert_eq!((changed.id, changed.login.as_str(), changed.display_name.as_str()), (before.id, "Jörn", "Jörn Dahl"));
    station.back_up().expect("backed up");
    // Neither letter case nor the way in which the ö is typed decides.
    for typed in ["jörn", "JO\u{308}RN", " jörn "] {
        sign_in(&office, typed, PASSWORD, None).expect("signs in");
        let taken: Result<Account, _> = office.api.post("/accounts", &NewAccount::new(typed, Role::Member));
        assert_eq!(kind(taken), Some(ProblemKind::NameTaken), "{typed}");
    }
    assert_eq!(kind(sign_in(&office, "owner of knot", PASSWORD, None)), Some(ProblemKind::WrongPassword));
    let entry = audit(&office).into_iter().find(|e| e.what == "account changed").expect("on record");
    assert!(entry.before.expect("before").contains("owner of knot") && entry.after.expect("after").contains("Jörn"));
}

#[test]
fn groups_give_defaults_and_go_without_taking_their_accounts_along() {
    let office = Office::open();
    office.destination("shelf");
    let new = |name: &str, limit, quota| NewGroup { name: name.into(), default_limit: limit, default_quota: quota };
    let survey: Group = office.api.post("/groups", &new("survey", Some(5_000_000), Some(9_000_000))).expect("added");
    let _: Group = office.api.post("/groups", &new("office", Some(7_000_000), None)).expect("added");
    let member = NewAccount { groups: vec!["SURVEY".into(), "office".into()], ..NewAccount::new("tove", Role::Member) };
    let tove: Account = office.api.post("/accounts", &member).expect("added");
    assert_eq!((tove.quota, tove.groups.len()), (Some(9_000_000), 2));
    let home = jetfrost_client::state_dir::StateDir::new(office.path("tove-home"));
    let ways = jetfrost_client::join::FirstWays::passphrase("an image passphrase");
    jetfrost_client::join::join(&home, &office.code("tove"), "tern", &ways, &jetfrost_client::system_random()).expect("joins");
    let overview: Overview = office.api.get("/overview").expect("an overview");
    assert_eq!(overview.workstations[0].store.limit, Some(7_000_000), "the largest default of the groups");
    let rename = GroupChange { name: Some("harbour".into()), default_limit: Some(Limit::None), ..GroupChange::default() };
    let renamed: Group = office.patch(&format!("/groups/{}", survey.id), &rename).expect("changed");
    assert_eq!((renamed.name.as_str(), renamed.default_limit, renamed.default_quota), ("harbour", None, Some(9_000_000)));
    office.api.delete(&format!("/groups/{}", survey.id)).expect("removed");
    assert_eq!(account(&office, "tove").groups, ["office"]);
}

#[test]
fn access_is_told_both_ways_with_its_reasons() {
    let office = Office::open();
    let shelf = office.destination("shelf");
    let station = office.workstation("knot");
    let _: Group =
        office.api.post("/groups", &NewGroup { name: "survey".into(), default_limit: None, default_quota: None }).expect("added");
    let in_group = NewAccount { groups: vec!["survey".into()], ..NewAccount::new("tove", Role::Member) };
    let _: Account = office.api.post("/accounts", &in_group).expect("added");
    let open = serde_json::json!({ "grants": { "groups": ["survey"], "logins": [ADMINISTRATOR] } });
    let _: Destination = office.patch(&format!("/destinations/{}", shelf.id), &open).expect("opened");
    let said = |query: &str| -> Vec<String> {
        let lines: Vec<AccessLine> = office.api.list(&format!("/access{query}")).expect("listed");
        let reasons = |line: &AccessLine| serde_json::to_value(&line.cells[0].reasons).expect("JSON").to_string();
        lines.iter().map(|line| format!("{} {} {}", line.login, reasons(line), line.cells[0].stores)).collect()
    };
    assert_eq!(
        said("?destination=shelf"),
        [r#"ingrid [{"by":"account"}] 0"#, "owner of knot [] 1", r#"tove [{"by":"group","name":"survey"}] 0"#]
    );
    assert_eq!(said("?login=tove"), [r#"tove [{"by":"group","name":"survey"}] 0"#]);
    assert_eq!(kind(station.back_up()), Some(ProblemKind::NoAccess));
}

/// Every credential against every image store: what is one's own answers, all else is as if it were not there.
#[test]
fn no_workstation_reaches_another_ones_store_in_any_pair() {
    let office = Office::open();
    office.destination("shelf");
    let stations: Vec<_> = ["avocet", "dunlin", "knot", "tern"].iter().map(|name| office.workstation(name)).collect();
    for station in &stations {
        station.write("letter", "mine");
        station.back_up().expect("backed up");
    }
    let mut pairs = 0;
    for (i, asking) in stations.iter().enumerate() {
        let (m, device) = asking.home.device_api().expect("joined");
        let person = office.signed_in(&m.login);
        for (j, asked) in stations.iter().enumerate() {
            let theirs = asked.home.membership().expect("joined");
            for api in [&device, &person] {
                let reads = [
                    format!("/workstations/{}", theirs.workstation),
                    format!("/workstations/{}/points", theirs.workstation),
                    format!("/workstations/{}/runs", theirs.workstation),
                    format!("/stores/{}/slots", theirs.store),
                    format!("/stores/{}/unlock-methods", theirs.store),
                    format!("/stores/{}/points/1", theirs.store),
                ];
                for path in reads {
                    let found = api.get::<Value>(&path);
                    if i == j {
                        found.unwrap_or_else(|e| panic!("{path}: {e}"));
                    } else {
                        assert_eq!(kind(found), Some(ProblemKind::NotFound), "{path}");
                        pairs += 1;
                    }
                }
            }
            if i != j {
                let run = format!("/workstations/{}/runs", theirs.workstation);
                let begin = serde_json::json!({ "client_version": "0", "kind": "files" });
                assert_eq!(kind(device.post::<_, Value>(&run, &begin)), Some(ProblemKind::NotFound));
            }
        }
    }
    assert_eq!(pairs, 4 * 3 * 2 * 6);
}

#[test]
fn a_new_password_signs_out_people_and_stops_no_workstation() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "here");
    let owner = account(&office, "owner of knot");
    let (first, second) = (office.signed_in(&owner.login), office.signed_in(&owner.login));
    let ties: AccountTies = office.api.get(&format!("/accounts/{}/ties", owner.id)).expect("looked at");
    assert_eq!((ties.browsers, ties.tokens, ties.workstations[0].name.as_str()), (0, 2, "knot"));
    let new = NewPassword { password: Some("another of ten".into()) };
    let set: PasswordSet = office.put(&format!("/accounts/{}/password", owner.id), &new).expect("set");
    assert_eq!((set.signed_out, set.unaffected), (2, vec!["knot".to_owned()]));
    assert_eq!(kind(first.get::<Value>("/sessions/current")), Some(ProblemKind::NotSignedIn));
    station.back_up().expect("its own credential");

    // One's own: the old one is asked for, and other sessions end.
    let own = with_token(&office, &sign_in(&office, &owner.login, "another of ten", None).expect("signs in"));
    let change = |old: &str| {
        own.send::<_, PasswordSet>(
            Method::PUT,
            "/sessions/current/password",
            &OwnPassword { old: old.into(), new: "a third of ten".into() },
        )
    };
    assert_eq!(kind(change("wrong")), Some(ProblemKind::WrongPassword));
    change("another of ten").expect("changed");
    own.get::<Value>("/sessions/current").expect("this one goes on");
    drop(second);
}

#[test]
fn a_disabled_account_is_shut_out_with_its_workstations_and_comes_back_whole() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "here");
    station.back_up().expect("backed up");
    let owner = account(&office, "owner of knot");
    let signed_in = office.signed_in(&owner.login);
    let path = format!("/accounts/{}/disabled", owner.id);
    let _: Account = office.put(&path, &()).expect("disabled");
    assert_eq!(kind(signed_in.get::<Value>("/sessions/current")), Some(ProblemKind::NotSignedIn));
    assert_eq!(kind(sign_in(&office, &owner.login, PASSWORD, None)), Some(ProblemKind::WrongPassword), "nothing is given away");
    assert_eq!(kind(station.back_up()), Some(ProblemKind::Disabled));
    let _: Account = office.api.send(Method::DELETE, &path, &()).expect("enabled");
    station.back_up().expect("goes on");
    assert_eq!(station.back_up().expect("and on").point.sequence, 3);
}

#[test]
fn removing_an_account_asks_what_becomes_of_its_workstations() {
    let (office, clock) = Office::stepped("2026-10-01T10:00:00Z".parse().expect("a time"));
    office.destination("shelf");
    let stations: Vec<_> = ["avocet", "dunlin", "knot"].iter().map(|name| office.workstation(name)).collect();
    for station in &stations {
        station.write("letter", "here");
        station.back_up().expect("backed up");
    }
    office.account("heir", Role::Member);
    let remove = |name: &str, workstations| {
        let id = account(&office, &format!("owner of {name}")).id;
        office.api.post_without_answer(&format!("/accounts/{id}/removal"), &AccountRemoval { workstations })
    };
    assert_eq!(kind(remove("avocet", None)), Some(ProblemKind::Invalid), "it is asked, never assumed");
    remove("avocet", Some(WorkstationsGo::To { login: "heir".into() })).expect("removed");
    remove("dunlin", Some(WorkstationsGo::Retire)).expect("removed");
    remove("knot", Some(WorkstationsGo::Remove)).expect("removed");
    stations[0].back_up().expect("it goes on for its heir");
    assert_eq!(kind(stations[1].back_up()), Some(ProblemKind::NotSignedIn), "its machine is cut off");
    let shown = |name: &str| -> Option<Record> {
        let overview: Overview = office.api.get("/overview").expect("an overview");
        overview.workstations.into_iter().find(|w| w.name == name)
    };
    assert_eq!(shown("avocet").expect("there").login, "heir");
    let retired = shown("dunlin").expect("its backups are kept");
    assert_eq!((retired.state, retired.store.points, retired.login.as_str()), (WorkstationState::Retired, 1, "owner of dunlin"));
    let ends = shown("knot").expect("it waits").store.pending_removal.expect("removed").ends;
    assert_eq!(
        ends,
        "2026-10-31T10:00:00Z".parse().expect("a time"),
        "when its protected time is over, not after the waiting time"
    );
    clock.set("2026-10-30T10:00:00Z".parse().expect("a time"));
    office.tend();
    assert!(shown("knot").is_some(), "whoever can remove an account cannot shorten the protected time");
    clock.set("2026-10-31T10:00:01Z".parse().expect("a time"));
    office.tend();
    assert!(shown("knot").is_none());
    // The name can be given again, to somebody else.
    office.account("owner of dunlin", Role::Member);
    assert_eq!(account(&office, "owner of dunlin").workstations, 0);
}

#[test]
fn an_account_is_not_removed_with_backups_that_are_on_hold() {
    let office = Office::open();
    office.destination("shelf");
    let station = office.workstation("knot");
    station.write("letter", "here");
    station.back_up().expect("backed up");
    let hold = NewHold { reason: "a dispute".into() };
    let _: Point = office.put(&format!("{}/points/1/hold", station.store()), &hold).expect("held");
    let owner = account(&office, "owner of knot");
    let removal = AccountRemoval { workstations: Some(WorkstationsGo::Remove) };
    let refused = office.api.post_without_answer(&format!("/accounts/{}/removal", owner.id), &removal);
    assert_eq!(kind(refused), Some(ProblemKind::Invalid));
    assert_eq!(account(&office, "owner of knot"), owner, "all or nothing");
}

#[test]
fn there_is_always_an_administrator_who_can_sign_in() {
    let office = Office::open();
    let me = account(&office, ADMINISTRATOR);
    let path = format!("/accounts/{}", me.id);
    let demote = AccountChange { role: Some(Role::Member), ..AccountChange::default() };
    assert_eq!(kind(office.patch::<_, Account>(&path, &demote)), Some(ProblemKind::Conflict));
    assert_eq!(kind(office.put::<_, Account>(&format!("{path}/disabled"), &())), Some(ProblemKind::Conflict));
    let none = NewPassword { password: None };
    assert_eq!(kind(office.put::<_, PasswordSet>(&format!("{path}/password"), &none)), Some(ProblemKind::Conflict));
    // One who cannot sign in is no other one.
    let _: Account = office.api.post("/accounts", &NewAccount::new("silent", Role::Administrator)).expect("added");
    assert_eq!(kind(office.patch::<_, Account>(&path, &demote)), Some(ProblemKind::Conflict));
    office.account("second", Role::Administrator);
    let _: Account = office.patch(&path, &demote).expect("now there is another");
}

#[test]
fn a_second_factor_is_asked_for_each_code_counts_once_and_spare_codes_open_once() {
    let (office, clock) = Office::stepped("2026-10-01T10:00:00Z".parse().expect("a time"));
    let path = "/sessions/current/second-factor";
    let offer: SecondFactorOffer = office.api.post(path, &()).expect("offered");
    assert!(offer.address.starts_with("otpauth://totp/Jetfrost") && offer.picture.contains("<svg"));
    let secret = data_encoding::BASE32_NOPAD.decode(offer.secret.as_bytes()).expect("base 32");
    let code = |at: &str| {
        let at: jiff::Timestamp = at.parse().expect("a time");
        let totp = Builder::new().with_secret(secret.clone()).build().expect("RFC 6238");
        totp.generate(at.as_second().cast_unsigned()).to_string()
    };
    sign_in(&office, ADMINISTRATOR, PASSWORD, None).expect("an offer that was not confirmed asks for nothing");
    let confirm = |code: String| office.put::<_, SpareCodes>(path, &ConfirmSecondFactor { code, password: PASSWORD.into() });
    assert_eq!(kind_of(confirm("000000".into())), Some(ProblemKind::WrongSecondFactor));
    let spare = confirm(code("2026-10-01T10:00:00Z")).unwrap_or_else(|e| panic!("{e}")).codes;
    assert_eq!(spare.len(), 10);

    let at = |at: &str| clock.set(at.parse().expect("a time"));
    at("2026-10-01T10:05:00Z");
    let try_code = |code: Option<&str>| sign_in(&office, ADMINISTRATOR, PASSWORD, code);
    assert_eq!(kind(try_code(None)), Some(ProblemKind::SecondFactorNeeded));
    assert_eq!(
        kind(sign_in(&office, ADMINISTRATOR, "wrong", None)),
        Some(ProblemKind::WrongPassword),
        "the password comes first"
    );
    let now = code("2026-10-01T10:05:00Z");
    try_code(Some(&now)).expect("signs in");
    assert_eq!(kind(try_code(Some(&now))), Some(ProblemKind::WrongSecondFactor), "a code counts once");
    at("2026-10-01T10:06:00Z");
    try_code(Some(&spare[0].to_lowercase())).expect("a spare code");
    assert_eq!(kind(try_code(Some(&spare[0]))), Some(ProblemKind::WrongSecondFactor), "and no second time");
    at("2026-10-01T10:10:00Z");
    let wrong = EndSecondFactor { password: "wrong".into() };
    assert_eq!(kind(office.api.post::<_, Account>(&format!("{path}/end"), &wrong)), Some(ProblemKind::WrongPassword));
    let end = EndSecondFactor { password: PASSWORD.into() };
    let ended: Account = office.api.post(&format!("{path}/end"), &end).expect("ended");
    assert!(!ended.second_factor);
    try_code(None).expect("the password alone");
}

fn kind_of<T>(result: Result<T, ClientError>) -> Option<ProblemKind> {
    kind(result.map(drop))
}

#[test]
fn sessions_are_listed_and_ended_and_a_token_does_what_its_scope_says() {
    let (office, clock) = Office::stepped("2026-10-01T10:00:00Z".parse().expect("a time"));
    let other = with_token(&office, &sign_in(&office, ADMINISTRATOR, PASSWORD, None).expect("signs in"));
    let new = NewToken { label: "wall display".into(), scope: TokenScope::See, days: 30, password: PASSWORD.into() };
    let issued: IssuedToken = office.api.post("/tokens", &new).expect("made");
    let token = with_token(&office, &issued.token);
    token.get::<Value>("/overview").expect("it sees");
    let account = NewAccount::new("x", Role::Member);
    assert_eq!(kind(token.post::<_, Account>("/accounts", &account)), Some(ProblemKind::NotAllowed));
    assert_eq!(kind_of(token.post::<_, IssuedToken>("/tokens", &new)), Some(ProblemKind::NotAllowed));
    let sessions: Vec<Session> = office.api.list("/sessions").expect("listed");
    assert_eq!(sessions.iter().filter(|s| s.current).count(), 1);
    let labels: Vec<&str> = sessions.iter().map(|s| s.label.as_str()).collect();
    assert!(sessions.len() == 3 && labels.contains(&"wall display") && labels.contains(&"a test"), "{labels:?}");
    let ended: SessionsEnded = office.api.send(Method::DELETE, "/sessions", &()).expect("ended");
    assert_eq!(ended.ended, 2);
    assert_eq!(kind(other.get::<Value>("/overview")), Some(ProblemKind::NotSignedIn));
    assert_eq!(kind(token.get::<Value>("/overview")), Some(ProblemKind::NotSignedIn));
    let issued: IssuedToken = office.api.post("/tokens", &new).expect("made");
    clock.set("2026-10-31T10:00:01Z".parse().expect("a time"));
    assert_eq!(kind(with_token(&office, &issued.token).get::<Value>("/overview")), Some(ProblemKind::NotSignedIn));
}

#[test]
fn what_is_typed_is_held_against_the_rules_and_only_who_may_see_names_is_told_that_one_is_taken() {
    let office = Office::open();
    office.account("ben", Role::Member);
    let says = |api: &Api, rule, text: &str, until_now: Option<&str>| {
        let typed = Typed { rule, text: text.into(), until_now: until_now.map(str::to_owned) };
        let ruling: Ruling = api.post("/rules", &typed).expect("answered");
        ruling.complaint
    };
    let nobody = Api::new(&office.address(), Some(&office.fingerprint())).expect("a service");
    let member = office.signed_in("ben");
    let taken = Some("The name 'ben' is taken.".to_owned());
    assert_eq!(says(&office.api, FieldRule::AccountName, " BEN", None), taken);
    assert_eq!(says(&office.api, FieldRule::AccountName, "Ben", Some("ben")), None);
    assert_eq!(says(&office.api, FieldRule::KnownAccount, "benn", None).as_deref(), Some("There is no account 'benn'."));
    for outsider in [&nobody, &member] {
        assert_eq!(says(outsider, FieldRule::AccountName, "ben", None), None);
        assert_eq!(says(outsider, FieldRule::KnownAccount, "benn", None), None);
        let short = says(outsider, FieldRule::Password, "low water", None);
        assert_eq!(short.as_deref(), Some("A password has 10 characters at least."));
    }
}
