//! The sample office: Skerry & Holm, land surveyors and mapmakers on a windy coast, with thirty days of backups.
//!
//! Nothing here writes history: files are made and changed as people would, and the real client backs them up to the
//! real service, day by day, while the service's clock is moved on.

mod dice;
mod files;
mod history;
mod machine_disk;
pub mod mail_stand_in;
mod office;

pub use history::{Failure, make, start_mail_stand_in};
pub use office::{ADMINISTRATOR, HELPDESK, MACHINES, Machine, PASSPHRASE, PASSWORD, Work};
