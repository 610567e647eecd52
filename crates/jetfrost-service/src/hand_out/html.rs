//! Hand-outs as one page of HTML that prints a sheet each. It needs nothing but itself, and runs nothing.

use std::fmt::Write;

use jiff::tz::TimeZone;
use qrcode::QrCode;
use qrcode::render::svg;

use super::{Block, HandOut};

const STYLE: &str = "
:root{color-scheme:light}
body{font:11pt/1.45 Inter,'Segoe UI',system-ui,sans-serif;color:#16202b;margin:0;background:#e9edf1}
article{box-sizing:border-box;max-width:190mm;margin:8mm auto;padding:14mm 16mm;background:#fff}
h1{font-size:20pt;line-height:1.2;margin:0 0 2mm}
h2{font-size:12pt;margin:6mm 0 1.5mm;border-bottom:.3mm solid #aebac6;padding-bottom:.8mm}
p,ol{margin:0}
ol{padding-left:6mm}
.code{display:flex;gap:6mm;align-items:center;margin:4mm 0 0;padding:4mm;border:.4mm solid #16202b}
.code svg{width:38mm;height:38mm;flex:none}
.code code{font:600 12pt/1.6 ui-monospace,Consolas,monospace;overflow-wrap:anywhere}
dl{display:grid;grid-template-columns:52mm 1fr;gap:1mm 4mm;margin:0}
dt{font-weight:600}
dd{margin:0;overflow-wrap:anywhere}
@page{size:A4;margin:12mm}
@media print{body{background:none}article{max-width:none;margin:0;padding:0;break-after:page}article:last-of-type{break-after:auto}}
";

/// All hand-outs in one page; days are those of `zone`.
pub(crate) fn render(hand_outs: &[HandOut], zone: &TimeZone) -> String {
    let mut page = format!(
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">\
         <title>Hand-outs</title><style>{STYLE}</style></head><body>\n"
    );
    for hand_out in hand_outs {
        page.push_str("<article>\n");
        for block in hand_out.blocks(zone) {
            push(&mut page, &block);
        }
        page.push_str("</article>\n");
    }
    page.push_str("</body></html>\n");
    page
}

fn push(page: &mut String, block: &Block) {
    // Writing to a String does not fail.
    let _ = match block {
        Block::Title(text) => writeln!(page, "<h1>{}</h1>", escaped(text)),
        Block::Heading(text) => writeln!(page, "<h2>{}</h2>", escaped(text)),
        Block::Text(text) => writeln!(page, "<p>{}</p>", escaped(text)),
        Block::Code(code) => writeln!(page, "<div class=\"code\">{}<code>{}</code></div>", qr(code), escaped(code)),
        Block::Steps(steps) => {
            let steps: String = steps.iter().map(|step| format!("<li>{}</li>", escaped(step))).collect();
            writeln!(page, "<ol>{steps}</ol>")
        }
        Block::Terms(terms) => {
            let terms: String =
                terms.iter().map(|(term, said)| format!("<dt>{}</dt><dd>{}</dd>", escaped(term), escaped(said))).collect();
            writeln!(page, "<dl>{terms}</dl>")
        }
    };
}

/// The code as a QR code (ISO/IEC 18004).
fn qr(code: &str) -> String {
    let svg = QrCode::new(code).map(|qr| qr.render::<svg::Color<'_>>().min_dimensions(200, 200).build());
    let svg = svg.unwrap_or_default();
    let drawing = svg.find("<svg").map_or("", |start| &svg[start..]);
    drawing.replacen("<svg", "<svg role=\"img\" aria-label=\"The enrolment code as a QR code\"", 1)
}

fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&#39;"),
            other => out.push(other),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::super::tests::hand_out;
    use super::*;

    #[test]
    fn names_are_text_and_nothing_else() {
        let page = render(&[hand_out(), hand_out()], &TimeZone::UTC);
        assert_eq!(page.matches("<article>").count(), 2);
        assert!(page.contains("knot &lt;3") && !page.contains("knot <3"));
        assert_eq!(page.matches("<svg role=\"img\"").count(), 2);
        assert!(!page.contains("<script") && !page.contains("http-equiv"));
    }
}
