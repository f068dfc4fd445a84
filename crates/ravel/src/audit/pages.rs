//! Rules that show files: fallbacks, rewrites, missing pages.

use super::{Audit, Code, Finding};
use crate::address::{Request, Scheme};
use crate::edge::Role;
use crate::rules::{Action, Stage};
use crate::space::Member;

impl<'r> Audit<'r> {
    /// Findings on rules that show files.
    pub(super) fn shown_files(&self, out: &mut Vec<Finding>) {
        let site = &self.edge().rules().site;
        if let Some((path, line)) = &site.missing
            && !self.names_a_file(path)
        {
            out.push(self.no_such_file(*line, "the missing page", path).visitor("an unknown address gets a plain 404"));
        }
        for stage in [Stage::Rewrite, Stage::Fallback, Stage::Missing] {
            for rule in self.space.rules(stage) {
                let (Action::Rewrite(path) | Action::Missing(path) | Action::Fallback { path, .. }) = &rule.action else {
                    continue;
                };
                let literal = path.path().is_literal();
                if literal && !self.names_a_file(path.path().as_str()) {
                    let finding = self.no_such_file(rule.line, &format!("`{rule}`"), path.path().as_str());
                    out.push(finding.visitor(match stage {
                        Stage::Rewrite => "the address is 404, unless a fallback takes it",
                        Stage::Fallback => "the addresses below it are 404",
                        _ => "an unknown address gets the site's missing page",
                    }));
                }
                if self.paths_with_files(rule).is_some_and(|paths| paths.is_empty()) {
                    let what = format!("`{rule}` names no file, whatever it captures");
                    let finding = Finding::on(Code::NoSuchFile, rule.line, what);
                    out.push(finding.visitor("it never shows anything").instead("correct the path, or build the files"));
                }
                if stage == Stage::Rewrite && literal {
                    self.hides_by_rewrite(rule, out);
                }
            }
        }
        self.fallback_everywhere(out);
    }

    fn no_such_file(&self, line: crate::language::Line, who: &str, path: &str) -> Finding {
        let instead = match self.nearest_page(path) {
            Some(page) => format!("did you mean `{page}`?"),
            None => "build the file, or name one that is there".to_owned(),
        };
        Finding::on(Code::NoSuchFile, line, format!("{who} names {path}, and no such file is in the folder")).instead(instead)
    }

    /// A rewrite of the address of a file that shows another.
    fn hides_by_rewrite(&self, rule: &'r crate::rules::Rule, out: &mut Vec<Finding>) {
        let prefix = if rule.pattern.path.is_literal() { rule.pattern.path.as_str() } else { rule.pattern.path.literal_prefix() };
        if rule.pattern.origin.is_some() || rule.conditions.is_some() {
            return;
        }
        let edge = self.edge();
        let hidden = self.addresses_below(prefix).find_map(|address| {
            let file = edge.file_number(address).filter(|file| edge.own_address(*file) == address)?;
            let request = Request::get(&edge.url_of(file)).ok()?;
            let answer = edge.answer(&request);
            let name = &*edge.files().names()[file as usize];
            (answer.line() == Some(rule.line) && answer.file() != Some(name)).then(|| (request.url().to_owned(), name.to_owned()))
        });
        if let Some((url, name)) = hidden {
            out.push(
                Finding::on(Code::HidesFile, rule.line, format!("`{rule}` hides the file {name}"))
                    .visitor("nobody can ever see what is there")
                    .instead("remove the file, narrow the pattern, or add `when no file`")
                    .example(url),
            );
        }
    }

    /// A fallback that leaves no address missing.
    fn fallback_everywhere(&self, out: &mut Vec<Finding>) {
        let site = &self.edge().rules().site;
        let home = self
            .space
            .with_origins(|origin| origin.role == Role::Canonical && (origin.scheme == Scheme::Https || !site.upgrades()));
        let get = self.space.with_methods(|method| *method == http::Method::GET);
        for rule in self.space.rules(Stage::Fallback) {
            let Action::Fallback { path, .. } = &rule.action else { continue };
            // One address that it does not take settles nearly every case.
            let unknown = Request::get(&format!("{}no-such/page-1", site.url()));
            let takes_unknown = unknown.is_ok_and(|request| self.edge().answer(&request).line() == Some(rule.line));
            if !takes_unknown || !path.path().is_literal() {
                continue;
            }
            let mut rest = home.and(&get).and(&self.space.below_a_base());
            rest.take_out(&self.space.of_known_type());
            rest.take_out(&self.space.matching(rule));
            rest.take_out(&self.space.naming_a_file());
            for number in self.overlaps(Stage::Redirect).with(&rule.pattern).into_iter().take(64) {
                rest.take_out(&self.space.acting(&self.space.rules(Stage::Redirect)[number as usize]).0);
            }
            if let Member::None = rest.shortest(&self.space) {
                let example = format!("{}no-such/page-1", site.url());
                out.push(
                    Finding::on(
                        Code::FallbackEverywhere,
                        rule.line,
                        format!("`{rule}` covers the whole site: no address is ever missing"),
                    )
                    .visitor(format!("a mistyped address answers 200 with {path}"))
                    .instead("give the fallback only the part of the site that is an app, and the rest a missing page")
                    .example(example),
                );
            }
        }
    }
}
