//! Puts the console's files, or a page that says how to build them, where they are embedded from.

use std::path::{Path, PathBuf};
use std::{env, fs, io};

fn main() -> io::Result<()> {
    let here = PathBuf::from(env::var_os("CARGO_MANIFEST_DIR").expect("set by cargo"));
    let out = PathBuf::from(env::var_os("OUT_DIR").expect("set by cargo")).join("console");
    let built = here.join("../../console/dist");
    let placeholder = here.join("placeholder");
    let from = if built.join("index.html").exists() { &built } else { &placeholder };
    if out.exists() {
        fs::remove_dir_all(&out)?;
    }
    copy(from, &out)?;
    println!("cargo::rerun-if-changed={}", built.display());
    println!("cargo::rerun-if-changed={}", placeholder.display());
    println!("cargo::rerun-if-changed=migrations");
    Ok(())
}

fn copy(from: &Path, to: &Path) -> io::Result<()> {
    fs::create_dir_all(to)?;
    for entry in fs::read_dir(from)? {
        let entry = entry?;
        let target = to.join(entry.file_name());
        if entry.file_type()?.is_dir() {
            copy(&entry.path(), &target)?;
        } else {
            fs::copy(entry.path(), target)?;
        }
    }
    Ok(())
}
