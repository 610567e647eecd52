//! Lists come in pages.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// One page of a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Page<T> {
    /// The entries.
    pub items: Vec<T>,
    /// Pass as `after` for the next page; absent on the last.
    pub next: Option<String>,
}

/// Which page of a list to return.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct PageQuery {
    /// `next` of the previous page.
    pub after: Option<String>,
    /// Entries per page, 1 to 500; 100 by default.
    #[param(minimum = 1, maximum = 500)]
    pub most: Option<u16>,
}

impl PageQuery {
    /// Entries per page, within bounds.
    #[must_use]
    pub fn size(&self) -> usize {
        self.most.unwrap_or(100).clamp(1, 500).into()
    }
}

impl<T> Page<T> {
    /// A page from one more entry than it holds: the extra one says that there is a next page.
    pub fn from_one_more(mut items: Vec<T>, size: usize, cursor: impl Fn(&T) -> String) -> Self {
        let more = items.len() > size;
        items.truncate(size);
        let next = if more { items.last().map(cursor) } else { None };
        Self { items, next }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_next_cursor_is_there_exactly_when_more_follows() {
        let page = |n: u32| Page::from_one_more((0..n).collect(), 3, |i| format!("after {i}"));
        assert_eq!(page(3), Page { items: vec![0, 1, 2], next: None });
        assert_eq!(page(4), Page { items: vec![0, 1, 2], next: Some("after 2".into()) });
    }
}
