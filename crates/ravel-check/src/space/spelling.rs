//! The paths that name one file, in all their spellings.

use std::cell::{OnceCell, RefCell};
use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::leaf::Leaf;
use super::memo::LeafMemo;
use super::names::Names;
use super::search::contains;
use super::symbol::{Symbol, symbols};
use ravel::edge::Edge;

/// The paths that name each file of a side, made when they are asked for.
#[derive(Debug, Default)]
pub(super) struct Spellings<'r> {
    /// The addresses of each file.
    addresses: OnceCell<FxHashMap<u32, Vec<&'r str>>>,
    leaves: RefCell<FxHashMap<u32, Arc<Leaf<'r>>>>,
    /// The own address of each file, in order.
    own: OnceCell<Vec<(Vec<Symbol>, u32)>>,
    /// The paths of the files whose own addresses are in a leaf.
    within: LeafMemo<'r, ()>,
}

impl<'r> Spellings<'r> {
    /// The paths that name the file which a path below the base path names, empty segments and all.
    pub(super) fn of_path(&self, edge: &'r Edge, path: &str) -> Option<Arc<Leaf<'r>>> {
        let named = edge.file_number(path);
        let file = named.or_else(|| edge.file_number(&without_empty_segments(path)))?;
        Some(self.of(edge, file))
    }

    /// The paths that name the files whose own addresses are in a leaf, empty segments and all.
    pub(super) fn of_files_within(&self, edge: &'r Edge, leaf: &Arc<Leaf<'r>>) -> Arc<Leaf<'r>> {
        self.within.of((), leaf, || self.files_within(edge, leaf))
    }

    fn files_within(&self, edge: &'r Edge, leaf: &Leaf<'r>) -> Leaf<'r> {
        let own = self.own.get_or_init(|| {
            let files = 0..edge.files().names().len() as u32;
            let mut own: Vec<(Vec<Symbol>, u32)> =
                files.map(|file| (symbols(edge.own_address(file)).collect(), file)).collect();
            own.sort_unstable();
            own
        });
        let (text, _) = leaf.literal_prefix();
        let from = own.partition_point(|(address, _)| *address < text);
        let range = own[from..].iter().take_while(|(address, _)| address.starts_with(&text));
        let within = range.filter(|(address, _)| contains(leaf, address));
        let all = self.addresses(edge);
        named(edge, within.flat_map(|(_, file)| all.get(file).into_iter().flatten().copied()))
    }

    fn addresses(&self, edge: &'r Edge) -> &FxHashMap<u32, Vec<&'r str>> {
        self.addresses.get_or_init(|| {
            let mut all: FxHashMap<u32, Vec<&str>> = FxHashMap::default();
            for (address, file, _) in edge.variant_table() {
                all.entry(file).or_default().push(address);
            }
            all
        })
    }

    fn of(&self, edge: &'r Edge, file: u32) -> Arc<Leaf<'r>> {
        if let Some(known) = self.leaves.borrow().get(&file) {
            return Arc::clone(known);
        }
        let all = self.addresses(edge);
        let addresses = all.get(&file).into_iter().flatten().copied();
        let leaf = Arc::new(named(edge, addresses));
        self.leaves.borrow_mut().insert(file, Arc::clone(&leaf));
        leaf
    }
}

fn named<'r, 'a>(edge: &Edge, addresses: impl Iterator<Item = &'a str>) -> Leaf<'r> {
    Leaf::Named(Arc::new(Names::new(addresses, edge.site())))
}

fn without_empty_segments(path: &str) -> String {
    let mut single = path.to_owned();
    while single.contains("//") {
        single = single.replace("//", "/");
    }
    single
}
