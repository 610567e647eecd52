//! The commands: what a person at a workstation does, and what an administrator manages.

pub(crate) mod disk;
pub(crate) mod keeping;
pub(crate) mod machine;
pub(crate) mod office;
pub(crate) mod salvage;
pub(crate) mod ways_in;
mod words;
