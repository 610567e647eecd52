//! Power supplies, as the kernel shows them (`Documentation/ABI/testing/sysfs-class-power`).

use std::fs;
use std::io::{self, ErrorKind};
use std::path::Path;

use nix::errno::Errno;

use crate::{Power, System};

const SUPPLIES: &str = "/sys/class/power_supply";

impl Power for System {
    fn on_battery() -> io::Result<bool> {
        on_battery(Path::new(SUPPLIES))
    }
}

fn on_battery(supplies: &Path) -> io::Result<bool> {
    let entries = match fs::read_dir(supplies) {
        Err(e) if e.kind() == ErrorKind::NotFound => return Ok(false),
        entries => entries?,
    };
    let (mut plugged, mut unplugged, mut discharging, mut battery) = (false, false, false, false);
    for entry in entries {
        let at = entry?.path();
        // What powers a mouse says nothing of the machine.
        if said(&at, "scope")? == "Device" {
            continue;
        }
        match said(&at, "type")?.as_str() {
            "Battery" | "UPS" => {
                battery = true;
                discharging |= said(&at, "status")? == "Discharging";
            }
            // The mains, and chargers of all kinds.
            _ => match said(&at, "online")?.as_str() {
                "" | "0" => unplugged = true,
                _ => plugged = true,
            },
        }
    }
    Ok(!plugged && (discharging || battery && unplugged))
}

/// What a file of a supply says; nothing where it has none. A supply that went meanwhile says nothing either.
fn said(at: &Path, name: &str) -> io::Result<String> {
    match fs::read_to_string(at.join(name)) {
        Ok(text) => Ok(text.trim().to_owned()),
        Err(e) if matches!(e.kind(), ErrorKind::NotFound | ErrorKind::InvalidData) => Ok(String::new()),
        // ENODEV: the driver has no value.
        Err(e) if e.raw_os_error() == Some(Errno::ENODEV as i32) => Ok(String::new()),
        Err(e) => Err(e),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A machine with these supplies, each with its files.
    fn with(supplies: &[&[(&str, &str)]]) -> bool {
        let root = tempfile::tempdir().expect("a directory");
        for (i, files) in supplies.iter().enumerate() {
            let at = root.path().join(format!("supply{i}"));
            fs::create_dir(&at).expect("made");
            for (name, text) in *files {
                fs::write(at.join(name), format!("{text}\n")).expect("written");
            }
        }
        on_battery(root.path()).expect("read")
    }

    const PLUGGED: &[(&str, &str)] = &[("type", "Mains"), ("online", "1")];
    const UNPLUGGED: &[(&str, &str)] = &[("type", "Mains"), ("online", "0")];
    const CHARGING: &[(&str, &str)] = &[("type", "Battery"), ("status", "Charging")];
    const DISCHARGING: &[(&str, &str)] = &[("type", "Battery"), ("status", "Discharging")];
    const UNKNOWN: &[(&str, &str)] = &[("type", "Battery"), ("status", "Unknown")];
    const MOUSE: &[(&str, &str)] = &[("type", "Battery"), ("scope", "Device"), ("status", "Discharging")];
    const CHARGER: &[(&str, &str)] = &[("type", "USB"), ("online", "1")];

    #[test]
    fn a_laptop_without_its_charger_is_on_battery_and_nothing_else_is() {
        assert!(with(&[UNPLUGGED, DISCHARGING]) && with(&[DISCHARGING]) && with(&[UNPLUGGED, UNKNOWN]));
        assert!(!with(&[PLUGGED, CHARGING]) && !with(&[PLUGGED, DISCHARGING]), "a load above what the charger gives");
        assert!(!with(&[UNPLUGGED, CHARGER, CHARGING]), "one of two sockets is in use");
        assert!(!with(&[]) && !with(&[PLUGGED, MOUSE]) && !with(&[MOUSE]) && !with(&[UNKNOWN]));
        assert!(!with(&[UNPLUGGED]), "a machine without a battery that runs is plugged in somewhere");
    }

    #[test]
    fn a_machine_that_shows_no_supplies_has_no_battery() {
        assert!(!on_battery(Path::new("/nowhere at all")).expect("read"));
    }
}
