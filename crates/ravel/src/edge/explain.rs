//! The words of an explanation, and which of the rules that did not decide are worth a word.

use http::Method;

use super::Edge;
use super::answer::Answer;
use super::condition::Held;
use super::hosts::{Asked, Role};
use super::trace::{Came, Step, Trace};
use crate::address::Address;
use crate::language::Line;
use crate::rules::{Rule, Site, Stage};
use crate::template::{Captures, Template};

/// An answer with the steps that led to it.
#[derive(Debug, Clone)]
pub struct Explanation<'e> {
    /// The answer.
    pub answer: Answer<'e>,
    /// What was looked at, in order.
    pub steps: Vec<Step>,
}

/// How many rules that nearly matched, and how many that came too late, are named a stage.
const MOST_OTHERS: usize = 3;

/// What came of the rules of a stage, by their numbers.
pub(super) struct Notes(Vec<(u32, Step)>);

impl Notes {
    pub(super) fn new() -> Notes {
        Notes(Vec::new())
    }

    pub(super) fn add<T: Trace>(&mut self, number: u32, rule: &Rule, came: impl FnOnce() -> Came) {
        if T::LISTENS {
            self.0.push((number, Step { line: Some(rule.line), what: rule.to_string(), came: came() }));
        }
    }

    pub(super) fn tell<T: Trace>(mut self, trace: &mut T) {
        self.0.sort_by_key(|(number, _)| *number);
        self.0.into_iter().for_each(|(_, step)| trace.step(|| step));
    }
}

impl Edge {
    /// Adds the rules that nearly matched, where none did, or those that the deciding rule hides.
    pub(super) fn note_others<T: Trace>(
        &self,
        stage: Stage,
        asked: &Asked<'_>,
        decided: Option<u32>,
        notes: &mut Notes,
        trace: &T,
    ) {
        let rules = self.rules.stage(stage);
        if let Some(decided) = decided {
            let by = trace.name(rules[decided as usize].line);
            let later = (decided + 1..rules.len() as u32).filter(|&number| self.would_match(&rules[number as usize], asked));
            for number in later.take(MOST_OTHERS) {
                notes.add::<T>(number, &rules[number as usize], || Came::Hidden(by.clone()));
            }
            return;
        }
        if stage == Stage::Headers {
            return;
        }
        let known: Vec<u32> = notes.0.iter().map(|(number, _)| *number).collect();
        let mut near: Vec<(usize, u32, String)> = (0_u32..)
            .zip(rules)
            .filter(|(number, _)| !known.contains(number))
            .filter_map(|(number, rule)| self.near_miss(rule, asked).map(|(fits, why)| (fits, number, why)))
            .collect();
        near.sort_by_key(|(fits, number, _)| (std::cmp::Reverse(*fits), *number));
        for (_, number, why) in near.into_iter().take(MOST_OTHERS) {
            notes.add::<T>(number, &rules[number as usize], || Came::Unmatched(why));
        }
    }

    fn would_match(&self, rule: &Rule, asked: &Asked<'_>) -> bool {
        let mut captures = Captures::new();
        self.pattern_matches(&rule.pattern, asked, &mut captures)
            && rule
                .conditions
                .as_deref()
                .is_none_or(|conditions| matches!(self.conditions(conditions, &rule.pattern, &captures, asked), Held::Yes))
    }

    /// How much of the address a rule fits and why it does not match, if that is worth a word.
    fn near_miss(&self, rule: &Rule, asked: &Asked<'_>) -> Option<(usize, String)> {
        let pattern = &rule.pattern;
        let fold = self.rules.site.ignore_case;
        let path = match pattern.origin() {
            None => asked.relative()?,
            Some(_) => asked.path,
        };
        if pattern.path.matches(path, fold, &mut Captures::new()) {
            let why = match pattern.origin() {
                Some(origin) if !self.origin_matches(origin, asked, &mut Captures::new()) => {
                    format!("it is for {}://{}", origin.scheme, origin.host)
                }
                _ => "the query is not as it wants it".to_owned(),
            };
            return Some((path.len() + 1, why));
        }
        let fits = pattern.path.fits_until(path, fold);
        let worth = is_near(&pattern.path, path, fits);
        worth.then(|| (fits, stop_words(&pattern.path, path, fits)))
    }
}

/// A rule is near when the address fits all of its text, or ends within it, and that is more than a `/`.
fn is_near(template: &Template, path: &str, fits: usize) -> bool {
    let prefix = template.literal_prefix().len();
    fits > 1 && prefix > 1 && (fits == path.len() || fits >= prefix)
}

fn stop_words(template: &Template, path: &str, fits: usize) -> String {
    let rest = path.get(fits..).unwrap_or_default();
    match rest {
        "" => format!("the address ends where `{}` goes on", template.as_str()),
        _ if template.is_literal() && fits == template.as_str().len() => format!("the address goes on with `{}`", short(rest)),
        _ => format!("it stops matching at `{}`", short(rest)),
    }
}

fn short(text: &str) -> String {
    match text.char_indices().nth(40) {
        Some((at, _)) => format!("{}…", &text[..at]),
        None => text.to_owned(),
    }
}

pub(super) fn host_step(asked: &Asked<'_>) -> Step {
    let role = match asked.role {
        Role::Canonical => "the canonical host",
        Role::Alias => "an alias",
        Role::Preview => "a preview host",
    };
    Step { line: Some(asked.line), what: format!("host {}", asked.host), came: Came::Noted(role.to_owned()) }
}

pub(super) fn canonical_step(asked: &Asked<'_>, to: &Address, site: &Site, file: Option<&str>) -> Step {
    let mut changes = Vec::new();
    if asked.scheme != to.scheme() {
        changes.push(format!("plain HTTP goes to {}", to.scheme()));
    }
    if asked.host != to.host() {
        changes.push(format!("the host becomes {}", to.host()));
    }
    let relative = asked.relative().unwrap_or_default();
    if asked.path != to.path() && (file.is_none() || relative.len() + site.base.len() != asked.path.len() + 1) {
        changes.push(format!("the base path is {}", site.base));
    }
    if let Some(file) = file {
        changes.push(format!("{file} is kept under {}", to.path()));
    }
    let line = if asked.scheme != to.scheme() || asked.host != to.host() { Some(asked.line) } else { None };
    Step { line, what: "canonical address".to_owned(), came: Came::Noted(changes.join("; ")) }
}

pub(super) fn onward_step(current: &Address) -> Step {
    Step {
        line: None,
        what: format!("on to {current}"),
        came: Came::Noted("which is redirected again, all in one hop".to_owned()),
    }
}

pub(super) fn loop_step(current: &Address, came_back: bool) -> Step {
    let why = match came_back {
        true => format!("it leads back to {}", short(current.as_str())),
        false if current.as_str().len() > super::decide::LONGEST => "the address grows past 8192 bytes".to_owned(),
        false => "it leads on for more than 16 steps".to_owned(),
    };
    Step { line: None, what: "redirects".to_owned(), came: Came::Noted(why) }
}

pub(super) fn outside_step(site: &Site, asked: &Asked<'_>) -> Step {
    let note = format!("the site is below {}; the rest of {} belongs to others", site.base, asked.host);
    Step { line: Some(asked.line), what: "base path".to_owned(), came: Came::Noted(note) }
}

pub(super) fn method_step(method: &Method) -> Step {
    let came = Came::Noted("a static site answers GET and HEAD".to_owned());
    Step { line: None, what: format!("method {method}"), came }
}

pub(super) fn file_step(name: &str) -> Step {
    Step { line: None, what: format!("file {name}"), came: Came::Matched }
}

pub(super) fn no_file_step(line: Option<Line>, path: &str) -> Step {
    Step { line, what: format!("file for {}", short(path)), came: Came::Noted("there is none".to_owned()) }
}

pub(super) fn missing_step(line: Line, name: &str) -> Step {
    Step { line: Some(line), what: format!("missing {name}"), came: Came::Noted("the page for what is missing".to_owned()) }
}
