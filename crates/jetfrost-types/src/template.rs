//! Exclusion templates: readable lists of what is rarely worth a backup, each with its reason, and sets of them. Nothing is left out by
//! one unless a selection or a schedule names it.

use serde::{Deserialize, Deserializer, Serialize};
use utoipa::ToSchema;

use crate::labels;

/// A list of what may be left out together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
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

    /// The patterns: without `/` a name at any depth, with `/` a path.
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

    /// Whether it also leaves out what lies in directories that are tagged as caches (Cache Directory Tagging Specification).
    #[must_use]
    pub fn heeds_cache_tags(self) -> bool {
        self == Self::Caches
    }
}

/// A set of templates.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(from = "Vec<Template>", into = "Vec<Template>")]
#[schema(value_type = Vec<Template>)]
pub struct Templates(u8);

impl Templates {
    /// None of them.
    pub const NONE: Self = Self(0);

    /// Whether a template is in it.
    #[must_use]
    pub fn contains(self, template: Template) -> bool {
        self.0 & bit(template) != 0
    }

    /// Those in it, in the order of [`Template::ALL`].
    pub fn iter(self) -> impl Iterator<Item = Template> {
        Template::ALL.iter().copied().filter(move |template| self.contains(*template))
    }

    /// Whether none is in it.
    #[must_use]
    pub fn is_empty(self) -> bool {
        self.0 == 0
    }
}

fn bit(template: Template) -> u8 {
    1 << template as u8
}

impl FromIterator<Template> for Templates {
    fn from_iter<I: IntoIterator<Item = Template>>(templates: I) -> Self {
        Self(templates.into_iter().fold(0, |set, template| set | bit(template)))
    }
}

impl From<Vec<Template>> for Templates {
    fn from(templates: Vec<Template>) -> Self {
        templates.into_iter().collect()
    }
}

impl From<Templates> for Vec<Template> {
    fn from(templates: Templates) -> Self {
        templates.iter().collect()
    }
}

/// Reads a set of templates on a workstation, from a service that may be of a later version. One that is not known here leaves nothing
/// out, and more is backed up than was asked for.
///
/// # Errors
/// What is no list of words.
pub fn known_templates<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Templates, D::Error> {
    let words = Vec::<String>::deserialize(deserializer)?;
    Ok(words.iter().filter_map(|word| Template::from_word(word)).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_set_is_written_as_words_in_order_and_refuses_what_it_does_not_know() {
        let set: Templates = serde_json::from_str(r#"["trash","caches","trash"]"#).expect("read");
        assert_eq!(serde_json::to_string(&set).expect("written"), r#"["caches","trash"]"#);
        assert!(set.contains(Template::Trash) && !set.contains(Template::Downloads) && !set.is_empty());
        assert!(serde_json::from_str::<Templates>(r#"["everything"]"#).is_err());
        let all: Templates = Template::ALL.iter().copied().collect();
        assert_eq!(all.iter().collect::<Vec<_>>(), Template::ALL);
    }

    #[test]
    fn a_workstation_of_an_earlier_version_leaves_out_what_it_knows() {
        let mut json = serde_json::Deserializer::from_str(r#"["caches","of a later version"]"#);
        let set = known_templates(&mut json).expect("read");
        assert_eq!(set.iter().collect::<Vec<_>>(), [Template::Caches]);
    }
}
