//! Sets of small numbers.

use smallvec::SmallVec;

/// A set of numbers below a bound that all sets it meets share.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(super) struct Bits(SmallVec<[u64; 1]>);

impl Bits {
    /// The numbers below `bound` that are wanted.
    pub(super) fn of(bound: usize, wanted: impl Fn(usize) -> bool) -> Bits {
        let mut words = SmallVec::from_elem(0, bound.div_ceil(64).max(1));
        for number in (0..bound).filter(|number| wanted(*number)) {
            words[number / 64] |= 1 << (number % 64);
        }
        Bits(words)
    }

    pub(super) fn keep(&mut self, other: &Bits) {
        self.0.iter_mut().zip(&other.0).for_each(|(word, other)| *word &= other);
    }

    pub(super) fn drop(&mut self, other: &Bits) {
        self.0.iter_mut().zip(&other.0).for_each(|(word, other)| *word &= !other);
    }

    pub(super) fn is_empty(&self) -> bool {
        self.0.iter().all(|word| *word == 0)
    }

    pub(super) fn is_within(&self, other: &Bits) -> bool {
        self.0.iter().zip(&other.0).all(|(word, other)| word & !other == 0)
    }

    pub(super) fn has(&self, number: usize) -> bool {
        self.0.get(number / 64).is_some_and(|word| word & (1 << (number % 64)) != 0)
    }

    pub(super) fn first(&self) -> Option<usize> {
        let (at, word) = self.0.iter().enumerate().find(|(_, word)| **word != 0)?;
        Some(at * 64 + word.trailing_zeros() as usize)
    }

    pub(super) fn retain(&mut self, wanted: impl Fn(usize) -> bool) {
        let bound = self.0.len() * 64;
        let kept = Bits::of(bound, wanted);
        self.keep(&kept);
    }
}
