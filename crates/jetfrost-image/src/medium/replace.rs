//! Single files that are replaced in one step: settings, keys, markers. Not the files of an image store, which go by [`super::Staged`].

use std::fs::{self, File, OpenOptions};
use std::io;
use std::path::Path;

/// Writes a file durably and in one step: after a crash at any moment it is the one before or this one, whole. Until then it is
/// `<name>.new`, which is made new: what lies there, a link included, is removed first. `options` say how the file is made, such as
/// with which permissions.
///
/// # Errors
/// Any step's; the file that was there stays.
pub fn replace_file(path: &Path, options: &mut OpenOptions, write: impl FnOnce(&mut File) -> io::Result<()>) -> io::Result<()> {
    let (Some(directory), Some(name)) = (path.parent(), path.file_name()) else { return Err(io::ErrorKind::InvalidInput.into()) };
    let mut unfinished = name.to_owned();
    unfinished.push(".new");
    let unfinished = directory.join(unfinished);
    match fs::remove_file(&unfinished) {
        Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
        _ => {}
    }
    let mut file = options.write(true).create_new(true).open(&unfinished)?;
    write(&mut file)?;
    file.sync_all()?;
    fs::rename(&unfinished, path)?;
    super::directory::sync(directory)
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    fn put(path: &Path, text: &[u8]) -> io::Result<()> {
        replace_file(path, &mut OpenOptions::new(), |file| file.write_all(text))
    }

    #[test]
    fn a_file_is_the_one_before_or_the_new_one_and_never_half_of_it() {
        let directory = tempfile::tempdir().expect("a directory");
        let path = directory.path().join("marker.json");
        put(&path, b"first").expect("written");
        let failed = replace_file(&path, &mut OpenOptions::new(), |file| {
            file.write_all(b"half")?;
            Err(io::Error::other("the disk is full"))
        });
        assert!(failed.is_err());
        assert_eq!(fs::read(&path).expect("there"), b"first");
        put(&path, b"second").expect("what an attempt before left is no hindrance");
        assert_eq!(fs::read(&path).expect("there"), b"second");
        assert_eq!(fs::read_dir(directory.path()).expect("listed").count(), 1, "nothing is left beside it");
    }

    #[test]
    #[cfg(unix)]
    fn a_link_in_the_place_of_the_unfinished_file_is_not_followed() {
        let directory = tempfile::tempdir().expect("a directory");
        let elsewhere = directory.path().join("elsewhere");
        fs::write(&elsewhere, b"untouched").expect("written");
        let path = directory.path().join("marker.json");
        std::os::unix::fs::symlink(&elsewhere, directory.path().join("marker.json.new")).expect("a link");
        put(&path, b"mine").expect("written");
        assert_eq!(
            (fs::read(&path).expect("there"), fs::read(&elsewhere).expect("there")),
            (b"mine".to_vec(), b"untouched".to_vec())
        );
    }
}
