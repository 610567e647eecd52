//! Process groups (`setpgid(2)`): a signal to one reaches whatever stayed in it.

use std::io;
use std::os::unix::process::CommandExt;
use std::process::{Child, Command};

use rustix::process::{Pid, Signal, kill_process_group};

use crate::{Programs, System};

impl Programs for System {
    fn start_together(command: &mut Command) -> io::Result<Child> {
        command.process_group(0).spawn()
    }

    fn end_together(child: &Child) -> io::Result<()> {
        let group = Pid::from_raw(child.id().cast_signed()).ok_or(io::ErrorKind::InvalidInput)?;
        Ok(kill_process_group(group, Signal::KILL)?)
    }
}

#[cfg(test)]
mod tests {
    use std::io::{BufRead, BufReader, Read};
    use std::process::Stdio;

    use super::*;

    #[test]
    fn what_a_program_started_ends_with_it() {
        let mut command = Command::new("/bin/sh");
        command.args(["-c", "sleep 1000 & echo started; wait"]).stdout(Stdio::piped());
        let mut child = System::start_together(&mut command).expect("started");
        let mut out = BufReader::new(child.stdout.take().expect("piped"));
        let mut line = String::new();
        out.read_line(&mut line).expect("read");
        assert_eq!(line, "started\n");
        System::end_together(&child).expect("ended");
        assert!(!child.wait().expect("gone").success());
        // The pipe ends when the last of them is gone.
        assert_eq!(out.read_to_end(&mut Vec::new()).expect("read"), 0);
    }
}
