//! Keys and what unlocks them.

pub(crate) mod escrow;
pub(crate) mod secret;
pub(crate) mod unlock;
pub(crate) mod unlock_method;
