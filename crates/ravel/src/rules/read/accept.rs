//! Reads `accept` lines.

use super::{Cursor, Outcome, Reader, keyword};
use crate::language::grammar::Condition;
use crate::language::{Line, LineText, Problem, ProblemKind, Statement, nearest};
use crate::rules::{Accept, Code};

impl Reader<'_> {
    /// Takes the `accept` lines out of statements: each belongs to the nearest line above that is
    /// none.
    pub(super) fn take_accepts(&mut self, statements: &mut [Statement<'_>]) {
        for statement in statements {
            let last =
                statement.body.last().map_or(statement.head.line.number, |line| line.line.number);
            let whole = (statement.head.line.source, statement.head.line.number..=last);
            let in_site = keyword(statement) == "site";
            let mut above = statement.head;
            for line in std::mem::take(&mut statement.body) {
                let mut cursor = Cursor::new(line);
                if !cursor.take("accept") {
                    above = line;
                    statement.body.push(line);
                    continue;
                }
                let all = above.line == statement.head.line || (!in_site && is_condition(above));
                let about = if all {
                    whole.clone()
                } else {
                    (above.line.source, above.line.number..=above.line.number)
                };
                match accept(&mut cursor, line.line) {
                    Ok(accept) => self.accepts.push(Accept { about: vec![about], ..accept }),
                    Err(problem) => self.problems.push(problem),
                }
            }
        }
    }

    /// What is accepted where a table is named is accepted in all of its rows.
    pub(super) fn accept_tables(&mut self) {
        for accept in &mut self.accepts {
            let tables = self.tables.iter().filter(|(_, named)| accept.covers(*named));
            let rows: Vec<_> = tables.map(|(source, _)| (*source, 0..=u32::MAX)).collect();
            accept.about.extend(rows);
        }
    }
}

fn is_condition(line: LineText<'_>) -> bool {
    Cursor::new(line).take_known(Condition::find).is_some()
}

fn accept(cursor: &mut Cursor<'_>, line: Line) -> Outcome<Accept> {
    let word = cursor.word()?.ok_or_else(|| cursor.expected("the name of a finding"))?;
    let Ok(code) = word.text.parse::<Code>() else {
        let found = word.text.to_string();
        let kind = match Code::renamed(&found) {
            Some(code) => ProblemKind::Renamed { found, name: code.name().to_owned() },
            None => {
                let nearest = nearest(&found, Code::ALL.iter().map(|code| code.name()));
                ProblemKind::FindingName { found, nearest }
            }
        };
        return Err(Problem::new(cursor.place(word.columns), kind));
    };
    let why = cursor.word()?.ok_or_else(|| cursor.expected("the reason, in quotes"))?;
    cursor.end()?;
    Ok(Accept { line, code, why: why.text.into(), about: Vec::new() })
}
