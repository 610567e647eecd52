//! What leaves things out: patterns of the selection, and templates that it or the office names.

pub use jetfrost_types::{Template, Templates};
use serde::Serialize;

/// The tag by which programs mark a directory whose content they can make again (Cache Directory Tagging Specification), and what it begins
/// with.
pub(crate) const CACHE_TAG: &[u8] = b"CACHEDIR.TAG";
pub(crate) const CACHE_TAG_SIGNATURE: &[u8; 43] = b"Signature: 8a477f597d28d172789f06886806bc55";

/// What leaves something out.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Rule {
    /// The pattern; `CACHEDIR.TAG` for a directory that is tagged as a cache.
    pub pattern: String,
    /// The template that it is part of; none for a pattern of the selection's own.
    pub template: Option<Template>,
    /// Whether an administrator excludes it, and not this machine's selection.
    pub by_office: bool,
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
            let patterns = Patterns::of(&selection, Templates::NONE).expect("they compile");
            assert_eq!(patterns.heeds_cache_tags(), *template == Template::Caches);
        }
    }

    #[test]
    fn what_a_browser_can_fetch_again_goes_and_what_only_it_has_stays() {
        let selection = Selection { templates: Template::ALL.to_vec(), ..Selection::default() };
        let patterns = Patterns::of(&selection, Templates::NONE).expect("they compile");
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
