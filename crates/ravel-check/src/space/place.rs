//! Where a scheme and host, and a path there, are in the space of a site.

use std::sync::Arc;

use super::Space;
use super::leaf::Leaf;
use super::origin::{Origin, Region};
use super::search::{SignedLeaf, contains};
use super::symbol::{SLASH, Symbol, symbols};
use ravel::address::{Address, Scheme};

impl<'r> Space<'r> {
    /// The numbers of the origins that a scheme and host have here: one for each region, or none.
    pub(super) fn places(&self, scheme: Scheme, host: &str) -> Vec<Option<usize>> {
        let all = || self.axes.origins.iter().enumerate();
        let is_told_apart = all().any(|(_, origin)| &*origin.host == host);
        let here = |origin: &Origin| match is_told_apart {
            true => &*origin.host == host,
            false => origin.stands_for(host),
        };
        let numbers = all().filter(|(_, origin)| origin.scheme == scheme && here(origin));
        let found: Vec<Option<usize>> = numbers.map(|(number, _)| Some(number)).collect();
        if found.is_empty() { vec![None] } else { found }
    }

    /// The number of the origin that an address has, by its path.
    pub(super) fn place_of(&self, address: &Address) -> Option<usize> {
        let places = self.places(address.scheme(), address.host()).into_iter().flatten();
        let word: Vec<Symbol> = symbols(address.path()).collect();
        let mut places = places.filter(|place| {
            let leaves = self.region_leaves(*place);
            leaves.iter().all(|(leaf, wanted)| contains(leaf, &word) == *wanted)
        });
        places.next()
    }

    pub(super) fn region(&self, place: usize) -> &Region {
        &self.axes.regions[self.axes.origins[place].region]
    }

    /// What makes a whole path one of an origin's region.
    pub(super) fn region_leaves(&self, place: usize) -> Vec<SignedLeaf<'r>> {
        let region = self.region(place);
        let below = |text: &str, wanted| {
            let text: Vec<Symbol> = symbols(text).collect();
            debug_assert_ne!(text.last(), Some(&SLASH));
            (Arc::new(Leaf::Below(text)), wanted)
        };
        let inside = (!region.prefix.is_empty()).then(|| below(&region.prefix, true));
        let without =
            region.without.iter().map(|longer| below(&format!("{}{longer}", region.prefix), false));
        inside.into_iter().chain(without).collect()
    }
}
