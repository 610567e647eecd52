//! How much of the machine work may claim beside that of others.

use std::io;

/// Priorities of work.
pub trait Priority {
    /// Lets the calling thread, and those that it starts from now on, yield to all other work: for the processor, and for the disk where the
    /// system takes that from the same figure. It cannot be taken back.
    ///
    /// # Errors
    /// What the system says.
    fn yield_to_others() -> io::Result<()>;
}
