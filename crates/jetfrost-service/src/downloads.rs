//! Programs for workstations that the service offers: what an administrator puts into a directory of the state directory.
//!
//! A machine that is to join has nothing yet, so anybody may fetch them. The directory lies beside the service's keys: only regular files
//! with plain names count, by exactly the name that they are listed with, and links lead nowhere.

use std::collections::HashMap;
use std::fs::{self, File, Metadata};
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::SystemTime;

use data_encoding::HEXLOWER;
use jetfrost_image::store::StoreError;
use jetfrost_wire::downloads::Download;
use ring::digest::{Context, SHA256};

/// Under this name lie the hashes of all of them, so that no file can.
pub(crate) const SUMS: &str = "SHA256SUMS";

/// Names are not longer than this.
const LONGEST_NAME: usize = 120;

/// The directory, and the hashes of what was there the last time.
#[derive(Debug)]
pub(crate) struct Downloads {
    directory: PathBuf,
    known: Mutex<HashMap<String, (Stamp, String)>>,
}

/// By what a file is taken for the one that was hashed.
type Stamp = (u64, Option<SystemTime>);

impl Downloads {
    pub(crate) fn of(directory: PathBuf) -> Self {
        Self { directory, known: Mutex::default() }
    }

    /// What is there, by name. A directory that is not there holds nothing.
    ///
    /// # Errors
    /// [`StoreError::Medium`] when it cannot be read.
    pub(crate) fn list(&self) -> Result<Vec<Download>, StoreError> {
        self.read().map_err(|source| StoreError::Medium { doing: "reading the downloads", source })
    }

    fn read(&self) -> io::Result<Vec<Download>> {
        let entries = match fs::read_dir(&self.directory) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            entries => entries?,
        };
        // One after another: whoever asks again and again has nothing hashed twice.
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let mut files = Vec::new();
        for entry in entries {
            let Some((name, metadata)) = offered(&entry?)? else { continue };
            let stamp = (metadata.len(), metadata.modified().ok());
            let hashed = known.get(&name).filter(|(then, _)| *then == stamp).map(|(_, hash)| hash.clone());
            let sha256 = hashed.map_or_else(|| hash_of(&self.directory.join(&name)), Ok)?;
            known.insert(name.clone(), (stamp, sha256.clone()));
            files.push(Download { name, bytes: metadata.len(), sha256 });
        }
        known.retain(|name, _| files.iter().any(|file| file.name == *name));
        files.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(files)
    }

    /// Where a file lies that is listed by this name.
    pub(crate) fn path_of(&self, name: &str) -> Option<PathBuf> {
        let path = Some(self.directory.join(name)).filter(|_| is_plain(name))?;
        fs::symlink_metadata(&path).is_ok_and(|found| found.is_file()).then_some(path)
    }

    /// The list as sha256sum(1) checks it.
    ///
    /// # Errors
    /// As [`Self::list`].
    pub(crate) fn sums(&self) -> Result<String, StoreError> {
        Ok(self.list()?.iter().map(|file| format!("{}  {}\n", file.sha256, file.name)).collect())
    }
}

/// Name and metadata of a file that is offered; none for whatever else is there.
fn offered(entry: &fs::DirEntry) -> io::Result<Option<(String, Metadata)>> {
    // Not of what a link leads to.
    let metadata = entry.metadata()?;
    let name = entry.file_name().into_string().ok().filter(|name| is_plain(name) && metadata.is_file());
    Ok(name.map(|name| (name, metadata)))
}

/// Whether a name is one as packages have it, and means the same in a path, an address and a terminal.
fn is_plain(name: &str) -> bool {
    let fits = |c: char| c.is_ascii_alphanumeric() || "._+~-".contains(c);
    name != SUMS && name.len() <= LONGEST_NAME && name.chars().all(fits) && name.starts_with(|c: char| c.is_ascii_alphanumeric())
}

fn hash_of(path: &Path) -> io::Result<String> {
    let (mut file, mut context, mut buffer) = (File::open(path)?, Context::new(&SHA256), vec![0; 1 << 18]);
    loop {
        match file.read(&mut buffer)? {
            0 => return Ok(HEXLOWER.encode(context.finish().as_ref())),
            n => context.update(&buffer[..n]),
        }
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    #[test]
    fn only_regular_files_with_plain_names_are_offered_and_nothing_beside_the_directory() {
        let state = tempfile::tempdir().expect("a directory");
        fs::write(state.path().join("identity.pem"), "a key").expect("written");
        let directory = state.path().join("downloads");
        let downloads = Downloads::of(directory.clone());
        assert_eq!(downloads.list().expect("nothing"), []);
        fs::create_dir_all(directory.join("folder")).expect("made");
        symlink("../identity.pem", directory.join("key")).expect("linked");
        for name in ["jetfrost_0.3.0_amd64.deb", ".hidden", "with space", "-option", SUMS] {
            fs::write(directory.join(name), name).expect("written");
        }
        let names: Vec<String> = downloads.list().expect("listed").into_iter().map(|file| file.name).collect();
        assert_eq!(names, ["jetfrost_0.3.0_amd64.deb"]);
        for name in ["key", "folder", ".hidden", "../identity.pem", "folder/../jetfrost_0.3.0_amd64.deb", "", "."] {
            assert_eq!(downloads.path_of(name), None, "{name}");
        }
        assert!(downloads.path_of("jetfrost_0.3.0_amd64.deb").is_some());
    }

    #[test]
    fn a_file_that_was_replaced_is_hashed_again() {
        let directory = tempfile::tempdir().expect("a directory");
        let downloads = Downloads::of(directory.path().into());
        let write = |bytes: &str| fs::write(directory.path().join("program"), bytes).expect("written");
        write("one");
        let first = downloads.list().expect("listed");
        write("another");
        let second = downloads.list().expect("listed");
        assert_ne!(first[0].sha256, second[0].sha256);
        assert_eq!(downloads.sums().expect("listed"), format!("{}  program\n", second[0].sha256));
    }
}
