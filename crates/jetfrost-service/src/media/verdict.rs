//! Whether a directory would do as a destination, and why not. What can be probed is probed.

use std::fs::{self, File};
use std::io::{self, Seek, SeekFrom, Write};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use jetfrost_wire::destination::{Fitness, Volume as VolumeShown, VolumeHolds};
use jetfrost_wire::size::show;

use super::Marker;
use super::volume::{Volume, all_volumes, volume_of};

/// A smaller volume has no room for a segment and for letting go of another.
const SMALLEST: u64 = 20_000_000;
/// A volume smaller than this is likely to be the wrong one.
const SMALL: u64 = 50_000_000_000;
/// The longest name that a store's files have, with room to spare.
const LONG_NAME: usize = 200;

/// Whether a directory would do.
#[derive(Debug, Clone)]
pub(crate) struct Judgement {
    pub(crate) fitness: Fitness,
    pub(crate) reasons: Vec<String>,
    pub(crate) volume: Option<Volume>,
}

/// Why a directory neither exists nor can be made.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NoDirectory {
    #[error("{} is not an absolute path", .0.display())]
    Relative(PathBuf),
    #[error("{} is not a directory", .0.display())]
    SomethingElse(PathBuf),
    #[error("{} cannot be made: there is no directory above it", .0.display())]
    NothingAbove(PathBuf),
    #[error("{} cannot be read: {}", .0.display(), .1)]
    Unreadable(PathBuf, #[source] io::Error),
}

/// The directory by which one is judged: itself, or the one above it in which it will be made.
pub(crate) fn there_or_above(directory: &Path) -> Result<&Path, NoDirectory> {
    let named = || directory.to_path_buf();
    if !directory.is_absolute() {
        return Err(NoDirectory::Relative(named()));
    }
    match fs::metadata(directory) {
        Ok(metadata) if metadata.is_dir() => Ok(directory),
        Ok(_) => Err(NoDirectory::SomethingElse(named())),
        Err(e) if e.kind() == io::ErrorKind::NotFound => {
            let above = directory.parent().filter(|above| above.is_dir());
            above.ok_or_else(|| NoDirectory::NothingAbove(named()))
        }
        Err(e) => Err(NoDirectory::Unreadable(named(), e)),
    }
}

/// Judges whether `directory` would do as a destination beside those in `others`.
pub(crate) fn judge(directory: &Path, others: &[PathBuf], service: &str) -> Judgement {
    let refuse = |reason: String, volume| Judgement { fitness: Fitness::Unfit, reasons: vec![reason], volume };
    let shown = directory.display();
    let there = match there_or_above(directory) {
        Ok(there) => there,
        Err(reason) => return refuse(reason.to_string(), None),
    };
    let volume = match volume_of(there) {
        Ok(volume) => volume,
        Err(e) => return refuse(format!("the volume of {shown} cannot be examined: {e}"), None),
    };
    let there = there.canonicalize().unwrap_or_else(|_| there.to_owned());
    let real = directory.canonicalize().unwrap_or_else(|_| there.join(directory.file_name().unwrap_or_default()));
    if let Some(reason) = unfit_volume(&volume).or_else(|| unfit_directory(&real, others, service)) {
        return refuse(reason, Some(volume));
    }
    let probed = probe(&there);
    if let Some(reason) = probed.cannot {
        return refuse(format!("{shown} cannot hold image stores: {reason}"), Some(volume));
    }
    let mut reasons = warnings(&volume);
    reasons.extend(probed.mind);
    reasons.extend(home_warning(&real));
    with_care(reasons, volume)
}

fn with_care(reasons: Vec<String>, volume: Volume) -> Judgement {
    let fitness = if reasons.is_empty() { Fitness::Fit } else { Fitness::WithCare };
    Judgement { fitness, reasons, volume: Some(volume) }
}

/// The volumes of this host, each with a verdict on whether a new directory on it would do.
pub(crate) fn volumes(others: &[PathBuf], service: &str) -> io::Result<Vec<VolumeShown>> {
    Ok(all_volumes()?.into_iter().map(|volume| shown(volume, others, service)).collect())
}

fn shown(volume: Volume, others: &[PathBuf], service: &str) -> VolumeShown {
    let at = PathBuf::from(&volume.mounted_at);
    let judgement = match unfit_volume(&volume) {
        Some(reason) => Judgement { fitness: Fitness::Unfit, reasons: vec![reason], volume: None },
        None => {
            let probed = probe(&at);
            let mut reasons = warnings(&volume);
            reasons.extend(probed.mind);
            reasons.extend(home_warning(&at));
            match probed.cannot {
                Some(reason) => Judgement { fitness: Fitness::Unfit, reasons: vec![reason], volume: None },
                None => with_care(reasons, volume.clone()),
            }
        }
    };
    VolumeShown {
        holds: what_lies_there(&at, others, service),
        mounted_at: volume.mounted_at,
        device: volume.device,
        file_system: volume.file_system,
        size: volume.size,
        free: volume.free,
        removable: volume.removable,
        fitness: judgement.fitness,
        reasons: judgement.reasons,
    }
}

/// Destinations on a volume: those that are known, and whatever has a marker at its top or one level below.
fn what_lies_there(at: &Path, others: &[PathBuf], service: &str) -> Vec<VolumeHolds> {
    let below = fs::read_dir(at).into_iter().flatten().filter_map(|entry| Some(entry.ok()?.path()));
    let known = others.iter().filter(|other| volume_of(other).is_ok_and(|v| Path::new(&v.mounted_at) == at)).cloned();
    let mut places: Vec<PathBuf> = std::iter::once(at.to_owned()).chain(below).chain(known).collect();
    places.sort();
    places.dedup();
    let same_volume = |place: &PathBuf| volume_of(place).is_ok_and(|v| Path::new(&v.mounted_at) == at);
    let held = places.into_iter().filter_map(|place| Some((Marker::read(&place)?, place)));
    held.filter(|(_, place)| same_volume(place))
        .map(|(marker, place)| VolumeHolds {
            directory: place.display().to_string(),
            ours: marker.service == service,
            name: marker.name,
        })
        .collect()
}

fn unfit_volume(volume: &Volume) -> Option<String> {
    let Volume { mounted_at, file_system, .. } = volume;
    if volume.network {
        return Some(format!(
            "{mounted_at} is storage mounted over the network ({file_system}): a destination needs a local volume"
        ));
    }
    if volume.size == 0 {
        return Some(format!("{mounted_at} is '{file_system}', which keeps no files"));
    }
    if volume.read_only {
        return Some(format!("{mounted_at} is mounted read-only"));
    }
    (volume.size < SMALLEST).then(|| format!("{mounted_at} has only {}: that is too small for backups", show(volume.size)))
}

fn unfit_directory(real: &Path, others: &[PathBuf], service: &str) -> Option<String> {
    let shown = real.display();
    match Marker::read(real) {
        Some(marker) if marker.service == service => return Some(format!("{shown} is a destination of this service already")),
        Some(_) => return Some(format!("{shown} holds the marker of another installation: it can be adopted")),
        None if Marker::is_there(real) => return Some(format!("{shown} holds a marker that cannot be read")),
        None => {}
    }
    let real_of = |other: &PathBuf| other.canonicalize().unwrap_or_else(|_| other.clone());
    if let Some(other) = others.iter().find(|other| real.starts_with(real_of(other))) {
        return Some(format!("{shown} is inside the destination at {}", other.display()));
    }
    if let Some(other) = others.iter().find(|other| real_of(other).starts_with(real)) {
        return Some(format!("{shown} contains the destination at {}", other.display()));
    }
    if let Some(ancestor) = real.ancestors().skip(1).find(|ancestor| Marker::is_there(ancestor)) {
        return Some(format!("{shown} is inside the destination at {}", ancestor.display()));
    }
    let has_files = fs::read_dir(real).is_ok_and(|mut entries| entries.any(|e| e.is_ok_and(|e| e.file_name() != "lost+found")));
    has_files.then(|| format!("{shown} is not empty: a destination is used for backups only"))
}

/// What a probe found.
#[derive(Debug, Default)]
struct Probed {
    cannot: Option<String>,
    mind: Option<String>,
}

/// Does in a directory what image stores need, and leaves nothing behind.
fn probe(directory: &Path) -> Probed {
    let inside = directory.join(format!(".jetfrost-probe-{}", std::process::id()));
    let outcome = fs::create_dir(&inside).map_err(|e| format!("nothing can be written to it: {e}")).and_then(|()| tried(&inside));
    let _ = fs::remove_dir_all(&inside);
    match outcome {
        Ok(mind) => Probed { cannot: None, mind },
        Err(reason) => Probed { cannot: Some(reason), mind: None },
    }
}

fn tried(inside: &Path) -> Result<Option<String>, String> {
    let (short, long) = (inside.join("short"), inside.join("n".repeat(LONG_NAME)));
    let write = || -> io::Result<u64> {
        let mut file = File::create(&short)?;
        file.write_all(b"probe")?;
        file.seek(SeekFrom::Start(8 << 20))?;
        file.write_all(b"probe")?;
        file.sync_all()?;
        Ok(fs::metadata(&short)?.blocks() * 512)
    };
    let occupied = write().map_err(|e| format!("a file cannot be written and made durable: {e}"))?;
    fs::rename(&short, &long).map_err(|e| format!("a file cannot have a name of {LONG_NAME} characters: {e}"))?;
    File::open(inside)
        .and_then(|directory| directory.sync_all())
        .map_err(|e| format!("names cannot be made durable (fsync of a directory): {e}"))?;
    Ok((occupied >= 8 << 20).then(|| "it has no sparse files: holes take up room".to_owned()))
}

fn warnings(volume: &Volume) -> Vec<String> {
    let mut warnings = Vec::new();
    if volume.system {
        warnings.push("this is the system's volume: if it fills up, the server suffers; keep a reserve".into());
    }
    if volume.file_system == "tmpfs" {
        warnings.push("this is memory: everything is gone after a restart".into());
    }
    if volume.removable {
        warnings.push("it can be unplugged: while it is away, its backups wait".into());
    }
    if volume.size < SMALL {
        warnings.push(format!("it has only {}", show(volume.size)));
    }
    warnings
}

fn home_warning(directory: &Path) -> Option<String> {
    let passwd = fs::read_to_string("/etc/passwd").unwrap_or_default();
    let home = home_above(&passwd, directory)?;
    Some(format!("it is under {home}, somebody's home: what is made there for other ends gets mixed up with backups"))
}

/// The home of a person (passwd(5)) that a directory is in.
fn home_above(passwd: &str, directory: &Path) -> Option<String> {
    let homes = passwd.lines().filter_map(|line| {
        let fields: Vec<&str> = line.split(':').collect();
        let uid: u32 = fields.get(2)?.parse().ok()?;
        // Homes of system accounts lie anywhere, down to the root directory.
        (uid == 0 || (1000..65534).contains(&uid)).then(|| fields.get(5).copied())?
    });
    let of_a_person = |home: &&str| home.len() > 1 && directory.starts_with(home);
    homes.chain(["/home"]).find(of_a_person).map(str::to_owned)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn reasons(directory: &Path, others: &[PathBuf]) -> String {
        let judgement = judge(directory, others, "s");
        assert_eq!(judgement.fitness, Fitness::Unfit);
        judgement.reasons.join("; ")
    }

    #[test]
    fn one_that_is_yet_to_be_made_is_judged_by_the_one_above_it() {
        let root = tempfile::tempdir().expect("a directory");
        fs::write(root.path().join("file"), "x").expect("written");
        let wanted = root.path().join("backups");
        assert_ne!(judge(&wanted, &[], "s").fitness, Fitness::Unfit, "what lies beside it is no matter");
        assert!(!wanted.exists() && fs::read_dir(root.path()).expect("readable").count() == 1, "nothing stays behind");
        assert!(reasons(&wanted.join("inner"), &[]).contains("no directory above it"));
        assert!(reasons(&wanted, &[root.path().into()]).contains("inside the destination"));
    }

    #[test]
    fn what_does_not_do_says_why() {
        let root = tempfile::tempdir().expect("a directory");
        let file = root.path().join("file");
        fs::write(&file, "x").expect("written");
        assert!(reasons(&file, &[]).contains("is not a directory"));
        assert!(reasons(&root.path().join("none/none"), &[]).contains("no directory above it"));
        assert!(reasons(Path::new("relative"), &[]).contains("not an absolute path"));
        assert!(reasons(root.path(), &[]).contains("not empty"));
        let inner = root.path().join("inner");
        fs::create_dir(&inner).expect("made");
        assert!(reasons(&inner, &[root.path().to_owned()]).contains("is inside the destination"));
        assert!(reasons(root.path(), std::slice::from_ref(&inner)).contains("contains the destination"));
        assert_ne!(judge(&inner, &[], "s").fitness, Fitness::Unfit);
        assert_eq!(fs::read_dir(&inner).expect("readable").count(), 0, "the probe left nothing");
        Marker::new("another", "d", "n", "").write(&inner).expect("written");
        assert!(reasons(&inner, &[]).contains("it can be adopted"));
        assert!(reasons(Path::new("/proc"), &[]).contains("keeps no files"));
    }

    fn volume() -> Volume {
        Volume {
            mounted_at: "/backup".into(),
            file_system: "ext4".into(),
            device: "/dev/sdb1".into(),
            size: 4_000_000_000_000,
            free: 1,
            read_only: false,
            network: false,
            removable: false,
            system: false,
        }
    }

    #[test]
    fn a_volume_is_refused_for_what_it_is() {
        assert_eq!(unfit_volume(&volume()), None);
        for (volume, why) in [
            (Volume { network: true, ..volume() }, "over the network"),
            (Volume { read_only: true, ..volume() }, "read-only"),
            (Volume { size: 9_000_000, ..volume() }, "too small"),
        ] {
            let reason = unfit_volume(&volume).expect("unfit");
            assert!(reason.contains(why), "{reason}");
        }
    }

    #[test]
    fn what_is_to_be_minded_is_said() {
        assert_eq!(warnings(&volume()), Vec::<String>::new());
        let risky = Volume { system: true, removable: true, size: 2_000_000_000, ..volume() };
        assert_eq!(warnings(&risky).len(), 3);
    }

    #[test]
    fn a_home_is_known_and_the_root_directory_is_none() {
        let passwd =
            "root:x:0:0:root:/export/chief:/bin/sh\ndaemon:x:1:1::/:/bin/false\nanna:x:1001:1001::/export/anna:/bin/sh\n";
        let above = |path: &str| home_above(passwd, Path::new(path));
        assert_eq!(above("/export/anna/backup"), Some("/export/anna".into()));
        assert_eq!(above("/export/chief/x"), Some("/export/chief".into()));
        assert_eq!(above("/home/ben"), Some("/home".into()));
        assert_eq!(above("/backup"), None);
    }
}
