//! Rules for one path that are told apart by the value of one parameter, as `/product.php?id=7`. There
//! may be thousands of them: a cell is cut by which of them comes first, and not by each.

use std::rc::Rc;
use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::Space;
use super::fact::Fact;
use super::pair::{Cell, Pair};
use super::ranks::{PickedRow, Ranks, Rows, RowsPath};
use super::symbol::{spell, symbols};
use super::track::{Track, TrackedPath};
use ravel::program::{Rule, Stage};
use ravel::template::QueryTest;

/// So few rules are told apart one by one.
const MIN_ROWS: usize = 16;

impl<'r> Track<'r> {
    /// The path where all requests of a cell are, if it is one.
    fn one_path(&self, pair: &Pair<'r>, cell: &Cell<'r>) -> Option<RowsPath> {
        let path = match &self.path {
            TrackedPath::One(word) => spell(word),
            TrackedPath::Asked => {
                let asked = cell.piece.one_path()?;
                let first = pair.frame(cell).places[self.side]?;
                let prefix = &pair.sides[self.side].region(first).prefix;
                spell(asked.strip_prefix(&*symbols(prefix).collect::<Vec<_>>())?)
            }
            TrackedPath::Written(_) | TrackedPath::Among(_) => return None,
        };
        Some((self.side, self.place, path))
    }

    /// The numbers of the rules of the first stage that could take some of a cell, where it was cut by
    /// rows.
    pub(super) fn picked_rows(&self, pair: &Pair<'r>, cell: &Cell<'r>) -> Option<Vec<u32>> {
        if cell.rows.is_empty() {
            return None;
        }
        let path = self.one_path(pair, cell)?;
        let picked = cell.rows.iter().find(|row| *row.path == path)?;
        let mut numbers = picked.rows.others.clone();
        numbers.extend(picked.rows.ranks.rule(picked.place));
        numbers.sort_unstable();
        Some(numbers)
    }

    /// Cuts a cell that is at one path by which of very many rows for it comes first; none where there
    /// are no such rows, or it was cut.
    pub(crate) fn cut_rows(&self, pair: &Pair<'r>, cell: &Cell<'r>) -> Option<Vec<Cell<'r>>> {
        let path = self.one_path(pair, cell)?;
        if cell.rows.iter().any(|row| *row.path == path) {
            return None;
        }
        let known = pair.rows.borrow().get(&path).cloned();
        let rows = known.unwrap_or_else(|| {
            let numbers = self.candidates(pair, cell, Stage::Redirect);
            let found = rows_among(&pair.sides[self.side], &numbers).map(Rc::new);
            pair.rows.borrow_mut().insert(path.clone(), found.clone());
            found
        })?;
        let (ranks, path) = (&rows.ranks, Rc::new(path));
        // The query that was asked, and no other.
        if self.pull_fact(&Fact::Parameter(ranks.key)) != Some(None) {
            return None;
        }
        let about = |holds: bool| {
            let facts = cell.piece.facts.iter().filter(move |(_, known)| *known == holds);
            facts.map(|(fact, _)| &**fact)
        };
        let needed: Vec<&str> = about(true).filter_map(|fact| fact.value_of(ranks.key)).collect();
        let first = needed.iter().map(|value| ranks.place(value)).min().unwrap_or(ranks.end());
        let is_barred = |value: &str| about(false).any(|fact| fact.is_of_value(ranks.key, value));
        let places = (0..ranks.end().min(first + 1))
            .filter(|place| !is_barred(ranks.values[*place as usize]))
            .chain((first == ranks.end()).then_some(first));
        let part = |place: u32| {
            let mut part = cell.clone();
            let mut add = |fact, holds| part.piece.facts.push((Arc::new(fact), holds));
            if let Some(value) = ranks.values.get(place as usize)
                && !needed.contains(value)
            {
                add(Fact::ParameterIs(ranks.key, value), true);
            }
            if place > 0 {
                add(Fact::ParameterBefore(Arc::clone(ranks), place), false);
            }
            let (path, rows) = (Rc::clone(&path), Rc::clone(&rows));
            part.rows.push(PickedRow { path, rows, place });
            part
        };
        Some(places.map(part).collect())
    }
}

/// The rules of the first stage among some that are rows for one parameter, if they are many.
fn rows_among<'r>(space: &Space<'r>, numbers: &[u32]) -> Option<Rows<'r>> {
    let rows: Vec<(u32, &str, &str)> =
        numbers.iter().filter_map(|number| row(space, *number)).collect();
    let mut keys: FxHashMap<&str, usize> = FxHashMap::default();
    rows.iter().for_each(|(_, key, _)| *keys.entry(key).or_default() += 1);
    let (key, count) = keys.into_iter().max_by_key(|(key, count)| (*count, *key))?;
    if count < MIN_ROWS {
        return None;
    }
    let of_key = rows.into_iter().filter(|(_, of, _)| *of == key);
    let ranks = Ranks::new(key, of_key.map(|(number, _, value)| (number, value)));
    let others = numbers.iter().copied().filter(|number| !ranks.has_rule(*number)).collect();
    Some(Rows { ranks: Arc::new(ranks), others })
}

/// The number of a rule of the first stage, with the parameter and the value, if it asks for one path
/// with one value of one parameter and no more, and cannot lead to that URL.
fn row<'r>(space: &Space<'r>, number: u32) -> Option<(u32, &'r str, &'r str)> {
    let rule: &'r Rule = space.edge.program().numbered(Stage::Redirect, number).rule();
    let (pattern, path) = (rule.pattern(), rule.pattern().path());
    let is_back =
        rule.redirect().is_some_and(|redirect| redirect.target().path().as_str() == path.as_str());
    let is_plain = rule.is_unconditional() && pattern.origin().is_none() && path.is_literal();
    match pattern.query() {
        [part] if is_plain && !is_back => match part.test() {
            QueryTest::Text(value) => Some((number, part.key(), &**value)),
            QueryTest::Present | QueryTest::Capture(_) => None,
        },
        _ => None,
    }
}
