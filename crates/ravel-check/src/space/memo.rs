//! What was worked out of a rule or a leaf, so that it is the same again: sets that share their
//! automata are met faster, and what they have in common is known.

use std::cell::RefCell;
use std::hash::Hash;
use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::leaf::Leaf;
use ravel::program::Rule;

/// The most rules of which something is kept.
const MAX_KEPT: usize = 1_024;

/// A value for each of some rules of one program, by where the rule is.
#[derive(Debug)]
pub(crate) struct Memo<T>(RefCell<FxHashMap<usize, T>>);

impl<T> Default for Memo<T> {
    fn default() -> Self {
        Memo(RefCell::default())
    }
}

impl<T: Clone> Memo<T> {
    /// The value of a rule. Rules of one path are not kept: they may be very many, and their sets
    /// are made as fast as they are found.
    pub(crate) fn of(&self, rule: &Rule, make: impl FnOnce() -> T) -> T {
        if rule.pattern().path().is_literal() {
            return make();
        }
        let place = std::ptr::from_ref(rule) as usize;
        if let Some(kept) = self.0.borrow().get(&place) {
            return kept.clone();
        }
        let made = make();
        let mut kept = self.0.borrow_mut();
        if kept.len() >= MAX_KEPT {
            kept.clear();
        }
        kept.insert(place, made.clone());
        made
    }
}

/// The leaf that was made of each of some leaves, by a key and where that leaf is in memory; it is
/// kept, so that no other comes to be in its place.
#[derive(Debug)]
pub(super) struct LeafMemo<'r, K>(RefCell<FxHashMap<(K, usize), KeptLeaf<'r>>>);

/// A leaf, and what was made of it.
type KeptLeaf<'r> = (Arc<Leaf<'r>>, Arc<Leaf<'r>>);

impl<K> Default for LeafMemo<'_, K> {
    fn default() -> Self {
        LeafMemo(RefCell::default())
    }
}

impl<'r, K: Eq + Hash> LeafMemo<'r, K> {
    pub(super) fn of(
        &self,
        key: K,
        leaf: &Arc<Leaf<'r>>,
        make: impl FnOnce() -> Leaf<'r>,
    ) -> Arc<Leaf<'r>> {
        let key = (key, Arc::as_ptr(leaf) as usize);
        if let Some((_, made)) = self.0.borrow().get(&key) {
            return Arc::clone(made);
        }
        let made = Arc::new(make());
        self.0.borrow_mut().insert(key, (Arc::clone(leaf), Arc::clone(&made)));
        made
    }
}
