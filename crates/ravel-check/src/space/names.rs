//! The addresses that name files, as one automaton.

use super::state::State;
use super::symbol::{Alphabet, ESCAPED_SLASH, SLASH, Symbol, meaning, symbols};
use ravel::program::{Pages, Site};

/// The addresses that name files, as words in order.
#[derive(Debug, Default)]
pub(super) struct Names {
    pub(super) words: Vec<Vec<Symbol>>,
    /// Every symbol of them, once.
    pub(super) symbols: Vec<Symbol>,
    /// ASCII letters match in any case; the words are in lower case.
    pub(super) fold: bool,
    /// Empty segments are left out of an address before it is compared.
    pub(super) tidy: bool,
}

impl Names {
    /// The addresses that name files, as words.
    pub(super) fn new<'a>(addresses: impl Iterator<Item = &'a str>, site: &Site) -> Names {
        let fold = site.ignore_case();
        let spelled = |address: &str| {
            symbols(&if fold { address.to_ascii_lowercase() } else { address.to_owned() }).collect()
        };
        let names = Names::of_words(addresses.map(spelled).collect());
        Names { fold, tidy: site.pages() == Pages::Tidy, ..names }
    }

    /// These words, as they are spelled.
    pub(super) fn of_words(mut words: Vec<Vec<Symbol>>) -> Names {
        words.sort_unstable();
        words.dedup();
        let mut used = [false; 257];
        words.iter().flatten().for_each(|symbol| used[usize::from(*symbol)] = true);
        let symbols = (0..257).filter(|symbol| used[usize::from(*symbol)]).collect();
        Names { words, symbols, fold: false, tidy: false }
    }

    pub(super) fn start(&self) -> State {
        State::Range { low: 0, high: self.words.len() as u32, depth: 0, slash: false }
    }

    pub(super) fn step(
        &self,
        (low, high, depth, slash): (u32, u32, u32, bool),
        symbol: Symbol,
    ) -> State {
        if self.tidy && slash && symbol == SLASH {
            return State::Range { low, high, depth, slash };
        }
        let symbol = match u8::try_from(symbol) {
            Ok(byte) if self.fold => byte.to_ascii_lowercase().into(),
            _ => symbol,
        };
        let range = &self.words[low as usize..high as usize];
        let here = |word: &Vec<Symbol>| word.get(depth as usize).copied();
        let from = range.partition_point(|word| here(word) < Some(symbol)) as u32;
        let to = range.partition_point(|word| here(word) <= Some(symbol)) as u32;
        if from == to {
            return State::Dead;
        }
        State::Range { low: low + from, high: low + to, depth: depth + 1, slash: symbol == SLASH }
    }

    /// The symbols that it tells apart.
    pub(super) fn mark(&self, alphabet: &mut Alphabet) {
        for symbol in &self.symbols {
            alphabet.mark(*symbol);
            if self.fold && *symbol < ESCAPED_SLASH {
                alphabet.mark(meaning(*symbol).to_ascii_uppercase().into());
            }
        }
    }
}
