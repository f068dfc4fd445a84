//! Reads tables of redirects (CSV, RFC 4180).

use std::borrow::Cow;

use csv::{ByteRecord, Position, ReaderBuilder};

use super::conditions::ConditionSet;
use super::rule::{Kind, Options, status};
use super::{Cursor, Outcome, Reader};
use crate::language::{Line, Problem, ProblemKind, Word};

/// Which column holds what.
struct Columns {
    old: usize,
    new: Option<usize>,
    status: Option<usize>,
}

impl Reader<'_> {
    /// Reads the rules of a table (RFC 4180); they stand where its line stands.
    pub(super) fn table(
        &mut self,
        kind: Kind,
        cursor: &mut Cursor<'_>,
        shared: &Options,
        conditions: &ConditionSet,
    ) -> Outcome<()> {
        let word = cursor.word()?.ok_or_else(|| cursor.expected("the name of a CSV file"))?;
        let place = cursor.place(word.columns.clone());
        cursor.end()?;
        let (name, bytes) = self.file(&word, &place)?;
        let source = self.source(name.clone(), &place)?;
        self.tables.push((source, place.line));
        let mut reader =
            ReaderBuilder::new().has_headers(false).flexible(true).from_reader(&*bytes);
        let mut record = ByteRecord::new();
        let mut columns: Option<(Columns, usize)> = None;
        loop {
            match reader.read_byte_record(&mut record) {
                Ok(true) => {}
                Ok(false) => break,
                Err(error) => {
                    return Err(Problem::new(
                        place,
                        ProblemKind::Unreadable { name, why: error.to_string() },
                    ));
                }
            }
            let line = Line::new(
                source,
                record.position().map_or(1, |position| line_of(&bytes, position)),
            );
            let read = match &columns {
                None => {
                    header(&record, kind, line).map(|header| columns = Some((header, record.len())))
                }
                Some((columns, wanted)) => {
                    self.row(kind, (columns, *wanted), &record, line, shared, conditions, &name)
                }
            };
            if let Err(problem) = read {
                self.problems.push(problem);
                if columns.is_none() {
                    return Ok(());
                }
            }
        }
        match columns {
            Some(_) => Ok(()),
            None => Err(Problem::new(
                Line::new(source, 1).at(0..0),
                ProblemKind::NoColumn { column: "old" },
            )),
        }
    }

    #[expect(
        clippy::too_many_arguments,
        reason = "a row is read with all that its group and its table say"
    )]
    fn row(
        &mut self,
        kind: Kind,
        (columns, wanted): (&Columns, usize),
        record: &ByteRecord,
        line: Line,
        shared: &Options,
        conditions: &ConditionSet,
        name: &str,
    ) -> Outcome<()> {
        let problem = |kind| Problem::new(line.at(0..0), kind);
        if record.len() != wanted {
            return Err(problem(ProblemKind::RowLength { wanted, found: record.len() }));
        }
        let text = |column: usize| match std::str::from_utf8(&record[column]) {
            Ok(text) => Ok(Word { text: Cow::Borrowed(text.trim()), columns: 0..0 }),
            Err(_) => Err(problem(ProblemKind::NotUtf8 { name: name.to_owned() })),
        };
        let old = text(columns.old)?;
        let new = columns.new.map(text).transpose()?;
        let mut options = shared.clone();
        if let Some(column) = columns.status {
            let word = text(column)?;
            if !word.text.is_empty() {
                let found = status(&word.text);
                options.status = Some(found.ok_or_else(|| {
                    problem(ProblemKind::Status { found: word.text.to_string() })
                })?);
            }
        }
        let pattern = self.pattern(&old, line)?;
        let rule = self.rule(kind, line, pattern, new.as_ref(), options, conditions)?;
        self.push(rule);
        Ok(())
    }
}

/// The line on which a row begins; the reader counts from the empty lines before it.
fn line_of(bytes: &[u8], position: &Position) -> u32 {
    let rest = bytes.get(position.byte() as usize..).unwrap_or_default();
    let empty = rest
        .iter()
        .take_while(|byte| matches!(byte, b'\r' | b'\n'))
        .filter(|byte| **byte == b'\n')
        .count();
    position.line() as u32 + empty as u32
}

fn header(record: &ByteRecord, kind: Kind, line: Line) -> Outcome<Columns> {
    let find = |name: &str| record.iter().position(|field| field.trim_ascii() == name.as_bytes());
    let needed = |column| {
        let missing = || Problem::new(line.at(0..0), ProblemKind::NoColumn { column });
        find(column).ok_or_else(missing)
    };
    let old = needed("old")?;
    let new = if kind.has_target() { Some(needed("new")?) } else { None };
    let status = if kind == Kind::Redirect { find("status") } else { None };
    Ok(Columns { old, new, status })
}
