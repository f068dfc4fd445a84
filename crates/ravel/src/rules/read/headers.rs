//! Reads `headers` blocks.

use http::{HeaderName, HeaderValue};

use super::{Cursor, Outcome, Reader, Rule, header_field, header_name};
use crate::language::grammar::{Condition, HeaderLine, OnWhat};
use crate::language::{LineText, Problem, ProblemKind, Statement};
use crate::program::{Effect, HeaderEffect, HeaderOp, HeaderScope, MediaRange, Test, TestKind};
use crate::template;

/// What the answer decides, the connection (RFC 9110, section 7.6.1; RFC 9113, section 8.2.2), and
/// what is sent of the file.
const RESERVED: [&str; 14] = [
    "location",
    "allow",
    "connection",
    "keep-alive",
    "proxy-connection",
    "te",
    "trailer",
    "transfer-encoding",
    "upgrade",
    "content-length",
    "content-encoding",
    "content-range",
    "etag",
    "date",
];

impl Reader<'_> {
    pub(super) fn headers(
        &mut self,
        mut cursor: Cursor<'_>,
        statement: &Statement<'_>,
    ) -> Outcome<()> {
        let mut ops = Vec::new();
        let mut conditions = self.body_conditions(statement, &mut |reader, line| {
            ops.push(header_op(reader, line)?);
            Ok(())
        });
        let Some(word) = cursor.word()? else { return Err(cursor.expected("a pattern")) };
        let line = statement.head.line;
        let pattern = self.pattern(&word, line)?;
        let mut on = HeaderScope::Served;
        if cursor.take("on") {
            let word = cursor.word()?.ok_or_else(|| cursor.expected(OnWhat::expected()))?;
            on = match OnWhat::find(&word.text) {
                Some(OnWhat::Served) => HeaderScope::Served,
                Some(OnWhat::Missing) => HeaderScope::Missing,
                Some(OnWhat::Redirects) => HeaderScope::Redirects,
                Some(OnWhat::All) => HeaderScope::All,
                None => return Err(cursor.unexpected(word, OnWhat::expected())),
            };
        }
        if cursor.take("type") {
            const WANTED: &str = "a type of content such as `text/html` or `text/*`";
            let mut ranges = Vec::new();
            for word in cursor.list(WANTED)? {
                ranges.push(
                    MediaRange::parse(&word.text).ok_or_else(|| cursor.unexpected(word, WANTED))?,
                );
            }
            conditions.tests.push(Test { kind: TestKind::ContentType(ranges), negated: false });
        }
        let conditions = self.conditioned(conditions);
        conditions.names_captures_of(&pattern)?;
        cursor.end()?;
        if statement.body.is_empty() {
            return Err(Problem::new(
                line.at(0..statement.head.text.len()),
                ProblemKind::NoHeaderLines,
            ));
        }
        let effect = Effect::Headers(Box::new(HeaderEffect { on, ops }));
        self.push(Rule { line, pattern, tests: conditions.tests, effect });
        Ok(())
    }
}

fn header_op(reader: &Reader<'_>, line: LineText<'_>) -> Outcome<HeaderOp> {
    let mut cursor = Cursor::new(line);
    let kind = cursor.word()?.and_then(|word| HeaderLine::find(&word.text));
    let (op, name) = match kind {
        Some(HeaderLine::Set) => {
            let (name, value) = own_field(&mut cursor)?;
            (HeaderOp::Set(name.clone(), value, line.line), name)
        }
        Some(HeaderLine::Add) => {
            let (name, value) = own_field(&mut cursor)?;
            (HeaderOp::Add(name.clone(), value, line.line), name)
        }
        Some(HeaderLine::Drop) => {
            let (name, _) = header_name(&mut cursor)?;
            cursor.end()?;
            (HeaderOp::Drop(name.clone(), line.line), name)
        }
        None => {
            return Err(reader.wrong_body(line, HeaderLine::FORMS.iter().chain(Condition::FORMS)));
        }
    };
    match RESERVED.contains(&name.as_str()) {
        true => Err(Problem::new(
            Cursor::new(line).here(),
            ProblemKind::HeaderReserved { name: name.to_string() },
        )),
        false => Ok(op),
    }
}

/// `NAME: VALUE` as rules write it, whose value is sent as it is.
fn own_field(cursor: &mut Cursor<'_>) -> Outcome<(HeaderName, HeaderValue)> {
    let place = cursor.here();
    let (name, value) = header_field(cursor)?;
    match capture_in(value.to_str().unwrap_or_default()) {
        Some(found) => Err(Problem::new(place, ProblemKind::HeaderCapture { found })),
        None => Ok((name, value)),
    }
}

/// The first piece of a text that is written as a capture is.
pub(super) fn capture_in(text: &str) -> Option<String> {
    text.match_indices('{').find_map(|(at, _)| {
        let whole = &text[at..=at + text[at..].find('}')?];
        let inner = whole[1..whole.len() - 1].trim_start_matches(['+', '/']).trim_end_matches('*');
        template::is_name(inner).then(|| whole.to_owned())
    })
}
