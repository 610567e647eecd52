//! How many of something one caller may have going at once, so that one leaves room for the others.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// Counts what is going on, by who does it, and altogether.
#[derive(Debug)]
pub(crate) struct Caps {
    each: usize,
    all: usize,
    going: Mutex<HashMap<String, usize>>,
}

/// One of them; counted until it is dropped.
#[derive(Debug)]
pub(crate) struct Permit {
    caps: Arc<Caps>,
    whose: String,
}

impl Caps {
    /// `each` at most for one caller, `all` at most for all together.
    pub(crate) fn new(each: usize, all: usize) -> Arc<Self> {
        Arc::new(Self { each, all, going: Mutex::default() })
    }

    /// Begins one more; `None` when there are as many as there may be.
    pub(crate) fn begin(self: &Arc<Self>, whose: &str) -> Option<Permit> {
        let mut going = self.lock();
        let all: usize = going.values().sum();
        let own = going.get(whose).copied().unwrap_or(0);
        if own >= self.each || all >= self.all {
            return None;
        }
        going.insert(whose.to_owned(), own + 1);
        Some(Permit { caps: Arc::clone(self), whose: whose.to_owned() })
    }

    fn lock(&self) -> MutexGuard<'_, HashMap<String, usize>> {
        self.going.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Drop for Permit {
    fn drop(&mut self) {
        let mut going = self.caps.lock();
        if let Some(own) = going.get_mut(&self.whose) {
            *own -= 1;
            if *own == 0 {
                going.remove(&self.whose);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_caller_leaves_room_for_others_and_all_together_have_an_end() {
        let caps = Caps::new(2, 3);
        let mut kept = vec![caps.begin("knot").expect("first"), caps.begin("knot").expect("second")];
        assert!(caps.begin("knot").is_none());
        kept.push(caps.begin("dunlin").expect("another's first"));
        assert!(caps.begin("avocet").is_none(), "three are all there may be");
        kept.remove(0);
        assert!(caps.begin("avocet").is_some());
        drop(kept);
        assert!(caps.lock().is_empty());
    }
}
