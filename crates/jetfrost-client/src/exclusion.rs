//! Exclusion templates: readable lists of what is rarely worth a backup, each with its reason. Nothing is excluded by one unless the
//! selection names it.

use jetfrost_types::labels;
use serde::{Deserialize, Serialize};

/// The tag by which programs mark a directory whose content they can make again (Cache Directory Tagging Specification), and what it begins
/// with.
pub(crate) const CACHE_TAG: &[u8] = b"CACHEDIR.TAG";
pub(crate) const CACHE_TAG_SIGNATURE: &[u8; 43] = b"Signature: 8a477f597d28d172789f06886806bc55";

/// A list of what may be left out together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Template {
    /// What programs make again by themselves.
    Caches,
    /// What compilers and package managers make from sources.
    BuildOutputs,
    /// What somebody threw away.
    Trash,
    /// What browsers keep of pages that were seen.
    BrowserCaches,
    /// Disks of virtual machines.
    VirtualMachines,
    /// What was downloaded.
    Downloads,
}

labels!(Template: Caches = "caches", BuildOutputs = "build-outputs", Trash = "trash", BrowserCaches = "browser-caches",
    VirtualMachines = "virtual-machines", Downloads = "downloads");

impl Template {
    /// Why this is rarely worth a backup.
    #[must_use]
    pub fn reason(self) -> &'static str {
        match self {
            Self::Caches => "programs make it again by themselves; also whatever lies in a directory with a valid CACHEDIR.TAG",
            Self::BuildOutputs => "compilers and package managers make it again from sources and lock files",
            Self::Trash => "somebody threw it away",
            Self::BrowserCaches => "browsers fetch it again; bookmarks, passwords and history are kept",
            Self::VirtualMachines => {
                "large files that change as a whole: include their disks by name, or back up inside the machine"
            }
            Self::Downloads => "it can usually be downloaded again; move what matters elsewhere",
        }
    }

    /// The patterns, as `jetfrost exclude` takes them.
    #[must_use]
    pub fn patterns(self) -> &'static [&'static str] {
        match self {
            Self::Caches => &[".cache", "/var/cache", "/var/tmp", ".thumbnails", "__pycache__"],
            Self::BuildOutputs => &[
                "node_modules",
                "**/target/debug",
                "**/target/release",
                ".gradle",
                ".tox",
                ".mypy_cache",
                "*.o",
                "*.pyc",
                "/home/*/.cargo/registry",
                "/home/*/.npm/_cacache",
                "/home/*/.m2/repository",
            ],
            Self::Trash => &["**/.local/share/Trash", ".Trash-*", "lost+found"],
            Self::BrowserCaches => &[
                "**/.mozilla/firefox/*/cache2",
                "**/.mozilla/firefox/*/storage/default/*/cache",
                "**/.config/*/*/Cache",
                "**/.config/*/*/Code Cache",
                "**/.config/*/*/GPUCache",
                "**/.config/*/*/Service Worker/CacheStorage",
            ],
            Self::VirtualMachines => &["*.vdi", "*.vmdk", "*.qcow2", "*.vhdx", "/var/lib/libvirt/images"],
            Self::Downloads => &["/home/*/Downloads", "*.part", "*.crdownload"],
        }
    }

    /// Whether it also leaves out what lies in directories that are tagged as caches.
    #[must_use]
    pub fn heeds_cache_tags(self) -> bool {
        self == Self::Caches
    }
}

/// What leaves something out.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Rule {
    /// The pattern; `CACHEDIR.TAG` for a directory that is tagged as a cache.
    pub pattern: String,
    /// The template that it is part of; none for a pattern of the selection's own.
    pub template: Option<Template>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::selection::{Patterns, Selection};

    #[test]
    fn each_template_says_why_and_its_patterns_mean_something() {
        for template in Template::ALL {
            assert!(!template.reason().is_empty() && !template.patterns().is_empty());
            let selection = Selection { templates: vec![*template], ..Selection::default() };
            let patterns = Patterns::of(&selection).expect("they compile");
            assert_eq!(patterns.heeds_cache_tags(), *template == Template::Caches);
        }
    }

    #[test]
    fn what_a_browser_can_fetch_again_goes_and_what_only_it_has_stays() {
        let selection = Selection { templates: Template::ALL.to_vec(), ..Selection::default() };
        let patterns = Patterns::of(&selection).expect("they compile");
        let excluded = |path: &str| {
            let mut at = path.len();
            loop {
                let part = &path[..at];
                let name = part.rsplit('/').next().expect("a name");
                if patterns.leave_out(part.as_bytes(), name.as_bytes()) {
                    return true;
                }
                match part.rfind('/') {
                    Some(above) if above > 0 => at = above,
                    _ => return false,
                }
            }
        };
        for kept in [
            "/home/tove/.mozilla/firefox/a1.default/places.sqlite",
            "/home/tove/.mozilla/firefox/a1.default/logins.json",
            "/home/tove/.config/chromium/Default/Bookmarks",
            "/home/tove/Letters/cache.odt",
            "/home/tove/map/target.txt",
            "/home/tove/.config/editor/settings.json",
        ] {
            assert!(!excluded(kept), "{kept}");
        }
        for gone in [
            "/home/tove/.mozilla/firefox/a1.default/cache2/entries/0",
            "/home/tove/.config/chromium/Default/Code Cache/js/0",
            "/home/tove/site/node_modules/left/index.js",
            "/home/tove/.local/share/Trash/files/old.odt",
            "/home/tove/.cache/thumbnails/0.png",
            "/home/tove/machines/plans.qcow2",
        ] {
            assert!(excluded(gone), "{gone}");
        }
    }
}
