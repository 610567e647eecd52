//! Watching a large office: 300 workstations with 1,000 points each, 200 sessions that are signed in.

use std::fmt::Write as _;
use std::io::{BufRead, BufReader, Write as _};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use jetfrost_client::api::{Api, Method};
use jetfrost_client::join::{FirstWays, join};
use jetfrost_client::state_dir::StateDir;
use jetfrost_image::crypto::SystemRandom;
use jetfrost_image::format::ArgonCost;
use jetfrost_tests::browser::Browser;
use jetfrost_tests::office::{ADMINISTRATOR, PASSPHRASE, PASSWORD};
use jetfrost_wire::enrolment::Invitation;
use jetfrost_wire::people::{Account, AccountChange, NewAccount, Role};
use jetfrost_wire::roster::{Roster, RosterDone};
use jetfrost_wire::service::{Carry, IssuedToken, NewToken, ServiceInfo, SignIn, SignedIn, TokenScope};
use jetfrost_wire::workstation::Overview;

use crate::office::{Office, outln};

const WORKSTATIONS: usize = 300;
const POINTS: usize = 1000;
const SESSIONS: usize = 200;
const HELPERS: usize = 25;
/// As many as the service takes at once.
const LISTENERS: usize = 400;
/// A call is made so often; the median is told.
const TIMES: usize = 41;

pub(crate) fn run(scratch: &Path) {
    let office = Office::open(scratch);
    let (_, api) = StateDir::new(office.at("admin")).session_api().expect("signed in");
    let _ = enrolled(&office, &api);
    fill(&office.at("state/records.sqlite"));
    let tokens: Vec<Session> = (0..HELPERS).flat_map(|i| sessions(&api, i)).collect();

    let nothing = median(|| drop(api.get::<ServiceInfo>("/service").expect("answered")));
    let overview = median(|| {
        let overview: Overview = api.get("/overview").expect("answered");
        assert_eq!(overview.workstations.len(), WORKSTATIONS);
    });
    outln(&format!(
        "overview of {WORKSTATIONS} workstations with {POINTS} points each: {:.1} ms, {:.0} x a call that asks for nothing",
        overview * 1000.0,
        overview / nothing
    ));
    let began = Instant::now();
    std::thread::scope(|scope| {
        for Session { api, .. } in &tokens {
            scope.spawn(|| drop(api.get::<Overview>("/overview").expect("answered")));
        }
    });
    let all = began.elapsed().as_secs_f64();
    outln(&format!(
        "{SESSIONS} sessions ask for it at once: all have it after {all:.2} s, {:.1} ms each",
        all * 1000.0 / SESSIONS as f64
    ));
    listeners(&office, &api, &tokens);
    tokio::runtime::Runtime::new().expect("a runtime").block_on(console(&office));
}

/// Workstations of a large office, by a roster.
pub(crate) fn enrolled(office: &Office, api: &Api) -> Vec<StateDir> {
    let mut table = "account,display name,groups,machine,destination\n".to_owned();
    for i in 0..WORKSTATIONS {
        writeln!(table, "person{i},Person {i},Group {},machine{i},Shelf", i % 9).expect("written");
    }
    let began = Instant::now();
    let done: RosterDone = api.post("/roster", &Roster { table, hours: None }).expect("brought in");
    outln(&format!("roster of {WORKSTATIONS} lines, brought in: {:.2} s", began.elapsed().as_secs_f64()));
    let ways = FirstWays { passphrase: PASSPHRASE, cost: ArgonCost { memory: 64, passes: 1, lanes: 1 }, office_key: None };
    let joined = done.codes.iter().enumerate().map(|(i, issued)| {
        let invitation = Invitation::parse(&issued.code).expect("a code");
        let home = StateDir::new(office.at(&format!("home{i}")));
        join(&home, &invitation, "machine", &ways, &SystemRandom::default()).expect("joins");
        home
    });
    joined.collect()
}

/// How long a call takes while accounts are changed without a pause, by itself and beside listeners, of whom each is told of every
/// change and looked at again for it.
fn listeners(office: &Office, api: &Api, tokens: &[Session]) {
    let by_itself = latency_beside_changes(api);
    let each = LISTENERS / tokens.len();
    let twice: Vec<&str> = tokens.iter().flat_map(|session| vec![session.token.as_str(); each]).collect();
    let mut listening = listen(office, &twice);
    let beside = latency_beside_changes(api);
    listening.iter_mut().for_each(|curl| drop(curl.kill().and_then(|()| curl.wait())));
    outln(&format!(
        "a call beside changes without a pause: {:.1} ms; with {LISTENERS} listeners {:.1} ms, {:.1} x",
        by_itself * 1000.0,
        beside * 1000.0,
        beside / by_itself
    ));
}

fn latency_beside_changes(api: &Api) -> f64 {
    let done = AtomicBool::new(false);
    let account = api.list::<Account>("/accounts").expect("accounts").pop().expect("one").id;
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let mut n = 0;
            while !done.load(Ordering::Relaxed) {
                n += 1;
                let change = AccountChange { display_name: Some(format!("Name {n}")), ..AccountChange::default() };
                let _: Account = api.send(Method::PATCH, &format!("/accounts/{account}"), &change).expect("changed");
            }
        });
        let latency = median(|| drop(api.get::<ServiceInfo>("/service").expect("answered")));
        done.store(true, Ordering::Relaxed);
        latency
    })
}

/// Listeners that are heard from, one for each credential, in two processes.
pub(crate) fn listen(office: &Office, credentials: &[&str]) -> Vec<Child> {
    let (tell, heard) = std::sync::mpsc::channel();
    let halves = credentials.chunks(credentials.len().div_ceil(2));
    let curls = halves.map(|credentials| {
        let one = |credential: &&str| {
            format!(
                "url = \"https://{}{}/events\"\nheader = \"authorization: Bearer {credential}\"\ninsecure\n",
                office.daemon.address,
                jetfrost_wire::ROOT
            )
        };
        let all: Vec<String> = credentials.iter().map(one).collect();
        let most = all.len().to_string();
        let mut curl = Command::new("curl")
            .args(["--silent", "--no-buffer", "--parallel", "--parallel-immediate", "--parallel-max", &most, "--config", "-"])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("curl is there");
        curl.stdin.take().expect("piped").write_all(all.join("next\n").as_bytes()).expect("written");
        let out = BufReader::new(curl.stdout.take().expect("piped"));
        let tell = tell.clone();
        std::thread::spawn(move || {
            out.lines().map_while(Result::ok).filter(|line| line == ": listening").for_each(|_| {
                let _ = tell.send(());
            });
        });
        curl
    });
    let curls = curls.collect();
    for _ in credentials {
        heard.recv_timeout(Duration::from_secs(60)).expect("every listener is heard from");
    }
    curls
}

/// Points and runs, straight into the records: what is measured reads them, and asks nothing of the image stores.
fn fill(records: &Path) {
    let script = format!(
        "import sqlite3,sys,time\n\
         d=sqlite3.connect(sys.argv[1],timeout=30); now=int(time.time()*1000)\n\
         stores=d.execute('select id, workstation_id from stores').fetchall()\n\
         for s,w in stores:\n\
         \x20d.executemany('insert into points (store_id,sequence,kind,committed,files,bytes,exceptions,sent) values (?,?,?,?,?,?,?,?)',\n\
         \x20 [(s,n,'files',now-({POINTS}-n)*3600000,120000,250000000000,0,40000000) for n in range(1,{POINTS}+1)])\n\
         \x20d.execute('update stores set points={POINTS}, latest_sequence={POINTS} where id=?',(s,))\n\
         d.commit()"
    );
    let output = Command::new("python3").args(["-c", &script]).arg(records).output().expect("python3 is there");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
}

/// Somebody who is signed in.
struct Session {
    api: Api,
    token: String,
}

/// The sessions of one helpdesk account.
fn sessions(api: &Api, number: usize) -> Vec<Session> {
    let login = format!("helper {number}");
    let new = NewAccount { password: Some(PASSWORD.into()), ..NewAccount::new(&login, Role::Helpdesk) };
    let _: Account = api.post("/accounts", &new).expect("an account");
    let call = SignIn { login, password: PASSWORD.into(), code: None, carry: Carry::Token, label: None };
    let signed_in: SignedIn = api.post("/sessions", &call).expect("signed in");
    let own = api.clone().with_credential(&signed_in.token.expect("a token"));
    let token = |i| {
        let new = NewToken { label: format!("watcher {i}"), scope: TokenScope::See, days: 1, password: PASSWORD.into() };
        let issued: IssuedToken = own.post("/tokens", &new).expect("a token");
        Session { api: own.clone().with_credential(&issued.token), token: issued.token }
    };
    (0..SESSIONS / HELPERS).map(token).collect()
}

fn median(call: impl Fn()) -> f64 {
    let mut seconds: Vec<f64> = (0..TIMES)
        .map(|_| {
            let began = Instant::now();
            call();
            began.elapsed().as_secs_f64()
        })
        .collect();
    seconds.sort_by(f64::total_cmp);
    seconds[TIMES / 2]
}

/// From the address to the list with all lines, in a browser that is signed in.
async fn console(office: &Office) {
    let browser = Browser::open().await;
    let base = format!("https://{}", office.daemon.address);
    browser.driver.goto(format!("{base}/sign-in")).await.expect("the page opens");
    browser.fill("login", ADMINISTRATOR).await;
    browser.fill("password", PASSWORD).await;
    browser.press("Sign in").await;
    browser.sees("machine299").await;
    let began = Instant::now();
    browser.driver.goto(format!("{base}/")).await.expect("the page opens");
    browser.sees("machine299").await;
    outln(&format!("console, from address to all {WORKSTATIONS} lines: {:.2} s", began.elapsed().as_secs_f64()));
    browser.close().await;
}
