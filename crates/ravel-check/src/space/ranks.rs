//! Values of a parameter in the order of the rules that ask for them.

use std::rc::Rc;
use std::sync::Arc;

use rustc_hash::FxHashMap;

/// The values of a parameter, in the order of the rules that ask for them.
#[derive(Debug)]
pub(super) struct Ranks<'r> {
    pub(super) key: &'r str,
    pub(super) values: Vec<&'r str>,
    places: FxHashMap<&'r str, u32>,
    /// The numbers of the rules, in the same order.
    numbers: Vec<u32>,
}

/// The side, the place there, and the path behind the place's prefix.
pub(super) type RowsPath = (usize, usize, String);

/// The rules of the first stage that could match at a path: rows, and others by their numbers.
#[derive(Debug)]
pub(super) struct Rows<'r> {
    pub(super) ranks: Arc<Ranks<'r>>,
    pub(super) others: Vec<u32>,
}

/// The row that comes first for all requests of a cell, if one does.
#[derive(Debug, Clone)]
pub(super) struct PickedRow<'r> {
    pub(super) path: Rc<RowsPath>,
    pub(super) rows: Rc<Rows<'r>>,
    pub(super) place: u32,
}

/// The rows of each path that was come to, if there are so many.
pub(super) type KnownRows<'r> = FxHashMap<RowsPath, Option<Rc<Rows<'r>>>>;

impl<'r> Ranks<'r> {
    /// Of two rules for one value the first counts.
    pub(super) fn new(key: &'r str, rows: impl Iterator<Item = (u32, &'r str)>) -> Ranks<'r> {
        let (values, numbers) = Default::default();
        let mut ranks = Ranks { key, values, places: FxHashMap::default(), numbers };
        for (number, value) in rows {
            if !ranks.places.contains_key(value) {
                ranks.places.insert(value, ranks.end());
                ranks.values.push(value);
                ranks.numbers.push(number);
            }
        }
        ranks
    }

    /// The place behind the last.
    pub(super) fn end(&self) -> u32 {
        self.values.len() as u32
    }

    /// The place of a value; the end where it is not there.
    pub(super) fn place(&self, value: &str) -> u32 {
        self.places.get(value).copied().unwrap_or(self.end())
    }

    /// Whether a value comes before a place.
    pub(super) fn has_before(&self, value: &str, place: u32) -> bool {
        self.places.get(value).is_some_and(|at| *at < place)
    }

    /// The number of the rule at a place.
    pub(super) fn rule(&self, place: u32) -> Option<u32> {
        self.numbers.get(place as usize).copied()
    }

    pub(super) fn has_rule(&self, number: u32) -> bool {
        self.numbers.binary_search(&number).is_ok()
    }
}
