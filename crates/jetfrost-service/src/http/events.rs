//! Live changes as Server-Sent Events (WHATWG HTML, § 9.2).

use std::time::Duration;

use actix_web::web::{Bytes, Data};
use actix_web::{HttpResponse, get};
use futures_util::{Stream, StreamExt, stream};
use jetfrost_wire::Problem;
use jetfrost_wire::event::Event;
use tokio::sync::broadcast::error::RecvError;
use utoipa_actix_web::service_config::ServiceConfig;

use super::caps::Permit;
use super::{App, Trouble};
use crate::shared::{Caller, Credential, Who};

/// A silent connection shows that it is alive this often.
const HEARTBEAT: Duration = Duration::from_secs(15);

pub(super) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(listen);
}

/// Live changes to what the caller may see.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 200, content_type = "text/event-stream", body = Event), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/events")]
async fn listen(app: Data<App>, credential: Credential) -> Result<HttpResponse, Trouble> {
    let caller = app.for_caller(credential.clone(), |_, caller| Ok(caller.clone())).await?;
    let caps = match &caller.who {
        Who::Device { .. } => &app.listening_agents,
        Who::Person { .. } => &app.listeners,
    };
    let permit = caps.begin(&caller.name()).ok_or_else(Trouble::too_many)?;
    let stream = events(Listener { app: app.get_ref().clone(), credential, caller, _permit: permit });
    Ok(HttpResponse::Ok().content_type("text/event-stream").streaming(stream))
}

/// Somebody who listens.
struct Listener {
    app: App,
    credential: Credential,
    caller: Caller,
    _permit: Permit,
}

impl Listener {
    /// Whether who listens may still do so: whoever was signed out, disabled or given another role since is not told what they may
    /// not see.
    async fn is_still_welcome(&mut self) -> bool {
        match self.app.for_caller(self.credential.clone(), |_, caller| Ok(caller.clone())).await {
            Ok(caller) => {
                self.caller = caller;
                true
            }
            Err(_) => false,
        }
    }

    /// What a listener learns of an event; `None` for what is not for this listener. What takes a look at the records is looked at off the
    /// event loop.
    async fn told(&self, event: Event) -> Option<String> {
        if let Some(heard) = self.app.services.operations.hears_without_looking(&self.caller, &event) {
            return heard.then(|| format(&event));
        }
        let caller = self.caller.clone();
        let heard = self.app.run(move |services| Ok(services.operations.may_hear(&caller, &event).then(|| format(&event)))).await;
        heard.ok().flatten()
    }
}

fn events(listener: Listener) -> impl Stream<Item = Result<Bytes, std::io::Error>> {
    let hello = stream::once(async { Ok(Bytes::from_static(b": listening\n\n")) });
    let received = listener.app.services.events.listen();
    let rest = stream::unfold((listener, received), |(mut listener, mut received)| async move {
        loop {
            let mut stopping = listener.app.stopping.clone();
            let event = tokio::select! {
                _ = stopping.wait_for(|stopping| *stopping) => return None,
                () = tokio::time::sleep(HEARTBEAT) => None,
                event = received.recv() => match event {
                    Ok(event) => Some(event),
                    // Some were missed: the page has to load again.
                    Err(RecvError::Lagged(_)) => Some(Event::Office),
                    Err(RecvError::Closed) => return None,
                },
            };
            // Changes of accounts, roles, groups and sessions are announced as changes of the office.
            if matches!(event, None | Some(Event::Office)) && !listener.is_still_welcome().await {
                return None;
            }
            let text = match event {
                None => ": still here\n\n".to_owned(),
                Some(event) => match listener.told(event).await {
                    Some(text) => text,
                    None => continue,
                },
            };
            return Some((Ok(Bytes::from(text)), (listener, received)));
        }
    });
    hello.chain(rest)
}

fn format(event: &Event) -> String {
    format!("data: {}\n\n", serde_json::to_string(event).expect("events are plain values"))
}
