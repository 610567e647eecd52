//! Long work that a key at the terminal stops.

use std::sync::{Arc, Mutex, PoisonError};

use jetfrost_client::progress::Meter;

use crate::failure::Code;
use crate::ui;

/// A meter that the usual key at the terminal, or SIGTERM, stops; the person is told what that means.
pub(super) fn stoppable_meter() -> Arc<Meter> {
    meter_stopped_by_key(ui::say_stopping)
}

/// As [`stoppable_meter`], for what is meant to be ended in this way: nothing needs to be said.
pub(super) fn ended_by_key() -> Arc<Meter> {
    meter_stopped_by_key(|| {})
}

fn meter_stopped_by_key(say: fn()) -> Arc<Meter> {
    type Current = Option<(Arc<Meter>, fn())>;
    static CURRENT: Mutex<Current> = Mutex::new(None);
    let current = || CURRENT.lock().unwrap_or_else(PoisonError::into_inner);
    let meter = Arc::new(Meter::default());
    *current() = Some((Arc::clone(&meter), say));
    // One handler serves the whole process. Without one the process just ends, which harms nothing either.
    let _ = ctrlc::set_handler(move || {
        let Some((meter, say)) = current().clone() else { return };
        if meter.is_stopped() {
            std::process::exit(Code::Interrupted as i32);
        }
        meter.stop();
        say();
    });
    meter
}
