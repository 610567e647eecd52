//! `jetfrost mail`: alerts by mail.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use jetfrost_client::api::Api;
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::alerts::{MailSecurity, MailSettings, MailState, SetMail};
use jetfrost_wire::calls;

use crate::failure::{Code, Failure};
use crate::ui::{Given, Ui, moment};

type Done = Result<Code, Failure>;

#[derive(Debug, Subcommand)]
pub(crate) enum Mail {
    /// Shows the mail settings and whether mail is delivered.
    Show,
    /// Sets where mail goes. What is not given stays unchanged.
    Set(Box<Set>),
    /// Sends a test message.
    Test,
    /// Sends no mail any more.
    End,
}

#[derive(Debug, Args)]
pub(crate) struct Set {
    /// Host name or address of the mail server.
    #[arg(long, value_name = "HOST")]
    server: Option<String>,
    /// Port [default: 465, 587 or 25, by connection security].
    #[arg(long, value_name = "N")]
    port: Option<u16>,
    /// Connection security: 'tls', 'starttls', or 'none' for a mail server on the same machine.
    #[arg(long, value_name = "HOW", value_parser = security)]
    security: Option<MailSecurity>,
    /// Login name at the mail server, or 'none'.
    #[arg(long, value_name = "NAME")]
    login: Option<String>,
    /// A file whose first line is the mail server's password; or set JETFROST_MAIL_PASSWORD.
    #[arg(long, value_name = "FILE")]
    password_file: Option<PathBuf>,
    /// Sender address.
    #[arg(long, value_name = "ADDRESS")]
    from: Option<String>,
    /// An address to send to; may be repeated.
    #[arg(long, value_name = "ADDRESS")]
    to: Vec<String>,
    /// Hour of the daily summary, 0 to 23, or 'none'.
    #[arg(long, value_name = "HOUR", value_parser = hour)]
    summary_at: Option<Hour>,
}

#[derive(Debug, Clone, Copy)]
struct Hour(Option<u8>);

fn hour(text: &str) -> Result<Hour, String> {
    match text.parse() {
        _ if text == "none" => Ok(Hour(None)),
        Ok(hour @ 0..=23) => Ok(Hour(Some(hour))),
        _ => Err("it is an hour from 0 to 23, or 'none'".into()),
    }
}

fn security(text: &str) -> Result<MailSecurity, String> {
    MailSecurity::from_word(text).ok_or_else(|| "it is 'tls', 'starttls' or 'none'".into())
}

impl Mail {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        let state: MailState = match self {
            Self::Show => api.call(&calls::mail())?,
            Self::Set(set) => set.run(&api, ui)?,
            Self::Test => api.call(&calls::try_mail())?,
            Self::End => api.call(&calls::end_mail())?,
        };
        ui.show(&state, |state| say(state, ui));
        Ok(if state.trouble.is_some() { Code::Unreachable } else { Code::Done })
    }
}

impl Set {
    fn run(self, api: &Api, ui: &Ui) -> Result<MailState, Failure> {
        let now: MailState = api.call(&calls::mail())?;
        let (version, now) = (now.version, now.settings);
        let file = self.password_file.clone();
        let is_new = self.login.is_some() || file.is_some();
        let settings = self.over(now.as_ref())?;
        // The service keeps a password only as long as the way to the mail server is the same.
        let is_same_way = now.is_some_and(|now| way(&now) == way(&settings));
        let password = match &settings.login {
            Some(name) if is_new || !is_same_way => {
                let given = Given { file: file.as_deref(), option: "--password-file", variable: "JETFROST_MAIL_PASSWORD" };
                Some(ui.secret(&format!("the password of '{name}' at the mail server"), &given, false)?)
            }
            _ => None,
        };
        Ok(api.change(&calls::set_mail(), &SetMail { settings, password }, &version)?)
    }

    /// What is given, and what is not as it is now.
    fn over(self, now: Option<&MailSettings>) -> Result<MailSettings, Failure> {
        let missing = |option: &str| Failure::here(format!("Mail needs {option}."), "See 'jetfrost mail set --help'.");
        let kept = |of: fn(&MailSettings) -> &String| now.map(|now| of(now).clone());
        let security = self.security.or(now.map(|now| now.security)).unwrap_or_default();
        let usual_or_kept = now.filter(|now| now.security == security).map_or(security.usual_port(), |now| now.port);
        Ok(MailSettings {
            server: self.server.or_else(|| kept(|now| &now.server)).ok_or_else(|| missing("--server HOST"))?,
            port: self.port.unwrap_or(usual_or_kept),
            security,
            login: self.login.or_else(|| now.and_then(|now| now.login.clone())).filter(|login| login != "none"),
            sender: self.from.or_else(|| kept(|now| &now.sender)).ok_or_else(|| missing("--from ADDRESS"))?,
            recipients: match (self.to, now) {
                (to, _) if !to.is_empty() => to,
                (_, Some(now)) => now.recipients.clone(),
                (_, None) => return Err(missing("--to ADDRESS")),
            },
            summary_hour: self.summary_at.map_or(now.and_then(|now| now.summary_hour), |hour| hour.0),
        })
    }
}

/// Connection security of the mail server.
fn way(settings: &MailSettings) -> (&str, u16, MailSecurity, Option<&str>) {
    (&settings.server, settings.port, settings.security, settings.login.as_deref())
}

fn say(state: &MailState, ui: &Ui) {
    let Some(settings) = &state.settings else {
        ui.line("No mail is sent. Next: jetfrost mail set --server HOST --from ADDRESS --to ADDRESS");
        return;
    };
    let login = match (&settings.login, state.has_password) {
        (None, _) => String::new(),
        (Some(login), true) => format!(", as '{login}'"),
        (Some(login), false) => format!(", as '{login}' without a password"),
    };
    ui.line(&format!("server    {}:{}, security {}{login}", settings.server, settings.port, settings.security.word()));
    ui.line(&format!("from      {}", settings.sender));
    ui.line(&format!("to        {}", settings.recipients.join(", ")));
    ui.line(&match settings.summary_hour {
        Some(hour) => format!("tells     what needs attention and when that is over; a summary at {hour}:00"),
        None => "tells     what needs attention and when that is over; no summary".to_owned(),
    });
    ui.line(&match (&state.trouble, state.trouble_since, state.delivered) {
        (Some(trouble), Some(since), _) => format!("not taken {trouble} (since {})", moment(since)),
        (_, _, Some(at)) => format!("taken     last at {}", moment(at)),
        _ => "taken     nothing yet. Next: jetfrost mail test".to_owned(),
    });
    if state.trouble.is_some() {
        ui.line("Next: see to server, port, security and login ('jetfrost mail set'), then: jetfrost mail test");
    }
}
