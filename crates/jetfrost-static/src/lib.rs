//! What the client needs of the C library when that is linked into the program, for a rescue medium.
//!
//! The GNU C library looks users and hosts up with modules that `/etc/nsswitch.conf` of the machine names, and loads these from the machine.
//! A program that has another version of the library in it ends by a signal as soon as one is loaded. So a program that is linked statically
//! names the sources itself: files and DNS, which are in the library. It is the one thing here that takes unsafe code: the library has a
//! function for it and Rust has no other way to call one.

/// Has the C library look users, groups and hosts up in files and DNS alone, where it is linked into the program; elsewhere it stays as the
/// machine has it. To be called before any other thread runs.
pub fn look_names_up_without_modules() {
    #[cfg(all(target_os = "linux", target_env = "gnu", target_feature = "crt-static"))]
    linked::configure();
}

#[cfg(all(target_os = "linux", target_env = "gnu", target_feature = "crt-static"))]
mod linked {
    use std::ffi::{CStr, c_char, c_int};

    unsafe extern "C" {
        /// From `nss.h` of the GNU C library: which sources a database is looked up in. Zero when it took them.
        fn __nss_configure_lookup(database: *const c_char, sources: *const c_char) -> c_int;
    }

    const SOURCES: [(&CStr, &CStr); 3] = [(c"passwd", c"files"), (c"group", c"files"), (c"hosts", c"files dns")];

    pub(crate) fn configure() {
        for (database, sources) in SOURCES {
            // SAFETY: both are strings that end with zero and live as long as the program; no other thread runs yet. The function
            // keeps no pointer into them.
            let refused = unsafe { __nss_configure_lookup(database.as_ptr(), sources.as_ptr()) };
            assert!(refused == 0, "the C library knows these databases and sources");
        }
    }
}
