//! The program as a table: everything that `edge.mjs` interprets, and where its index has each
//! rule.
//!
//! If you change this, change `edge.mjs` and docs/table.schema.json too, and count [`VERSION`] up.

use serde_json::{Map, Value, json};

use super::index::index;
use crate::text::{bytes, low};
use ravel::address::Scheme;
use ravel::edge::{BODIES, Edge};
use ravel::files::KNOWN_TYPES;
use ravel::program::Pages;
use ravel::program::is_origin_bound;
use ravel::program::{
    Effect, FileRole, HeaderOp, Program, Redirect, Role, Rule, RuleRef, Stage, Test, TestKind,
    TextSet, ValueSet,
};
use ravel::template::{Expression, Pattern, Piece, QueryTest, Target, Template};

/// The version of tables that are written, and that `edge.mjs` reads.
const VERSION: u32 = 3;

/// The table of an edge. The same edge has the same table, to the byte. Its form is
/// docs/table.schema.json.
///
/// ```
/// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a -> /b\n")?;
/// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
/// let table = ravel_publish::table(&edge);
/// assert_eq!(table["stages"]["redirects"]["rules"][0][0], "/a");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn table(edge: &Edge) -> Value {
    table_of(edge, |_| true)
}

/// The table of an edge with some of its rules.
pub(crate) fn table_of(edge: &Edge, holds: impl Fn(RuleRef<'_>) -> bool) -> Value {
    let program = edge.program();
    let site = program.site();
    let stage = |stage: Stage| {
        let rules = program.rules(stage).filter(|rule| holds(*rule));
        let rules: Vec<&Rule> = rules.map(|rule| rule.rule()).collect();
        let written: Vec<Value> = rules.iter().map(|one| rule(one, program)).collect();
        // The module finds these by their paths.
        let is_left = |rule: &Rule| rule.one_path().is_some() && path_to_path(rule).is_some();
        json!({ "rules": written, "index": index(&rules, site.ignore_case(), is_left) })
    };
    let files: Vec<Value> = (0..)
        .zip(edge.files().names())
        .map(|(number, name)| json!([name, edge.own_address(number)]))
        .collect();
    let addresses = edge.variant_table().into_iter().map(|(address, file, gets)| match gets {
        0 => json!([address, file]),
        gets => json!([address, file, gets]),
    });
    let bound = program.request_headers().iter().filter(|name| is_origin_bound(name));
    json!({
        "version": VERSION,
        "scheme": site.scheme().as_str(),
        "host": site.host().as_str(),
        "base": site.open_base(),
        "upgrades": site.upgrades(),
        "hsts": site.hsts().map(|hsts| json!({ "value": hsts.value(), "subdomains": hsts.subdomains() })),
        "oneHop": site.one_hop(),
        "fold": site.ignore_case(),
        "tidy": site.pages() == Pages::Tidy,
        "bodies": BODIES.iter().map(|(status, body)| (status.to_string(), json!(body))).collect::<Map<_, _>>(),
        "lost": site.missing().as_ref().map(|(path, _)| path),
        "languages": site.languages().iter().map(|tag| tag.to_ascii_lowercase()).collect::<Vec<_>>(),
        "hosts": hosts(edge),
        "requestHeaders": program.request_headers().iter().map(http::HeaderName::as_str).collect::<Vec<_>>(),
        "originBound": bound.map(http::HeaderName::as_str).collect::<Vec<_>>(),
        "types": KNOWN_TYPES.iter().map(|(extension, mime)| json!([extension, mime])).collect::<Vec<_>>(),
        "files": files,
        "addresses": addresses.collect::<Vec<_>>(),
        "stages": {
            "redirects": stage(Stage::Redirect),
            "rewrites": stage(Stage::Rewrite),
            "fallbacks": stage(Stage::Fallback),
            "missing": stage(Stage::Missing),
            "headers": stage(Stage::Headers),
        },
    })
}

/// What each host is to the site, with its base path; the longest base path first.
fn hosts(edge: &Edge) -> Map<String, Value> {
    let site = edge.site();
    let mut settings = vec![(site.host().to_string(), Role::Canonical, site.base())];
    settings.extend(
        site.aliases().iter().map(|alias| (alias.host().to_string(), Role::Alias, alias.base())),
    );
    settings.extend(
        site.previews().iter().map(|preview| (preview.to_string(), Role::Preview, site.base())),
    );
    settings.sort_by_key(|(_, _, base)| std::cmp::Reverse(base.len()));
    let mut hosts = Map::new();
    for (host, role, base) in settings {
        let setting = json!([role.to_string(), base.trim_end_matches('/')]);
        match hosts.entry(host).or_insert_with(|| json!([])) {
            Value::Array(known) => known.push(setting),
            other => *other = json!([setting]),
        }
    }
    hosts
}

/// A redirect from path to path, of which there may be very many: what it leads to.
fn path_to_path(rule: &Rule) -> Option<&Redirect> {
    let (pattern, redirect) = (rule.pattern(), rule.redirect()?);
    let target = redirect.target();
    let is_path = pattern.origin().is_none() && pattern.query().is_empty();
    let to_path = target.origin().is_none() && target.query().is_none();
    let is_bare = rule.tests().iter().next().is_none() && !redirect.drop_query();
    (is_path && to_path && target.fragment().is_none() && is_bare).then_some(redirect)
}

fn rule(rule: &Rule, program: &Program) -> Value {
    let pattern = &rule.pattern();
    let fold = program.site().ignore_case();
    if let Some(redirect) = path_to_path(rule) {
        let to = put(redirect.target().path(), pattern);
        return json!([pattern_path(pattern.path(), fold), to, redirect.status()]);
    }
    let mut out = Map::new();
    if let Some(origin) = pattern.origin() {
        let site = program.site();
        // A rule for HTTPS is for the plain requests that are sent on to it.
        let schemes = [Scheme::Http, Scheme::Https].into_iter().filter(|scheme| {
            *scheme == origin.scheme() || (origin.scheme() == Scheme::Https && site.upgrades())
        });
        out.insert("schemes".into(), schemes.map(Scheme::as_str).collect::<Vec<_>>().into());
        out.insert("host".into(), origin.host().host().as_str().into());
        if origin.host().capture().is_some() {
            out.insert("label".into(), true.into());
        }
    }
    out.insert("path".into(), pattern_path(pattern.path(), fold));
    let query: Vec<Value> = pattern
        .query()
        .iter()
        .map(|part| match part.test() {
            QueryTest::Present => json!([bytes(part.key()), "present"]),
            QueryTest::Text(wanted) => json!([bytes(part.key()), "is", bytes(wanted)]),
            QueryTest::Capture(_) => json!([bytes(part.key()), "capture"]),
        })
        .collect();
    put_list(&mut out, "query", query);
    put_list(
        &mut out,
        "tests",
        rule.tests().iter().map(|one| test(one, pattern, program)).collect(),
    );
    let does = put_effect(&mut out, rule);
    out.insert("do".into(), does.into());
    Value::Object(out)
}

/// What a rule does, with its name.
fn put_effect(out: &mut Map<String, Value>, rule: &Rule) -> &'static str {
    let pattern = &rule.pattern();
    match rule.effect() {
        Effect::Redirect(redirect) => {
            out.insert("to".into(), target(redirect.target(), pattern));
            out.insert("status".into(), redirect.status().into());
            if redirect.drop_query() {
                out.insert("drop".into(), true.into());
            }
            "redirect"
        }
        Effect::Gone => "gone",
        Effect::Elsewhere(_) => "elsewhere",
        Effect::File(file) => {
            out.insert("to".into(), target(file.path(), pattern));
            match file.role() {
                FileRole::Rewrite => "rewrite",
                FileRole::Fallback { even_files: false } => "fallback",
                FileRole::Fallback { even_files: true } => "fallback even files",
            }
        }
        Effect::NotFoundPage(path) => {
            out.insert("to".into(), target(path, pattern));
            "missing"
        }
        Effect::Headers(headers) => {
            out.insert("on".into(), headers.on().as_str().into());
            out.insert(
                "ops".into(),
                headers.ops().iter().map(header_op).collect::<Vec<_>>().into(),
            );
            "headers"
        }
    }
}

fn put_list(out: &mut Map<String, Value>, name: &str, list: Vec<Value>) {
    if !list.is_empty() {
        out.insert(name.into(), list.into());
    }
}

/// A literal path, or its texts and the forms of its expressions: 0 a segment or a piece of one, 1
/// anything, 2 whole segments.
fn pattern_path(path: &Template, fold: bool) -> Value {
    if path.is_literal() {
        return low(path.as_str(), fold).into();
    }
    let parts = path.pieces().map(|piece| match piece {
        Piece::Text(text) => Value::from(low(text, fold)),
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
        out.insert("scheme".into(), origin.scheme().as_str().into());
        let host = &origin.host().host();
        let label = origin.host().capture().and_then(|name| slot(pattern, name));
        let host =
            label.map_or_else(|| json!(host.as_str()), |slot| json!([slot, format!(".{host}")]));
        out.insert("host".into(), host);
        if let Some(port) = origin.port() {
            out.insert("port".into(), port.into());
        }
    }
    out.insert("path".into(), put(target.path(), pattern));
    if let Some(query) = target.query() {
        out.insert("query".into(), put(query, pattern));
    }
    if let Some(fragment) = target.fragment() {
        out.insert("fragment".into(), put(fragment, pattern));
    }
    Value::Object(out)
}

/// Whether it is negated, its kind, what is looked at, and the accepted texts.
fn test(test: &Test, pattern: &Pattern, program: &Program) -> Value {
    let one_of = |texts: Vec<String>| vec![json!("one of"), json!(texts)];
    let languages = &program.site().languages();
    let (kind, of, accepted) = match test.kind() {
        TestKind::Capture(name, set) => {
            ("capture", json!(slot(pattern, name).unwrap_or_default()), texts(set, program))
        }
        TestKind::Host(hosts) => (
            "host",
            Value::Null,
            one_of(hosts.iter().map(|host| host.as_str().to_owned()).collect()),
        ),
        TestKind::Scheme(scheme) => {
            ("scheme", Value::Null, one_of(vec![scheme.as_str().to_owned()]))
        }
        TestKind::Role(role) => ("role", Value::Null, one_of(vec![role.to_string()])),
        TestKind::Method(methods) => (
            "method",
            Value::Null,
            one_of(methods.iter().map(|method| method.as_str().to_owned()).collect()),
        ),
        TestKind::Language(list) => {
            let listed = list
                .iter()
                .filter_map(|at| languages.get(*at))
                .map(|tag| tag.to_ascii_lowercase())
                .collect();
            ("language", json!("accept-language"), one_of(listed))
        }
        TestKind::Header(name, set) => ("header", json!(name.as_str()), values(set)),
        TestKind::Cookie(name, set) => ("cookie", json!(bytes(name)), values(set)),
        TestKind::FileExists => ("file exists", Value::Null, vec![json!("any")]),
        TestKind::ContentType(ranges) => (
            "type",
            Value::Null,
            one_of(ranges.iter().map(|range| range.as_str().to_owned()).collect()),
        ),
    };
    let looked_at = vec![json!(u8::from(test.negated())), json!(kind), of];
    looked_at.into_iter().chain(accepted).collect::<Vec<_>>().into()
}

fn texts(set: &TextSet, program: &Program) -> Vec<Value> {
    match set {
        TextSet::Digits { least, most } => vec![json!("digits"), json!(least), json!(most)],
        TextSet::OneOf(list) if program.site().ignore_case() => {
            vec![json!("one of, folded"), list.iter().map(|text| low(&bytes(text), true)).collect()]
        }
        TextSet::OneOf(list) => {
            vec![json!("one of"), list.iter().map(|text| bytes(text)).collect()]
        }
        TextSet::Matches(regex) => {
            let (classes, next, last) = regex.as_table();
            vec![json!("matches"), json!({ "classes": classes, "next": next, "last": last })]
        }
    }
}

fn values(set: &ValueSet) -> Vec<Value> {
    match set {
        ValueSet::Any => vec![json!("any")],
        ValueSet::OneOf(list) => {
            vec![json!("one of"), list.iter().map(|value| bytes(value)).collect()]
        }
        ValueSet::Containing(text) => vec![json!("contains"), json!(bytes(text))],
    }
}

// Values are checked to be visible ASCII when the rules are read.
fn header_op(op: &HeaderOp) -> Value {
    match op {
        HeaderOp::Set(name, value, _) => {
            json!(["set", name.as_str(), value.to_str().unwrap_or_default()])
        }
        HeaderOp::Add(name, value, _) => {
            json!(["add", name.as_str(), value.to_str().unwrap_or_default()])
        }
        HeaderOp::Drop(name, _) => json!(["drop", name.as_str()]),
    }
}
