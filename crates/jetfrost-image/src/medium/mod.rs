//! Where an image store's files lie: one small trait, and how a file becomes durable.
//!
//! Paths are relative, of plain ASCII names joined by `/`; the store makes all of them itself.

mod crash;
mod directory;
mod failing;
mod file_lock;
mod memory;
mod overlay;
mod past_cache;
mod replace;
mod throttle;

#[cfg(test)]
mod conformance;

use std::fmt::Debug;
use std::io::{self, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

pub use crash::CrashMedium;
pub use directory::DirectoryMedium;
pub use failing::{Failing, FailingMedium};
pub use file_lock::FileLock;
pub use memory::MemoryMedium;
pub use overlay::OverlayMedium;
pub use past_cache::PastCache;
pub use replace::replace_file;
pub use throttle::ThrottledMedium;

/// A file in a listing.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Listed {
    /// Its name within the directory.
    pub name: String,
    /// Its length in bytes.
    pub len: u64,
}

/// A file open for reading.
pub trait StoredFile: Send + Sync + Debug {
    /// Its length in bytes.
    fn len(&self) -> u64;

    /// Whether it has no bytes.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Fills `buf` from `offset`.
    ///
    /// # Errors
    /// `UnexpectedEof` when the file ends before that.
    fn read_exact_at(&self, buf: &mut [u8], offset: u64) -> io::Result<()>;
}

/// A file open for writing, from its beginning.
pub trait WritableFile: Write + Send {
    /// Returns once all that was written would survive a loss of power.
    ///
    /// # Errors
    /// As the medium reports them.
    fn sync(&mut self) -> io::Result<()>;
}

/// What an image store needs of its storage. The primitives may be volatile on their own; [`Staged::publish`] puts
/// them in the order that makes a file durable.
pub trait Medium: Send + Sync + Debug {
    /// Bytes of which a file occupies whole multiples.
    fn block(&self) -> u64 {
        USUAL_BLOCK
    }

    /// The files directly in a directory, by name; none when it does not exist.
    ///
    /// # Errors
    /// As the medium reports them.
    fn list(&self, directory: &str) -> io::Result<Vec<Listed>>;

    /// The directories directly in a directory, by name.
    ///
    /// # Errors
    /// As the medium reports them.
    fn directories(&self, directory: &str) -> io::Result<Vec<String>>;

    /// Opens a file.
    ///
    /// # Errors
    /// `NotFound` when there is none.
    fn open(&self, path: &str) -> io::Result<Arc<dyn StoredFile>>;

    /// Makes a directory unless it is there, durably.
    ///
    /// # Errors
    /// As the medium reports them.
    fn make_directory(&self, path: &str) -> io::Result<()>;

    /// Makes or empties a file.
    ///
    /// # Errors
    /// As the medium reports them.
    fn create(&self, path: &str) -> io::Result<Box<dyn WritableFile>>;

    /// Gives a file another name, in place of any that had it.
    ///
    /// # Errors
    /// As the medium reports them.
    fn rename(&self, from: &str, to: &str) -> io::Result<()>;

    /// Returns once the names in a directory would survive a loss of power.
    ///
    /// # Errors
    /// As the medium reports them.
    fn sync_directory(&self, path: &str) -> io::Result<()>;

    /// Removes a file.
    ///
    /// # Errors
    /// `NotFound` when there is none.
    fn remove(&self, path: &str) -> io::Result<()>;
}

/// What most file systems allocate room in, in bytes.
pub const USUAL_BLOCK: u64 = 4096;

/// The directory of files that are being written.
pub const STAGING: &str = "staging";

/// The path of a name in a directory; the store's own directory is the empty path.
fn join(directory: &str, name: &str) -> String {
    if directory.is_empty() { name.to_owned() } else { format!("{directory}/{name}") }
}

static STAGED: AtomicU64 = AtomicU64::new(0);

/// A file in the making: it gets its name only when it is whole and durable, and vanishes if it never gets there.
pub struct Staged {
    medium: Arc<dyn Medium>,
    path: String,
    file: Option<Box<dyn WritableFile>>,
    len: u64,
}

impl Staged {
    /// Begins a file under [`STAGING`].
    ///
    /// # Errors
    /// As the medium reports them.
    pub fn begin(medium: &Arc<dyn Medium>) -> io::Result<Self> {
        let number = STAGED.fetch_add(1, Ordering::Relaxed);
        let path = format!("{STAGING}/{:x}-{number:x}", std::process::id());
        let file = Some(medium.create(&path)?);
        Ok(Self { medium: Arc::clone(medium), path, file, len: 0 })
    }

    /// Bytes written so far.
    #[must_use]
    pub fn len(&self) -> u64 {
        self.len
    }

    /// Whether nothing was written yet.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// Makes what was written durable, not yet under its name.
    ///
    /// # Errors
    /// As the medium reports them.
    pub fn sync(&mut self) -> io::Result<()> {
        self.file.as_mut().expect("taken only by publish").sync()
    }

    /// Makes the file durable under `directory`/`name`. This is the only place where stored files get their names.
    ///
    /// # Errors
    /// As the medium reports them; then there is no such file, or it is whole.
    pub fn publish(mut self, directory: &str, name: &str) -> io::Result<()> {
        let mut file = self.file.take().expect("only taken here");
        file.sync()?;
        drop(file);
        self.medium.rename(&self.path, &join(directory, name))?;
        self.path.clear();
        self.medium.sync_directory(directory)
    }
}

impl Write for Staged {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        let n = self.file.as_mut().expect("taken only by publish").write(buf)?;
        self.len += n as u64;
        Ok(n)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.as_mut().expect("taken only by publish").flush()
    }
}

impl Drop for Staged {
    fn drop(&mut self) {
        if !self.path.is_empty() {
            self.file = None;
            // Whatever stays is removed when the store is opened again.
            let _ = self.medium.remove(&self.path);
        }
    }
}

impl Debug for Staged {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Staged({}, {} bytes)", self.path, self.len)
    }
}

/// Makes a small file durable in one go.
///
/// # Errors
/// As the medium reports them.
pub fn publish_bytes(medium: &Arc<dyn Medium>, directory: &str, name: &str, bytes: &[u8]) -> io::Result<()> {
    let mut staged = Staged::begin(medium)?;
    staged.write_all(bytes)?;
    staged.publish(directory, name)
}

/// Reads a file that must not be longer than `most`.
///
/// # Errors
/// As the medium reports them; `InvalidData` when the file is longer.
pub fn read_whole(medium: &dyn Medium, path: &str, most: u64) -> io::Result<Vec<u8>> {
    let file = medium.open(path)?;
    if file.len() > most {
        return Err(io::Error::new(io::ErrorKind::InvalidData, format!("{path} is longer than such files are")));
    }
    let mut bytes = vec![0; usize::try_from(file.len()).expect("bounded by what fits in memory")];
    file.read_exact_at(&mut bytes, 0)?;
    Ok(bytes)
}
