//! What a machine needs in its files to start.

/// A part of what a machine starts from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) enum BootPart {
    Kernel,
    InitialFiles,
    BootLoader,
    Mounts,
    Init,
}

impl BootPart {
    pub(super) const ALL: [Self; 5] = [Self::Kernel, Self::InitialFiles, Self::BootLoader, Self::Mounts, Self::Init];

    /// What people call it.
    pub(super) fn name(self) -> &'static str {
        match self {
            Self::Kernel => "a kernel",
            Self::InitialFiles => "an initial RAM disk",
            Self::BootLoader => "a boot loader's files",
            Self::Mounts => "/etc/fstab",
            Self::Init => "an init",
        }
    }

    /// Which of them is at an absolute path, by the names that distributions of Linux give them.
    pub(super) fn at(path: &[u8]) -> Option<Self> {
        let name = path.rsplit(|byte| *byte == b'/').next().unwrap_or_default();
        let begins = |with: &[&[u8]]| with.iter().any(|with| name.starts_with(with));
        if let Some(within) = path.strip_prefix(b"/boot/") {
            return if begins(&[b"vmlinuz", b"vmlinux", b"Image", b"kernel-"]) {
                Some(Self::Kernel)
            } else if begins(&[b"initrd", b"initramfs"]) {
                Some(Self::InitialFiles)
            } else {
                let loader: [&[u8]; 6] = [b"grub/", b"grub2/", b"efi/", b"EFI/", b"loader/", b"extlinux/"];
                loader.iter().any(|with| within.starts_with(with)).then_some(Self::BootLoader)
            };
        }
        match path {
            b"/etc/fstab" => Some(Self::Mounts),
            b"/sbin/init" | b"/usr/sbin/init" | b"/usr/lib/systemd/systemd" | b"/lib/systemd/systemd" => Some(Self::Init),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_machine_starts_from_is_known_by_its_path() {
        let known = [
            ("/boot/vmlinuz-6.12.1-amd64", BootPart::Kernel),
            ("/boot/initrd.img-6.12.1-amd64", BootPart::InitialFiles),
            ("/boot/initramfs-linux.img", BootPart::InitialFiles),
            ("/boot/grub/grub.cfg", BootPart::BootLoader),
            ("/boot/efi/EFI/debian/shimx64.efi", BootPart::BootLoader),
            ("/etc/fstab", BootPart::Mounts),
            ("/usr/lib/systemd/systemd", BootPart::Init),
        ];
        for (path, part) in known {
            assert_eq!(BootPart::at(path.as_bytes()), Some(part), "{path}");
        }
        for path in ["/home/tove/boot/vmlinuz", "/boot/config-6.12.1", "/etc/fstab.old", "/boot"] {
            assert_eq!(BootPart::at(path.as_bytes()), None, "{path}");
        }
    }
}
