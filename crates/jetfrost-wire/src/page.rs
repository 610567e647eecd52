//! Lists come in pages.

use std::fmt::Display;

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

/// One page of a list that was searched and sorted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Found<T> {
    /// The entries.
    pub items: Vec<T>,
    /// Pass as `after` for the next page; absent on the last.
    pub next: Option<String>,
    /// Pass as `after` for the page before; empty for the first, and absent on it.
    pub previous: Option<String>,
    /// Entries on the pages before.
    pub before: u64,
    /// Entries on all pages.
    pub total: u64,
}

/// Stands between what an entry is sorted by and what it is told from its like by; no name has it.
const BETWEEN: char = '\u{1f}';

/// An entry of a list, with what it is sorted by as text that sorts as it does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sorted<T> {
    key: String,
    /// The entry.
    pub entry: T,
}

impl<T> Sorted<T> {
    /// An entry that is sorted by `key`, and among those of the same key by `name`, which no other has.
    pub fn by(key: impl Display, name: &str, entry: T) -> Self {
        Self { key: format!("{key}{BETWEEN}{name}"), entry }
    }
}

impl<T> Found<T> {
    /// The page after a cursor of entries in any order. A cursor is the key of the entry before the page: what came or went meanwhile leaves out
    /// no other and shows none twice.
    pub fn page<S>(mut sorted: Vec<Sorted<S>>, descending: bool, page: &PageQuery, show: impl FnMut(S) -> T) -> Self {
        sorted.sort_by(|one, other| if descending { other.key.cmp(&one.key) } else { one.key.cmp(&other.key) });
        let size = page.size();
        let is_before = |key: &str, after: &str| if descending { key >= after } else { key <= after };
        let from = match page.after.as_deref() {
            None | Some("") => 0,
            Some(after) => sorted.partition_point(|it| is_before(&it.key, after)),
        };
        let cursor = |at: usize| sorted[at - 1].key.clone();
        let next = (from + size < sorted.len()).then(|| cursor(from + size));
        let previous = (from > 0).then(|| if from <= size { String::new() } else { cursor(from - size) });
        let (before, total) = (from as u64, sorted.len() as u64);
        let items = sorted.into_iter().skip(from).take(size).map(|it| it.entry).map(show).collect();
        Self { items, next, previous, before, total }
    }
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
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn the_next_cursor_is_there_exactly_when_more_follows() {
        let page = |n: u32| Page::from_one_more((0..n).collect(), 3, |i| format!("after {i}"));
        assert_eq!(page(3), Page { items: vec![0, 1, 2], next: None });
        assert_eq!(page(4), Page { items: vec![0, 1, 2], next: Some("after 2".into()) });
    }

    /// All pages one after the other, and back again by `previous`.
    fn read_all(numbers: &[u32], descending: bool, most: u16) -> (Vec<u32>, Vec<u64>) {
        let sorted = || numbers.iter().map(|n| Sorted::by(format!("{:03}", n / 10), &n.to_string(), *n)).collect();
        let page = |after| Found::page(sorted(), descending, &PageQuery { after, most: Some(most) }, |n| n);
        let (mut read, mut after) = (Vec::new(), None);
        let mut last = loop {
            let found = page(after);
            assert_eq!((found.before, found.total), (read.len() as u64, numbers.len() as u64));
            read.extend(&found.items);
            match &found.next {
                Some(next) => after = Some(next.clone()),
                None => break found,
            }
        };
        let mut back = vec![last.before];
        while let Some(previous) = last.previous.take() {
            last = page(Some(previous));
            back.push(last.before);
        }
        (read, back)
    }

    proptest! {
        #[test]
        fn pages_one_after_the_other_show_each_entry_once_in_order_and_lead_back(
            numbers in proptest::collection::hash_set(0_u32..2000, 0..60),
            descending: bool,
            most in 1_u16..20,
        ) {
            let numbers: Vec<u32> = numbers.into_iter().collect();
            let (read, back) = read_all(&numbers, descending, most);
            let mut expected: Vec<(String, String, u32)> =
                numbers.iter().map(|n| (format!("{:03}", n / 10), n.to_string(), *n)).collect();
            expected.sort();
            if descending {
                expected.reverse();
            }
            prop_assert_eq!(read, expected.into_iter().map(|(_, _, n)| n).collect::<Vec<_>>());
            prop_assert_eq!(back.last(), Some(&0));
            prop_assert!(back.windows(2).all(|two| two[0] - two[1] == u64::from(most)));
        }
    }

    #[test]
    fn an_entry_that_went_meanwhile_takes_no_other_with_it() {
        let sorted = |numbers: &[u32]| numbers.iter().map(|n| Sorted::by(n, "", *n)).collect::<Vec<_>>();
        let page = PageQuery { after: None, most: Some(2) };
        let first = Found::page(sorted(&[1, 2, 3, 4]), false, &page, |n| n);
        let second = Found::page(sorted(&[1, 3, 4]), false, &PageQuery { after: first.next, ..page }, |n| n);
        assert_eq!((first.items, second.items), (vec![1, 2], vec![3, 4]));
    }
}
