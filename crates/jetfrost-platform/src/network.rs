//! How the machine is connected.

use std::io;
use std::net::IpAddr;

/// What carries a connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LinkKind {
    /// A cable.
    Wired,
    /// A radio.
    Wireless,
    /// No network at all: both ends are on this machine.
    SameMachine,
    /// Something without hardware of its own, such as a VPN or a bridge.
    Virtual,
}

/// A network interface.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Link {
    /// Its name.
    pub interface: String,
    /// What it is.
    pub kind: LinkKind,
    /// Bits a second that it was set up for, if the system says.
    pub bits_per_second: Option<u64>,
}

/// What the system says of its network interfaces.
pub trait Network {
    /// The interface that has one of this machine's addresses; none when no interface has it.
    ///
    /// # Errors
    /// What the system says.
    fn link_of(own: IpAddr) -> io::Result<Option<Link>>;

    /// Whether what goes out from one of this machine's addresses is paid by the byte, as far as somebody said so or the hardware tells.
    ///
    /// # Errors
    /// What the system says.
    fn is_metered(own: IpAddr) -> io::Result<bool>;
}
