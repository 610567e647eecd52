//! The bounds of what callers give: the use cases judge by them, and the API's document says them.

use std::ops::RangeInclusive;

/// Nobody waits longer than ten years.
pub(crate) const DAYS: u32 = 3650;

/// A token lasts two years at most.
pub(crate) const TOKEN_DAYS: u16 = 730;

/// An enrolment code lasts a month at most.
pub(crate) const CODE_HOURS: u16 = 720;

/// A description is a sentence or two, in characters.
pub(crate) const DESCRIPTION: usize = 500;

/// The reason for a hold, or for dismissing a step, is a sentence; in characters.
pub(crate) const REASON: usize = 200;

/// Why a run ended is a sentence, not a log; what is longer is cut. In characters.
pub(crate) const WHY_A_RUN_ENDED: usize = 500;

/// The operating system of a workstation, in words; what is longer is cut.
pub(crate) const PLATFORM: usize = 120;

/// The version of a client; what is longer is cut.
pub(crate) const VERSION: usize = 40;

/// An image store has so many key slots.
pub(crate) const SLOTS: usize = 16;

/// So many hand-outs are made at once.
pub(crate) const HAND_OUTS: usize = 5000;

/// A workstation has so many orders that have not ended.
pub(crate) const MOST_ORDERS: usize = 20;

/// An order waits for its workstation for so many days.
pub(crate) const ORDER_DAYS: i64 = 7;

/// The length of a sealed order, in bytes: version, nonce, 4 KiB or more that are sealed, tag.
pub(crate) const ORDER: RangeInclusive<usize> = 4096..=41_100;

/// A checklist has so many items, and each of its texts so many bytes.
pub(crate) const MOST_CHECKED: usize = 40;

pub(crate) const CHECKED: usize = 500;

/// A label in DNS has 63 bytes; of two services of one name, one gets a part of its id behind it.
pub(crate) const ANNOUNCED_NAME: usize = 48;

/// Interfaces that an announcement is limited to, and the bytes of the name of one.
pub(crate) const INTERFACES: usize = 64;

pub(crate) const INTERFACE: usize = 15;

/// A host name has 253 characters at most (RFC 1035).
pub(crate) const HOST: usize = 253;

/// So many people get the mail.
pub(crate) const RECIPIENTS: usize = 20;

/// Login name and password at the mail server, and a mail address, in bytes.
pub(crate) const MAIL_SECRET: usize = 500;

pub(crate) const MAIL_ADDRESS: usize = 500;
