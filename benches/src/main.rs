//! Ratios against what the machine itself can do, measured in the same run: `jetfrost-bench` for all of it, or one of
//! `files [TREE]`, `restore [TREE]`, `large [TREE]`, `incompressible`, `disks`, `sparse`, `crowd`, `many [N]`, `browser [N]`, `names [N]`, `store`, `suspects [DAYS]`, `watching`, `agents`; `scale`
//! simulates a year of many workstations.
//!
//! Each work is done by the programs as they ship, over TLS on loopback, and by plain system tools; both read the same
//! files, warm. The figures and what they mean are in `docs/performance.md`.
#![expect(clippy::print_stdout, reason = "this program's output is its purpose")]

mod agents;
mod browser;
mod crowd;
mod disks;
mod files;
mod large;
mod many;
mod names;
mod office;
mod processors;
mod restore;
mod scale;
mod store;
mod suspects;
mod watching;

use std::path::Path;

use processors::Processors;

/// A tree that every machine which builds this has.
const TREE: &str = "/usr/lib";
/// Files of the bench of many files, when all benches run.
const MANY: u64 = 200_000;
/// Working days of a year.
const DAYS: u64 = 260;

fn main() {
    let mut arguments = std::env::args().skip(1);
    let (which, more) = (arguments.next(), arguments.next());
    let tree = || Path::new(more.as_deref().unwrap_or(TREE));
    match which.as_deref() {
        Some("files") => apart(|scratch| files::run(scratch, tree())),
        Some("restore") => apart(|scratch| restore::run(scratch, tree())),
        Some("large") => apart(|scratch| large::run(scratch, tree())),
        Some("incompressible") => apart(files::incompressible),
        Some("disks") => apart(disks::run),
        Some("sparse") => apart(disks::sparse),
        Some("crowd") => apart(crowd::run),
        Some("many") => apart(|scratch| many::run(scratch, more.as_deref().and_then(|n| n.parse().ok()).unwrap_or(MANY))),
        Some("names") => apart(|scratch| names::run(scratch, more.as_deref().and_then(|n| n.parse().ok()).unwrap_or(MANY))),
        Some("browser") => apart(|scratch| browser::run(scratch, more.as_deref().and_then(|n| n.parse().ok()).unwrap_or(MANY))),
        Some("store") => apart(store::run),
        Some("agents") => apart(agents::run),
        Some("suspects") => apart(|scratch| suspects::run(scratch, more.as_deref().and_then(|n| n.parse().ok()).unwrap_or(DAYS))),
        Some("watching") => apart(watching::run),
        Some("scale") => scale::run(),
        Some(other) => office::outln(&format!("there is no bench '{other}'")),
        None => {
            apart(|scratch| files::run(scratch, tree()));
            apart(|scratch| restore::run(scratch, tree()));
            apart(files::incompressible);
            apart(disks::run);
            apart(disks::sparse);
            apart(crowd::run);
            apart(|scratch| many::run(scratch, MANY));
            apart(|scratch| browser::run(scratch, MANY));
            apart(|scratch| names::run(scratch, MANY));
            apart(store::run);
            apart(|scratch| suspects::run(scratch, DAYS));
            apart(watching::run);
            apart(agents::run);
        }
    }
}

/// Runs a bench in a directory of its own, which goes with it.
fn apart(bench: impl FnOnce(&Path)) {
    let scratch = tempfile::tempdir_in("target").expect("a scratch directory under target/");
    let before = Processors::now();
    bench(&scratch.path().canonicalize().expect("it is there"));
    let taken = before.taken_since();
    if taken >= 0.01 {
        office::outln(&format!(
            "  others had {:.0} % of what the processors did meanwhile: the figures are lower for it",
            taken * 100.0
        ));
    }
}
