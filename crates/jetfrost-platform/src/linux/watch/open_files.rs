//! Files that are open for writing, by `/proc`: the links of open files have the mode that they are open with.
//!
//! Writes by `io_submit(2)` and by the loop driver are not reported, nor are those to shared mappings; the file's last closing is. So such files
//! are looked at whatever is reported.

use std::collections::HashSet;
use std::fs;
use std::io::{self, ErrorKind};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use nix::errno::Errno;

use crate::{FileKind, Metadata, Paths, System, path_of};

/// Folders with files on these volumes that some program has open for writing.
pub(super) fn being_written(volumes: &HashSet<u64>) -> io::Result<HashSet<(u64, u64)>> {
    let mut found = HashSet::new();
    for entry in fs::read_dir("/proc")? {
        let process = entry?.path();
        let is_process = process.file_name().is_some_and(|name| name.as_bytes().iter().all(u8::is_ascii_digit));
        if is_process {
            match unless_gone(written_by(&process, volumes, &mut found)) {
                // Without root one sees the own programs; from within a container not even root sees what others outside have open.
                Err(error) if error.kind() == ErrorKind::PermissionDenied => {}
                other => drop(other?),
            }
        }
    }
    unless_gone(written_by_loop_devices(volumes, &mut found))?;
    Ok(found)
}

/// Notes the folders of the files that a process has open for writing.
fn written_by(process: &Path, volumes: &HashSet<u64>, found: &mut HashSet<(u64, u64)>) -> io::Result<()> {
    const FOR_WRITING: u32 = 0o200;
    for entry in fs::read_dir(process.join("fd"))? {
        let link = entry?.path();
        let is_for_writing = unless_gone(System::metadata_of(&link))?.is_some_and(|link| link.mode & FOR_WRITING != 0);
        let is_of_them = |file: &Metadata| file.kind == Some(FileKind::File) && volumes.contains(&file.volume);
        if !is_for_writing || !unless_gone(System::metadata_behind(&link))?.as_ref().is_some_and(is_of_them) {
            continue;
        }
        // One that was closed meanwhile was told of. The path is as the process sees it.
        if let Some(path) = unless_gone(fs::read_link(&link))? {
            note_folder_of(&process.join("root"), &path, found)?;
        }
    }
    Ok(())
}

/// Notes the folders of the files behind loop devices.
fn written_by_loop_devices(volumes: &HashSet<u64>, found: &mut HashSet<(u64, u64)>) -> io::Result<()> {
    for entry in fs::read_dir("/sys/block")? {
        let Some(path) = unless_gone(fs::read(entry?.path().join("loop/backing_file")))? else { continue };
        let path = path_of(path.trim_ascii_end());
        if unless_gone(System::metadata_behind(&path))?.is_some_and(|file| volumes.contains(&file.volume)) {
            note_folder_of(Path::new("/"), &path, found)?;
        }
    }
    Ok(())
}

fn note_folder_of(root: &Path, path: &Path, found: &mut HashSet<(u64, u64)>) -> io::Result<()> {
    let Some(folder) = path.parent() else { return Ok(()) };
    let folder = root.join(folder.strip_prefix("/").unwrap_or(folder));
    // One that is gone was told of.
    if let Some(folder) = unless_gone(System::metadata_behind(&folder))? {
        found.insert((folder.volume, folder.file));
    }
    Ok(())
}

/// What a process or file says that may be gone by now.
fn unless_gone<T>(said: io::Result<T>) -> io::Result<Option<T>> {
    match said {
        Ok(said) => Ok(Some(said)),
        Err(error) if error.kind() == ErrorKind::NotFound || error.raw_os_error() == Some(Errno::ESRCH as i32) => Ok(None),
        Err(error) => Err(error),
    }
}

#[cfg(test)]
mod tests {
    use std::fs::File;
    use std::io::{BufRead, BufReader};
    use std::process::{Command, Stdio};

    use super::*;

    /// Databases write past the calls that are reported, also from within containers.
    #[test]
    fn files_that_are_open_for_writing_are_found_whoever_has_them_open_and_by_whichever_path() {
        let directory = tempfile::tempdir().expect("a directory");
        let root = directory.path().canonicalize().expect("there");
        for name in ["here", "elsewhere", "read", "image"] {
            fs::create_dir(root.join(name)).expect("made");
            File::create(root.join(name).join("file")).and_then(|file| file.set_len(1 << 20)).expect("made");
        }
        let id = |path: &Path| System::metadata_of(path).map(|found| (found.volume, found.file)).expect("there");
        let volumes = HashSet::from([id(&root).0]);
        let found = |name: &str| being_written(&volumes).expect("asked").contains(&id(&root.join(name)));
        let open = File::options().write(true).open(root.join("here/file")).expect("opened");
        let read = File::open(root.join("read/file")).expect("opened");
        assert!(found("here") && !found("read") && !found("elsewhere") && !found("image"));
        drop((open, read));
        assert!(!found("here"));

        // A program that sees the folder elsewhere.
        let script = format!("mount --bind {}/elsewhere /mnt && exec 3>>/mnt/file && echo open && read -r _", root.display());
        let mut command = Command::new("unshare");
        let mut child =
            command.args(["-m", "sh", "-c", &script]).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().expect("it runs");
        let mut line = String::new();
        BufReader::new(child.stdout.take().expect("piped")).read_line(&mut line).expect("read");
        assert!(line == "open\n" && found("elsewhere"));
        drop(child.stdin.take());
        child.wait().expect("it ended");
        assert!(!found("elsewhere"));

        let image = root.join("image/file");
        let device = Command::new("losetup").args(["--find", "--show"]).arg(&image).output().expect("losetup runs").stdout;
        assert!(found("image"));
        let device = String::from_utf8(device).expect("text");
        assert!(Command::new("losetup").args(["--detach", device.trim()]).status().expect("losetup runs").success());
    }
}
