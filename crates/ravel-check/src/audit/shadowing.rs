//! Which requests a rule still gets, when all that comes before it has taken its own.

use std::ops::ControlFlow;

use super::{Audit, Code, Finding};
use crate::space::{Members, RequestSet};
use ravel::address::{Request, Scheme};
use ravel::edge::{Outcome, Route, RouteEnd, RuleResult, Step};
use ravel::edit::Edit;
use ravel::language::Line;
use ravel::program::{Effect, FileRole, RuleId, RuleRef, Stage};
use ravel::template::{Pattern, Target};
use rustc_hash::FxHashSet;

/// What is left of a rule.
#[derive(Debug, Clone)]
pub(super) enum RuleRemainder {
    /// It acts, for example on this request; the earlier lines that take a part of what it matches.
    Something(Request, Vec<Line>),
    /// It is unreachable: the earlier lines that take all it matches, and whether files do too.
    Nothing(Vec<Line>, bool),
    Undecided,
}

/// More rules that could overlap than this are not taken out one by one.
const MAX_OVERLAPS: usize = 400;
/// Rules that match one URL without a note.
const MAX_ASKED: usize = 100;
/// Rules of a stage of which URLs are made to look for more.
const MAX_SAMPLED: usize = 1_000;
/// Members of what is left that are tried on the edge itself.
const MAX_TRIED: usize = 12;

impl<'r> Audit<'r> {
    /// Every rule but `headers` that is unreachable, or is there twice: they are given back, so that
    /// nothing else is asked of them.
    pub(super) fn never_acting(&self, out: &mut Vec<Finding>) -> FxHashSet<RuleId> {
        let mut idle = FxHashSet::default();
        for stage in [Stage::Redirect, Stage::Rewrite, Stage::Fallback, Stage::Missing] {
            for (number, rule) in (0..).zip(self.space.rules(stage)) {
                if self.quick_example(stage, rule).is_some() {
                    continue;
                }
                if let Some(first) = self.same_before(stage, number, rule) {
                    let same = Finding::on(
                        Code::DuplicateRule,
                        rule.line(),
                        format!("`{rule}` duplicates {}", self.name(first)),
                    );
                    let edit = Edit::Without { line: rule.line() };
                    let same = same.with_help("remove one of the two").with_lines([first]);
                    out.push(same.with_edits([edit]));
                    idle.insert(rule.id());
                    continue;
                }
                let with_files = self.paths_with_files(rule);
                if with_files.as_ref().is_some_and(Vec::is_empty) || self.shows_nothing(rule) {
                    // Said as `missing-file`.
                    continue;
                }
                match self.left(stage, number, rule) {
                    RuleRemainder::Something(..) => {}
                    RuleRemainder::Nothing(lines, files) => {
                        out.push(self.never(rule, lines, files, with_files.is_some()));
                        idle.insert(rule.id());
                    }
                    RuleRemainder::Undecided => out.push(
                        self.not_decided(rule.line(), format!("whether `{rule}` is unreachable")),
                    ),
                }
            }
        }
        idle
    }

    /// Whether a fallback or a 404 page names a file that is not there.
    fn shows_nothing(&self, rule: RuleRef<'_>) -> bool {
        let is_missing =
            |path: &Target| path.path().is_literal() && !self.names_a_file(path.path().as_str());
        matches!(rule.stage(), Stage::Fallback | Stage::Missing)
            && rule.shows().is_some_and(is_missing)
    }

    /// A URL for which very many rules of a stage are asked one after another; looked for at URLs
    /// made of some of the rules.
    pub(super) fn crowded(&self, out: &mut Vec<Finding>) {
        for stage in Stage::ALL {
            let rules = self.space.rules(stage);
            let step = rules.len().div_ceil(MAX_SAMPLED).max(1);
            let crowd = rules.step_by(step).find_map(|rule| {
                let request = self.sample(rule)?;
                let asked = self.edge().rules_for(stage, &request);
                let last = asked.get(MAX_ASKED)?.line();
                Some((request, asked.len(), last))
            });
            let Some((request, count, line)) = crowd else { continue };
            let what = format!(
                "{count} rules match {} and are tried one after another",
                self.short(request.url())
            );
            out.push(
                Finding::on(Code::SlowRules, line, what)
                    .with_note("each of them makes the answer slower")
                    .with_help("distinguish them by the text before their first capture, by a segment, or by a query value")
                    .with_request(&request),
            );
        }
    }

    fn never(&self, rule: RuleRef<'r>, lines: Vec<Line>, files: bool, with_files: bool) -> Finding {
        let pattern = &rule.pattern();
        let names = lines.iter().map(|line| self.name(*line)).collect::<Vec<_>>().join(", ");
        let (why, instead) = match (lines.len(), files) {
            (0, false) => (
                "no request can meet its conditions".to_owned(),
                "correct its conditions, or remove it".to_owned(),
            ),
            (0, true) => (
                "every URL that it matches is a file of the site".to_owned(),
                "remove it".to_owned(),
            ),
            (1, _) => (
                format!("{names} takes every URL that it matches"),
                format!("move it above {names}, or remove it"),
            ),
            (_, false) => (
                format!("{names} together take every URL that it matches"),
                "move it above them, or remove it".to_owned(),
            ),
            (_, true) => (
                format!("files and {names} take every URL that it matches"),
                "move it above them, or remove it".to_owned(),
            ),
        };
        let shown = self.space.matching(rule.rule());
        let why = if with_files { format!("where its captures name a file, {why}") } else { why };
        let finding = Finding::on(
            Code::UnreachableRule,
            rule.line(),
            format!("`{rule}` is unreachable: {why}"),
        )
        .with_help(instead)
        .with_lines(lines);
        match self.space_member(&shown) {
            Some(request) => {
                let gets = self.gets(&request);
                finding
                    .with_note(format!("{} {gets}", self.short(request.url())))
                    .with_request(&request)
            }
            None => finding.with_note(format!("no URL of `{pattern}` gets it")),
        }
    }

    /// Takes out what rewrites, files, fallbacks and 404 pages take before a rule of these stages;
    /// whether files do.
    fn take_later_stages(
        &self,
        stage: Stage,
        number: u32,
        rule: RuleRef<'r>,
        left: &mut RequestSet<'r>,
        lines: &mut Vec<Line>,
    ) -> bool {
        let mut files = false;
        if stage == Stage::Redirect {
            return files;
        }
        let stages = [Stage::Rewrite, Stage::Fallback, Stage::Missing];
        for before in stages.into_iter().filter(|before| *before as usize <= stage as usize) {
            if before == Stage::Fallback {
                files = left.take_out(&self.shown_files_of(rule.pattern()));
            }
            let others = self.overlaps(before).with(rule.pattern());
            for other in others.into_iter().filter(|other| before != stage || *other < number) {
                let other = self.space.rule(before, other);
                match self.taken(stage, other) {
                    Some(taken) if left.take_out(&taken) => lines.push(other.line()),
                    Some(_) => {}
                    None => *left = std::mem::take(left).cut_by(&self.space.matching(other.rule())),
                }
            }
        }
        files
    }

    /// What is left of a rule once all that is decided before it has taken its part.
    pub(super) fn left(&self, stage: Stage, number: u32, rule: RuleRef<'r>) -> RuleRemainder {
        self.space.begin();
        let universe = self.universe(stage);
        let (sure, maybe) = match stage {
            Stage::Redirect => self.space.acting(rule.rule()),
            _ => (self.space.matching(rule.rule()), RequestSet::default()),
        };
        let mut left = sure.or(&maybe).and(&universe);
        if rule.spares_files() {
            left.take_out(&self.space.of_known_type());
        }
        // Where its captures name no file it does not act in any case, and nobody takes that from
        // it.
        let with_files = self.paths_with_files(rule).map(|paths| self.space.at_paths(&paths));
        if let Some(with_files) = &with_files {
            left = left.and(with_files);
        }
        let mut lines = Vec::new();
        let redirects = self.overlaps(Stage::Redirect).with(rule.pattern());
        let earlier =
            redirects.into_iter().filter(|other| stage != Stage::Redirect || *other < number);
        let earlier: Vec<RuleRef<'r>> =
            earlier.map(|other| self.space.rule(Stage::Redirect, other)).collect();
        // Those for one path cost little.
        let is_wide = |other: &&RuleRef<'r>| !other.pattern().path().is_literal();
        if earlier.iter().filter(is_wide).count() > MAX_OVERLAPS {
            return RuleRemainder::Undecided;
        }
        for other in earlier {
            let (sure, maybe) = self.space.acting(other.rule());
            if left.take_out(&sure) {
                lines.push(other.line());
            }
            left = left.cut_by(&maybe);
        }
        let files = self.take_later_stages(stage, number, rule, &mut left, &mut lines);
        if stage == Stage::Missing {
            let pages = self.gone_pages(rule, number, with_files.as_ref(), &mut lines);
            left = left.or(&pages);
        }
        let mut example = None;
        let members = left.each_member(&self.space, MAX_TRIED, |request| {
            match self.acts(stage, rule, request) {
                true => {
                    example = Some(request.clone());
                    ControlFlow::Break(())
                }
                false => ControlFlow::Continue(()),
            }
        });
        match (example, members) {
            (Some(example), _) => RuleRemainder::Something(example, lines),
            (None, Members::Exhausted) => RuleRemainder::Nothing(lines, files),
            (None, _) => RuleRemainder::Undecided,
        }
    }

    /// The requests that get the file they name: a rewrite, also one whose file is not there, is
    /// asked before.
    fn shown_files_of(&self, pattern: &Pattern) -> RequestSet<'r> {
        let mut named = self.space.naming_a_file();
        for number in self.overlaps(Stage::Rewrite).with(pattern) {
            named.take_out(&self.space.matching(self.space.rule(Stage::Rewrite, number).rule()));
        }
        named
    }

    /// What a rule of a later stage takes from those behind it, where that can be said.
    pub(super) fn taken(&self, stage: Stage, other: RuleRef<'r>) -> Option<RequestSet<'r>> {
        let there =
            |path: &Target| path.path().is_literal() && self.names_a_file(path.path().as_str());
        match other.rule().effect() {
            Effect::File(file) => match file.role() {
                // A rewrite decides even where its file is not there, among rewrites.
                FileRole::Rewrite if stage == Stage::Rewrite => {
                    Some(self.space.matching(other.rule()))
                }
                FileRole::Rewrite | FileRole::Fallback { even_files: true } => {
                    there(file.path()).then(|| self.space.matching(other.rule()))
                }
                FileRole::Fallback { even_files: false } => there(file.path())
                    .then(|| self.space.matching(other.rule()).minus(&self.space.of_known_type())),
            },
            Effect::NotFoundPage(path) => there(path).then(|| self.space.matching(other.rule())),
            Effect::Redirect(_) | Effect::Gone | Effect::Elsewhere(_) | Effect::Headers(_) => None,
        }
    }

    /// The requests that come to a stage at all, before any rule has taken its own.
    pub(super) fn universe(&self, stage: Stage) -> RequestSet<'r> {
        let site = self.edge().site();
        let https_first = site.hsts().is_some_and(|hsts| hsts.subdomains());
        if stage == Stage::Redirect {
            return self.space.with_origins(|origin| {
                !https_first || origin.scheme == Scheme::Https || origin.is_preview()
            });
        }
        let safe = self
            .space
            .with_methods(|method| method == http::Method::GET || method == http::Method::HEAD);
        self.space.at_home().and(&safe)
    }

    /// The requests whose answer is gone and shows the page of a missing rule: whatever the host
    /// and the method.
    fn gone_pages(
        &self,
        rule: RuleRef<'r>,
        number: u32,
        with_files: Option<&RequestSet<'r>>,
        lines: &mut Vec<Line>,
    ) -> RequestSet<'r> {
        let mut matching = self.space.matching(rule.rule()).and(&self.universe(Stage::Redirect));
        if let Some(with_files) = with_files {
            matching = matching.and(with_files);
        }
        let mut before: Vec<RuleRef<'r>> = Vec::new();
        let mut pages = RequestSet::default();
        for other in self
            .overlaps(Stage::Redirect)
            .with(rule.pattern())
            .into_iter()
            .map(|other| self.space.rule(Stage::Redirect, other))
        {
            if matches!(other.effect(), Effect::Gone) {
                let mut gone = matching.and(&self.space.matching(other.rule()));
                for earlier in &before {
                    gone.take_out(&self.space.acting(earlier.rule()).0);
                }
                pages = pages.or(&gone);
            }
            before.push(other);
        }
        for other in self
            .overlaps(Stage::Missing)
            .with(rule.pattern())
            .into_iter()
            .filter(|other| *other < number)
        {
            let other = self.space.rule(Stage::Missing, other);
            match self.taken(Stage::Missing, other) {
                Some(taken) if pages.take_out(&taken) && !lines.contains(&other.line()) => {
                    lines.push(other.line())
                }
                Some(_) => {}
                None => pages = pages.cut_by(&self.space.matching(other.rule())),
            }
        }
        pages
    }

    /// Whether a rule acts on a request.
    pub(super) fn acts(&self, stage: Stage, rule: RuleRef<'_>, request: &Request) -> bool {
        match stage {
            Stage::Redirect => decides(&self.edge().route(request), rule),
            _ => {
                let why = self.edge().explain(request);
                why.steps().iter().any(|step| *step == Step::Rule(rule.id(), RuleResult::Matched))
            }
        }
    }

    fn same_before(&self, stage: Stage, number: u32, rule: RuleRef<'r>) -> Option<Line> {
        let others = self.overlaps(stage).with(rule.pattern());
        let languages = &self.edge().site().languages();
        let written = |rule: RuleRef<'_>| {
            let tests = rule.rule().tests().iter().map(|test| test.written(languages));
            std::iter::once(rule.to_string()).chain(tests).collect::<Vec<_>>()
        };
        let own = written(rule);
        let mut earlier = others
            .into_iter()
            .filter(|other| *other < number)
            .map(|other| self.space.rule(stage, other));
        earlier
            .find(|other| other.pattern() == rule.pattern() && written(*other) == own)
            .map(|other| other.line())
    }
}

/// Whether a rule of the first stage is the first to decide.
pub(super) fn decides(route: &Route, rule: RuleRef<'_>) -> bool {
    match (route.hops().first(), &route.end()) {
        (Some(hop), _) => hop.rule() == Some(rule.id()),
        (None, RouteEnd::Answer { outcome: Outcome::Gone | Outcome::Elsewhere, by, .. }) => {
            *by == Some(rule.id())
        }
        _ => false,
    }
}
