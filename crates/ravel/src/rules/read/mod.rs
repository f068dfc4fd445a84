//! Statements to their meaning.

mod accept;
mod conditions;
mod domain;
mod expect;
mod headers;
mod outcome;
mod rule;
mod site;
mod table;

use std::collections::HashSet;
use std::sync::Arc;

use http::{HeaderName, HeaderValue};

use super::{Accept, Domain, EveryExpectation, Expectation, RuleSet, Site, StatementGroup};
use crate::language::grammar::{self, Form, Statement as Keyword};
use crate::language::{
    Cursor, Line, LineText, Place, Problem, ProblemKind, Problems, Statement, Word, nearest,
    statements,
};
use crate::program::{Program, Rule, Stage};
use crate::template::{Pattern, TemplateError};

/// How many files may include one another.
const MAX_INCLUDES: usize = 64;

type Load<'l> = &'l mut dyn FnMut(&str) -> Result<Vec<u8>, String>;
type Outcome<T> = Result<T, Problem>;

/// What the readers of statements share.
struct Reader<'l> {
    load: Load<'l>,
    sources: Vec<Box<str>>,
    /// The files that are being read, the including one before the included.
    open: Vec<u16>,
    problems: Vec<Problem>,
    /// The tables that were read, by their sources, with the lines that name them.
    tables: Vec<(u16, Line)>,
    site: Site,
    /// The rules that were read, stage by stage.
    rules: [Vec<Rule>; Stage::ALL.len()],
    /// The request headers that conditions look at.
    request_headers: Vec<HeaderName>,
    expectations: Vec<Expectation>,
    every_expectations: Vec<EveryExpectation>,
    accepts: Vec<Accept>,
    groups: Vec<StatementGroup>,
    domains: Vec<Domain>,
}

pub(super) fn read(name: &str, text: &str, load: Load<'_>) -> Result<RuleSet, Problems> {
    let mut reader = Reader {
        load,
        sources: vec![name.into()],
        open: vec![0],
        problems: Vec::new(),
        tables: Vec::new(),
        site: Site::unknown(),
        rules: Default::default(),
        request_headers: Vec::new(),
        expectations: Vec::new(),
        every_expectations: Vec::new(),
        accepts: Vec::new(),
        groups: Vec::new(),
        domains: Vec::new(),
    };
    let mut statements = statements(0, text, &mut reader.problems);
    reader.take_accepts(&mut statements);
    match statements.iter().position(|statement| keyword(statement) == "site") {
        Some(at) => {
            for early in &statements[..at] {
                reader.problems.push(Problem::new(head_place(early), ProblemKind::SiteNotFirst));
            }
            reader.site = reader.site(&statements[at]);
            reader.statements(&statements[..at]);
            reader.statements(&statements[at + 1..]);
        }
        None => {
            let place = statements.first().map_or(Line::new(0, 1).at(0..0), head_place);
            reader.problems.push(Problem::new(place, ProblemKind::NoSite));
            reader.statements(&statements);
        }
    }
    let sources: Arc<[Box<str>]> = std::mem::take(&mut reader.sources).into();
    if !reader.problems.is_empty() {
        return Err(Problems::new(sources, reader.problems));
    }
    reader.accept_tables();
    Ok(RuleSet {
        program: Program::new(reader.site, reader.rules, reader.request_headers),
        expectations: reader.expectations,
        every_expectations: reader.every_expectations,
        accepts: reader.accepts,
        groups: reader.groups.into(),
        domains: reader.domains,
        sources,
    })
}

fn keyword<'t>(statement: &Statement<'t>) -> &'t str {
    statement.head.text.split_whitespace().next().unwrap_or_default()
}

fn head_place(statement: &Statement<'_>) -> Place {
    statement.head.line.at(0..keyword(statement).len())
}

impl Reader<'_> {
    fn statements(&mut self, statements: &[Statement<'_>]) {
        for statement in statements {
            if let Err(problem) = self.statement(statement) {
                self.problems.push(problem);
            }
        }
    }

    fn statement(&mut self, statement: &Statement<'_>) -> Outcome<()> {
        let mut cursor = Cursor::new(statement.head);
        let Some(word) = cursor.word()? else { return Ok(()) };
        let kind = match Keyword::find(&word.text) {
            Some(Keyword::Site) => {
                return Err(Problem::new(cursor.place(word.columns), ProblemKind::SiteTwice));
            }
            Some(Keyword::Headers) => return self.headers(cursor, statement),
            Some(Keyword::Expect) => return self.expect(cursor, statement),
            Some(Keyword::Include) => return self.include(cursor, statement),
            Some(Keyword::Domain) => return self.domain(cursor, statement),
            Some(Keyword::Redirect) => rule::Kind::Redirect,
            Some(Keyword::Gone) => rule::Kind::Gone,
            Some(Keyword::Elsewhere) => rule::Kind::Elsewhere,
            Some(Keyword::Rewrite) => rule::Kind::Rewrite,
            Some(Keyword::Fallback) => rule::Kind::Fallback,
            Some(Keyword::Missing) => rule::Kind::Missing,
            None => {
                let kind = not_a_statement(&word.text, &cursor, statement.head.text);
                return Err(Problem::new(cursor.place(word.columns), kind));
            }
        };
        self.rules(kind, cursor, statement)
    }

    fn include(&mut self, mut cursor: Cursor<'_>, statement: &Statement<'_>) -> Outcome<()> {
        let Some(word) = cursor.word()? else {
            return Err(cursor.expected("the name of a rules file"));
        };
        let place = cursor.place(word.columns.clone());
        cursor.end()?;
        self.no_body(statement)?;
        let (name, bytes) = self.file(&word, &place)?;
        if self.is_open(&name) {
            return Err(Problem::new(place, ProblemKind::IncludeCircle { name }));
        }
        let Ok(text) = String::from_utf8(bytes) else {
            return Err(Problem::new(place, ProblemKind::NotUtf8 { name }));
        };
        if self.open.len() > MAX_INCLUDES {
            let kind = match self.comes_back(&name, &text) {
                Some(name) => ProblemKind::IncludeCircle { name },
                None => ProblemKind::IncludesTooDeep { name },
            };
            return Err(Problem::new(place, kind));
        }
        let source = self.source(name, &place)?;
        self.open.push(source);
        let mut included = statements(source, &text, &mut self.problems);
        self.take_accepts(&mut included);
        self.statements(&included);
        self.open.pop();
        Ok(())
    }

    /// Whether a file is being read.
    fn is_open(&self, name: &str) -> bool {
        self.open.iter().any(|&source| *self.sources[usize::from(source)] == *name)
    }

    /// The file that is being read, or included below this one already, to which its includes come
    /// back; it is followed without end, but not deeper on the stack.
    fn comes_back(&mut self, name: &str, text: &str) -> Option<String> {
        let mut seen = HashSet::from([name.to_owned()]);
        let mut waiting = vec![(name.to_owned(), text.to_owned())];
        while let Some((from, text)) = waiting.pop() {
            for statement in statements(0, &text, &mut Vec::new()) {
                let mut cursor = Cursor::new(statement.head);
                let is_include = matches!(cursor.word(), Ok(Some(word)) if word.text == "include");
                let word = if is_include { cursor.word().ok().flatten() } else { None };
                let Some(next) = word.and_then(|word| below(folder_of(&from), &word.text)) else {
                    continue;
                };
                if self.is_open(&next) || next == name {
                    return Some(next);
                }
                if seen.insert(next.clone())
                    && let Ok(bytes) = (self.load)(&next)
                    && let Ok(text) = String::from_utf8(bytes)
                {
                    waiting.push((next, text));
                }
            }
        }
        None
    }

    /// Reads a file that a statement names; its name is relative to the file that is being read.
    fn file(&mut self, word: &Word<'_>, place: &Place) -> Outcome<(String, Vec<u8>)> {
        let name = self.file_name(word, place)?;
        match (self.load)(&name) {
            Ok(bytes) => Ok((name, bytes)),
            Err(why) => Err(Problem::new(place.clone(), ProblemKind::Unreadable { name, why })),
        }
    }

    /// The name of a file, as the rules file is named; it is written as seen from the file that is
    /// being read.
    fn file_name(&self, word: &Word<'_>, place: &Place) -> Outcome<String> {
        let current = self.open.last().map_or(0, |&source| usize::from(source));
        below(folder_of(&self.sources[current]), &word.text).ok_or_else(|| {
            Problem::new(place.clone(), ProblemKind::FileName { found: word.text.to_string() })
        })
    }

    /// Every mention of a file is a source of its own, so that what two of them bring can be told
    /// apart.
    fn source(&mut self, name: String, place: &Place) -> Outcome<u16> {
        let source = u16::try_from(self.sources.len());
        let source = source.map_err(|_| Problem::new(place.clone(), ProblemKind::TooManyFiles))?;
        self.sources.push(name.into());
        Ok(source)
    }

    fn no_body(&mut self, statement: &Statement<'_>) -> Outcome<()> {
        match statement.body.first() {
            Some(line) => {
                let mut cursor = Cursor::new(*line);
                let word = cursor.word()?.ok_or_else(|| cursor.expected("nothing"))?;
                let found = word.text.into_owned();
                Err(Problem::new(cursor.place(word.columns), ProblemKind::NoBody { found }))
            }
            None => Ok(()),
        }
    }

    /// The problem of an indented line that is none of `allowed`.
    fn wrong_body<'f>(
        &self,
        line: LineText<'_>,
        allowed: impl IntoIterator<Item = &'f Form> + Clone,
    ) -> Problem {
        let mut cursor = Cursor::new(line);
        match cursor.word() {
            Ok(Some(word)) => {
                let nearest = nearest(&word.text, allowed.clone().into_iter().map(Form::word));
                let kind = ProblemKind::Body {
                    found: word.text.into_owned(),
                    nearest,
                    allowed: grammar::listed(allowed),
                };
                Problem::new(cursor.place(word.columns), kind)
            }
            Ok(None) => cursor.expected("a line of this statement"),
            Err(problem) => problem,
        }
    }

    /// Reads a pattern and holds its host against the site's.
    fn pattern(&self, word: &Word<'_>, line: Line) -> Outcome<Pattern> {
        let pattern = Pattern::parse(&word.text).map_err(|error| in_word(error, word, line))?;
        if let Some(origin) = pattern.origin() {
            let host = &origin.host;
            let possible = match host.capture {
                None => self.site.has_host(host.host.as_str()),
                Some(_) => self.site.has_host_below(host.host.as_str()),
            };
            if !possible && self.site.is_known() {
                let found = host.to_string();
                return Err(Problem::new(
                    line.at(word.columns.clone()),
                    ProblemKind::ForeignHost { found },
                ));
            }
        }
        Ok(pattern)
    }

    fn push(&mut self, rule: Rule) {
        self.rules[rule.stage() as usize].push(rule);
    }
}

impl Site {
    /// Whether some host one label below this one is a host of the site.
    fn has_host_below(&self, host: &str) -> bool {
        let below = |name: &str| name.split_once('.').is_some_and(|(_, rest)| rest == host);
        below(self.host.as_str())
            || self.aliases.iter().any(|alias| below(alias.host.as_str()))
            || self.previews.iter().any(|preview| match preview.wildcard {
                true => preview.host.as_str() == host,
                false => below(preview.host.as_str()),
            })
    }
}

/// What is wrong with a line in the first column whose first word is no keyword.
fn not_a_statement(word: &str, after: &Cursor<'_>, line: &str) -> ProblemKind {
    let comment =
        ["//", "/*", "*/", "<!--", "--", ";"].into_iter().find(|sign| word.starts_with(sign));
    if let Some(found) = comment {
        return ProblemKind::Comment { found: found.to_owned() };
    }
    if rule::is_address(word) && rule::has_arrow(after) {
        return ProblemKind::NoKeyword { written: format!("redirect {}", line.trim()) };
    }
    match word {
        "*" => ProblemKind::NoKeyword { written: "fallback {/rest*} -> /".to_owned() },
        page if page.ends_with(".html") => {
            let path = page.trim_start_matches('/');
            ProblemKind::NoKeyword { written: format!("missing /{path}") }
        }
        other => ProblemKind::Keyword { found: other.to_owned(), nearest: Keyword::nearest(other) },
    }
}

/// The place of an error within a word; the whole word where quotes or escapes hide it.
fn in_word(error: TemplateError, word: &Word<'_>, line: Line) -> Problem {
    let verbatim = word.columns.len() == word.text.len();
    let columns = match verbatim {
        true => word.columns.start + error.range.start..word.columns.start + error.range.end,
        false => word.columns.clone(),
    };
    Problem::new(line.at(columns), ProblemKind::Template(error.kind))
}

/// Reads `NAME: VALUE` or `NAME`, the value being the rest of the line.
fn header_name(cursor: &mut Cursor<'_>) -> Outcome<(HeaderName, bool)> {
    let Some(word) = cursor.word()? else {
        return Err(cursor.expected("a header name"));
    };
    let (name, has_value) = match word.text.strip_suffix(':') {
        Some(name) => (name, true),
        None => (&*word.text, false),
    };
    match HeaderName::from_bytes(name.as_bytes()) {
        Ok(name) => Ok((name, has_value)),
        Err(_) => {
            let found = word.text.to_string();
            Err(Problem::new(cursor.place(word.columns), ProblemKind::HeaderName { found }))
        }
    }
}

fn header_value(cursor: &mut Cursor<'_>) -> Outcome<HeaderValue> {
    let word = cursor.take_rest();
    match HeaderValue::from_str(&word.text) {
        Ok(value) if !word.text.is_empty() && value.to_str().is_ok() => Ok(value),
        _ => {
            let found = word.text.to_string();
            Err(Problem::new(cursor.place(word.columns), ProblemKind::HeaderValue { found }))
        }
    }
}

/// `NAME: VALUE` with a value that must be there.
fn header_field(cursor: &mut Cursor<'_>) -> Outcome<(HeaderName, HeaderValue)> {
    match header_name(cursor)? {
        (name, true) => Ok((name, header_value(cursor)?)),
        (_, false) => Err(cursor.expected("`:` and a value right after the name")),
    }
}

/// The folder of a file, with the `/` behind it.
pub(crate) fn folder_of(name: &str) -> &str {
    &name[..name.rfind('/').map_or(0, |at| at + 1)]
}

/// A relative name from a folder, with `..` resolved but where they lead out of the first folder;
/// none if it names no file.
pub(crate) fn below(folder: &str, name: &str) -> Option<String> {
    if name.starts_with('/') || name.contains(['\\', '\0']) || name.is_empty() {
        return None;
    }
    // A revision, a drive, the root: what no `..` takes away.
    let fixed = folder.find(':').map_or(0, |at| at + 1);
    let fixed = fixed + usize::from(folder[fixed..].starts_with('/'));
    let mut parts: Vec<&str> = folder[fixed..].split('/').filter(|part| !part.is_empty()).collect();
    for part in name.split('/') {
        match part {
            "" | "." => {}
            ".." if parts.last().is_some_and(|last| *last != "..") => drop(parts.pop()),
            part => parts.push(part),
        }
    }
    let is_file = parts.last().is_some_and(|last| *last != "..");
    is_file.then(|| format!("{}{}", &folder[..fixed], parts.join("/")))
}
