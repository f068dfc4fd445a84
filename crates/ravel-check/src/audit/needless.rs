//! Rules that say too much: the base path a second time, a redirect that happens without them.

use super::{Audit, Code, Finding};
use ravel::edit::Edit;
use ravel::program::{Pages, RuleRef, Stage};

impl<'r> Audit<'r> {
    pub(super) fn needless(&self, out: &mut Vec<Finding>) {
        for stage in [Stage::Redirect, Stage::Rewrite, Stage::Fallback, Stage::Missing] {
            for rule in self.edge().program().rules(stage) {
                out.extend(self.repeated_base(rule));
            }
        }
        for rule in self.edge().program().rules(Stage::Redirect) {
            out.extend(self.needless_redirect(rule));
        }
    }

    /// A path that begins with the base path, below which no folder is called so.
    fn repeated_base(&self, rule: RuleRef<'r>) -> Option<Finding> {
        let site = self.edge().site();
        let base = site.base();
        let inner = base.trim_matches('/');
        if inner.is_empty() {
            return None;
        }
        let folder = format!("{inner}/");
        if self.edge().files().names().iter().any(|name| name.starts_with(&folder)) {
            return None;
        }
        let begins = |path: &str| path.starts_with(base) || path == base.trim_end_matches('/');
        let (pattern, text) = (rule.rule().pattern(), rule.to_string());
        let in_pattern = pattern.origin().is_none() && begins(pattern.path().literal_prefix());
        let shown = rule.rule().shows().map(|path| path.path().literal_prefix());
        let target = rule.rule().redirect().map(|redirect| redirect.target());
        let led = target.filter(|to| to.origin().is_none()).map(|to| to.path().literal_prefix());
        let in_target = shown.or(led).is_some_and(begins);
        if !in_pattern && !in_target {
            return None;
        }
        let host = format!("{}://{}", site.scheme(), site.host());
        let what = format!("`{text}` repeats the base path {base}");
        let meant = text.replace(&format!(" {base}"), " /");
        Some(
            Finding::on(Code::RepeatedBasePath, rule.line(), what)
                .with_note(format!(
                    "paths of rules are below the base path: this is {host}{}{base}…",
                    base.trim_end_matches('/')
                ))
                .with_help(format!("write `{meant}`"))
                .with_edits([Edit::OnLine { line: rule.line(), from: text, to: meant }]),
        )
    }

    /// A redirect to the canonical URL of the page that it is on.
    fn needless_redirect(&self, rule: RuleRef<'r>) -> Option<Finding> {
        let redirect = rule.rule().redirect()?;
        let (from, to) = (rule.rule().one_path()?, redirect.target().literal_path()?);
        let file = self.edge().file_of(from)?;
        let own = self.edge().files().names().iter().position(|name| **name == *file)?;
        let own = self.edge().own_address(own as u32);
        let is_tidy = self.edge().site().pages() == Pages::Tidy;
        if to != own || (from != own && !is_tidy) || !rule.rule().is_unconditional() {
            return None;
        }
        // Where it goes on for ever, that is the finding.
        if self.edge().walk(&self.request_below(from)?).outcome() == ravel::Outcome::Loop {
            return None;
        }
        let what = match from == own {
            true => format!("`{rule}` redirects the page {from} to itself"),
            false => format!("`{rule}` is not needed: {from} redirects to {own} without it"),
        };
        Some(
            Finding::on(Code::NeedlessRedirect, rule.line(), what)
                .with_note(format!("{own} is the canonical URL of {file}"))
                .with_help("remove it")
                .with_edits([Edit::Without { line: rule.line() }]),
        )
    }
}
