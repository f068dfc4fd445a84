//! A table at little more than the length of its rules' text, for the 404 page: rules that differ
//! only in some texts and numbers share a shape.
//!
//! ```text
//!   shapes  [{ "do": "redirect", "path": {}, "query": [["id", "is", {}]], … }]   a {} for each that differs
//!   rows    [[0, "/shop", "7"], …]                                              a shape, and what fills it
//! ```

use std::collections::BTreeMap;

use serde_json::{Map, Value, json};

use crate::text::script_text;

/// An expression of a script that gives the table. Its indexes are made when it is read: a small
/// page counts for more here than the time of an answer.
pub(super) fn expression(table: &Value) -> String {
    let mut table = table.clone();
    if let Some(stages) = table.get_mut("stages").and_then(Value::as_object_mut) {
        for stage in stages.values_mut() {
            let rules = stage.get("rules").and_then(Value::as_array);
            *stage = pack(rules.map_or(&[], Vec::as_slice));
        }
    }
    format!("({})(JSON.parse({}))", UNPACK.trim(), script_text(&table.to_string()))
}

fn pack(rules: &[Value]) -> Value {
    let mut alike: BTreeMap<String, Vec<usize>> = BTreeMap::new();
    for (number, rule) in rules.iter().enumerate() {
        alike.entry(filled(rule, &mut |_| json!("")).to_string()).or_default().push(number);
    }
    let mut groups: Vec<Vec<usize>> = alike.into_values().collect();
    groups.sort();
    let mut shapes = Vec::new();
    let mut rows = vec![Value::Null; rules.len()];
    for numbers in groups {
        let first = leaves(&rules[numbers[0]]);
        let mut differs = vec![false; first.len()];
        for number in &numbers {
            for (at, leaf) in leaves(&rules[*number]).into_iter().enumerate() {
                differs[at] |= leaf != first[at];
            }
        }
        for number in &numbers {
            let own = leaves(&rules[*number]).into_iter().zip(&differs);
            let own = own.filter(|(_, differs)| **differs).map(|(leaf, _)| leaf);
            rows[*number] = std::iter::once(json!(shapes.len())).chain(own).collect();
        }
        let mut differs = differs.into_iter();
        shapes.push(filled(&rules[numbers[0]], &mut |leaf| match differs.next() {
            Some(true) => json!({}),
            _ => leaf.clone(),
        }));
    }
    json!({ "shapes": shapes, "rows": rows })
}

/// A rule with something else for each of its texts and numbers.
fn filled(rule: &Value, with: &mut impl FnMut(&Value) -> Value) -> Value {
    match rule {
        Value::Array(parts) => parts.iter().map(|part| filled(part, with)).collect(),
        Value::Object(parts) => {
            let parts = parts.iter().map(|(key, part)| (key.clone(), filled(part, with)));
            Value::Object(parts.collect::<Map<_, _>>())
        }
        Value::String(_) | Value::Number(_) => with(rule),
        Value::Bool(_) | Value::Null => rule.clone(),
    }
}

fn leaves(rule: &Value) -> Vec<Value> {
    let mut leaves = Vec::new();
    filled(rule, &mut |leaf| {
        leaves.push(leaf.clone());
        Value::Null
    });
    leaves
}

const UNPACK: &str = r#"
({ stages, ...table }) => {
  const fill = (shape, values) => {
    if (Array.isArray(shape)) return shape.map((part) => fill(part, values));
    if (shape === null || typeof shape !== "object") return shape;
    const parts = Object.entries(shape);
    if (parts.length === 0) return values.shift();
    return Object.fromEntries(parts.map(([key, part]) => [key, fill(part, values)]));
  };
  const paths = () => ({ literal: {}, valued: {}, root: [[], {}, [], [[0, 0, { "\n": [] }]]] });
  const ready = {};
  for (const [stage, { shapes, rows }] of Object.entries(stages)) {
    const rules = rows.map(([shape, ...values]) => fill(shapes[shape], values));
    const index = { relative: paths(), hosts: {}, labels: {} };
    rules.forEach((rule, number) => {
      // The reader itself finds lists by their paths.
      if (typeof rule[0] === "string") return;
      const hosts = rule.label ? index.labels : index.hosts;
      const { literal, root } = rule.schemes ? (hosts[rule.host] ??= paths()) : index.relative;
      const list = typeof rule.path === "string" ? (literal[rule.path] ??= []) : root[3][0][2]["\n"];
      list.push(number);
    });
    ready[stage] = { rules, index };
  }
  return { ...table, stages: ready };
}
"#;
