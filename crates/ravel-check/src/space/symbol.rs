//! A path as a word: one symbol a character, however it is spelled.

use ravel::address::{encode, is_path_byte};
use rustc_hash::FxHashMap;

/// A byte, or [`ESCAPED_SLASH`], which is no separator.
pub(super) type Symbol = u16;

pub(super) const SLASH: Symbol = b'/' as Symbol;
pub(super) const ESCAPED_SLASH: Symbol = 256;
pub(super) const SYMBOLS: Symbol = 257;

/// The symbols of a normalized path.
pub(super) fn symbols(path: &str) -> impl Iterator<Item = Symbol> {
    let mut bytes = path.bytes();
    std::iter::from_fn(move || {
        let byte = bytes.next()?;
        if byte != b'%' {
            return Some(byte.into());
        }
        let mut digit = || bytes.next().and_then(|digit| char::from(digit).to_digit(16));
        let value = digit()? * 16 + digit()?;
        Some(if value == u32::from(b'/') { ESCAPED_SLASH } else { value as Symbol })
    })
}

/// The normalized path of a word.
pub(super) fn spell(word: &[Symbol]) -> String {
    let mut path = String::with_capacity(word.len());
    for &symbol in word {
        match symbol {
            ESCAPED_SLASH => path.push_str("%2F"),
            SLASH => path.push('/'),
            byte => encode(&[byte as u8], is_path_byte, &mut path),
        }
    }
    path
}

/// The byte that a symbol means.
pub(super) fn meaning(symbol: Symbol) -> u8 {
    if symbol == ESCAPED_SLASH { b'/' } else { symbol as u8 }
}

/// The symbols that must be told apart, one for each kind that behaves alike.
#[derive(Debug)]
pub(super) struct Alphabet {
    own: [bool; SYMBOLS as usize],
    digits: bool,
    classes: Vec<[u8; 256]>,
}

impl Default for Alphabet {
    fn default() -> Alphabet {
        Alphabet { own: [false; SYMBOLS as usize], digits: false, classes: Vec::new() }
    }
}

impl Alphabet {
    /// This symbol is told apart from all others.
    pub(super) fn mark(&mut self, symbol: Symbol) {
        self.own[symbol as usize] = true;
    }

    /// Digits are told apart from what is none.
    pub(super) fn mark_digits(&mut self) {
        self.digits = true;
    }

    /// Bytes are told apart where these classes differ.
    pub(super) fn mark_classes(&mut self, classes: [u8; 256]) {
        self.classes.push(classes);
    }

    /// One symbol a kind; letters come first, since they read well in an example.
    pub(super) fn symbols(self) -> Vec<Symbol> {
        let kinds = self.kinds();
        let mut has_example = [false; SYMBOLS as usize + 1];
        let letters = Symbol::from(b'a')..=Symbol::from(b'z');
        let digits = Symbol::from(b'0')..=Symbol::from(b'9');
        let is_other = |symbol: &Symbol| {
            *symbol != SLASH && !letters.contains(symbol) && !digits.contains(symbol)
        };
        let others = (0..SYMBOLS).filter(is_other);
        let is_slash_told = self.own[SLASH as usize];
        let mut symbols: Vec<Symbol> = is_slash_told.then_some(SLASH).into_iter().collect();
        // Separators and what cannot be read well are never the example of a kind that has another.
        symbols.extend(letters.clone().chain(digits.clone()).chain(others).filter(|symbol| {
            let kind = kinds[*symbol as usize] as usize;
            self.own[*symbol as usize] || !std::mem::replace(&mut has_example[kind], true)
        }));
        symbols.extend((!is_slash_told).then_some(SLASH));
        symbols
    }

    /// The kind of each symbol; each class cuts the kinds that there are.
    fn kinds(&self) -> [u16; SYMBOLS as usize] {
        let mut kinds = [0; SYMBOLS as usize];
        if self.digits {
            kinds[usize::from(b'0')..=usize::from(b'9')].fill(1);
        }
        for classes in &self.classes {
            let mut finer: FxHashMap<(u16, u8), u16> = FxHashMap::default();
            for (symbol, kind) in (0..SYMBOLS).zip(&mut kinds) {
                let new = finer.len() as u16;
                let class = classes[usize::from(meaning(symbol))];
                *kind = *finer.entry((*kind, class)).or_insert(new);
            }
        }
        kinds
    }
}
