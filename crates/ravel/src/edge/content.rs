//! Which file is shown: rewrite, file, fallback, 404 page.

use super::answer::Outcome;
use super::context::Context;
use super::decide::is_safe;
use super::decision::{DecidedBy, Decision};
use super::hosts::{Below, RequestParts};
use super::step::{RuleResult, Step, Trace};
use super::{Edge, NoTrace};
use crate::address::Scheme;
use crate::files::{UrlVariant, is_known_type};
use crate::program::{Effect, Role, RuleRef, Stage};
use crate::template::Captures;

impl Edge {
    /// Whether a rewrite takes a URL once it is on this origin, or could, by a header that is not
    /// known there.
    pub(super) fn is_rewritten<T: Trace>(
        &self,
        visit: &RequestParts<'_>,
        path: &str,
        (scheme, host): (Scheme, &str),
        moved: bool,
        context: &mut Context<'_, T>,
    ) -> bool {
        if self.program().stage(Stage::Rewrite).is_empty() {
            return false;
        }
        let full = format!("{}{path}", self.program().site.open_base());
        let role = if visit.role == Role::Alias { Role::Canonical } else { visit.role };
        let there = RequestParts {
            scheme,
            host,
            path: &full,
            role,
            hash: None,
            below: Below::Path(path),
            ..*visit
        };
        let mut silent = NoTrace;
        let mut asking =
            Context { other_origin: context.other_origin || moved, ..Context::new(&mut silent) };
        let taken = self
            .first(Stage::Rewrite, &there, &mut asking, |rule, captures| {
                self.rewrite(rule, captures)
            })
            .is_some();
        context.vary |= asking.vary;
        taken || asking.stopped
    }

    /// The file that a rewrite names, or the path where it names none.
    pub(super) fn rewrite(
        &self,
        rule: RuleRef<'_>,
        captures: &Captures<'_>,
    ) -> Result<(Result<u32, String>, DecidedBy), RuleResult> {
        let Effect::File(file) = &rule.rule.effect else { return Err(RuleResult::OtherAnswers) };
        let see = |path: &str| self.variants.any(path).ok_or_else(|| path.to_owned());
        let found = file
            .path
            .with_path(&rule.rule.pattern, captures, see)
            .map_err(RuleResult::TargetImpossible)?;
        Ok((found, DecidedBy::rule(rule)))
    }

    /// Steps 4 to 8.
    pub(super) fn file_decision<T: Trace>(
        &self,
        visit: &RequestParts<'_>,
        named: Option<UrlVariant>,
        context: &mut Context<'_, T>,
    ) -> Decision {
        let Some(path) = visit.relative() else {
            context.trace.step(|| Step::Outside(visit.host.into(), visit.line));
            return Decision::of(Outcome::Outside, 404);
        };
        if !is_safe(visit.method) {
            context.trace.step(|| Step::Method(visit.method.clone()));
            return Decision::of(Outcome::Refused, 405);
        }
        let served =
            |file, by| Decision { file: Some(file), by, ..Decision::of(Outcome::File, 200) };
        match self
            .first(Stage::Rewrite, visit, context, |rule, captures| self.rewrite(rule, captures))
        {
            Some((Ok(file), by)) => return served(file, by),
            Some((Err(path), by)) => context.trace.step(|| Step::NoFile(path.into(), by.rule)),
            None => {
                if let Some(UrlVariant::Serves(file)) = named {
                    context.trace.step(|| Step::File(self.file_name(file).into()));
                    return served(file, DecidedBy::FILES);
                }
                context.trace.step(|| Step::NoFile(path.into(), None));
            }
        }
        let fallback = self.first(Stage::Fallback, visit, context, |rule, captures| {
            if rule.rule.spares_files() && is_known_type(path) {
                return Err(RuleResult::KnownFileType);
            }
            Ok((self.shown_file(&rule, captures)?, DecidedBy::rule(rule)))
        });
        if let Some((file, by)) = fallback {
            return served(file, by);
        }
        let file = self.missing_page(visit, context);
        Decision { file, ..Decision::of(Outcome::Missing, 404) }
    }

    /// The file that a fallback or a 404 page names.
    pub(super) fn shown_file(
        &self,
        rule: &RuleRef<'_>,
        captures: &Captures<'_>,
    ) -> Result<u32, RuleResult> {
        let Some(path) = rule.rule.shows() else { return Err(RuleResult::OtherAnswers) };
        let file = path.with_path(&rule.rule.pattern, captures, |path| self.variants.any(path));
        file.map_err(RuleResult::TargetImpossible)?.ok_or(RuleResult::NoFile)
    }

    /// Step 8: the 404 page.
    pub(super) fn missing_page<T: Trace>(
        &self,
        visit: &RequestParts<'_>,
        context: &mut Context<'_, T>,
    ) -> Option<u32> {
        let by_rule = self.first(Stage::Missing, visit, context, |rule, captures| {
            self.shown_file(&rule, captures)
        });
        by_rule.or_else(|| {
            let (path, line) = self.program().site.missing.as_ref()?;
            let file = self.variants.any(path);
            context
                .trace
                .step(|| Step::NotFoundPage(file.map(|file| self.file_name(file).into()), *line));
            file
        })
    }
}
