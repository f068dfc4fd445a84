//! Where the rules of a stage are found by their patterns, as the module looks them up.
//!
//! ```text
//!   literal   { path: numbers }                                 paths without expressions
//!   valued    { "path\nkey\nvalue": numbers }                   with a literal value of the query
//!   root      [ends, { segment: node },                         a walk over the segments of a path
//!              [[before, after, { "text\ntext": node }]],       a segment with expressions, by the text around them
//!              [[lead, end, { "text\ntext": numbers }]]]       all the rest of a path, by its ends
//! ```

use std::collections::BTreeMap;

use serde_json::{Map, Value, json};

use crate::text::bytes;
use ravel::edge::{Segment, Shape};
use ravel::program::Rule;
use ravel::template::QueryTest;

/// Paths that are seen from one place: the base path, or a host.
#[derive(Default)]
struct PathIndex {
    literal: BTreeMap<String, Vec<usize>>,
    valued: BTreeMap<String, Vec<usize>>,
    root: Node,
}

#[derive(Default)]
struct Node {
    ends: Vec<usize>,
    texts: BTreeMap<String, Node>,
    around: BTreeMap<(usize, usize), BTreeMap<String, Node>>,
    tails: BTreeMap<(usize, usize), BTreeMap<String, Vec<usize>>>,
}

/// The index of a stage, but for rules that are left to who reads it.
pub(super) fn index(rules: &[&Rule], fold: bool, is_left: impl Fn(&Rule) -> bool) -> Value {
    let mut relative = PathIndex::default();
    let (mut hosts, mut labels) = (BTreeMap::new(), BTreeMap::new());
    for (number, rule) in rules.iter().enumerate() {
        if is_left(rule) {
            continue;
        }
        let paths = match rule.pattern().origin() {
            None => &mut relative,
            Some(origin) => {
                let map = if origin.host().capture().is_some() { &mut labels } else { &mut hosts };
                map.entry(origin.host().host().to_string()).or_insert_with(PathIndex::default)
            }
        };
        paths.insert(rule, number, fold);
    }
    let all = |map: BTreeMap<String, PathIndex>| -> Map<String, Value> {
        map.into_iter().map(|(host, index)| (host, index.into_value())).collect()
    };
    json!({ "relative": relative.into_value(), "hosts": all(hosts), "labels": all(labels) })
}

impl PathIndex {
    fn insert(&mut self, rule: &Rule, number: usize, fold: bool) {
        let low = |text: &str| if fold { text.to_ascii_lowercase() } else { text.to_owned() };
        let path = &rule.pattern().path();
        if path.is_literal() {
            let value = rule.pattern().query().iter().find_map(|part| match part.test() {
                QueryTest::Text(value) => Some((bytes(part.key()), bytes(value))),
                QueryTest::Present | QueryTest::Capture(_) => None,
            });
            let path = low(path.as_str());
            let (map, key) = match value {
                Some((key, value)) => (&mut self.valued, format!("{path}\n{key}\n{value}")),
                None => (&mut self.literal, path),
            };
            return map.entry(key).or_default().push(number);
        }
        let shape = Shape::of(path);
        let mut node = &mut self.root;
        for segment in shape.segments() {
            node = match *segment {
                Segment::Text(text) => node.texts.entry(low(text)).or_default(),
                Segment::Around(before, after) => {
                    let sized = node.around.entry((before.len(), after.len())).or_default();
                    sized.entry(low(&format!("{before}\n{after}"))).or_default()
                }
            };
        }
        match shape.tail() {
            None => node.ends.push(number),
            Some(tail) => {
                let (lead, end) = (tail.lead(), tail.end());
                let lead = format!("{}{lead}", if tail.slash() { "/" } else { "" });
                let ends = low(&format!("{lead}\n{end}"));
                let sized = node.tails.entry((lead.len(), end.len())).or_default();
                sized.entry(ends).or_default().push(number);
            }
        }
    }

    fn into_value(self) -> Value {
        json!({ "literal": self.literal, "valued": self.valued, "root": self.root.into_value() })
    }
}

impl Node {
    /// A list whose empty end is left out.
    fn into_value(self) -> Value {
        let nodes = |map: BTreeMap<String, Node>| -> Map<String, Value> {
            map.into_iter().map(|(key, node)| (key, node.into_value())).collect()
        };
        let around = self
            .around
            .into_iter()
            .map(|((before, after), map)| json!([before, after, nodes(map)]));
        let tails = self.tails.into_iter().map(|((lead, end), map)| json!([lead, end, map]));
        let (around, tails): (Vec<Value>, Vec<Value>) = (around.collect(), tails.collect());
        let mut parts =
            vec![json!(self.ends), Value::Object(nodes(self.texts)), json!(around), json!(tails)];
        let is_empty =
            |part: &Value| part.as_array().map_or_else(|| part == &json!({}), Vec::is_empty);
        while parts.last().is_some_and(is_empty) {
            parts.pop();
        }
        parts.into()
    }
}
