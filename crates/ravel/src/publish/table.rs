//! The compiled edge as a table: everything that `edge.mjs` needs to decide as the library does.

use serde_json::{Map, Value, json};

use crate::edge::Edge;
use crate::files::KNOWN_TYPES;
use crate::rules::{Action, HeaderOp, HeaderTest, On, Pages, Rule, Stage, When, WhenTest, Where, WhereTest};
use crate::template::{Expression, Pattern, Piece, QueryTest, Target, Template};

/// The table of an edge. The same edge has the same table, to the byte. Its form is docs/table.schema.json.
pub fn table(edge: &Edge) -> Value {
    let set = edge.rules();
    let site = &set.site;
    let rules = |stage: Stage| Value::from(set.stage(stage).iter().map(rule).collect::<Vec<_>>());
    let files: Vec<Value> =
        (0..).zip(edge.files().names()).map(|(number, name)| json!([name, edge.own_address(number)])).collect();
    let addresses = edge.spelling_table().into_iter().map(|(address, file, gets)| match gets {
        0 => json!([address, file]),
        gets => json!([address, file, gets]),
    });
    json!({
        "version": 1,
        "scheme": site.scheme.as_str(),
        "host": site.host.as_str(),
        "base": site.base,
        "upgrades": site.upgrades(),
        "hsts": site.hsts.as_ref().map(|hsts| json!({ "value": hsts.value, "subdomains": hsts.subdomains })),
        "oneHop": site.one_hop,
        "fold": site.ignore_case,
        "tidy": site.pages == Pages::Tidy,
        "lost": site.missing.as_ref().map(|(path, _)| path),
        "languages": site.languages,
        "hosts": hosts(edge),
        "vary": set.vary_names.iter().map(http::HeaderName::as_str).collect::<Vec<_>>(),
        "types": KNOWN_TYPES.iter().map(|(extension, mime)| json!([extension, mime])).collect::<Vec<_>>(),
        "files": files,
        "addresses": addresses.collect::<Vec<_>>(),
        "rules": {
            "redirects": rules(Stage::Redirect),
            "rewrites": rules(Stage::Rewrite),
            "fallbacks": rules(Stage::Fallback),
            "missing": rules(Stage::Missing),
            "headers": rules(Stage::Headers),
        },
    })
}

fn hosts(edge: &Edge) -> Vec<Value> {
    let site = edge.site();
    let aliases = site.aliases.iter().map(|alias| json!([alias.host.as_str(), "alias", alias.base]));
    let previews = site.previews.iter().map(|preview| json!([preview.to_string(), "preview", site.base]));
    std::iter::once(json!([site.host.as_str(), "canonical", site.base])).chain(aliases).chain(previews).collect()
}

fn rule(rule: &Rule) -> Value {
    let pattern = &rule.pattern;
    if let Action::Redirect(redirect) = &rule.action
        && let (Some(path), Some(to), false) = (rule.one_path(), redirect.target.literal_path(), redirect.drop_query)
    {
        return json!([path, to, redirect.status]);
    }
    let mut out = Map::new();
    if let Some(origin) = pattern.origin() {
        out.insert("scheme".into(), origin.scheme.as_str().into());
        out.insert("host".into(), origin.host.host.as_str().into());
        if origin.host.capture.is_some() {
            out.insert("label".into(), true.into());
        }
    }
    out.insert("path".into(), pattern_path(&pattern.path));
    let query: Vec<Value> = pattern
        .query()
        .iter()
        .map(|part| match &part.test {
            QueryTest::Present => json!([part.key, "present"]),
            QueryTest::Text(wanted) => json!([part.key, "is", wanted]),
            QueryTest::Capture(_) => json!([part.key, "capture"]),
        })
        .collect();
    put_list(&mut out, "query", query);
    put_list(&mut out, "where", rule.wheres().iter().filter_map(|test| where_test(test, pattern)).collect());
    put_list(&mut out, "when", rule.whens().iter().map(when_test).collect());
    let vary = rule.conditions.as_ref().map_or(0, |conditions| conditions.vary);
    put_list(&mut out, "vary", (0..64).filter(|bit| vary & (1 << bit) != 0).map(Value::from).collect());
    let does = match &rule.action {
        Action::Redirect(redirect) => {
            out.insert("to".into(), target(&redirect.target, pattern));
            out.insert("status".into(), redirect.status.into());
            if redirect.drop_query {
                out.insert("drop".into(), true.into());
            }
            "redirect"
        }
        Action::Gone => "gone",
        Action::Elsewhere(_) => "elsewhere",
        Action::Rewrite(to) | Action::Missing(to) => {
            out.insert("to".into(), target(to, pattern));
            "show"
        }
        Action::Fallback { path, even_files } => {
            out.insert("to".into(), target(path, pattern));
            if *even_files {
                out.insert("even".into(), true.into());
            }
            "show"
        }
        Action::Headers(headers) => {
            let on = On::NAMES.iter().find(|(_, on)| *on == headers.on).map_or("served", |(name, _)| name);
            out.insert("on".into(), on.into());
            out.insert("ops".into(), headers.ops.iter().map(header_op).collect::<Vec<_>>().into());
            "headers"
        }
    };
    out.insert("do".into(), does.into());
    Value::Object(out)
}

fn put_list(out: &mut Map<String, Value>, name: &str, list: Vec<Value>) {
    if !list.is_empty() {
        out.insert(name.into(), list.into());
    }
}

/// A literal path, or its texts and the forms of its expressions: 0 a segment or a piece of one, 1 anything, 2 whole segments.
fn pattern_path(path: &Template) -> Value {
    if path.is_literal() {
        return path.as_str().into();
    }
    let parts = path.pieces().map(|piece| match piece {
        Piece::Text(text) => Value::from(text),
        Piece::Expression(Expression::Segment, _) => 0.into(),
        Piece::Expression(Expression::Any, _) => 1.into(),
        Piece::Expression(Expression::Segments, _) => 2.into(),
    });
    parts.collect::<Vec<_>>().into()
}

fn slot(pattern: &Pattern, name: &str) -> Option<usize> {
    pattern.names().position(|captured| captured == name)
}

/// A literal text, or its texts and the slots of captures.
fn put<const INLINE: usize>(template: &Template<INLINE>, pattern: &Pattern) -> Value {
    if template.is_literal() {
        return template.as_str().into();
    }
    let parts = template.pieces().map(|piece| match piece {
        Piece::Text(text) => Value::from(text),
        Piece::Expression(_, name) => slot(pattern, name).unwrap_or_default().into(),
    });
    parts.collect::<Vec<_>>().into()
}

fn target(target: &Target, pattern: &Pattern) -> Value {
    let mut out = Map::new();
    if let Some(origin) = target.origin() {
        out.insert("scheme".into(), origin.scheme.as_str().into());
        out.insert("host".into(), origin.host.host.as_str().into());
        if let Some(slot) = origin.host.capture.as_deref().and_then(|name| slot(pattern, name)) {
            out.insert("label".into(), slot.into());
        }
    }
    out.insert("path".into(), put(&target.path, pattern));
    if let Some(query) = target.query() {
        out.insert("query".into(), put(query, pattern));
    }
    if let Some(fragment) = target.fragment() {
        out.insert("fragment".into(), put(fragment, pattern));
    }
    Value::Object(out)
}

fn where_test(test: &Where, pattern: &Pattern) -> Option<Value> {
    let slot = slot(pattern, &test.name)?;
    Some(match &test.test {
        WhereTest::Digits { least, most } => json!([slot, "digits", least, most]),
        WhereTest::OneOf(list) => json!([slot, "in", list]),
        WhereTest::NotOneOf(list) => json!([slot, "out", list]),
        WhereTest::Matches(regex) => {
            let (classes, next, last) = regex.as_table();
            json!([slot, "matches", { "classes": classes, "next": next, "last": last }])
        }
    })
}

fn when_test(when: &When) -> Value {
    let not = when.negated;
    match &when.test {
        WhenTest::Language(list) => json!([not, "language", list]),
        WhenTest::Cookie(name, value) => json!([not, "cookie", name, value]),
        WhenTest::Header(name, HeaderTest::Present) => json!([not, "header", name.as_str(), "present"]),
        WhenTest::Header(name, HeaderTest::Is(value)) => json!([not, "header", name.as_str(), "is", value]),
        WhenTest::Header(name, HeaderTest::Contains(text)) => json!([not, "header", name.as_str(), "contains", text]),
        WhenTest::Host(hosts) => json!([not, "host", hosts.iter().map(|host| host.as_str()).collect::<Vec<_>>()]),
        WhenTest::Scheme(scheme) => json!([not, "scheme", scheme.as_str()]),
        WhenTest::Method(methods) => json!([not, "method", methods.iter().map(http::Method::as_str).collect::<Vec<_>>()]),
        WhenTest::Preview => json!([not, "preview"]),
        WhenTest::NoFile => json!([not, "no file"]),
    }
}

// Values are checked to be visible ASCII when the rules are read.
fn header_op(op: &HeaderOp) -> Value {
    match op {
        HeaderOp::Set(name, value, _) => json!(["set", name.as_str(), value.to_str().unwrap_or_default()]),
        HeaderOp::Add(name, value, _) => json!(["add", name.as_str(), value.to_str().unwrap_or_default()]),
        HeaderOp::Drop(name, _) => json!(["drop", name.as_str()]),
    }
}
