//! The machine, its accounts and processes.

/// What the system says of the machine.
pub trait Machine {
    /// The machine's name; none when it has none that is text.
    fn host_name() -> Option<String>;

    /// The operating system, as it calls itself.
    fn operating_system() -> String;

    /// Which start of the machine this is; none where that is not known.
    fn boot() -> Option<String>;

    /// Waits until all that was written to any file system is on its disk.
    fn sync_all_file_systems();

    /// Whether a process of this number runs.
    fn is_running(process: u32) -> bool;

    /// Bytes of a page of memory; none where that is not known.
    fn page_size() -> Option<usize>;

    /// Work that wants a processor, in percent of what all of them can do, over the last minute; none where that is not known.
    fn load_percent() -> Option<u32>;

    /// The number of a network interface, for addresses that are good on one link alone (RFC 4007, section 11).
    fn interface_number(name: &str) -> Option<u32>;
}

/// What the system says of its accounts.
pub trait Accounts {
    /// Whether this process may do everything.
    fn is_administrator() -> bool;

    /// The account and group that this process runs as.
    fn own_ids() -> (u32, u32);

    /// The name of an account.
    fn user_name(uid: u32) -> Option<String>;

    /// The name of a group.
    fn group_name(gid: u32) -> Option<String>;

    /// The account of a name.
    fn user_id(name: &str) -> Option<u32>;

    /// The group of a name.
    fn group_id(name: &str) -> Option<u32>;
}
