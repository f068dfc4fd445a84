//! Reads redirects, rewrites, fallbacks and the other rules of one line.

use super::conditions::{ConditionSet, Conditions};
use super::{Cursor, Outcome, Reader, Rule, StatementGroup, in_word};
use crate::language::grammar::{Condition, GroupLine};
use crate::language::{Line, LineText, Problem, ProblemKind, Statement, Word};
use crate::program::{Effect, FileEffect, FileRole, Redirect};
use crate::template::{Pattern, Target, TemplateErrorKind};

/// The statements that are rules or groups of them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    Redirect,
    Gone,
    Elsewhere,
    Rewrite,
    Fallback,
    Missing,
}

/// What can stand behind a rule's pattern and target, or on a group's line for all its entries.
#[derive(Debug, Clone, Default)]
pub(super) struct Options {
    pub(super) status: Option<u16>,
    drop_query: bool,
    even_files: bool,
    who: Option<Box<str>>,
}

impl Kind {
    pub(super) fn has_target(self) -> bool {
        !matches!(self, Kind::Gone | Kind::Elsewhere)
    }
}

impl Reader<'_> {
    /// Reads a rule, or a group of rules.
    pub(super) fn rules(
        &mut self,
        kind: Kind,
        mut cursor: Cursor<'_>,
        statement: &Statement<'_>,
    ) -> Outcome<()> {
        let alone = !cursor.is_at_end() && (begins_entry(&cursor) || has_arrow(&cursor));
        if alone {
            if let Some(problem) = status_first(cursor.clone()).filter(|_| !begins_entry(&cursor)) {
                return Err(problem);
            }
            let conditions = self.body_conditions(statement, &mut |reader, line| {
                Err(match begins_entry(&Cursor::new(line)) {
                    true => Problem::new(Cursor::new(line).here(), ProblemKind::EntryBelowRule),
                    false => reader.wrong_body(line, Condition::FORMS),
                })
            });
            let conditions = self.conditioned(conditions);
            let rule = self.entry(
                kind,
                &mut cursor,
                statement.head.line,
                &Options::default(),
                &conditions,
            )?;
            self.push(rule);
            return Ok(());
        }
        let head = cursor.clone();
        let shared = kind.options(&mut cursor, &Options::default())?;
        cursor.end().map_err(|problem| status_first(head).unwrap_or(problem))?;
        let conditions = self.body_conditions(statement, &mut |_, _| Ok(()));
        let conditions = self.conditioned(conditions);
        let mut empty = true;
        for &line in &statement.body {
            let mut cursor = Cursor::new(line);
            if cursor.take_known(Condition::find).is_some() {
                continue;
            }
            empty = false;
            let read = match cursor.take_known(GroupLine::find) {
                Some(GroupLine::Table) => {
                    let before = self.tables.len();
                    let read = self.table(kind, &mut cursor, &shared, &conditions);
                    let (head, lines) = (statement.head.line, 1..=u32::MAX);
                    self.groups.extend(self.tables.get(before).map(|(source, _)| StatementGroup {
                        head,
                        source: *source,
                        lines: lines.clone(),
                    }));
                    read
                }
                None if begins_entry(&cursor) => self
                    .entry(kind, &mut cursor, line.line, &shared, &conditions)
                    .map(|rule| self.push(rule)),
                None => Err(self.wrong_body(line, GroupLine::FORMS.iter().chain(Condition::FORMS))),
            };
            if let Err(problem) = read {
                self.problems.push(problem);
            }
        }
        let head = statement.head.line;
        if let Some(last) = statement.body.last() {
            let lines = head.number..=last.line.number;
            self.groups.push(StatementGroup { head, source: head.source, lines });
        }
        match empty {
            true => Err(Problem::new(
                statement.head.line.at(0..statement.head.text.len()),
                ProblemKind::EmptyGroup,
            )),
            false => Ok(()),
        }
    }

    /// Reads the `where` and `when` lines below a rule; other lines go to `other`.
    pub(super) fn body_conditions(
        &mut self,
        statement: &Statement<'_>,
        other: &mut dyn FnMut(&mut Self, LineText<'_>) -> Outcome<()>,
    ) -> Conditions {
        let mut conditions = Conditions::default();
        for &line in &statement.body {
            let mut cursor = Cursor::new(line);
            let read = match cursor.take_known(Condition::find) {
                Some(Condition::Where) => self.where_line(&mut cursor, &mut conditions),
                Some(Condition::When) => self.when_line(&mut cursor, &mut conditions),
                None => other(self, line),
            };
            if let Err(problem) = read {
                self.problems.push(problem);
            }
        }
        conditions
    }

    /// Reads one rule from its pattern on.
    fn entry(
        &mut self,
        kind: Kind,
        cursor: &mut Cursor<'_>,
        line: Line,
        shared: &Options,
        conditions: &ConditionSet,
    ) -> Outcome<Rule> {
        let Some(pattern_word) = cursor.word()? else { return Err(cursor.expected("a pattern")) };
        let pattern = self.pattern(&pattern_word, line);
        let target = match kind.has_target() {
            true if !cursor.take("->") => return Err(no_arrow(cursor, &pattern_word)),
            true => Some(cursor.word()?.ok_or_else(|| cursor.expected("a target"))?),
            false => None,
        };
        let options = kind.options(cursor, shared)?;
        cursor.end()?;
        self.rule(kind, line, pattern?, target.as_ref(), options, conditions)
    }

    /// Puts a rule together from its words.
    pub(super) fn rule(
        &mut self,
        kind: Kind,
        line: Line,
        pattern: Pattern,
        target: Option<&Word<'_>>,
        options: Options,
        conditions: &ConditionSet,
    ) -> Outcome<Rule> {
        conditions.names_captures_of(&pattern)?;
        let path = |word: &Word<'_>| {
            Target::parse_path(&word.text, &pattern).map_err(|error| in_word(error, word, line))
        };
        let file = |word, role| {
            Ok::<_, Problem>(Effect::File(Box::new(FileEffect { path: path(word)?, role })))
        };
        let effect = match (kind, target) {
            (Kind::Redirect, Some(word)) => {
                let target = Target::parse(&word.text, &pattern)
                    .map_err(|error| in_word(error, word, line))?;
                self.port_is_of_elsewhere(&target, word, line)?;
                let status = options.status.unwrap_or(302);
                Effect::Redirect(Redirect { target, status, drop_query: options.drop_query })
            }
            (Kind::Rewrite, Some(word)) => file(word, FileRole::Rewrite)?,
            (Kind::Fallback, Some(word)) => {
                file(word, FileRole::Fallback { even_files: options.even_files })?
            }
            (Kind::Missing, Some(word)) => Effect::NotFoundPage(path(word)?),
            (Kind::Elsewhere, _) => Effect::Elsewhere(options.who),
            (Kind::Gone | Kind::Redirect | Kind::Rewrite | Kind::Fallback | Kind::Missing, _) => {
                Effect::Gone
            }
        };
        Ok(Rule { line, pattern, tests: conditions.tests.clone(), effect })
    }

    /// A host of the site is answered on the standard ports alone.
    fn port_is_of_elsewhere(&self, target: &Target, word: &Word<'_>, line: Line) -> Outcome<()> {
        let Some(origin) = target.origin().filter(|origin| origin.port.is_some()) else {
            return Ok(());
        };
        let own = match origin.host.capture {
            None => self.site.has_host(origin.host.host.as_str()),
            Some(_) => self.site.has_host_below(origin.host.host.as_str()),
        };
        match own {
            true => {
                let found = origin.to_string();
                Err(Problem::new(line.at(word.columns.clone()), ProblemKind::PortOfSite { found }))
            }
            false => Ok(()),
        }
    }
}

impl Kind {
    /// Reads what follows the pattern and the target; what an entry says wins over its group.
    fn options(self, cursor: &mut Cursor<'_>, shared: &Options) -> Outcome<Options> {
        let mut options = shared.clone();
        match self {
            Kind::Redirect => {
                if !cursor.is_at_end() && !cursor.clone().take("drop") {
                    let word = cursor.word()?.ok_or_else(|| cursor.expected("a status"))?;
                    match status(&word.text) {
                        Some(status) => options.status = Some(status),
                        None => {
                            let found = word.text.into_owned();
                            return Err(Problem::new(
                                cursor.place(word.columns),
                                ProblemKind::Status { found },
                            ));
                        }
                    }
                }
                if cursor.take("drop") {
                    options.drop_query = true;
                    if !cursor.take("query") {
                        return Err(cursor.expected("`query`"));
                    }
                }
            }
            Kind::Fallback if cursor.take("even") => {
                options.even_files = true;
                if !cursor.take("files") {
                    return Err(cursor.expected("`files`"));
                }
            }
            Kind::Elsewhere => {
                if let Some(word) = cursor.word()? {
                    options.who = Some(word.text.into());
                }
            }
            _ => {}
        }
        Ok(options)
    }
}

/// The status of a redirect, as rules and tables write it.
pub(super) fn status(text: &str) -> Option<u16> {
    match text {
        "temporary" => Some(302),
        "permanent" => Some(301),
        "301" | "302" | "303" | "307" | "308" => text.parse().ok(),
        _ => None,
    }
}

/// Whether the next word is a pattern; one in quotes that are not closed is meant as one.
fn begins_entry(cursor: &Cursor<'_>) -> bool {
    match cursor.clone().word() {
        Ok(word) => word.is_some_and(|word| is_address(&word.text)),
        Err(_) => true,
    }
}

/// Whether a word is written as a path, a URL or a pattern is.
pub(super) fn is_address(word: &str) -> bool {
    let scheme = word.get(..4).is_some_and(|start| start.eq_ignore_ascii_case("http"));
    // Not what patterns begin with, but meant as one.
    scheme || word.starts_with(['/', '{', '*', '^'])
}

/// Other notations of `->`.
const OTHER_ARROWS: [&str; 8] = ["=>", "-->", "==>", "\u{2192}", "to", "=", ">", "|"];

/// The problem of a rule without its `->`.
fn no_arrow(cursor: &Cursor<'_>, pattern: &Word<'_>) -> Problem {
    let mut ahead = cursor.clone();
    let Ok(Some(next)) = ahead.word() else { return cursor.expected("`->` and a target") };
    let place = cursor.place(next.columns);
    if let Some(open) = pattern.text.rfind('{').filter(|at| !pattern.text[*at..].contains('}')) {
        let whole = format!("{} {}", &pattern.text[open..], next.text);
        let end = whole.find('}').map_or(whole.len(), |at| at + 1);
        let kind = TemplateErrorKind::Expression(whole[..end].to_owned());
        let place = cursor.place(pattern.columns.start + open..place.columns().end);
        return Problem::new(place, ProblemKind::Template(kind));
    }
    let target = match OTHER_ARROWS.contains(&&*next.text) {
        true => ahead.word().ok().flatten().map_or("/".into(), |word| word.text),
        false => next.text.clone(),
    };
    let written = format!("{} -> {target}", pattern.text);
    Problem::new(place, ProblemKind::NoArrow { found: next.text.into_owned(), written })
}

/// The problem of a redirect whose status comes before its pattern, if that is it.
fn status_first(mut cursor: Cursor<'_>) -> Option<Problem> {
    let status = cursor.word().ok()??;
    status.text.bytes().all(|byte| byte.is_ascii_alphanumeric()).then_some(())?;
    let pattern = cursor.word().ok()?.filter(|word| is_address(&word.text))?;
    cursor.take("->");
    let target = cursor.word().ok()??;
    let written = format!("redirect {} -> {} {}", pattern.text, target.text, status.text);
    let place = cursor.place(status.columns);
    let status = status.text.into_owned();
    Some(Problem::new(place, ProblemKind::StatusFirst { status, written }))
}

/// Whether a line that does not begin with a pattern was still meant as a rule.
pub(super) fn has_arrow(cursor: &Cursor<'_>) -> bool {
    let mut ahead = cursor.clone();
    while let Ok(Some(word)) = ahead.word() {
        if word.text == "->" {
            return true;
        }
    }
    false
}
