use http::{HeaderMap, Method};

use super::conditions::is_upper;
use super::{Cursor, Outcome, Reader, header_field, header_name, header_value};
use crate::address::{Address, Malformed, Scheme};
use crate::language::{Place, Problem, ProblemKind, Statement, Word};
use crate::rules::{Check, CheckTest, Expectation, Is, Outcomes, Site};

const PARTS: [&str; 6] = ["given", "goes", "serves", "is", "has", "lacks"];
const ALL_PARTS: &str = "`given`, `goes to`, `serves`, `is`, `has`, `lacks`";

impl Reader<'_> {
    pub(super) fn expect(&mut self, mut cursor: Cursor<'_>, statement: &Statement<'_>) -> Outcome<()> {
        let (method, word) = asked(&mut cursor)?;
        let place = cursor.place(word.columns.clone());
        let url = whole(&self.set.site, &word.text).ok_or_else(|| {
            let why = Malformed::Scheme.to_string();
            Problem::new(place, ProblemKind::Address { found: word.text.to_string(), why })
        })?;
        let mut expectation = Expectation {
            line: statement.head.line,
            method,
            asked: word.text.into(),
            url: url.into(),
            given: HeaderMap::new(),
            outcome: None,
            checks: Vec::new(),
        };
        let before = self.problems.len();
        if let Err(problem) = self.parts(&mut expectation, &mut cursor) {
            self.problems.push(problem);
        }
        for &line in &statement.body {
            if let Err(problem) = self.parts(&mut expectation, &mut Cursor::new(line)) {
                self.problems.push(problem);
            }
        }
        let empty = expectation.outcome.is_none() && expectation.checks.is_empty();
        if empty && self.problems.len() == before {
            let place = statement.head.line.at(0..statement.head.text.len());
            return Err(Problem::new(place, ProblemKind::ExpectsNothing));
        }
        self.set.expectations.push(expectation);
        Ok(())
    }

    /// Reads the parts on one line.
    fn parts(&mut self, expectation: &mut Expectation, cursor: &mut Cursor<'_>) -> Outcome<()> {
        while !cursor.is_at_end() {
            let place = cursor.here();
            let outcome = if cursor.take("given") {
                let (name, value) = header_field(cursor)?;
                expectation.given.append(name, value);
                None
            } else if cursor.take("goes") {
                Some(self.goes_to(cursor)?)
            } else if cursor.take("serves") {
                let word = cursor.word()?.ok_or_else(|| cursor.expected("a file"))?;
                Some(Outcomes::Serves(word.text.trim_start_matches('/').into()))
            } else if cursor.take("is") {
                Some(is(cursor)?)
            } else if cursor.take("has") {
                expectation.checks.push(has(cursor)?);
                None
            } else if cursor.take("lacks") {
                let (name, _) = header_name(cursor)?;
                expectation.checks.push(Check { name, test: CheckTest::Lacks });
                None
            } else {
                let word = cursor.word()?.ok_or_else(|| cursor.expected(ALL_PARTS))?;
                let nearest = crate::language::nearest(&word.text, PARTS);
                let kind = ProblemKind::Body { found: word.text.into_owned(), nearest, allowed: ALL_PARTS };
                return Err(Problem::new(cursor.place(word.columns), kind));
            };
            if outcome.is_some() && expectation.outcome.is_some() {
                return Err(Problem::new(place, ProblemKind::TwoOutcomes));
            }
            expectation.outcome = outcome.or(expectation.outcome.take());
        }
        Ok(())
    }

    fn goes_to(&self, cursor: &mut Cursor<'_>) -> Outcome<Outcomes> {
        if !cursor.take("to") {
            return Err(cursor.expected("`to` and an address"));
        }
        let word = cursor.word()?.ok_or_else(|| cursor.expected("an address"))?;
        let place = cursor.place(word.columns.clone());
        let address = address(&self.set.site, &word, place)?;
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
        Ok(Outcomes::GoesTo { address, status, hops })
    }
}

fn asked<'t>(cursor: &mut Cursor<'t>) -> Outcome<(Method, Word<'t>)> {
    let first = cursor.word()?.ok_or_else(|| cursor.expected("an address"))?;
    if !is_upper(&first.text) {
        return Ok((Method::GET, first));
    }
    let method = Method::from_bytes(first.text.as_bytes()).map_err(|_| cursor.unexpected(first, "a method"))?;
    let address = cursor.word()?.ok_or_else(|| cursor.expected("an address"))?;
    Ok((method, address))
}

/// An address of an expectation as a whole URL: a path is below the base path at the canonical origin.
fn whole(site: &Site, text: &str) -> Option<String> {
    if text.starts_with('/') {
        return Some(format!("{}{text}", site.url().trim_end_matches('/')));
    }
    Scheme::split(text).map(|_| text.to_owned())
}

fn address(site: &Site, word: &Word<'_>, place: Place) -> Outcome<Address> {
    let parsed = whole(site, &word.text).ok_or(Malformed::Scheme).and_then(|url| Address::parse(&url));
    parsed.map_err(|why| Problem::new(place, ProblemKind::Address { found: word.text.to_string(), why: why.to_string() }))
}

fn is(cursor: &mut Cursor<'_>) -> Outcome<Outcomes> {
    const WANTED: &str = "`gone`, `missing`, `outside`, `elsewhere`, `a loop` or `refused`";
    let word = cursor.word()?.ok_or_else(|| cursor.expected(WANTED))?;
    let name = if word.text == "a" && cursor.take("loop") { "a loop" } else { &*word.text };
    match Is::NAMES.iter().find(|(known, _)| *known == name) {
        Some((_, is)) => Ok(Outcomes::Is(*is, as_status(cursor)?)),
        None => Err(cursor.unexpected(word, WANTED)),
    }
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
    let text = |cursor: &mut Cursor<'_>| -> Outcome<Box<str>> { Ok(header_value(cursor)?.to_str().unwrap_or_default().into()) };
    let test = if has_value {
        CheckTest::HasValue(text(cursor)?)
    } else if cursor.take("containing") {
        CheckTest::HasContaining(text(cursor)?)
    } else {
        CheckTest::Has
    };
    Ok(Check { name, test })
}
