//! What is said before anything is restored.

use std::time::Duration;

use jetfrost_client::browse::OpenPoint;
use jetfrost_client::rebuild::{Forgone, Lost};
use jetfrost_wire::size::show;
use jiff::Timestamp;
use serde_json::{Value, json};

use crate::commands::getting_back::restore::warning;
use crate::commands::labels;
use crate::ui::{Ui, many, moment, took};

/// Says which machine and point it is, and what choosing that one loses.
pub(super) fn say_point(machine: &str, point: &OpenPoint, what: &str, forgone: Option<&Forgone>, ui: &Ui) {
    let made = Timestamp::from_millisecond(point.head.created).map(moment).unwrap_or_default();
    ui.remark(&format!("Machine   {machine}"));
    ui.remark(&format!("Point     {}, made {made}: {what}", point.head.sequence));
    if let Some(doubt) = &point.doubt {
        ui.remark(&format!("          {}", warning(doubt, point)));
    }
    ui.remark(&format!("Newer     {}", said_of_forgone(forgone)));
}

/// Says how long it takes.
pub(super) fn say_time(bytes: u64, rate: Option<f64>, ui: &Ui) {
    let estimate = rate.map_or_else(
        || "no time: there is too little to measure".into(),
        |rate| {
            // Nobody plans by less than a second.
            let seconds = Duration::from_secs_f64((bytes as f64 / rate).clamp(1.0, 1e9));
            format!("about {}, at {} per second as just measured, and the time to read it back", took(seconds), show(rate as u64))
        },
    );
    ui.remark(&format!("Takes     {estimate}"));
}

fn said_of_forgone(forgone: Option<&Forgone>) -> String {
    let Some(Forgone { newest, lost }) = forgone else { return "none; this is the newest".into() };
    let lost = match lost {
        Some(Lost { files, bytes }) => format!("{}, {}", many(*files, labels::noun(newest.kind)), show(*bytes)),
        None => "one of the two is damaged, and does not tell how much".into(),
    };
    format!(
        "up to point {}, committed {}: what was added or changed since is not in this one: {lost}",
        newest.sequence,
        moment(newest.committed)
    )
}

/// The same for programs.
pub(super) fn as_value(machine: &str, point: &OpenPoint, bytes: u64, forgone: Option<&Forgone>, rate: Option<f64>) -> Value {
    let lost = forgone.map_or(Some(Lost::default()), |forgone| forgone.lost);
    json!({
        "machine": machine, "point": point.head.sequence, "files": point.head.files, "bytes": bytes,
        "newest": forgone.map(|forgone| forgone.newest.sequence), "files_forgone": lost.map(|lost| lost.files),
        "bytes_forgone": lost.map(|lost| lost.bytes), "bytes_per_second": rate,
    })
}
