use std::ops::ControlFlow;

use super::hosts::Asked;
use crate::rules::Rule;

/// Which rules of a stage could match an address.
#[derive(Debug)]
pub(crate) struct Index {
    rules: u32,
}

impl Index {
    pub(crate) fn new(rules: &[Rule]) -> Index {
        Index { rules: rules.len() as u32 }
    }

    /// Gives the numbers of rules that could match, in the order of the file, until told to stop.
    pub(crate) fn candidates(&self, _asked: &Asked<'_>, mut each: impl FnMut(u32) -> ControlFlow<()>) {
        let _ = (0..self.rules).try_for_each(&mut each);
    }
}
