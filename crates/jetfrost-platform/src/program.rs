//! Other programs that are started and may have to be ended.

use std::io;
use std::process::{Child, Command};

/// Programs that are ended together with all that they started.
pub trait Programs {
    /// Starts a program so that it can be ended together with what it starts.
    ///
    /// # Errors
    /// What the system says.
    fn start_together(command: &mut Command) -> io::Result<Child>;

    /// Ends such a program at once, and all that it started.
    ///
    /// # Errors
    /// What the system says.
    fn end_together(child: &Child) -> io::Result<()>;
}
