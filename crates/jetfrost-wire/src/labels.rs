//! Words for the values of an enumeration.

pub use jetfrost_types::Label;
pub(crate) use jetfrost_types::labels;
