//! The test kit: a service of its own for each test, its real client, a browser, and independent witnesses.

pub mod browser;
pub mod calls;
pub mod chance;
pub mod mounted;
pub mod network;
pub mod office;
pub mod programs;
pub mod raw;
pub mod tap;
pub mod terminal;
pub mod witness;
pub mod work;
