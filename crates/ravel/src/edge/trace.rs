use std::fmt;

use crate::language::Line;

/// One thing that was looked at on the way to an answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// The line that says so; none where no line does.
    pub line: Option<Line>,
    /// What was looked at: a host, a rule, a file.
    pub what: String,
    /// What came of it.
    pub came: Came,
}

/// What came of a step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Came {
    /// It matched and acted.
    Matched,
    /// It did not match, and where it stopped matching.
    Unmatched(String),
    /// It matched, and this condition did not hold.
    HeldBack(String),
    /// It matched, and an earlier line had decided already; the line, as `file:line`.
    Hidden(String),
    /// Something else, in words.
    Noted(String),
}

impl fmt::Display for Came {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Came::Matched => f.write_str("matched"),
            Came::Unmatched(why) => write!(f, "did not match: {why}"),
            Came::HeldBack(condition) => write!(f, "held back by `{condition}`"),
            Came::Hidden(by) => write!(f, "matched too, hidden by {by}"),
            Came::Noted(note) => f.write_str(note),
        }
    }
}

/// Who is told what is looked at.
pub(super) trait Trace {
    /// Whether anybody listens.
    const LISTENS: bool;

    /// Takes a step, which is made only if somebody listens.
    fn step(&mut self, step: impl FnOnce() -> Step);

    /// A mark to go back to.
    fn mark(&self) -> usize;

    /// Forgets what came after a mark.
    fn forget(&mut self, mark: usize);

    /// A line as a person names it.
    fn name(&self, line: Line) -> String;
}

/// Nobody listens.
pub(super) struct Silent;

impl Trace for Silent {
    const LISTENS: bool = false;

    fn step(&mut self, _step: impl FnOnce() -> Step) {}

    fn mark(&self) -> usize {
        0
    }

    fn forget(&mut self, _mark: usize) {}

    fn name(&self, _line: Line) -> String {
        String::new()
    }
}

/// Keeps every step.
pub(super) struct Recorder<'e> {
    pub(super) steps: Vec<Step>,
    sources: &'e [Box<str>],
}

impl<'e> Recorder<'e> {
    pub(super) fn new(sources: &'e [Box<str>]) -> Recorder<'e> {
        Recorder { steps: Vec::new(), sources }
    }
}

impl Trace for Recorder<'_> {
    const LISTENS: bool = true;

    fn step(&mut self, step: impl FnOnce() -> Step) {
        self.steps.push(step());
    }

    fn mark(&self) -> usize {
        self.steps.len()
    }

    fn forget(&mut self, mark: usize) {
        self.steps.truncate(mark);
    }

    fn name(&self, line: Line) -> String {
        let source = self.sources.get(usize::from(line.source)).map_or("", |source| source);
        format!("{source}:{}", line.number)
    }
}
