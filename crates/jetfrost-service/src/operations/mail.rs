//! Mail: each alert, sent once when it begins and once when it is over; and a summary of everything, once a day.

use std::time::{Duration, SystemTime};

use jetfrost_office::access::Act;
use jetfrost_office::alerts::{Alert, News, is_summary_due, news};
use jetfrost_types::SessionId;
use jetfrost_wire::Version;
use jetfrost_wire::alerts::{MailSettings, MailState, SetMail};
use jetfrost_wire::event::Event;
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::WorkstationState;
use jiff::civil::date;

use crate::clock::{Moment, timestamp};
use crate::mailer::{MailError, MailMessage, MailServer, mailbox};
use crate::operations::Operations;
use crate::operations::alerts::line;
use crate::records::{Connection, MailRow, Port, ToldRow, WorkstationLine};
use crate::secrets::new_id;
use crate::shared::versions::{Made, Seen, version};
use crate::shared::{Caller, Conflict, Invalid, Result, ServiceError, bounds, convert};

/// New alerts are looked for this often.
const TEND_EVERY: Duration = Duration::from_secs(60);

impl Operations {
    /// Where mail goes, and whether it gets there.
    pub(crate) fn mail(&self, caller: &Caller) -> Result<MailState> {
        caller.may(&Act::SeeOffice)?;
        self.mail_state()
    }

    /// Decides where mail goes. Present alerts are sent again.
    pub(crate) fn set_mail(&self, caller: &Caller, to: &SetMail, seen: &Seen) -> Result<MailState> {
        caller.may(&Act::ChangeOffice)?;
        check(to)?;
        let settings = &to.settings;
        self.records.write(|on| {
            let before = MailRow::get(on)?;
            let made = before.as_ref().map(said).unwrap_or_default();
            seen.check(&version_of(before.as_ref()), &Made { subject: None, after: &made }, on)?;
            let kept = before.as_ref().filter(|row| is_same_way(row, settings)).and_then(|row| row.password.clone());
            let row = MailRow {
                id: MailRow::ONLY,
                server: settings.server.clone(),
                port: Port(settings.port),
                security: settings.security.into(),
                login: settings.login.clone(),
                password: to.password.clone().or(kept).filter(|_| settings.login.is_some()),
                sender: settings.sender.clone(),
                recipients: settings.recipients.join("\n"),
                summary_hour: settings.summary_hour.map(Into::into),
                delivered: None,
                trouble: None,
                trouble_since: None,
                summarised: before.as_ref().and_then(|row| row.summarised),
            };
            MailRow::remove(on)?;
            row.put(on)?;
            self.trail.note_change(caller, "mail set", "", before.as_ref().map(said).as_deref(), Some(&said(&row)), on)
        })?;
        self.events.tell(Event::Office);
        self.mail_state()
    }

    /// Sends no mail any more.
    pub(crate) fn end_mail(&self, caller: &Caller) -> Result<MailState> {
        caller.may(&Act::ChangeOffice)?;
        self.records.write(|on| {
            let Some(before) = MailRow::get(on)? else { return Ok(()) };
            MailRow::remove(on)?;
            self.trail.note_change(caller, "mail ended", "", Some(&said(&before)), None, on)
        })?;
        self.events.tell(Event::Office);
        self.mail_state()
    }

    /// Sends a message that says nothing but that mail works, and says how it went.
    pub(crate) fn try_mail(&self, caller: &Caller) -> Result<MailState> {
        caller.may(&Act::ChangeOffice)?;
        let row = self.mail_row()?.ok_or(ServiceError::Conflict(Conflict::NoMailSettings))?;
        let text = format!(
            "{} asked for this message. It says that mail from the backup service gets here.\n\nFrom now on you are told when something needs attention, \
             and when that is over.\n",
            caller.name()
        );
        self.records.write(|on| self.trail.note(caller, "mail tried", &said(&row), on))?;
        self.post(&row, "Mail from the backup service gets here", &text)?;
        self.events.tell(Event::Office);
        self.mail_state()
    }

    /// Tells what there is to tell until it is stopped: apart from all other work, which no mail server holds up.
    pub(crate) fn work_on_mail(&self) {
        while self.mailer.wait(TEND_EVERY) {
            if let Err(error) = self.tend_mail() {
                tracing::error!(%error, "looking for what needs attention");
            }
        }
    }

    /// Mail that is being sent is broken off.
    pub(crate) fn stop_mail(&self) {
        self.mailer.stop();
    }

    /// Tells what is new, and sends the summary when it is due. A message that is not taken is tried again the next time.
    pub(crate) fn tend_mail(&self) -> Result<()> {
        let _turn = self.mailer.turn();
        let Some(row) = self.mail_row()? else { return Ok(()) };
        let now = self.alerts()?;
        self.tell_news(&row, &now)?;
        self.tell_summary(&row, &now)
    }

    fn tell_news(&self, row: &MailRow, now: &[Alert]) -> Result<()> {
        let told = self.records.read(|on| Ok::<_, ServiceError>(ToldRow::all(on)?))?;
        let told: Vec<Alert> = told.iter().map(alert).collect();
        let news = news(&told, now);
        if news.is_empty() {
            return Ok(());
        }
        let text = format!("{}\n{}", said_of_news(&news), self.where_to_look());
        if self.post(row, &subject(&news), &text)? {
            self.records.write(|on| note_told(&news, self.clock.now(), on))?;
        }
        Ok(())
    }

    fn tell_summary(&self, row: &MailRow, alerts: &[Alert]) -> Result<()> {
        let Some(hour) = row.summary_hour else { return Ok(()) };
        let now = self.clock.now();
        let last = row.summarised.map(|at| self.day_and_hour(at).0);
        if !is_summary_due(i8::try_from(hour).unwrap_or(0), self.day_and_hour(now), last) {
            return Ok(());
        }
        let lines = self.records.read(|on| Ok::<_, ServiceError>(WorkstationLine::all(None, on)?))?;
        let counted = counted(&lines, now);
        let text = format!(
            "{counted}\n\n{}\n{}\n{}\n{}",
            said_of_alerts(alerts),
            self.said_of_places()?,
            self.storage.said_of_audit()?,
            self.where_to_look()
        );
        if self.post(row, &format!("Backups: {counted}"), &text)? {
            self.records.write(|on| Ok::<_, ServiceError>(MailRow::set_summarised(now, on)?))?;
        }
        Ok(())
    }

    /// Hands a message to the mail server and puts on record how that went. Says whether it was taken.
    fn post(&self, row: &MailRow, subject: &str, text: &str) -> Result<bool> {
        let now = self.clock.now();
        let since_1970 = Duration::from_millis(now.ms().unsigned_abs());
        let message = MailMessage {
            from: row.sender.clone(),
            to: row.recipients().map(str::to_owned).collect(),
            subject: subject.into(),
            text: text.into(),
            date: SystemTime::UNIX_EPOCH + since_1970,
            id: format!("{}@{}", new_id::<SessionId>(&*self.random), self.installation.public_name),
        };
        let sent = self.mailer.send(&server(row, &self.installation.public_name), &message);
        let trouble = match &sent {
            Ok(taken) => said_of_refused(&taken.refused),
            // It is no trouble with mail.
            Err(MailError::Stopped) => return Ok(false),
            Err(error) => Some(error.to_string()),
        };
        if let Some(trouble) = &trouble {
            tracing::warn!(trouble, server = row.server, "mail was not taken");
        }
        self.records.write(|on| {
            if sent.is_ok() {
                MailRow::set_delivered(now, on)?;
            }
            if let Some(trouble) = &trouble {
                MailRow::set_trouble(trouble, row.trouble_since.unwrap_or(now), on)?;
            }
            Ok::<_, ServiceError>(())
        })?;
        Ok(sent.is_ok())
    }

    fn mail_row(&self) -> Result<Option<MailRow>> {
        self.records.read(|on| Ok(MailRow::get(on)?))
    }

    fn mail_state(&self) -> Result<MailState> {
        let row = self.mail_row()?;
        Ok(MailState {
            version: version_of(row.as_ref()),
            has_password: row.as_ref().is_some_and(|row| row.password.is_some()),
            delivered: row.as_ref().and_then(|row| row.delivered).map(timestamp),
            trouble: row.as_ref().and_then(|row| row.trouble.clone()),
            trouble_since: row.as_ref().and_then(|row| row.trouble_since).map(timestamp),
            settings: row.as_ref().map(settings),
        })
    }

    /// The day, counted from 1970, and the hour by the office's clocks.
    fn day_and_hour(&self, at: Moment) -> (i64, i8) {
        let here = timestamp(at).to_zoned(self.zone.clone()).datetime();
        let days = date(1970, 1, 1).until(here.date()).map_or(0, |span| span.get_days());
        (days.into(), here.hour())
    }

    fn where_to_look(&self) -> String {
        format!("The console: https://{}:{}/\n", self.installation.public_name, self.installation.port)
    }

    fn said_of_places(&self) -> Result<String> {
        let said = self.storage.all_destinations()?.into_iter().map(|place| {
            let used = place.used.map_or_else(|| "not there".into(), |used| format!("{} in use", show(used)));
            let room = place.room.map(|room| format!(", {} of room", show(room))).unwrap_or_default();
            format!("{}: {used}{room}\n", place.name)
        });
        Ok(said.collect())
    }
}

fn check(to: &SetMail) -> Result<()> {
    let MailSettings { server, port, recipients, sender, login, summary_hour, .. } = &to.settings;
    check_server(server)?;
    check_port(*port)?;
    check_recipients(recipients)?;
    if summary_hour.is_some_and(|hour| hour > 23) {
        return Err(Invalid::SummaryHour.into());
    }
    [login, &to.password].into_iter().flatten().try_for_each(|secret| check_secret(secret))?;
    check_address(sender)
}

/// A host name or an address.
pub(crate) fn check_server(server: &str) -> Result<()> {
    let is_host = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | ':' | '[' | ']');
    if server.is_empty() || server.len() > bounds::HOST || !server.chars().all(is_host) {
        return Err(Invalid::MailServer.into());
    }
    Ok(())
}

/// A port.
pub(crate) fn check_port(port: u16) -> Result<()> {
    if port == 0 { Err(Invalid::Port.into()) } else { Ok(()) }
}

/// A login name or a password at a mail server.
pub(crate) fn check_secret(secret: &str) -> Result<()> {
    if secret.is_empty() || secret.len() > bounds::MAIL_SECRET {
        return Err(Invalid::MailSecret.into());
    }
    Ok(())
}

/// Whom mail goes to.
pub(crate) fn check_recipients(recipients: &[String]) -> Result<()> {
    if recipients.is_empty() || recipients.len() > bounds::RECIPIENTS {
        return Err(Invalid::Recipients.into());
    }
    recipients.iter().try_for_each(|address| check_address(address))
}

/// An address.
pub(crate) fn check_address(address: &str) -> Result<()> {
    if address.len() > bounds::MAIL_ADDRESS || address.contains(char::is_control) || mailbox(address).is_err() {
        return Err(Invalid::MailAddress(address.into()).into());
    }
    Ok(())
}

/// Whether the mail server is spoken to as it was. A password does not go along to another one, nor on a way that is less protected.
fn is_same_way(row: &MailRow, settings: &MailSettings) -> bool {
    (&row.server, row.port.0, row.security.0, &row.login) == (&settings.server, settings.port, settings.security, &settings.login)
}

fn settings(row: &MailRow) -> MailSettings {
    MailSettings {
        server: row.server.clone(),
        port: row.port.0,
        security: row.security.0,
        login: row.login.clone(),
        sender: row.sender.clone(),
        recipients: row.recipients().map(str::to_owned).collect(),
        summary_hour: row.summary_hour.and_then(|hour| u8::try_from(hour).ok()),
    }
}

/// The password is not part of it: whoever sends none leaves it as it is.
fn version_of(row: Option<&MailRow>) -> Version {
    version(&row.map(settings))
}

fn server(row: &MailRow, own_name: &str) -> MailServer {
    let credentials = row.login.clone().map(|login| (login, row.password.clone().unwrap_or_default()));
    MailServer {
        host: row.server.clone(),
        port: row.port.0,
        security: row.security.0,
        credentials,
        own_name: own_name.to_owned(),
    }
}

/// Whom a message was not taken for, though others got it.
fn said_of_refused(refused: &[(String, String)]) -> Option<String> {
    let said = refused.iter().map(|(to, said)| format!("{to}: {said}"));
    (!refused.is_empty()).then(|| format!("not taken for everybody. {}", said.collect::<Vec<_>>().join("; ")))
}

/// Without the password.
fn said(row: &MailRow) -> String {
    let summary = row.summary_hour.map(|hour| format!(", summary at {hour}:00")).unwrap_or_default();
    format!(
        "to {} by {}:{} ({}){summary}",
        row.recipients().collect::<Vec<_>>().join(", "),
        row.server,
        row.port.0,
        row.security.0.word()
    )
}

fn alert(row: &ToldRow) -> Alert {
    Alert { kind: row.kind.0, subject: row.subject.clone(), detail: row.detail.clone() }
}

fn note_told(news: &News, at: Moment, on: &mut Connection) -> Result<()> {
    for alert in &news.over {
        ToldRow::remove(alert.kind, &alert.subject, on)?;
    }
    for Alert { kind, subject, detail } in &news.new {
        ToldRow { kind: (*kind).into(), subject: subject.clone(), at, detail: detail.clone() }.put(on)?;
    }
    Ok(())
}

fn subject(news: &News) -> String {
    match (&news.new[..], &news.over[..]) {
        ([one], _) => line(one).says,
        ([], _) => "What needed attention is over".into(),
        (several, _) => format!("{} things need attention", several.len()),
    }
}

fn said_of_news(news: &News) -> String {
    let mut said = if news.new.is_empty() { String::new() } else { said_of_alerts(&news.new) };
    if !news.over.is_empty() {
        said.push_str("Over, and no more so:\n");
        news.over.iter().for_each(|alert| said.push_str(&format!("  {}\n", line(alert).says)));
    }
    said
}

fn said_of_alerts(alerts: &[Alert]) -> String {
    if alerts.is_empty() {
        return "Nothing needs attention.\n".into();
    }
    let said = |alert: &Alert| {
        let line = line(alert);
        // On a line of its own, so that it can be copied.
        let command = line.command_with_place().map(|command| format!("    {command}\n"));
        format!("  {}\n    Next: {}\n{}", line.says, line.next, command.unwrap_or_default())
    };
    format!("What needs attention:\n{}", alerts.iter().map(said).collect::<String>())
}

/// How many workstations stand how.
fn counted(lines: &[WorkstationLine], now: Moment) -> String {
    let states: Vec<WorkstationState> = lines.iter().map(|line| convert::workstation_state(line, now)).collect();
    let of = |state| states.iter().filter(|one| **one == state).count();
    format!(
        "{} current, {} overdue, {} without a first point",
        of(WorkstationState::Current),
        of(WorkstationState::Overdue),
        of(WorkstationState::FirstPointAwaited)
    )
}

#[cfg(test)]
mod tests {
    use jetfrost_wire::alerts::MailSecurity;

    use super::*;
    use crate::shared::testing::Office;

    fn settings(server: &str) -> MailSettings {
        MailSettings {
            server: server.into(),
            port: 465,
            security: MailSecurity::Tls,
            login: Some("jetfrost".into()),
            sender: "jetfrost@lindqvist.example".into(),
            recipients: vec!["ingrid@lindqvist.example".into()],
            summary_hour: None,
        }
    }

    #[test]
    fn a_password_does_not_go_along_to_another_server_or_a_weaker_way() {
        let office = Office::open();
        let set = |settings: MailSettings, password: Option<&str>| {
            let to = SetMail { settings, password: password.map(str::to_owned) };
            office.services.operations.set_mail(&office.ingrid, &to, &Seen::Anything).expect("set").has_password
        };
        assert!(set(settings("mail.lindqvist.example"), Some("secret")));
        assert!(set(settings("mail.lindqvist.example"), None), "it is kept where it was");
        assert!(!set(MailSettings { security: MailSecurity::None, ..settings("mail.lindqvist.example") }, None));
        assert!(set(settings("mail.lindqvist.example"), Some("secret")));
        assert!(!set(settings("mail.elsewhere.example"), None));
    }

    #[test]
    fn what_mail_cannot_be_sent_with_is_refused_each_in_its_own_words() {
        let office = Office::open();
        let refused = |settings: MailSettings| {
            let to = SetMail { settings, password: None };
            match office.services.operations.set_mail(&office.ingrid, &to, &Seen::Anything) {
                Err(ServiceError::Invalid(what)) => what.word(),
                other => panic!("{other:?}"),
            }
        };
        let good = || settings("mail.lindqvist.example");
        assert_eq!(refused(settings("")), "mail_server");
        assert_eq!(refused(settings("mail server")), "mail_server");
        assert_eq!(refused(MailSettings { port: 0, ..good() }), "port");
        assert_eq!(refused(MailSettings { recipients: vec![], ..good() }), "recipients");
        assert_eq!(refused(MailSettings { recipients: vec!["all\r\nBcc: x@y.example".into()], ..good() }), "mail_address");
        assert_eq!(refused(MailSettings { sender: "nobody".into(), ..good() }), "mail_address");
        assert_eq!(refused(MailSettings { summary_hour: Some(24), ..good() }), "summary_hour");
        assert_eq!(refused(MailSettings { login: Some(String::new()), ..good() }), "mail_secret");
    }
}
