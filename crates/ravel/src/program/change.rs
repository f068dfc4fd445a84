//! A program with one rule changed, as tests of tests need it.

use std::sync::Arc;

use crate::template::Target;

use super::{Effect, Program, Rule, RuleId, Stage, Test, Tests};

/// A change to one rule.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum RuleChange {
    /// The rule is not there.
    Removed,
    /// A redirect has this status.
    Status(u16),
    /// It leads to the first page of the site, or shows it.
    Home,
    /// The test of this number, as [`Tests::get`] counts, is not asked.
    WithoutTest(usize),
}

impl RuleChange {
    /// The changes that a rule can have: without it, with another status, to another page, without
    /// each test.
    ///
    /// ```
    /// use ravel::program::{RuleChange, Stage};
    ///
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a -> /b\n  when cookie c\n")?;
    /// let changes = RuleChange::of(&rules.program().stage(Stage::Redirect)[0]);
    /// assert_eq!(changes[..3], [RuleChange::Removed, RuleChange::Status(301), RuleChange::Home]);
    /// assert_eq!(changes[3..], [RuleChange::WithoutTest(0)]);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn of(rule: &Rule) -> Vec<RuleChange> {
        let status =
            rule.redirect().map(|redirect| if redirect.status() == 301 { 302 } else { 301 });
        let tests = (0..rule.tests().iter().count()).map(RuleChange::WithoutTest);
        let status = status.map(RuleChange::Status);
        let home = target(rule).filter(|target| target.literal_path() != Some("/"));
        let home = home.map(|_| RuleChange::Home);
        [RuleChange::Removed].into_iter().chain(status).chain(home).chain(tests).collect()
    }
}

/// Where a rule leads, or what it shows.
fn target(rule: &Rule) -> Option<&Target> {
    match rule.effect() {
        Effect::Redirect(redirect) => Some(redirect.target()),
        Effect::File(file) => Some(file.path()),
        Effect::NotFoundPage(path) => Some(path),
        Effect::Gone | Effect::Elsewhere(_) | Effect::Headers(_) => None,
    }
}

impl Program {
    /// The program with one rule changed.
    pub(crate) fn with_change(&self, id: RuleId, change: &RuleChange) -> Program {
        let stages = Stage::ALL.map(|stage| {
            self.rules(stage)
                .filter_map(|rule| match rule.id() == id {
                    true => self.changed(rule.rule(), change),
                    false => Some(rule.rule().clone()),
                })
                .collect()
        });
        Program::new(self.site.clone(), stages, self.request_headers.clone())
    }

    fn changed(&self, rule: &Rule, change: &RuleChange) -> Option<Rule> {
        let mut rule = rule.clone();
        match change {
            RuleChange::Removed => return None,
            RuleChange::Status(status) => {
                if let Effect::Redirect(redirect) = &mut rule.effect {
                    redirect.status = *status;
                }
            }
            RuleChange::Home => {
                let home = Target::parse_path("/", &rule.pattern).ok()?;
                match &mut rule.effect {
                    Effect::Redirect(redirect) => redirect.target = home,
                    Effect::File(file) => file.path = home,
                    Effect::NotFoundPage(path) => *path = home,
                    Effect::Gone | Effect::Elsewhere(_) | Effect::Headers(_) => {}
                }
            }
            RuleChange::WithoutTest(number) => {
                let tests = rule.tests().iter().enumerate();
                let others: Vec<Test> =
                    tests.filter(|(at, _)| at != number).map(|(_, test)| test.clone()).collect();
                let bit = |name: &http::HeaderName| {
                    self.request_headers.iter().position(|known| known == name).unwrap_or_default()
                };
                rule.tests = (!others.is_empty()).then(|| Arc::new(Tests::new(others, bit)));
            }
        }
        Some(rule)
    }
}
