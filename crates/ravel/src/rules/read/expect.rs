//! Reads `expect` lines.

use http::{HeaderMap, Method};

use super::conditions::is_upper;
use super::{Cursor, Outcome, Reader, header_field, header_name, header_value, in_word};
use crate::address::{Address, Scheme, UrlError};
use crate::language::grammar::{OutcomeWord, Part};
use crate::language::{Place, Problem, ProblemKind, Statement, Word};
use crate::rules::{
    Check, CheckTest, EveryExpectation, Expectation, ExpectedOutcome, Site, StatedOutcome,
};
use crate::template::Target;

/// What stands behind the address of an expectation.
struct Parts<A, F> {
    given: HeaderMap,
    outcome: Option<ExpectedOutcome<A, F>>,
    checks: Vec<Check>,
}

/// How the addresses and the files of an expectation are read.
struct Readers<'c, A, F> {
    address: &'c dyn Fn(&Word<'_>, Place) -> Outcome<A>,
    file: &'c dyn Fn(&Word<'_>, Place) -> Outcome<F>,
}

impl Reader<'_> {
    pub(super) fn expect(
        &mut self,
        mut cursor: Cursor<'_>,
        statement: &Statement<'_>,
    ) -> Outcome<()> {
        if cursor.take("every") {
            return self.expect_every(cursor, statement);
        }
        let (method, word) = asked(&mut cursor)?;
        let place = cursor.place(word.columns.clone());
        let url = whole(&self.site, &word.text).ok_or_else(|| {
            let why = UrlError::Scheme.to_string();
            Problem::new(place, ProblemKind::Address { found: word.text.to_string(), why })
        })?;
        let site = self.site.clone();
        let readers = Readers {
            address: &|word, place| address(&site, word, place),
            file: &|word, _| Ok(word.text.trim_start_matches('/').into()),
        };
        let Parts { given, outcome, checks } = self.all_parts(cursor, statement, &readers)?;
        let (line, asked, url) = (statement.head.line, word.text.into(), url.into());
        self.expectations.push(Expectation { line, method, asked, url, given, outcome, checks });
        Ok(())
    }

    fn expect_every(&mut self, mut cursor: Cursor<'_>, statement: &Statement<'_>) -> Outcome<()> {
        let Some(word) = cursor.word()? else { return Err(cursor.expected("a pattern")) };
        let line = statement.head.line;
        let pattern = self.pattern(&word, line)?;
        let readers = Readers {
            address: &|word, place| {
                Target::parse(&word.text, &pattern)
                    .map_err(|error| in_word(error, word, place.line))
            },
            file: &|word, place| {
                Target::parse_path(&word.text, &pattern)
                    .map_err(|error| in_word(error, word, place.line))
            },
        };
        let Parts { given, outcome, checks } = self.all_parts(cursor, statement, &readers)?;
        self.every_expectations.push(EveryExpectation { line, pattern, given, outcome, checks });
        Ok(())
    }

    fn all_parts<A, F>(
        &mut self,
        mut cursor: Cursor<'_>,
        statement: &Statement<'_>,
        readers: &Readers<'_, A, F>,
    ) -> Outcome<Parts<A, F>> {
        let mut parts = Parts { given: HeaderMap::new(), outcome: None, checks: Vec::new() };
        let before = self.problems.len();
        if let Err(problem) = parts.read(&mut cursor, readers) {
            self.problems.push(problem);
        }
        for &line in &statement.body {
            if let Err(problem) = parts.read(&mut Cursor::new(line), readers) {
                self.problems.push(problem);
            }
        }
        let empty = parts.outcome.is_none() && parts.checks.is_empty();
        if empty && self.problems.len() == before {
            let place = statement.head.line.at(0..statement.head.text.len());
            return Err(Problem::new(place, ProblemKind::ExpectsNothing));
        }
        Ok(parts)
    }
}

impl<A, F> Parts<A, F> {
    /// Reads the parts on one line.
    fn read(&mut self, cursor: &mut Cursor<'_>, readers: &Readers<'_, A, F>) -> Outcome<()> {
        while !cursor.is_at_end() {
            let place = cursor.here();
            let word = cursor.word()?.ok_or_else(|| cursor.expected(Part::expected()))?;
            let Some(part) = Part::find(&word.text) else {
                let nearest = Part::nearest(&word.text);
                let kind = ProblemKind::Body {
                    found: word.text.into_owned(),
                    nearest,
                    allowed: Part::expected().to_owned(),
                };
                return Err(Problem::new(cursor.place(word.columns), kind));
            };
            let outcome = match part {
                Part::Given => {
                    let (name, value) = header_field(cursor)?;
                    self.given.append(name, value);
                    None
                }
                Part::GoesTo => Some(goes_to(cursor, readers.address)?),
                Part::Serves => {
                    let word = cursor.word()?.ok_or_else(|| cursor.expected("a file"))?;
                    let place = cursor.place(word.columns.clone());
                    Some(ExpectedOutcome::Serves((readers.file)(&word, place)?))
                }
                Part::StatedOutcome => {
                    let (is, status) = is(cursor)?;
                    Some(ExpectedOutcome::Is(is, status))
                }
                Part::Has => {
                    self.checks.push(has(cursor)?);
                    None
                }
                Part::Lacks => {
                    let (name, _) = header_name(cursor)?;
                    self.checks.push(Check { name, test: CheckTest::Lacks });
                    None
                }
            };
            if outcome.is_some() && self.outcome.is_some() {
                return Err(Problem::new(place, ProblemKind::TwoOutcomes));
            }
            self.outcome = outcome.or(self.outcome.take());
        }
        Ok(())
    }
}

fn goes_to<A, F>(
    cursor: &mut Cursor<'_>,
    read: &dyn Fn(&Word<'_>, Place) -> Outcome<A>,
) -> Outcome<ExpectedOutcome<A, F>> {
    if !cursor.take("to") {
        return Err(cursor.expected("`to` and an address"));
    }
    let word = cursor.word()?.ok_or_else(|| cursor.expected("an address"))?;
    let place = cursor.place(word.columns.clone());
    let address = read(&word, place)?;
    let status = as_status(cursor)?;
    let mut hops = None;
    if cursor.take("in") {
        let word = cursor.word()?.ok_or_else(|| cursor.expected("a number of hops"))?;
        match word.text.parse::<usize>() {
            Ok(number) if number > 0 => hops = Some(number),
            _ => return Err(cursor.unexpected(word, "a number of hops, 1 or more")),
        }
        if !(cursor.take("hop") || cursor.take("hops")) {
            return Err(cursor.expected("`hop` or `hops`"));
        }
    }
    Ok(ExpectedOutcome::GoesTo { address, status, hops })
}

fn asked<'t>(cursor: &mut Cursor<'t>) -> Outcome<(Method, Word<'t>)> {
    let first = cursor.word()?.ok_or_else(|| cursor.expected("an address"))?;
    if !is_upper(&first.text) {
        return Ok((Method::GET, first));
    }
    let method = Method::from_bytes(first.text.as_bytes())
        .map_err(|_| cursor.unexpected(first, "a method"))?;
    let address = cursor.word()?.ok_or_else(|| cursor.expected("an address"))?;
    Ok((method, address))
}

/// An address of an expectation as a whole URL: a path is below the base path at the canonical
/// origin.
fn whole(site: &Site, text: &str) -> Option<String> {
    if text.starts_with('/') {
        return Some(format!("{}{text}", site.url().trim_end_matches('/')));
    }
    Scheme::split(text).map(|_| text.to_owned())
}

fn address(site: &Site, word: &Word<'_>, place: Place) -> Outcome<Address> {
    let parsed = whole(site, &word.text)
        .ok_or(UrlError::Scheme)
        .and_then(|url| Address::parse_location(&url));
    parsed.map_err(|why| {
        Problem::new(
            place,
            ProblemKind::Address { found: word.text.to_string(), why: why.to_string() },
        )
    })
}

fn is(cursor: &mut Cursor<'_>) -> Outcome<(StatedOutcome, Option<u16>)> {
    let word = cursor.word()?.ok_or_else(|| cursor.expected(OutcomeWord::expected()))?;
    let is = match OutcomeWord::find(&word.text) {
        Some(OutcomeWord::Gone) => StatedOutcome::Gone,
        Some(OutcomeWord::Missing) => StatedOutcome::Missing,
        Some(OutcomeWord::Outside) => StatedOutcome::Outside,
        Some(OutcomeWord::Elsewhere) => StatedOutcome::Elsewhere,
        Some(OutcomeWord::Loop) if cursor.take("loop") => StatedOutcome::Loop,
        Some(OutcomeWord::Refused) => StatedOutcome::Refused,
        Some(OutcomeWord::Loop) | None => {
            return Err(cursor.unexpected(word, OutcomeWord::expected()));
        }
    };
    Ok((is, as_status(cursor)?))
}

fn as_status(cursor: &mut Cursor<'_>) -> Outcome<Option<u16>> {
    if !cursor.take("as") {
        return Ok(None);
    }
    let word = cursor.word()?.ok_or_else(|| cursor.expected("a status"))?;
    let named = super::rule::status(&word.text).or_else(|| word.text.parse().ok());
    match named {
        Some(status @ 100..=599) => Ok(Some(status)),
        _ => Err(cursor.unexpected(word, "a status such as `301` or `permanent`")),
    }
}

fn has(cursor: &mut Cursor<'_>) -> Outcome<Check> {
    let (name, has_value) = header_name(cursor)?;
    let text = |cursor: &mut Cursor<'_>| -> Outcome<Box<str>> {
        Ok(header_value(cursor)?.to_str().unwrap_or_default().into())
    };
    let test = if has_value {
        CheckTest::HasValue(text(cursor)?)
    } else if cursor.take("containing") {
        CheckTest::HasContaining(text(cursor)?)
    } else {
        CheckTest::Has
    };
    Ok(Check { name, test })
}
