//! Reads tables of redirects (CSV, RFC 4180).

use std::borrow::Cow;
use std::ops::Range;

use csv::{ByteRecord, Position, ReaderBuilder};

use super::conditions::ConditionSet;
use super::rule::{Kind, Options, status};
use super::{Cursor, Outcome, Reader};
use crate::language::{Line, Problem, ProblemKind, Word};

/// A row that is read: its line, and where its cells are, once that is asked.
#[derive(Clone, Copy)]
pub(super) struct Row<'c> {
    pub(super) line: Line,
    cells: &'c [Range<usize>],
}

impl Row<'_> {
    /// The columns of a cell; none where they are not known, or on another line.
    pub(super) fn columns(&self, cell: usize) -> Range<usize> {
        self.cells.get(cell).cloned().unwrap_or(0..0)
    }
}

/// Where the cells of the first line of a row are, without their quotes and the space around them.
fn cells(rest: &[u8]) -> Vec<Range<usize>> {
    let start = rest.iter().take_while(|byte| matches!(byte, b'\r' | b'\n')).count();
    let line = rest[start..].split(|byte| *byte == b'\n').next().unwrap_or_default();
    let (mut cells, mut from, mut quoted) = (Vec::new(), 0, false);
    for (at, byte) in line.iter().enumerate().chain([(line.len(), &b',')]) {
        match byte {
            b'"' => quoted = !quoted,
            b',' if !quoted => {
                let is_edge = |byte: &u8| byte.is_ascii_whitespace() || *byte == b'"';
                let cell = &line[from..at];
                let before = cell.iter().take_while(|byte| is_edge(byte)).count();
                let behind = cell.iter().rev().take_while(|byte| is_edge(byte)).count();
                cells.push(from + before..(at - behind).max(from + before));
                from = at + 1;
            }
            _ => {}
        }
    }
    cells
}

/// Which column holds what.
struct Columns {
    old: usize,
    new: Option<usize>,
    status: Option<usize>,
}

impl Reader<'_> {
    /// Reads the rules of a table; they stand where its line stands.
    pub(super) fn table(
        &mut self,
        kind: Kind,
        cursor: &mut Cursor<'_>,
        shared: &Options,
        conditions: &ConditionSet,
    ) -> Outcome<()> {
        let mut columns: Option<(Columns, usize)> = None;
        self.each_record(cursor, &mut |reader, record, row| match &columns {
            None => {
                columns = Some((header(record, kind, row.line)?, record.len()));
                Ok(())
            }
            Some((columns, wanted)) => {
                reader.row(kind, (columns, *wanted), record, row, shared, conditions)
            }
        })
    }

    /// Reads the records of the CSV file (RFC 4180) that comes next on a line, the header first. A
    /// header that is wrong ends it.
    pub(super) fn each_record(
        &mut self,
        cursor: &mut Cursor<'_>,
        each: &mut dyn FnMut(&mut Self, &ByteRecord, Row<'_>) -> Outcome<()>,
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
        let mut is_header = true;
        loop {
            match reader.read_byte_record(&mut record) {
                Ok(true) => {}
                Ok(false) => break,
                Err(error) => {
                    let kind = ProblemKind::Unreadable { name, why: error.to_string() };
                    return Err(Problem::new(place, kind));
                }
            }
            let position = record.position().cloned().unwrap_or_else(Position::new);
            let row = Row { line: Line::new(source, line_of(&bytes, &position)), cells: &[] };
            if let Err(problem) = each(self, &record, row) {
                // Only now is it worth knowing where each cell is.
                let cells = cells(bytes.get(position.byte() as usize..).unwrap_or_default());
                let again = if is_header {
                    Ok(())
                } else {
                    each(self, &record, Row { cells: &cells, ..row })
                };
                self.problems.push(again.err().unwrap_or(problem));
                if is_header {
                    return Ok(());
                }
            }
            is_header = false;
        }
        match is_header {
            false => Ok(()),
            // Nothing has a column.
            true => each(self, &ByteRecord::new(), Row { line: Line::new(source, 1), cells: &[] }),
        }
    }

    fn row(
        &mut self,
        kind: Kind,
        (columns, wanted): (&Columns, usize),
        record: &ByteRecord,
        row: Row<'_>,
        shared: &Options,
        conditions: &ConditionSet,
    ) -> Outcome<()> {
        let line = row.line;
        if record.len() != wanted {
            let kind = ProblemKind::RowLength { wanted, found: record.len() };
            return Err(Problem::new(line.at(0..0), kind));
        }
        let text = |column: usize| match std::str::from_utf8(&record[column]) {
            Ok(text) => Ok(Word { text: Cow::Borrowed(text.trim()), columns: row.columns(column) }),
            Err(_) => {
                let name = self.sources[usize::from(line.source)].to_string();
                Err(Problem::new(line.at(row.columns(column)), ProblemKind::NotUtf8 { name }))
            }
        };
        let old = text(columns.old)?;
        let new = columns.new.map(text).transpose()?;
        let mut options = shared.clone();
        if let Some(column) = columns.status {
            let word = text(column)?;
            if !word.text.is_empty() {
                let found = status(&word.text);
                options.status = Some(found.ok_or_else(|| {
                    let kind = ProblemKind::Status { found: word.text.to_string() };
                    Problem::new(line.at(word.columns.clone()), kind)
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
    let old = column(record, "old", line)?;
    let new = kind.has_target().then(|| column(record, "new", line)).transpose()?;
    let status = if kind == Kind::Redirect { find_column(record, "status") } else { None };
    Ok(Columns { old, new, status })
}

/// A column of a header by its name.
pub(super) fn find_column(header: &ByteRecord, name: &str) -> Option<usize> {
    header.iter().position(|field| field.trim_ascii() == name.as_bytes())
}

/// A column that must be there.
pub(super) fn column(header: &ByteRecord, name: &'static str, line: Line) -> Outcome<usize> {
    find_column(header, name).ok_or_else(|| {
        let names: Vec<_> = header.iter().map(String::from_utf8_lossy).collect();
        let found = [(';', "semicolons"), ('\t', "tabs"), ('|', "`|`")]
            .into_iter()
            .find(|(separator, _)| names.len() == 1 && names[0].contains(*separator));
        let kind = match found {
            Some((_, found)) => ProblemKind::Separator { found },
            None => ProblemKind::NoColumn { column: name, header: names.join(",") },
        };
        Problem::new(line.at(0..0), kind)
    })
}
