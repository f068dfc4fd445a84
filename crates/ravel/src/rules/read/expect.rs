//! Reads `expect` lines.

use csv::ByteRecord;
use http::{HeaderMap, Method};

use super::conditions::{Conditions, is_upper};
use super::outcome::{Readers, goes_to, has, is, location, redirects_to};
use super::table::{column, find_column};
use super::{Cursor, Outcome, Reader, header_field, header_name, in_word};
use crate::address::{Address, Scheme, UrlError};
use crate::language::grammar::Part;
use crate::language::{Line, LineText, Place, Problem, ProblemKind, Statement, Word};
use crate::rules::{Check, CheckTest, EveryExpectation, Expectation, ExpectedOutcome, Site};
use crate::template::{Target, TemplateErrorKind};

/// What follows the URL of an expectation.
#[derive(Clone)]
struct Parts<A, F> {
    given: HeaderMap,
    outcome: Option<ExpectedOutcome<A, F>>,
    checks: Vec<Check>,
    /// Values of `location` with captures.
    locations: Vec<Target>,
}

impl Reader<'_> {
    pub(super) fn expect(
        &mut self,
        mut cursor: Cursor<'_>,
        statement: &Statement<'_>,
    ) -> Outcome<()> {
        if cursor.take("every") {
            let of_files = cursor.take("file");
            return self.expect_every(cursor, statement, of_files);
        }
        if cursor.clone().word()?.is_some_and(|word| Part::find(&word.text).is_some()) {
            return self.expect_table(cursor, statement);
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
            capture: None,
        };
        let body = statement.body.iter().copied();
        let parts = self.all_parts(cursor, statement, body, &readers)?;
        let Parts { given, outcome, checks, .. } = parts;
        let (line, asked, url) = (statement.head.line, word.text.into(), url.into());
        self.expectations.push(Expectation { line, method, asked, url, given, outcome, checks });
        Ok(())
    }

    /// The text of a cell of a table.
    fn cell<'t>(&self, record: &'t ByteRecord, column: usize, line: Line) -> Outcome<&'t str> {
        let cell = std::str::from_utf8(record.get(column).unwrap_or_default());
        cell.map(str::trim).map_err(|_| {
            let name = self.sources[usize::from(line.source)].to_string();
            Problem::new(line.at(0..0), ProblemKind::NotUtf8 { name })
        })
    }

    /// `expect` without a URL: each URL of a table, whose own outcome wins.
    fn expect_table(&mut self, cursor: Cursor<'_>, statement: &Statement<'_>) -> Outcome<()> {
        let place = statement.head.line.at(0..statement.head.text.len());
        let is_table = |line: &&LineText<'_>| Cursor::new(**line).take("table");
        let Some(named) = statement.body.iter().find(is_table) else {
            let wanted = "a URL, or `table FILE.csv` on a line below";
            let found = cursor.rest().split_whitespace().next().map(str::to_owned);
            return Err(Problem::new(place, ProblemKind::Expected { wanted, found }));
        };
        let site = self.site.clone();
        let readers = Readers {
            address: &|word, place| address(&site, word, place),
            file: &|word, _| Ok(word.text.trim_start_matches('/').into()),
            capture: None,
        };
        let body = statement.body.iter().filter(|line| !is_table(line)).copied();
        let shared = self.parts_of(cursor, body, &readers);
        let mut columns = None;
        let mut table = Cursor::new(*named);
        table.take("table");
        self.each_record(&mut table, &mut |reader, record, row| {
            let line = row.line;
            let Some((url, outcome)) = columns else {
                columns = Some((column(record, "url", line)?, find_column(record, "outcome")));
                return Ok(());
            };
            let text = |at: usize| reader.cell(record, at, line);
            let url_text = text(url)?;
            let whole = whole(&site, url_text).ok_or_else(|| {
                let (found, why) = (url_text.to_owned(), UrlError::Scheme.to_string());
                Problem::new(line.at(row.columns(url)), ProblemKind::Address { found, why })
            })?;
            let mut parts = shared.clone();
            if let Some(own) = outcome.map(text).transpose()?.filter(|own| !own.is_empty()) {
                let mut stated = Parts::default();
                stated.read(&mut Cursor::new(LineText { line, text: own }), &readers)?;
                parts.outcome = stated.outcome.or(parts.outcome);
                parts.checks.extend(stated.checks);
            }
            if parts.outcome.is_none() && parts.checks.is_empty() {
                return Err(Problem::new(line.at(0..0), ProblemKind::ExpectsNothing));
            }
            let Parts { given, outcome, checks, .. } = parts;
            let (asked, url) = (url_text.into(), whole.into());
            let method = Method::GET;
            reader.expectations.push(Expectation {
                line,
                method,
                asked,
                url,
                given,
                outcome,
                checks,
            });
            Ok(())
        })
    }

    fn expect_every(
        &mut self,
        mut cursor: Cursor<'_>,
        statement: &Statement<'_>,
        of_files: bool,
    ) -> Outcome<()> {
        let Some(word) = cursor.word()? else { return Err(cursor.expected("a pattern")) };
        let line = statement.head.line;
        let rooted = match of_files
            && !["/", "{/", "{+"].iter().any(|start| word.text.starts_with(start))
            && !word.text.contains("://")
        {
            true => Word { text: format!("/{}", word.text).into(), columns: word.columns.clone() },
            false => word,
        };
        let pattern = self.pattern(&rooted, line)?;
        if of_files && (pattern.origin().is_some() || !pattern.query().is_empty()) {
            let kind = ProblemKind::Template(TemplateErrorKind::PathOnly);
            return Err(Problem::new(cursor.place(rooted.columns), kind));
        }
        let mut conditions = Conditions::default();
        let mut body = Vec::new();
        for &line in &statement.body {
            let mut cursor = Cursor::new(line);
            match cursor.take("where") {
                true => self.where_line(&mut cursor, &mut conditions)?,
                false => body.push(line),
            }
        }
        let conditions = self.conditioned(conditions);
        conditions.names_captures_of(&pattern)?;
        let readers = Readers {
            address: &|word, place| {
                Target::parse(&word.text, &pattern)
                    .map_err(|error| in_word(error, word, place.line))
            },
            file: &|word, place| {
                Target::parse_path(&word.text, &pattern)
                    .map_err(|error| in_word(error, word, place.line))
            },
            capture: Some(&|word, place| {
                Target::parse(&word.text, &pattern)
                    .map_err(|error| in_word(error, word, place.line))
            }),
        };
        let parts = self.all_parts(cursor, statement, body.into_iter(), &readers)?;
        let Parts { given, outcome, checks, locations } = parts;
        let tests = conditions.tests;
        let every =
            EveryExpectation { line, pattern, of_files, tests, given, outcome, checks, locations };
        self.every_expectations.push(every);
        Ok(())
    }

    fn all_parts<'t, A, F>(
        &mut self,
        cursor: Cursor<'_>,
        statement: &Statement<'_>,
        body: impl Iterator<Item = LineText<'t>>,
        readers: &Readers<'_, A, F>,
    ) -> Outcome<Parts<A, F>> {
        let before = self.problems.len();
        let parts = self.parts_of(cursor, body, readers);
        let empty =
            parts.outcome.is_none() && parts.checks.is_empty() && parts.locations.is_empty();
        if empty && self.problems.len() == before {
            let place = statement.head.line.at(0..statement.head.text.len());
            return Err(Problem::new(place, ProblemKind::ExpectsNothing));
        }
        Ok(parts)
    }

    /// The parts on a line and on those below it.
    fn parts_of<'t, A, F>(
        &mut self,
        mut cursor: Cursor<'_>,
        body: impl Iterator<Item = LineText<'t>>,
        readers: &Readers<'_, A, F>,
    ) -> Parts<A, F> {
        let mut parts = Parts::default();
        if let Err(problem) = parts.read(&mut cursor, readers) {
            self.problems.push(problem);
        }
        for line in body {
            if let Err(problem) = parts.read(&mut Cursor::new(line), readers) {
                self.problems.push(problem);
            }
        }
        parts
    }
}

impl<A, F> Default for Parts<A, F> {
    fn default() -> Self {
        let (given, checks, locations) = (HeaderMap::new(), Vec::new(), Vec::new());
        Parts { given, outcome: None, checks, locations }
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
                let (found, allowed) = (word.text.into_owned(), Part::expected().to_owned());
                let meant = match found.as_str() {
                    "status" | "returns" => Some("goes to"),
                    "redirect" => Some("redirects to"),
                    _ => None,
                };
                let kind = match meant {
                    Some(_) => ProblemKind::UnknownOutcome { found, nearest: meant, allowed },
                    None => ProblemKind::Body { found, nearest, allowed },
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
                Part::RedirectsTo => Some(redirects_to(cursor, readers.address)?),
                Part::Serves => {
                    let word = cursor.word()?.ok_or_else(|| cursor.expected("a file"))?;
                    let place = cursor.place(word.columns.clone());
                    Some(ExpectedOutcome::Serves((readers.file)(&word, place)?))
                }
                Part::StatedOutcome => Some(is(cursor)?),
                Part::Has => {
                    match location(cursor, readers)? {
                        Some(target) => self.locations.push(target),
                        None => self.checks.push(has(cursor)?),
                    }
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

fn asked<'t>(cursor: &mut Cursor<'t>) -> Outcome<(Method, Word<'t>)> {
    let first = cursor.word()?.ok_or_else(|| cursor.expected("a URL"))?;
    if !is_upper(&first.text) {
        return Ok((Method::GET, first));
    }
    let method = Method::from_bytes(first.text.as_bytes())
        .map_err(|_| cursor.unexpected(first, "a method"))?;
    let address = cursor.word()?.ok_or_else(|| cursor.expected("a URL"))?;
    Ok((method, address))
}

/// An address of an expectation as a whole URL: a path is below the base path at the canonical
/// origin.
fn whole(site: &Site, text: &str) -> Option<String> {
    let url = site.url_of(text);
    Scheme::split(&url).is_some().then_some(url)
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
