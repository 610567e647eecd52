//! The checklist that a rebuild ends with, for people and for print.

use std::path::Path;

use jetfrost_client::rebuild::{Checklist, State};

use crate::commands::escaped;
use crate::failure::Failure;
use crate::ui::{count, moment};

pub(super) fn write(file: &Path, list: &Checklist) -> Result<(), Failure> {
    let failed = |e: std::io::Error| Failure::here(format!("{} cannot be written: {e}.", file.display()), "Choose another file.");
    let text = match file.extension().and_then(|extension| extension.to_str()) {
        Some("json") => serde_json::to_string_pretty(list).map_err(|e| failed(e.into()))? + "\n",
        Some("html") => as_page(list),
        _ => as_text(list),
    };
    std::fs::OpenOptions::new()
        .write(true)
        .create_new(true)
        .open(file)
        .and_then(|mut file| std::io::Write::write_all(&mut file, text.as_bytes()))
        .map_err(failed)
}

fn mark(state: State) -> &'static str {
    match state {
        State::Right => "ok",
        State::Known => "note",
        State::Wrong => "WRONG",
    }
}

fn heading(list: &Checklist) -> String {
    format!("{} as of point {} ({}), restored to {}", list.machine, list.point, moment(list.made), list.target)
}

fn conclusion(list: &Checklist) -> &'static str {
    match list.state() {
        State::Wrong => "Not everything is as it was: see the items that are wrong.",
        State::Known | State::Right => "Everything that the backup has is there as it was.",
    }
}

pub(super) fn as_text(list: &Checklist) -> String {
    let mut text = format!("Checklist: {}\nLooked at {}\n\n", heading(list), moment(list.checked));
    for item in &list.items {
        text.push_str(&format!("{:<6} {:<25} {}\n", mark(item.state), item.what, item.found));
        text.extend(item.paths.iter().map(|path| format!("{:33}{path}\n", "")));
        if let Some(more) = item.count.checked_sub(item.paths.len() as u64).filter(|more| *more > 0) {
            text.push_str(&format!("{:33}and {} more\n", "", count(more)));
        }
    }
    text + "\n" + conclusion(list) + "\n"
}

/// A page that prints well and needs nothing else.
fn as_page(list: &Checklist) -> String {
    let title = escaped(&format!("Checklist: {}", heading(list)));
    let mut page = format!(
        "<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n<title>{title}</title>\n\
         <style>body{{font:11pt sans-serif;margin:2em}}table{{border-collapse:collapse;width:100%}}\
         th,td{{border-bottom:1px solid #999;padding:.3em .5em;text-align:left;vertical-align:top}}thead{{display:table-header-group}}\
         tr{{break-inside:avoid}}.wrong td:first-child{{font-weight:bold}}ul{{margin:.3em 0;font-size:9pt;word-break:break-all}}</style>\n\
         <h1>{title}</h1>\n<p>Looked at {}. <strong>{}</strong></p>\n<table>\n\
         <thead><tr><th scope=\"col\">State</th><th scope=\"col\">What</th><th scope=\"col\">Found</th></tr></thead>\n<tbody>\n",
        moment(list.checked),
        conclusion(list)
    );
    for item in &list.items {
        let class = if item.state == State::Wrong { " class=\"wrong\"" } else { "" };
        page.push_str(&format!(
            "<tr{class}><td>{}</td><td>{}</td><td>{}",
            mark(item.state),
            escaped(&item.what),
            escaped(&item.found)
        ));
        if !item.paths.is_empty() {
            let paths: String = item.paths.iter().map(|path| format!("<li>{}</li>", escaped(path))).collect();
            let more = item.count - item.paths.len() as u64;
            let more = if more > 0 { format!("<li>and {} more</li>", count(more)) } else { String::new() };
            page.push_str(&format!("<ul>{paths}{more}</ul>"));
        }
        page.push_str("</td></tr>\n");
    }
    page + "</tbody>\n</table>\n<p>Signed: ____________________ &nbsp; Date: ____________________</p>\n</html>\n"
}
