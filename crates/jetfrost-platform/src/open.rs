//! Opening and making what only its owner may see.

/// What opening a file may ask beyond [`std::fs::OpenOptions`].
pub trait Opening {
    /// A file that is made is for its owner alone, from its first moment.
    fn private(&mut self) -> &mut Self;

    /// A link at the name is an error.
    fn no_link(&mut self) -> &mut Self;

    /// What others may have put at the name: a link is an error, and the other end of a pipe is not waited for.
    fn put_by_others(&mut self) -> &mut Self;

    /// A device that is in use, as a whole or a part of it, is an error.
    fn unused_device(&mut self) -> &mut Self;
}

/// What making a directory may ask beyond [`std::fs::DirBuilder`].
pub trait NewDirectory {
    /// A directory that is made is for its owner alone, from its first moment.
    fn private(&mut self) -> &mut Self;
}
