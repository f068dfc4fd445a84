//! `where` and `when` lines to tests.

use std::sync::Arc;

use http::{HeaderName, Method};

use super::{Cursor, Outcome, Reader, header_name, site};
use crate::address::{Host, Scheme};
use crate::language::grammar::{CaptureTest, Subject};
use crate::language::{Place, Problem, ProblemKind, Word};
use crate::program::{Role, Test, TestKind, Tests, TextSet, ValueSet, WholeRegex};
use crate::template::Pattern;

/// The request headers that conditions can look at: one bit each.
const MAX_REQUEST_HEADERS: usize = 64;

/// The conditions of a statement as they are read.
#[derive(Debug, Default)]
pub(super) struct Conditions {
    pub(super) tests: Vec<Test>,
    /// The captures that they name.
    named: Vec<(Box<str>, Place)>,
}

/// The conditions of a statement, for all of its rules.
#[derive(Debug, Clone, Default)]
pub(super) struct ConditionSet {
    pub(super) tests: Option<Arc<Tests>>,
    named: Arc<[(Box<str>, Place)]>,
}

impl ConditionSet {
    /// Every `where` names a capture of the pattern.
    pub(super) fn names_captures_of(&self, pattern: &Pattern) -> Outcome<()> {
        match self
            .named
            .iter()
            .find(|(name, _)| !pattern.names().any(|captured| *captured == **name))
        {
            None => Ok(()),
            Some((name, place)) => {
                let defined = pattern.names().map(str::to_owned).collect();
                let kind = ProblemKind::WhereName {
                    name: name.to_string(),
                    pattern: pattern.to_string(),
                    defined,
                };
                Err(Problem::new(place.clone(), kind))
            }
        }
    }
}

impl Reader<'_> {
    pub(super) fn conditioned(&self, conditions: Conditions) -> ConditionSet {
        let bit = |name: &HeaderName| {
            self.request_headers.iter().position(|known| known == name).unwrap_or_default()
        };
        let tests =
            (!conditions.tests.is_empty()).then(|| Arc::new(Tests::new(conditions.tests, bit)));
        ConditionSet { tests, named: conditions.named.into() }
    }

    pub(super) fn where_line(
        &mut self,
        cursor: &mut Cursor<'_>,
        conditions: &mut Conditions,
    ) -> Outcome<()> {
        let Some(name) = cursor.word()? else {
            return Err(cursor.expected("the name of a capture"));
        };
        let mut negated = false;
        let test = match (cursor.take("is"), cursor.take("matches")) {
            (false, true) => CaptureTest::Matches,
            (true, false) if cursor.take("digits") => CaptureTest::Digits,
            (true, false) => {
                negated = cursor.take("not");
                if !(cursor.take("one") && cursor.take("of")) {
                    return Err(cursor.expected("`digits`, `one of` or `not one of`"));
                }
                CaptureTest::OneOf
            }
            (..) => return Err(cursor.expected("`is` or `matches`")),
        };
        let set = match test {
            CaptureTest::Matches => {
                let word = word(cursor, "a regular expression in quotes")?;
                let place = cursor.place(word.columns.clone());
                TextSet::Matches(Box::new(
                    WholeRegex::new(&word.text).map_err(|kind| Problem::new(place, kind))?,
                ))
            }
            CaptureTest::Digits => digits(cursor)?,
            CaptureTest::OneOf => TextSet::OneOf(
                cursor.list("a value")?.into_iter().map(|word| word.text.into()).collect(),
            ),
        };
        let place = cursor.place(name.columns);
        conditions.tests.push(Test { kind: TestKind::Capture((&*name.text).into(), set), negated });
        conditions.named.push((name.text.into(), place));
        cursor.end()
    }

    /// Hosts of the site.
    fn own_hosts(&self, cursor: &mut Cursor<'_>) -> Outcome<Vec<Host>> {
        let mut hosts = Vec::new();
        for word in list(cursor, "a host")? {
            let host = site::host(&word, cursor)?;
            if self.site.is_known() && !self.site.has_host(host.as_str()) {
                let kind = ProblemKind::ForeignHost { found: host.to_string() };
                return Err(Problem::new(cursor.place(word.columns), kind));
            }
            hosts.push(host);
        }
        Ok(hosts)
    }

    pub(super) fn when_line(
        &mut self,
        cursor: &mut Cursor<'_>,
        conditions: &mut Conditions,
    ) -> Outcome<()> {
        let mut negated = cursor.take("not");
        let Some(asked) = cursor.word()? else { return Err(cursor.expected(Subject::expected())) };
        let Some(subject) = Subject::find(&asked.text) else {
            return Err(cursor.unexpected(asked, Subject::expected()));
        };
        let kind = match subject {
            Subject::Language => self.languages(cursor, &asked)?,
            Subject::Cookie => {
                let name = word(cursor, "the name of a cookie")?;
                TestKind::Cookie(name.text.into(), values(cursor, &mut negated)?)
            }
            Subject::Header => {
                let (name, _) = header_name(cursor)?;
                TestKind::Header(name, values(cursor, &mut negated)?)
            }
            Subject::Host => TestKind::Host(self.own_hosts(cursor)?),
            Subject::Scheme => match list(cursor, "`http` or `https`")?.as_slice() {
                [word] if word.text == "http" => TestKind::Scheme(Scheme::Http),
                [word] if word.text == "https" => TestKind::Scheme(Scheme::Https),
                [word, ..] => return Err(cursor.unexpected(word.clone(), "`http` or `https`")),
                [] => return Err(cursor.expected("`http` or `https`")),
            },
            Subject::Method => TestKind::Method(methods(cursor)?),
            Subject::Preview => TestKind::Role(Role::Preview),
            Subject::NoFile if cursor.take("file") => {
                negated = !negated;
                TestKind::FileExists
            }
            Subject::NoFile => return Err(cursor.expected("`file`")),
        };
        let test = Test { kind, negated };
        if let Some(name) = test.request_header() {
            self.know_request_header(name, cursor)?;
        }
        conditions.tests.push(test);
        cursor.end()
    }

    fn languages(&mut self, cursor: &mut Cursor<'_>, asked: &Word<'_>) -> Outcome<TestKind> {
        let site = &self.site;
        if site.is_known() && site.languages.is_empty() {
            return Err(Problem::new(
                cursor.place(asked.columns.clone()),
                ProblemKind::NoLanguages,
            ));
        }
        let mut wanted = Vec::new();
        for word in list(cursor, "a language")? {
            match site
                .languages
                .iter()
                .position(|language| language.eq_ignore_ascii_case(&word.text))
            {
                Some(at) => wanted.push(at),
                None if !site.is_known() => {}
                None => {
                    let found = word.text.into_owned();
                    return Err(Problem::new(
                        cursor.place(word.columns),
                        ProblemKind::ForeignLanguage { found },
                    ));
                }
            }
        }
        Ok(TestKind::Language(wanted))
    }

    fn know_request_header(&mut self, name: HeaderName, cursor: &Cursor<'_>) -> Outcome<()> {
        if self.request_headers.contains(&name) {
            return Ok(());
        }
        if self.request_headers.len() == MAX_REQUEST_HEADERS {
            return Err(Problem::new(cursor.here(), ProblemKind::TooManyNames));
        }
        self.request_headers.push(name);
        Ok(())
    }
}

/// What a header or a cookie must be: nothing, `is VALUE`, `is [not] one of VALUE, …`, `contains
/// TEXT`.
fn values(cursor: &mut Cursor<'_>, negated: &mut bool) -> Outcome<ValueSet> {
    if cursor.take("contains") {
        return Ok(ValueSet::Containing(word(cursor, "the text that it contains")?.text.into()));
    }
    if !cursor.take("is") {
        return Ok(ValueSet::Any);
    }
    let mut ahead = cursor.clone();
    let not = ahead.take("not");
    if ahead.take("one") && ahead.take("of") {
        *cursor = ahead;
        *negated ^= not;
        let list = cursor.list("a value")?.into_iter().map(|word| word.text.into()).collect();
        return Ok(ValueSet::OneOf(list));
    }
    Ok(ValueSet::OneOf(vec![word(cursor, "the value")?.text.into()]))
}

/// `is` and a list.
fn list<'t>(cursor: &mut Cursor<'t>, wanted: &'static str) -> Outcome<Vec<Word<'t>>> {
    match cursor.take("is") {
        true => cursor.list(wanted),
        false => Err(cursor.expected("`is`")),
    }
}

fn word<'t>(cursor: &mut Cursor<'t>, wanted: &'static str) -> Outcome<Word<'t>> {
    cursor.word()?.ok_or_else(|| cursor.expected(wanted))
}

/// `digits`, `digits 4`, `digits 1..6`, `digits 3..`
fn digits(cursor: &mut Cursor<'_>) -> Outcome<TextSet> {
    let Some(word) = cursor.word()? else { return Ok(TextSet::Digits { least: 1, most: None }) };
    let number = |text: &str| {
        text.parse::<usize>().ok().filter(|_| text.bytes().all(|byte| byte.is_ascii_digit()))
    };
    let (least, most) = match word.text.split_once("..") {
        Some((least, "")) => (number(least), Some(None)),
        Some((least, most)) => (number(least), number(most).map(Some)),
        None => (number(&word.text), number(&word.text).map(Some)),
    };
    match (least, most) {
        (Some(least), Some(most)) if least > 0 && most.is_none_or(|most| most >= least) => {
            Ok(TextSet::Digits { least, most })
        }
        _ => Err(cursor.unexpected(word, "how many digits, as `4` or `1..6`")),
    }
}

fn methods(cursor: &mut Cursor<'_>) -> Outcome<Vec<Method>> {
    let mut methods = Vec::new();
    for word in list(cursor, "a method such as `POST`")? {
        let method = Method::from_bytes(word.text.as_bytes()).ok();
        match method.filter(|_| is_upper(&word.text)) {
            Some(Method::HEAD) => {
                return Err(Problem::new(cursor.place(word.columns), ProblemKind::MethodHead));
            }
            Some(method) => methods.push(method),
            None => return Err(cursor.unexpected(word, "a method in capitals such as `POST`")),
        }
    }
    Ok(methods)
}

pub(super) fn is_upper(text: &str) -> bool {
    !text.is_empty()
        && text.bytes().all(|byte| byte.is_ascii_uppercase() || byte == b'-' || byte == b'_')
}
