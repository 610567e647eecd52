//! The files of a workstation, and what a working day does to them.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use jiff::Timestamp;

use crate::dice::Dice;
use crate::office::{Machine, Work};

const PLACES: [&str; 8] =
    ["north-mole", "salt-meadow", "ferry-slip", "kelp-row", "old-battery", "lighthouse-spit", "mill-race", "tern-island"];
const WORDS: [&str; 16] = [
    "boundary",
    "tide",
    "gauge",
    "datum",
    "parcel",
    "marker",
    "level",
    "bearing",
    "easement",
    "dyke",
    "culvert",
    "traverse",
    "offset",
    "benchmark",
    "shoal",
    "fence",
];

/// The files of one workstation below a folder.
pub(crate) struct Files {
    root: PathBuf,
    dice: Dice,
    work: Work,
    /// Grows with every file that is made.
    number: u64,
    drawings: Vec<PathBuf>,
}

impl Files {
    pub(crate) fn new(root: &Path, machine: &Machine) -> Self {
        Self { root: root.into(), dice: Dice::new(machine.name), work: machine.work, number: 0, drawings: Vec::new() }
    }

    /// What is there on the first day.
    pub(crate) fn begin(&mut self, at: Timestamp) -> io::Result<()> {
        let (photos, drawings, letters, mails) = match self.work {
            Work::Field => (50, 8, 20, 150),
            Work::Drafting => (4, 60, 30, 200),
            Work::Records => (8, 10, 220, 300),
            Work::FrontDesk => (3, 2, 60, 3000),
        };
        for _ in 0..photos {
            self.photo(at)?;
        }
        for _ in 0..drawings {
            self.drawing(at)?;
        }
        for _ in 0..letters {
            self.letter(at)?;
        }
        for _ in 0..mails {
            self.mail(at)?;
        }
        self.write("Projects/empty-for-now/.keep", b"", at)?;
        #[cfg(unix)]
        std::os::unix::fs::symlink("Projects/north-mole", self.root.join("current"))?;
        self.log(at, 400)
    }

    /// What a working day does.
    pub(crate) fn work(&mut self, at: Timestamp) -> io::Result<()> {
        let (photos, edits, letters, mails) = match self.work {
            Work::Field => (2, 1, 1, 6),
            Work::Drafting => (0, 4, 1, 8),
            Work::Records => (0, 1, 5, 10),
            Work::FrontDesk => (0, 0, 2, 30),
        };
        for _ in 0..self.dice.between(0, photos) {
            self.photo(at)?;
        }
        for _ in 0..edits {
            self.edit(at)?;
        }
        for _ in 0..self.dice.between(0, letters) {
            self.letter(at)?;
        }
        for _ in 0..self.dice.between(mails / 2, mails) {
            self.mail(at)?;
        }
        if self.dice.between(1, 6) == 1 {
            self.drawing(at)?;
        }
        self.log(at, self.dice.between(20, 120))
    }

    /// What a program does that wants money: mail and letters are encrypted, and get one more ending.
    pub(crate) fn suffer_encryption(&mut self, at: Timestamp) -> io::Result<()> {
        for path in files_below(&self.root.join("Mail"))?.into_iter().chain(files_below(&self.root.join("Letters"))?) {
            let noise = self.dice.noise(fs::metadata(&path)?.len());
            self.write_at(&path, &noise, at)?;
            let mut name = path.clone().into_os_string();
            name.push(".sealed");
            fs::rename(&path, name)?;
        }
        self.write("Letters/READ THIS.txt", b"Your letters are locked. Write to us.\n", at)
    }

    /// A folder with photos goes by mistake.
    pub(crate) fn lose_photos(&mut self) -> io::Result<()> {
        let places = PLACES.iter().map(|place| self.root.join("Photos").join(place));
        places.filter(|place| place.exists()).take(1).try_for_each(fs::remove_dir_all)
    }

    /// The first drawing gets another name.
    pub(crate) fn rename_drawing(&mut self) -> io::Result<()> {
        let Some(drawing) = self.drawings.first_mut() else { return Ok(()) };
        let renamed = drawing.with_file_name("boundary for the court.dxf");
        fs::rename(&*drawing, &renamed)?;
        *drawing = renamed;
        Ok(())
    }

    fn photo(&mut self, at: Timestamp) -> io::Result<()> {
        let path = format!("Photos/{}/IMG_{:05}.jpg", self.dice.choose(&PLACES), self.next());
        let bytes = [&[0xff, 0xd8, 0xff, 0xe0][..], &self.dice.noise(self.dice.between(300_000, 1_400_000))].concat();
        self.write(&path, &bytes, at)
    }

    /// A drawing in text form: long lists of coordinates.
    fn drawing(&mut self, at: Timestamp) -> io::Result<()> {
        let path = format!("Projects/{}/sheet-{:03}.dxf", self.dice.choose(&PLACES), self.next());
        let mut text = String::from("0\nSECTION\n2\nENTITIES\n");
        let (mut x, mut y) = (self.dice.between(0, 90_000), self.dice.between(0, 90_000));
        for i in 0..self.dice.between(1500, 9000) {
            x += self.dice.between(0, 40);
            y += self.dice.between(0, 30);
            text.push_str(&format!(
                "0\nVERTEX\n8\n{}\n10\n{x}.{:03}\n20\n{y}.{:03}\n",
                WORDS[(i % 7) as usize],
                x % 997,
                y % 991
            ));
        }
        self.drawings.push(self.root.join(&path));
        self.write(&path, text.as_bytes(), at)
    }

    /// Changes a stretch in the middle of a drawing.
    fn edit(&mut self, at: Timestamp) -> io::Result<()> {
        if self.drawings.is_empty() {
            return Ok(());
        }
        let path = self.dice.choose(&self.drawings).clone();
        let mut text = fs::read_to_string(&path)?;
        let middle = text.len() / 2;
        text.insert_str(middle, &format!("0\nTEXT\n1\nrevised {at}\n"));
        self.write_at(&path, text.as_bytes(), at)
    }

    fn letter(&mut self, at: Timestamp) -> io::Result<()> {
        let path = format!("Letters/{}/{}-{:04}.csv", self.dice.choose(&PLACES), self.dice.choose(&WORDS), self.next());
        let lines: Vec<String> = (0..self.dice.between(40, 700))
            .map(|i| format!("{i};{};{}", self.dice.choose(&WORDS), self.dice.between(0, 9999)))
            .collect();
        self.write(&path, lines.join("\n").as_bytes(), at)
    }

    fn mail(&mut self, at: Timestamp) -> io::Result<()> {
        let number = self.next();
        let words: Vec<&str> = (0..self.dice.between(80, 600)).map(|_| *self.dice.choose(&WORDS)).collect();
        let text = format!("From: office@skerry-holm.example\nSubject: {} {number}\n\n{}\n", words[0], words.join(" "));
        self.write(&format!("Mail/cur/{number:06}.eml"), text.as_bytes(), at)
    }

    /// Appends to the log of the day's instruments and programs.
    fn log(&mut self, at: Timestamp, lines: u64) -> io::Result<()> {
        let path = self.root.join("Logs/instruments.log");
        fs::create_dir_all(path.parent().expect("in a folder"))?;
        let mut file = OpenOptions::new().create(true).append(true).open(&path)?;
        for i in 0..lines {
            writeln!(file, "{at} station={} reading={} {}", i % 9, self.dice.between(0, 99_999), self.dice.choose(&WORDS))?;
        }
        file.set_modified(SystemTime::from(at))
    }

    fn write(&self, path: &str, bytes: &[u8], at: Timestamp) -> io::Result<()> {
        self.write_at(&self.root.join(path), bytes, at)
    }

    fn write_at(&self, path: &Path, bytes: &[u8], at: Timestamp) -> io::Result<()> {
        fs::create_dir_all(path.parent().expect("in a folder"))?;
        let mut file = File::create(path)?;
        file.write_all(bytes)?;
        file.set_modified(SystemTime::from(at))
    }

    fn next(&mut self) -> u64 {
        self.number += 1;
        self.number
    }
}

/// Every file in a folder and below.
fn files_below(folder: &Path) -> io::Result<Vec<PathBuf>> {
    let (mut folders, mut files) = (vec![folder.to_path_buf()], Vec::new());
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder)? {
            let path = entry?.path();
            if path.is_dir() { folders.push(path) } else { files.push(path) }
        }
    }
    files.sort();
    Ok(files)
}
