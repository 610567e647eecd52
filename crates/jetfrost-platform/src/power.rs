//! Where the machine's power comes from.

use std::io;

/// What the system says of the machine's power.
pub trait Power {
    /// Whether the machine runs on a battery. A machine without one does not; batteries of mice and headsets do not count.
    ///
    /// # Errors
    /// What the system says.
    fn on_battery() -> io::Result<bool>;
}
