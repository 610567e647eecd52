//! Live changes as Server-Sent Events (WHATWG HTML, § 9.2).

use std::time::Duration;

use actix_web::web::{Bytes, Data};
use actix_web::{HttpResponse, get};
use futures_util::{Stream, StreamExt, stream};
use jetfrost_wire::Problem;
use jetfrost_wire::event::Event;
use tokio::sync::broadcast::error::RecvError;
use utoipa_actix_web::service_config::ServiceConfig;

use super::{App, Trouble};
use crate::desk::{Caller, Credential};

/// A silent connection shows that it is alive this often.
const HEARTBEAT: Duration = Duration::from_secs(15);

pub(super) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(listen);
}

/// Live changes to what the caller may see.
#[utoipa::path(tag = "service", security(("bearer" = []), ("cookie" = [])), responses((status = 200, content_type = "text/event-stream", body = Event), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/events")]
async fn listen(app: Data<App>, credential: Credential) -> Result<HttpResponse, Trouble> {
    let caller = app.for_caller(credential, |_, caller| Ok(caller.clone())).await?;
    let stream = events(app.get_ref().clone(), caller);
    Ok(HttpResponse::Ok().content_type("text/event-stream").streaming(stream))
}

fn events(app: App, caller: Caller) -> impl Stream<Item = Result<Bytes, std::io::Error>> {
    let hello = stream::once(async { Ok(Bytes::from_static(b": listening\n\n")) });
    let received = app.desk.events.listen();
    let rest = stream::unfold((app, caller, received), |(mut app, caller, mut received)| async move {
        loop {
            let stopping = app.stopping.clone();
            let text = tokio::select! {
                _ = app.stopping.wait_for(|stopping| *stopping) => return None,
                () = tokio::time::sleep(HEARTBEAT) => ": still here\n\n".to_owned(),
                event = received.recv() => match event {
                    Ok(event) if app.desk.may_hear(&caller, &event) => format(&event),
                    Ok(_) => continue,
                    // Some were missed: the page is told to look again.
                    Err(RecvError::Lagged(_)) => format(&Event::Office),
                    Err(RecvError::Closed) => return None,
                },
            };
            app.stopping = stopping;
            return Some((Ok(Bytes::from(text)), (app, caller, received)));
        }
    });
    hello.chain(rest)
}

fn format(event: &Event) -> String {
    format!("data: {}\n\n", serde_json::to_string(event).expect("events are plain values"))
}
