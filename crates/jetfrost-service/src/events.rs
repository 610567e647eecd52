//! Live changes, to whoever listens.

use jetfrost_wire::WorkstationId;
use jetfrost_wire::event::Event;
use tokio::sync::broadcast;

/// Events that a slow listener may lag behind before it misses some.
const BACKLOG: usize = 256;

/// Hands events to all listeners.
#[derive(Debug, Clone)]
pub(crate) struct Events(broadcast::Sender<Event>);

impl Events {
    pub(crate) fn new() -> Self {
        Self(broadcast::channel(BACKLOG).0)
    }

    pub(crate) fn tell(&self, event: Event) {
        // No listener is no error.
        let _ = self.0.send(event);
    }

    /// A workstation, or what is stored of it, is not as it was.
    pub(crate) fn workstation_changed(&self, id: &WorkstationId) {
        self.tell(Event::Workstation { workstation: id.clone() });
    }

    pub(crate) fn listen(&self) -> broadcast::Receiver<Event> {
        self.0.subscribe()
    }
}
