//! Lines of CSV (RFC 4180) that people open in a spreadsheet.

use csv::{Terminator, WriterBuilder};

/// Fields as a line, without its end. A field that a spreadsheet would take for a formula gets an apostrophe before it, which a roster
/// takes off again when it is read.
pub(crate) fn csv_line<'f>(fields: impl IntoIterator<Item = &'f str>) -> String {
    let mut writer = WriterBuilder::new().terminator(Terminator::Any(b'\n')).from_writer(Vec::new());
    let guarded = fields.into_iter().map(|field| {
        let guard = if field.starts_with(['=', '+', '-', '@', '\t', '\r']) { "'" } else { "" };
        format!("{guard}{field}")
    });
    writer.write_record(guarded).expect("memory takes a line");
    let bytes = writer.into_inner().expect("memory takes a line");
    String::from_utf8_lossy(&bytes).trim_end_matches('\n').to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_read_back_and_start_no_formula() {
        assert_eq!(
            csv_line(["7", "=cmd()", "a \"b\", c", "two\nlines", "", "last"]),
            "7,'=cmd(),\"a \"\"b\"\", c\",\"two\nlines\",,last"
        );
        for formula in ["=1", "+1", "-1", "@a", "\t=1", "\r=1"] {
            let line = csv_line([formula, ""]);
            assert!(line.trim_start_matches('"').starts_with('\''), "{line:?}");
        }
    }
}
