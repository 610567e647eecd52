//! The machine and its accounts.

use std::fs;
use std::path::Path;

use nix::net::if_::if_nametoindex;
use nix::unistd::{Gid, Group, SysconfVar, Uid, User, getegid, geteuid, gethostname, sysconf};
use procfs::{Current, LoadAverage};

use crate::{Accounts, Machine, System};

impl Machine for System {
    fn host_name() -> Option<String> {
        gethostname().ok()?.into_string().ok()
    }

    /// `os-release(5)`.
    fn operating_system() -> String {
        let release = fs::read_to_string("/etc/os-release").unwrap_or_default();
        let pretty = release.lines().find_map(|line| line.strip_prefix("PRETTY_NAME="));
        pretty.map_or_else(|| std::env::consts::OS.to_owned(), |name| name.trim_matches('"').to_owned())
    }

    fn boot() -> Option<String> {
        procfs::sys::kernel::random::boot_id().ok().map(|id| id.trim().to_owned())
    }

    fn sync_all_file_systems() {
        rustix::fs::sync();
    }

    fn is_running(process: u32) -> bool {
        Path::new(&format!("/proc/{process}")).exists()
    }

    fn page_size() -> Option<usize> {
        sysconf(SysconfVar::PAGE_SIZE).ok().flatten().and_then(|len| usize::try_from(len).ok())
    }

    fn interface_number(name: &str) -> Option<u32> {
        if_nametoindex(name).ok()
    }

    fn load_percent() -> Option<u32> {
        let processors = std::thread::available_parallelism().ok()?.get();
        load_percent(LoadAverage::current().ok()?.one, processors)
    }
}

impl Accounts for System {
    fn is_administrator() -> bool {
        geteuid().is_root()
    }

    fn own_ids() -> (u32, u32) {
        (geteuid().as_raw(), getegid().as_raw())
    }

    fn user_name(uid: u32) -> Option<String> {
        User::from_uid(Uid::from_raw(uid)).ok().flatten().map(|user| user.name)
    }

    fn group_name(gid: u32) -> Option<String> {
        Group::from_gid(Gid::from_raw(gid)).ok().flatten().map(|group| group.name)
    }

    fn user_id(name: &str) -> Option<u32> {
        User::from_name(name).ok().flatten().map(|user| user.uid.as_raw())
    }

    fn group_id(name: &str) -> Option<u32> {
        Group::from_name(name).ok().flatten().map(|group| group.gid.as_raw())
    }
}

#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    clippy::cast_precision_loss,
    reason = "a cast to an integer saturates"
)]
fn load_percent(load: f32, processors: usize) -> Option<u32> {
    (load >= 0.0).then(|| (load * 100.0 / processors.max(1) as f32) as u32)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_load_is_shared_by_all_processors() {
        assert_eq!((load_percent(8.0, 4), load_percent(0.5, 1), load_percent(f32::NAN, 1)), (Some(200), Some(50), None));
        assert!(System::load_percent().is_some());
    }
}
