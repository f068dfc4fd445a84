//! The paths that name one file, in all their spellings.

use std::cell::{OnceCell, RefCell};
use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::leaf::{Leaf, Names};
use ravel::edge::Edge;

/// The paths that name each file of a side, made when they are asked for.
#[derive(Debug, Default)]
pub(super) struct Spellings<'r> {
    /// The addresses of each file.
    addresses: OnceCell<FxHashMap<u32, Vec<&'r str>>>,
    leaves: RefCell<FxHashMap<u32, Arc<Leaf<'r>>>>,
}

impl<'r> Spellings<'r> {
    /// The paths that name the file which a path below the base path names, empty segments and all.
    pub(super) fn of_path(&self, edge: &'r Edge, path: &str) -> Option<Arc<Leaf<'r>>> {
        let named = edge.file_number(path);
        let file = named.or_else(|| edge.file_number(&without_empty_segments(path)))?;
        Some(self.of(edge, file))
    }

    fn of(&self, edge: &'r Edge, file: u32) -> Arc<Leaf<'r>> {
        if let Some(known) = self.leaves.borrow().get(&file) {
            return Arc::clone(known);
        }
        let all = self.addresses.get_or_init(|| {
            let mut all: FxHashMap<u32, Vec<&str>> = FxHashMap::default();
            for (address, file, _) in edge.variant_table() {
                all.entry(file).or_default().push(address);
            }
            all
        });
        let addresses = all.get(&file).into_iter().flatten().copied();
        let leaf = Arc::new(Leaf::Named(Arc::new(Names::new(addresses, edge.site()))));
        self.leaves.borrow_mut().insert(file, Arc::clone(&leaf));
        leaf
    }
}

fn without_empty_segments(path: &str) -> String {
    let mut single = path.to_owned();
    while single.contains("//") {
        single = single.replace("//", "/");
    }
    single
}
