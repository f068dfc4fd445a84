use super::rule::wheres_are_captured;
use super::{Action, Cursor, Outcome, Reader, Rule, header_field, header_name};
use crate::language::{LineText, Problem, ProblemKind, Statement};
use crate::rules::{HeaderOp, HeaderRule, On};

/// What the answer itself decides.
const RESERVED: [&str; 6] = ["location", "allow", "content-length", "transfer-encoding", "connection", "date"];

impl Reader<'_> {
    pub(super) fn headers(&mut self, mut cursor: Cursor<'_>, statement: &Statement<'_>) -> Outcome<()> {
        const ON: &str = "`served`, `missing`, `redirects` or `all`";
        let mut ops = Vec::new();
        let conditions = self.body_conditions(statement, &mut |reader, line| {
            ops.push(header_op(reader, line)?);
            Ok(())
        });
        let Some(word) = cursor.word()? else { return Err(cursor.expected("a pattern")) };
        let line = statement.head.line;
        let pattern = self.pattern(&word, line)?;
        wheres_are_captured(&pattern, conditions.as_deref())?;
        let mut on = On::Served;
        if cursor.take("on") {
            let word = cursor.word()?.ok_or_else(|| cursor.expected(ON))?;
            match On::NAMES.iter().find(|(name, _)| *name == word.text) {
                Some((_, named)) => on = *named,
                None => return Err(cursor.unexpected(word, ON)),
            }
        }
        cursor.end()?;
        if statement.body.is_empty() {
            return Err(Problem::new(line.at(0..statement.head.text.len()), ProblemKind::NoHeaderLines));
        }
        self.push(Rule { line, pattern, conditions, action: Action::Headers(Box::new(HeaderRule { on, ops })) });
        Ok(())
    }
}

fn header_op(reader: &Reader<'_>, line: LineText<'_>) -> Outcome<HeaderOp> {
    let mut cursor = Cursor::new(line);
    let (op, name) = if cursor.take("set") {
        let (name, value) = header_field(&mut cursor)?;
        (HeaderOp::Set(name.clone(), value, line.line), name)
    } else if cursor.take("add") {
        let (name, value) = header_field(&mut cursor)?;
        (HeaderOp::Add(name.clone(), value, line.line), name)
    } else if cursor.take("drop") {
        let (name, _) = header_name(&mut cursor)?;
        cursor.end()?;
        (HeaderOp::Drop(name.clone(), line.line), name)
    } else {
        return Err(reader.wrong_body(line, &["set", "add", "drop", "where", "when"], "`set`, `add`, `drop`, `where`, `when`"));
    };
    match RESERVED.contains(&name.as_str()) {
        true => Err(Problem::new(Cursor::new(line).here(), ProblemKind::HeaderReserved { name: name.to_string() })),
        false => Ok(op),
    }
}
