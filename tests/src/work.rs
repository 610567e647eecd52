//! A person's files, what days of work do to them, and what incidents do. Everything follows from a seed.

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use crate::chance::Chance;

const DAY: Duration = Duration::from_hours(24);
/// Documents, pictures, tables, notes and sources, as many of each.
const OF_EACH: usize = 60;

/// A day of work.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Day {
    /// Documents and notes are written on.
    Editing,
    /// A program is built: many small results, some that look random.
    Build,
    /// What was built is removed.
    CleanBuild,
    /// Pictures come from a camera.
    PhotoImport,
    /// A folder gets another place.
    MovedFolder,
    /// Pictures get names in a row.
    RenamedPictures,
    /// An archive is unpacked.
    UnpackedArchive,
    /// An archive that is encrypted comes, as somebody sent it.
    EncryptedArchive,
    /// A machine's disk is written on, as another program keeps it in a file.
    DiskImage,
    /// Pictures become ones of another type, and the former ones go.
    Conversion,
    /// A vault of passwords and some keys change.
    Keys,
    /// Logs move one number on and are packed.
    Logs,
    /// A database is written new.
    Database,
    /// Another state of all sources is checked out.
    CheckedOut,
    /// A project that is over is removed.
    RemovedProject,
}

impl Day {
    /// All of them.
    pub const ALL: [Self; 15] = [
        Self::Editing,
        Self::Build,
        Self::CleanBuild,
        Self::PhotoImport,
        Self::MovedFolder,
        Self::RenamedPictures,
        Self::UnpackedArchive,
        Self::EncryptedArchive,
        Self::DiskImage,
        Self::Conversion,
        Self::Keys,
        Self::Logs,
        Self::Database,
        Self::CheckedOut,
        Self::RemovedProject,
    ];
}

/// What nobody wants to happen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Incident {
    /// Every file is encrypted where it is.
    EncryptedInPlace,
    /// Every file is encrypted and gets one more ending.
    EncryptedAndRenamed,
    /// An encrypted copy comes beside every file, and the file goes.
    EncryptedCopies,
    /// The same under names that say nothing.
    EncryptedUnderAnyName,
    /// Only the first 64 KiB of every file.
    EncryptedAtTheBeginning,
    /// Documents and pictures of one folder only.
    EncryptedFolder,
    /// While a build runs.
    EncryptedDuringBuild,
    /// Every file is filled with zeros.
    Blanked,
    /// Everything goes.
    Deleted,
    /// Three of four folders go.
    DeletedFolders,
    /// Ten files a point, in place.
    EncryptedSlowly,
    /// All but the first 4 KiB of every file.
    EncryptedBehindTheBeginning,
    /// Encrypted, and written as letters and digits.
    EncryptedAsText,
}

impl Incident {
    /// All of them.
    pub const ALL: [Self; 13] = [
        Self::EncryptedInPlace,
        Self::EncryptedAndRenamed,
        Self::EncryptedCopies,
        Self::EncryptedUnderAnyName,
        Self::EncryptedAtTheBeginning,
        Self::EncryptedFolder,
        Self::EncryptedDuringBuild,
        Self::Blanked,
        Self::Deleted,
        Self::DeletedFolders,
        Self::EncryptedSlowly,
        Self::EncryptedBehindTheBeginning,
        Self::EncryptedAsText,
    ];
}

/// A person's files.
pub struct Home {
    directory: PathBuf,
    seed: String,
    chance: Chance,
    /// Counts what is made, for names.
    made: usize,
}

impl Home {
    /// Makes some files that are months old, and some that are new.
    ///
    /// # Errors
    /// What the system says.
    pub fn make(directory: &Path, seed: &str) -> io::Result<Self> {
        let mut home = Self { directory: directory.into(), seed: seed.into(), chance: Chance::of(seed), made: 0 };
        home.fill()?;
        Ok(home)
    }

    /// Makes everything as it was at first, as a restore does.
    ///
    /// # Errors
    /// What the system says.
    pub fn fill(&mut self) -> io::Result<()> {
        let _ = fs::remove_dir_all(&self.directory);
        self.chance = Chance::of(&self.seed);
        for n in 0..OF_EACH {
            let project = format!("projects/{}", ["harbour", "levels", "parcels", "ferry"][n % 4]);
            for (folder, name, content) in [
                (project.clone(), format!("report {n}.odt"), self.document()),
                (project, format!("points {n}.csv"), self.table()),
                ("pictures/2025".into(), format!("IMG_{n:04}.jpg"), self.picture(b"\xff\xd8\xff\xe0\0\x10JFIF\0")),
                ("notes".into(), format!("note {n}.txt"), self.text(20)),
                ("source/src".into(), format!("module_{n}.rs"), self.text(60)),
            ] {
                let age = DAY * u32::try_from(40 + self.chance.below(400)).unwrap_or(40);
                self.write(&format!("{folder}/{name}"), &content, age)?;
            }
        }
        // What happens next is another time something else.
        self.made += 1;
        self.chance = Chance::of(&format!("{} {}", self.seed, self.made));
        Ok(())
    }

    /// A day of work.
    ///
    /// # Errors
    /// What the system says.
    pub fn work(&mut self, day: Day) -> io::Result<()> {
        self.made += 1;
        let made = self.made;
        match day {
            Day::Editing => self.edit(8),
            Day::Build => self.build(),
            Day::CleanBuild => remove_folder(&self.at("source/target")),
            Day::PhotoImport => self.many(40, |home, n| {
                let picture = home.picture(b"\xff\xd8\xff\xe1\0\x10Exif\0");
                home.write(&format!("pictures/import {made}/DSC_{n:05}.jpg"), &picture, Duration::ZERO)
            }),
            Day::MovedFolder => {
                let (from, to) =
                    if made.is_multiple_of(2) { ("notes", "notes old") } else { ("pictures/2025", "pictures/archive") };
                let (from, to) = if self.at(from).exists() { (from, to) } else { (to, from) };
                if self.at(from).exists() { fs::rename(self.at(from), self.at(to)) } else { Ok(()) }
            }
            Day::RenamedPictures => {
                let pictures = self.files()?.into_iter().filter(|path| has_ending(path, "jpg")).enumerate();
                pictures.take(30).try_for_each(|(n, path)| fs::rename(&path, path.with_file_name(format!("trip {made} {n}.jpg"))))
            }
            Day::UnpackedArchive => self.many(120, |home, n| {
                let text = home.text(30);
                home.write(&format!("downloads/library {made}/part {n}.c"), &text, DAY * 900)
            }),
            Day::EncryptedArchive => {
                let bytes = self.random(300_000);
                self.write(&format!("downloads/sent {made}.bin"), &bytes, Duration::ZERO)
            }
            Day::DiskImage => self.disk_image(),
            Day::Conversion => {
                let pictures: Vec<PathBuf> = self.files()?.into_iter().filter(|path| has_ending(path, "jpg")).take(30).collect();
                pictures.iter().try_for_each(|path| {
                    fs::write(path.with_extension("webp"), self.picture(b"RIFF\x10\0\0\0WEBPVP8 "))?;
                    fs::remove_file(path)
                })
            }
            Day::Keys => self.many(6, |home, n| {
                let key = home.random(600);
                home.write(&format!(".keys/key {n}"), &key, Duration::ZERO)
            }),
            Day::Logs => self.logs(),
            Day::Database => {
                let rows = self.table().repeat(10);
                let bytes = [b"SQLite format 3\0\x10\0\x01\x01".as_slice(), &rows].concat();
                self.write("mail/index.sqlite", &bytes, Duration::ZERO)
            }
            Day::CheckedOut => self.many(OF_EACH, |home, n| {
                let text = home.text(60);
                home.write(&format!("source/src/module_{n}.rs"), &text, Duration::ZERO)
            }),
            Day::RemovedProject => remove_folder(&self.at(&format!("downloads/library {}", made.saturating_sub(3)))),
        }
    }

    /// What nobody wants to happen.
    ///
    /// # Errors
    /// What the system says.
    pub fn suffer(&mut self, incident: Incident) -> io::Result<()> {
        if incident == Incident::EncryptedDuringBuild {
            self.build()?;
        }
        let is_hit = |path: &PathBuf| path.strip_prefix(&self.directory).is_ok_and(|path| is_hit(incident, path));
        let files: Vec<PathBuf> = self.files()?.into_iter().filter(is_hit).collect();
        let (from, most) = if incident == Incident::EncryptedSlowly { (self.made * 10, 10) } else { (0, usize::MAX) };
        self.made += 1;
        for (n, path) in files.into_iter().skip(from).take(most).enumerate() {
            let before = fs::read(&path)?;
            let all = self.random(before.len());
            match incident {
                Incident::EncryptedAndRenamed => {
                    fs::write(&path, all)?;
                    fs::rename(&path, with_one_more_ending(&path))?;
                }
                Incident::EncryptedCopies => {
                    fs::write(with_one_more_ending(&path), all)?;
                    fs::remove_file(&path)?;
                }
                Incident::EncryptedUnderAnyName => {
                    fs::write(path.with_file_name(format!("{:016x}", n * 0x9e37_79b9)), all)?;
                    fs::remove_file(&path)?;
                }
                Incident::EncryptedAtTheBeginning => {
                    let to = before.len().min(64 << 10);
                    fs::write(&path, [&all[..to], &before[to..]].concat())?;
                }
                Incident::EncryptedBehindTheBeginning => {
                    let from = before.len().min(4 << 10);
                    fs::write(&path, [&before[..from], &all[from..]].concat())?;
                }
                Incident::EncryptedAsText => {
                    fs::write(&path, all.iter().map(|byte| b'a' + byte % 26).collect::<Vec<u8>>())?;
                }
                Incident::Blanked => fs::write(&path, vec![0; before.len()])?,
                Incident::Deleted | Incident::DeletedFolders => fs::remove_file(&path)?,
                _ => fs::write(&path, all)?,
            }
        }
        Ok(())
    }

    fn edit(&mut self, most: usize) -> io::Result<()> {
        let files = self.files()?;
        for _ in 0..most {
            let path = &files[self.chance.below(files.len())];
            let content = match path.extension().and_then(|ending| ending.to_str()) {
                Some("odt") => self.document(),
                Some("txt" | "rs") => self.text(40),
                Some("csv") => self.table(),
                _ => continue,
            };
            fs::write(path, content)?;
        }
        Ok(())
    }

    fn build(&mut self) -> io::Result<()> {
        self.many(150, |home, n| {
            let object = [b"\x7fELF\x02\x01\x01\0".as_slice(), &home.table()].concat();
            home.write(&format!("source/target/debug/deps/unit-{n:03}.o"), &object, Duration::ZERO)?;
            let content = if n % 10 == 0 { home.random(2_000) } else { home.table() };
            home.write(&format!("source/target/debug/incremental/part-{n:03}.bin"), &content, Duration::ZERO)
        })
    }

    fn disk_image(&mut self) -> io::Result<()> {
        let path = self.at("machines/test.img");
        let mut bytes = if path.exists() { fs::read(&path)? } else { vec![0; 4 << 20] };
        bytes[510..512].copy_from_slice(b"\x55\xaa");
        let (at, blocks) = (self.chance.below(48), self.random(1 << 20));
        bytes[4096 + at * 65_536..4096 + at * 65_536 + 1_000_000].copy_from_slice(&blocks[..1_000_000]);
        self.write("machines/test.img", &bytes, Duration::ZERO)
    }

    fn logs(&mut self) -> io::Result<()> {
        for n in (1..4).rev() {
            let from = self.at(&format!("logs/work.log.{n}.gz"));
            if from.exists() {
                fs::rename(from, self.at(&format!("logs/work.log.{}.gz", n + 1)))?;
            }
        }
        let packed = [b"\x1f\x8b\x08\0\0\0\0\0\0\x03".as_slice(), &self.random(3_000)].concat();
        self.write("logs/work.log.1.gz", &packed, Duration::ZERO)?;
        let log = self.text(100);
        self.write("logs/work.log", &log, Duration::ZERO)
    }

    fn many(&mut self, number: usize, mut each: impl FnMut(&mut Self, usize) -> io::Result<()>) -> io::Result<()> {
        (0..number).try_for_each(|n| each(self, n))
    }

    fn at(&self, path: &str) -> PathBuf {
        self.directory.join(path)
    }

    fn write(&self, path: &str, content: &[u8], age: Duration) -> io::Result<()> {
        let path = self.at(path);
        fs::create_dir_all(path.parent().unwrap_or(&self.directory))?;
        fs::write(&path, content)?;
        File::options().write(true).open(&path)?.set_modified(SystemTime::now() - age)
    }

    /// Every file, by name.
    fn files(&self) -> io::Result<Vec<PathBuf>> {
        let (mut folders, mut files) = (vec![self.directory.clone()], Vec::new());
        while let Some(folder) = folders.pop() {
            for entry in fs::read_dir(folder)? {
                let path = entry?.path();
                if path.is_dir() { folders.push(path) } else { files.push(path) }
            }
        }
        files.sort();
        Ok(files)
    }

    /// Bytes as a good cipher makes them.
    fn random(&self, len: usize) -> Vec<u8> {
        let mut bytes = vec![0; len];
        let seed = self.chance.bytes(16);
        blake3::Hasher::new().update(&seed).update(&self.chance.below(usize::MAX).to_le_bytes()).finalize_xof().fill(&mut bytes);
        bytes
    }

    fn text(&self, lines: usize) -> Vec<u8> {
        const WORDS: [&str; 12] =
            ["the", "level", "of", "water", "at", "noon", "was", "measured", "and", "written", "down", "again"];
        let line = |_| (0..9).map(|_| WORDS[self.chance.below(WORDS.len())]).collect::<Vec<_>>().join(" ");
        (0..lines).map(line).collect::<Vec<String>>().join("\n").into_bytes()
    }

    fn table(&self) -> Vec<u8> {
        (0..200_u32).flat_map(|n| (n * 37 + u32::try_from(self.chance.below(900)).unwrap_or(0)).to_be_bytes()).collect()
    }

    /// A packed document: it has a type, and is random behind it.
    fn document(&self) -> Vec<u8> {
        let body = self.random(4_000 + self.chance.below(20_000));
        [b"PK\x03\x04\x14\0\0\x08\0\0".as_slice(), &body].concat()
    }

    fn picture(&self, head: &[u8]) -> Vec<u8> {
        [head, &self.random(20_000 + self.chance.below(40_000))].concat()
    }
}

fn is_hit(incident: Incident, path: &Path) -> bool {
    let is_in = |folder: &str| path.iter().any(|part| part == folder);
    match incident {
        Incident::EncryptedFolder => is_in("harbour") || is_in("levels"),
        Incident::EncryptedDuringBuild => !is_in("target"),
        Incident::DeletedFolders => !is_in("notes"),
        _ => true,
    }
}

fn with_one_more_ending(path: &Path) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(".q7x");
    name.into()
}

fn has_ending(path: &Path, ending: &str) -> bool {
    path.extension().is_some_and(|found| found == ending)
}

fn remove_folder(path: &Path) -> io::Result<()> {
    if path.exists() { fs::remove_dir_all(path) } else { Ok(()) }
}
