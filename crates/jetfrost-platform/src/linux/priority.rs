//! Nice values (`sched(7)`): on Linux each thread has its own, and hands it on to those that it starts. Without an I/O class of its own,
//! a thread's priority at the disk follows from it (`ioprio_set(2)`).

use std::io;

use rustix::process::{getpriority_process, setpriority_process};

use crate::{Priority, System};

/// Low, but not the lowest: something that never rests must not keep backups from being made.
const NICE: i32 = 10;

impl Priority for System {
    fn yield_to_others() -> io::Result<()> {
        let own = getpriority_process(None)?;
        Ok(setpriority_process(None, own.max(NICE))?)
    }
}

#[cfg(test)]
mod tests {
    use std::thread;

    use super::*;

    #[test]
    fn a_thread_and_those_it_starts_yield_and_others_do_not() {
        let nice = || getpriority_process(None).expect("read");
        let before = nice();
        let within = thread::spawn(move || {
            System::yield_to_others().expect("lowered");
            (nice(), thread::spawn(nice).join().expect("no panic"))
        });
        let lowered = before.max(NICE);
        assert_eq!((within.join().expect("no panic"), nice()), ((lowered, lowered), before));
    }
}
