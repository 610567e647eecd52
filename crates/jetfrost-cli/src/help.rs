//! Help under headings, completions and manual pages: all from the same definitions of the commands.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::{fs, io};

use clap::builder::StyledStr;
use clap::{Args, Command, CommandFactory};
use clap_complete::Shell;

use crate::Arguments;
use crate::failure::{Code, Failure};
use crate::ui::Ui;

type Done = Result<Code, Failure>;

/// The headings: the word for each, its title, and the command that it begins with.
const HEADINGS: [(&str, &str, &str); 5] = [
    ("workstation", "This workstation", "join"),
    ("restore", "Get things back", "points"),
    ("keys", "Keys", "unlock"),
    ("administration", "Administration", "sign-in"),
    ("help", "Help", "help"),
];

/// The grammar of the command, with its help under headings.
pub(crate) fn grammar() -> Command {
    let mut grammar = Arguments::command();
    grammar.build();
    let commands: String = HEADINGS.iter().map(|(_, title, _)| listing(&grammar, title)).collect();
    let template = format!(
        "{{about}}\n\n{{usage-heading}} {{usage}}\n\n{commands}\x1b[1m\x1b[4mOptions:\x1b[0m\n{{options}}\n\nMore of a command: jetfrost help COMMAND\n"
    );
    Arguments::command().help_template(template)
}

/// The commands under a heading.
fn under<'g>(grammar: &'g Command, title: &str) -> Vec<&'g Command> {
    let mut at = "";
    let mut found = Vec::new();
    for command in grammar.get_subcommands() {
        at = HEADINGS.iter().find(|(_, _, first)| *first == command.get_name()).map_or(at, |(_, title, _)| title);
        if at == title {
            found.push(command);
        }
    }
    found
}

/// The commands under a heading with what each does, below its title.
fn listing(grammar: &Command, title: &str) -> String {
    let line = |command: &&Command| {
        let about = command.get_about().map(ToString::to_string).unwrap_or_default();
        format!("  {:<16} {about}\n", command.get_name())
    };
    format!("\x1b[1m\x1b[4m{title}:\x1b[0m\n{}\n", under(grammar, title).iter().map(line).collect::<String>())
}

#[derive(Debug, Args)]
pub(crate) struct Help {
    /// A command, such as 'destination add', or a heading: workstation, restore, keys, administration.
    topic: Vec<String>,
}

impl Help {
    pub(crate) fn run(self, ui: &Ui) -> Done {
        let mut grammar = grammar();
        let [word] = self.topic.as_slice() else { return show(&mut grammar, &self.topic, ui) };
        let heading = HEADINGS.iter().find(|(name, ..)| name == word);
        match heading {
            // A command is also called 'workstation' and another 'restore'.
            Some((_, title, _)) if grammar.find_subcommand(word).is_none() || *word == "help" => {
                ui.text(&StyledStr::from(listing(&grammar, title)).to_string());
                Ok(Code::Done)
            }
            _ => show(&mut grammar, &self.topic, ui),
        }
    }
}

/// The help of the command at the end of a path of names.
fn show(grammar: &mut Command, path: &[String], ui: &Ui) -> Done {
    let mut at = grammar;
    at.build();
    for name in path {
        at = at.find_subcommand_mut(name).ok_or_else(|| {
            Failure::here(format!("There is no command '{}'.", path.join(" ")), "Run 'jetfrost help' to see which there are.")
        })?;
    }
    ui.text(&at.render_long_help().to_string());
    Ok(Code::Done)
}

#[derive(Debug, Args)]
pub(crate) struct Completions {
    /// For which shell.
    shell: Shell,
}

impl Completions {
    pub(crate) fn run(self, ui: &Ui) -> Done {
        let mut script = Vec::new();
        clap_complete::generate(self.shell, &mut Arguments::command(), "jetfrost", &mut script);
        ui.text(&String::from_utf8_lossy(&script));
        Ok(Code::Done)
    }
}

#[derive(Debug, Args)]
pub(crate) struct Manual {
    /// The directory; it must exist.
    directory: PathBuf,
}

impl Manual {
    pub(crate) fn run(self, ui: &Ui) -> Done {
        let mut grammar = Arguments::command();
        grammar.build();
        let mut pages = 0;
        write_pages(&grammar, "jetfrost", &self.directory, &mut pages).map_err(|e| {
            Failure::here(format!("{} cannot be written to: {e}.", self.directory.display()), "Name a directory that exists.")
        })?;
        ui.line(&format!("{pages} manual pages written to {}.", self.directory.display()));
        Ok(Code::Done)
    }
}

/// Writes the page of a command and those of the commands below it, named by the whole path of names.
fn write_pages(command: &Command, path: &str, directory: &Path, pages: &mut u64) -> io::Result<()> {
    let name = path.replace(' ', "-");
    let mut page = Vec::new();
    clap_mangen::Man::new(command.clone().name(name.clone()).bin_name(path)).render(&mut page)?;
    fs::File::create(directory.join(format!("{name}.1")))?.write_all(&page)?;
    *pages += 1;
    command.get_subcommands().try_for_each(|sub| write_pages(sub, &format!("{path} {}", sub.get_name()), directory, pages))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_grammar_is_sound() {
        grammar().debug_assert();
    }

    /// Every command with what it takes, a file a heading: a change of help shows in review.
    #[test]
    fn the_help_of_every_command_is_as_it_was() {
        fn add(command: &mut Command, path: &str, all: &mut String) {
            let help = command.clone().term_width(100).render_long_help();
            all.push_str(&format!("=== {path}\n\n{help}\n"));
            for subcommand in command.get_subcommands_mut().filter(|one| one.get_name() != "help") {
                let path = format!("{path} {}", subcommand.get_name());
                add(subcommand, &path, all);
            }
        }
        let mut grammar = Arguments::command();
        grammar.build();
        for (name, title, _) in HEADINGS {
            let mut all = String::new();
            for command in under(&grammar, title) {
                add(&mut command.clone(), &format!("jetfrost {}", command.get_name()), &mut all);
            }
            insta::assert_snapshot!(format!("help-{name}"), all);
        }
        insta::assert_snapshot!("help", grammar.clone().term_width(100).render_help().to_string());
    }

    #[test]
    fn every_heading_begins_with_a_command_and_every_command_is_under_one() {
        let grammar = Arguments::command();
        let listed: usize = HEADINGS.iter().map(|(_, title, _)| under(&grammar, title).len()).sum();
        assert!(HEADINGS.iter().all(|(_, title, first)| under(&grammar, title)[0].get_name() == *first));
        assert_eq!(listed, grammar.get_subcommands().count());
    }

    #[test]
    fn every_command_is_in_the_interface_page() {
        let page = include_str!("../../../docs/interface.md");
        let section = page.split("## Commands of `jetfrost`").skip(1).collect::<String>();
        for command in Arguments::command().get_subcommands() {
            let name = command.get_name();
            let is_there =
                [format!("| `{name}"), format!("`{name}` |"), format!(", `{name}`")].iter().any(|at| section.contains(at));
            assert!(is_there, "{name} is not on the page");
        }
    }

    #[test]
    fn every_command_has_a_manual_page() {
        let directory = tempfile::tempdir().expect("a directory");
        let mut pages = 0;
        write_pages(&Arguments::command(), "jetfrost", directory.path(), &mut pages).expect("written");
        let written = fs::read_dir(directory.path()).expect("listed").count() as u64;
        assert!(pages > 100 && written == pages, "{pages} pages, {written} files");
        let page = fs::read_to_string(directory.path().join("jetfrost-destination-add.1")).expect("a page");
        assert!(page.contains("retention") && page.contains("jetfrost destination add"), "{page}");
    }
}
