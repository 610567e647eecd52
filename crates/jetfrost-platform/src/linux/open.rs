//! Flags and modes of opening.

use std::fs::{DirBuilder, OpenOptions};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};

use nix::fcntl::OFlag;

use crate::{NewDirectory, Opening};

impl Opening for OpenOptions {
    fn private(&mut self) -> &mut Self {
        self.mode(0o600)
    }

    fn no_link(&mut self) -> &mut Self {
        self.custom_flags(OFlag::O_NOFOLLOW.bits())
    }

    fn put_by_others(&mut self) -> &mut Self {
        self.custom_flags((OFlag::O_NOFOLLOW | OFlag::O_NONBLOCK).bits())
    }

    fn unused_device(&mut self) -> &mut Self {
        self.custom_flags(OFlag::O_EXCL.bits())
    }
}

impl NewDirectory for DirBuilder {
    fn private(&mut self) -> &mut Self {
        self.mode(0o700)
    }
}
