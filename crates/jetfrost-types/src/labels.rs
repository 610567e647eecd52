//! Words for the values of an enumeration.

/// An enumeration each of whose values has one word: in JSON, in the records, on the command line.
pub trait Label: Copy + PartialEq + std::fmt::Debug + Send + Sync + 'static {
    /// The word for it.
    fn word(self) -> &'static str;

    /// The one with this word.
    fn from_word(word: &str) -> Option<Self>;
}

/// Gives an enumeration a word for each of its values: `labels!(Colour: Red = "red", Blue = "blue");`.
#[macro_export]
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

        impl $crate::Label for $name {
            fn word(self) -> &'static str {
                self.word()
            }

            fn from_word(word: &str) -> Option<Self> {
                Self::from_word(word)
            }
        }
    };
}
