//! Copies of the service's own records: a compressed tar archive in a box for the office key. A destination's disk and the office
//! key are enough to start again.

use std::fs::{File, OpenOptions};
use std::io::{BufReader, BufWriter, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Component, Path, PathBuf};
use std::{fs, io};

use jetfrost_image::crypto::{BoxReader, BoxWriter, OfficeKey, OfficePublicKey, OpenError, Random};
use jetfrost_image::format::{FormatError, OfficeKeyFile};

use crate::state_directory;
use crate::state_directory::{IDENTITY, OLD_CERTIFICATE, OLD_CERTIFICATE_KEY, RECONCILE, RECORDS};

/// Copies that are kept on each destination.
const KEPT: usize = 7;
const BEGIN: &str = "records-";
const END: &str = ".jfbox";
/// What is in a copy, by its name in the state directory. In copies of versions before 0.3 the certificate that workstations knew the
/// service by stands in the identity's place.
const IN_A_COPY: [&str; 4] = [IDENTITY, OLD_CERTIFICATE_KEY, OLD_CERTIFICATE, RECORDS];
/// Records and identity together are never larger; what claims to be is not unpacked.
const MOST: u64 = 64 << 30;

/// Why the service could not start again from a copy.
#[derive(Debug, thiserror::Error)]
pub enum RecoverError {
    /// There is no copy.
    #[error("there is no copy of the records in {0}: give the directory of a destination")]
    NoCopy(PathBuf),
    /// The state directory is in use.
    #[error("{0} holds records already: nothing was written. Give a state directory that is empty")]
    NotEmpty(PathBuf),
    /// A file could not be read or written.
    #[error("{path}: {source}")]
    File {
        /// Which.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// The file with the office key is none.
    #[error("{path} is no office key: {why}")]
    KeyFile {
        /// Which.
        path: PathBuf,
        /// What is wrong with it.
        why: FormatError,
    },
    /// The passphrase does not open the office key.
    #[error("the passphrase does not open the office key")]
    WrongPassphrase,
    /// The copies were sealed for another office key.
    #[error("the copy {0} was sealed for another office key")]
    OtherKey(PathBuf),
    /// No copy is whole.
    #[error("none of the copies is whole; the youngest says: {0}")]
    Damaged(String),
}

/// What a recovery came to.
#[derive(Debug)]
pub struct Recovered {
    /// The copy that was used.
    pub copy: PathBuf,
    /// Younger ones that are damaged.
    pub passed_over: Vec<PathBuf>,
}

/// Where a destination keeps what is of the service itself; made the first time. A link that leads elsewhere is not followed.
pub(crate) fn records_directory(destination: &Path) -> io::Result<PathBuf> {
    let directory = destination.join(crate::media::RECORDS);
    match fs::create_dir(&directory) {
        Err(e) if e.kind() != io::ErrorKind::AlreadyExists => return Err(e),
        _ => {}
    }
    let is_one = fs::symlink_metadata(&directory)?.is_dir();
    is_one.then_some(directory).ok_or_else(|| io::Error::other("'records' on the destination is not a directory"))
}

/// Writes a copy below a destination, durably, and lets the oldest go.
pub(crate) fn write_copy(
    destination: &Path,
    now_ms: i64,
    files: &[(&str, &Path)],
    office: &OfficePublicKey,
    random: &dyn Random,
) -> io::Result<()> {
    let directory = records_directory(destination)?;
    let new = directory.join("new");
    let file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&new)?;
    let sealed = BoxWriter::begin(BufWriter::new(file), office, random)?;
    let mut archive = tar::Builder::new(zstd::Encoder::new(sealed, zstd::DEFAULT_COMPRESSION_LEVEL)?);
    for (name, path) in files {
        archive.append_path_with_name(path, name)?;
    }
    let mut out = archive.into_inner()?.finish()?.finish()?;
    out.flush()?;
    out.into_inner().map_err(io::IntoInnerError::into_error)?.sync_all()?;
    fs::rename(&new, directory.join(format!("{BEGIN}{now_ms:014}{END}")))?;
    File::open(&directory)?.sync_all()?;
    File::open(destination)?.sync_all()?;
    for old in copies(&directory)?.into_iter().skip(KEPT) {
        fs::remove_file(old)?;
    }
    Ok(())
}

/// The copies in a directory, youngest first.
fn copies(directory: &Path) -> io::Result<Vec<PathBuf>> {
    let mut found: Vec<PathBuf> = Vec::new();
    for entry in fs::read_dir(directory)? {
        let path = entry?.path();
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        if name.starts_with(BEGIN) && name.ends_with(END) {
            found.push(path);
        }
    }
    found.sort_by(|a, b| b.cmp(a));
    Ok(found)
}

/// Unpacks the youngest copy that is whole into a state directory that has no records.
///
/// # Errors
/// [`RecoverError`]; the state directory is then as it was.
pub fn recover(
    destination: &Path,
    key_file: &Path,
    passphrase: impl FnOnce() -> io::Result<String>,
    state: &Path,
) -> Result<Recovered, RecoverError> {
    let file = |path: &Path| {
        let path = path.to_owned();
        move |source| RecoverError::File { path, source }
    };
    if state.join(RECORDS).exists() {
        return Err(RecoverError::NotEmpty(state.into()));
    }
    let directory = destination.join(crate::media::RECORDS);
    let found = copies(&directory).ok().filter(|found| !found.is_empty());
    let found = found.ok_or_else(|| RecoverError::NoCopy(destination.into()))?;
    let bytes = fs::read(key_file).map_err(file(key_file))?;
    let key = OfficeKeyFile::from_bytes(&bytes).map_err(|why| RecoverError::KeyFile { path: key_file.into(), why })?;
    let passphrase = passphrase().map_err(file(key_file))?;
    let key = OfficeKey::unwrap(&key, &passphrase).map_err(|_| RecoverError::WrongPassphrase)?;
    state_directory::make(state).map_err(file(state))?;
    let mut passed_over = Vec::new();
    let mut first_trouble = None;
    for copy in found {
        match unpack(&copy, &key, state) {
            Ok(()) => return Ok(Recovered { copy, passed_over }),
            Err(Unpack::OtherKey) => return Err(RecoverError::OtherKey(copy)),
            Err(Unpack::Damaged(why)) => {
                first_trouble.get_or_insert(why);
                passed_over.push(copy);
            }
        }
    }
    Err(RecoverError::Damaged(first_trouble.unwrap_or_default()))
}

enum Unpack {
    OtherKey,
    Damaged(String),
}

impl From<io::Error> for Unpack {
    fn from(error: io::Error) -> Self {
        Self::Damaged(error.to_string())
    }
}

/// Unpacks beside, and moves in place only what was read whole.
fn unpack(copy: &Path, key: &OfficeKey, state: &Path) -> Result<(), Unpack> {
    let beside = state.join("recovered");
    let _ = fs::remove_dir_all(&beside);
    fs::create_dir(&beside)?;
    let unpacked = unpack_into(copy, key, &beside);
    let moved = unpacked.and_then(|()| {
        File::create(state.join(RECONCILE))?;
        // The records last: a state directory that has them is complete.
        let is_there = |name: &&str| *name == RECORDS || beside.join(name).exists();
        for name in IN_A_COPY.into_iter().filter(is_there) {
            fs::rename(beside.join(name), state.join(name))?;
        }
        Ok(File::open(state)?.sync_all()?)
    });
    let _ = fs::remove_dir_all(&beside);
    moved
}

fn unpack_into(copy: &Path, key: &OfficeKey, into: &Path) -> Result<(), Unpack> {
    let opened = BoxReader::open(BufReader::new(File::open(copy)?), key).map_err(|error| match error {
        OpenError::WrongSecret => Unpack::OtherKey,
        other => Unpack::Damaged(other.to_string()),
    })?;
    let mut archive = tar::Archive::new(io::Read::take(zstd::Decoder::new(opened)?, MOST));
    for entry in archive.entries()? {
        let mut entry = entry?;
        let path = entry.path()?.into_owned();
        // Only plain names that are known: an archive can name anything.
        let mut parts = path.components();
        let (Some(Component::Normal(name)), None) = (parts.next(), parts.next()) else { continue };
        if !IN_A_COPY.contains(&&*name.to_string_lossy()) {
            continue;
        }
        let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(into.join(name))?;
        io::copy(&mut entry, &mut file)?;
        file.sync_all()?;
    }
    // The archive ends before its box does; only the last piece shows that nothing was cut off.
    io::copy(&mut archive.into_inner(), &mut io::sink())?;
    Ok(())
}
