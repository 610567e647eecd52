//! Telling the people at this machine something at once.

use std::io;

/// Notices that appear on the desktop.
pub trait Notices {
    /// Shows a notice to everybody whom this process may reach at a desktop of this machine; an administrator's process reaches all. Returns
    /// how many it was shown to.
    ///
    /// # Errors
    /// Why it was shown to nobody, though there is somebody.
    fn show_notice(title: &str, text: &str) -> io::Result<usize>;
}
