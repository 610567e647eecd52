//! Words for the values of an enumeration.

macro_rules! labels {
    ($name:ident: $($variant:ident = $word:literal),*) => {
        impl $name {
            /// All of them.
            pub const ALL: &'static [Self] = &[$(Self::$variant),*];

            /// The word for it.
            #[must_use]
            pub fn word(self) -> &'static str {
                match self { $(Self::$variant => $word,)* }
            }

            /// The one with this word.
            #[must_use]
            pub fn from_word(word: &str) -> Option<Self> {
                Self::ALL.iter().copied().find(|value| value.word() == word)
            }
        }
    };
}
pub(crate) use labels;
