//! Sizes as people read and write them, always with a unit. Both kinds of units are read; shown is the one kind that the office
//! chose, in all of a program.

use std::sync::atomic::{AtomicBool, Ordering};

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::labels::labels;

/// Which units sizes are shown in.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Units {
    /// kB, MB, GB: powers of 1000.
    #[default]
    Decimal,
    /// KiB, MiB, GiB: powers of 1024 (IEC 80000-13).
    Binary,
}
labels!(Units: Decimal = "decimal", Binary = "binary");

/// Every answer of the service says in this header which units the office chose.
pub const UNITS_HEADER: &str = "jetfrost-units";

static SHOWN_BINARY: AtomicBool = AtomicBool::new(false);

/// Shows sizes in these units from now on, in all of the program.
pub fn show_in(units: Units) {
    SHOWN_BINARY.store(units == Units::Binary, Ordering::Relaxed);
}

/// The units that sizes are shown in.
#[must_use]
pub fn shown_in() -> Units {
    if SHOWN_BINARY.load(Ordering::Relaxed) { Units::Binary } else { Units::Decimal }
}

/// Text that is not a size.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("'{0}' is not a size: give a number and a unit, such as 500GB, 1.5TB or 500GiB")]
pub struct NotASize(String);

const DECIMAL: [&str; 6] = ["B", "kB", "MB", "GB", "TB", "PB"];
const BINARY: [&str; 6] = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"];

/// A size in the chosen units, with three significant digits at least: `999 B`, `1.50 GB`, `12.3 TB`; `1.40 GiB`.
#[must_use]
pub fn show(bytes: u64) -> String {
    shown(bytes, shown_in())
}

fn shown(bytes: u64, units: Units) -> String {
    let (base, names) = match units {
        Units::Decimal => (1000.0, DECIMAL),
        Units::Binary => (1024.0, BINARY),
    };
    let mut unit = 0;
    let mut value = bytes as f64;
    while value >= base - 0.5 && unit + 1 < names.len() {
        value /= base;
        unit += 1;
    }
    let digits = match (unit, value) {
        (0, _) => 0,
        (_, v) if v < 9.995 => 2,
        (_, v) if v < 99.95 => 1,
        _ => 0,
    };
    format!("{value:.digits$} {}", names[unit])
}

/// Reads a size; the unit must be named. Letter case of the unit does not matter.
///
/// # Errors
/// [`NotASize`].
pub fn parse(text: &str) -> Result<u64, NotASize> {
    let wrong = || NotASize(text.to_owned());
    let trimmed = text.trim();
    let split = trimmed.find(|c: char| !c.is_ascii_digit() && c != '.').ok_or_else(wrong)?;
    let (number, unit) = trimmed.split_at(split);
    let place = |units: &[&str]| units.iter().position(|u| u.eq_ignore_ascii_case(unit.trim()));
    let factor = match (place(&DECIMAL), place(&BINARY)) {
        (Some(power), _) => 1000_u64.pow(u32::try_from(power).map_err(|_| wrong())?),
        (_, Some(power)) => 1024_u64.pow(u32::try_from(power).map_err(|_| wrong())?),
        _ => return Err(wrong()),
    };
    let number: f64 = number.parse().map_err(|_| wrong())?;
    let bytes = number * factor as f64;
    // Beyond 2^53 a float cannot say every byte; such sizes are refused rather than rounded.
    if bytes.fract() == 0.0 && bytes <= 9_007_199_254_740_992.0 { Ok(bytes as u64) } else { Err(wrong()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_shown_decimal() {
        for (bytes, expected) in [
            (0, "0 B"),
            (999, "999 B"),
            (1000, "1.00 kB"),
            (999_600, "1.00 MB"),
            (1_500_000_000, "1.50 GB"),
            (123_456_789, "123 MB"),
        ] {
            assert_eq!(shown(bytes, Units::Decimal), expected);
        }
    }

    #[test]
    fn binary_sizes_are_named_so() {
        for (bytes, expected) in
            [(1000, "1000 B"), (1024, "1.00 KiB"), (1 << 30, "1.00 GiB"), (1_500_000_000, "1.40 GiB"), (3 << 50, "3.00 PiB")]
        {
            assert_eq!(shown(bytes, Units::Binary), expected);
        }
    }

    #[test]
    fn both_kinds_of_units_are_read_and_none_is_assumed() {
        assert_eq!(parse("500GB"), Ok(500_000_000_000));
        assert_eq!(parse(" 1.5 TB "), Ok(1_500_000_000_000));
        assert_eq!(parse("2GiB"), Ok(2 << 30));
        assert_eq!(parse("7b"), Ok(7));
        for text in ["500", "GB", "1.5.5GB", "-1GB", "1XB", "0.5B", "99999999PB", ""] {
            assert!(parse(text).is_err(), "{text}");
        }
    }
}
