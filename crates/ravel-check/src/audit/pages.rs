//! Rules that show files: fallbacks, rewrites, missing pages.

use super::{Audit, Code, Finding, UNKNOWN};
use crate::space::Member;
use ravel::address::Request;
use ravel::program::{Role, RuleRef, Stage};

impl<'r> Audit<'r> {
    /// Findings on rules that show files.
    pub(super) fn shown_files(&self, out: &mut Vec<Finding>) {
        let site = self.edge().site();
        if let Some((path, line)) = site.missing()
            && !self.names_a_file(path)
        {
            out.push(
                self.no_such_file(*line, "the 404 page", path)
                    .with_note("an unknown URL gets a plain 404"),
            );
        }
        for stage in [Stage::Rewrite, Stage::Fallback, Stage::Missing] {
            for rule in self.space.rules(stage) {
                let Some(path) = rule.shows() else { continue };
                let literal = path.path().is_literal();
                if literal && !self.names_a_file(path.path().as_str()) {
                    let finding =
                        self.no_such_file(rule.line(), &format!("`{rule}`"), path.path().as_str());
                    out.push(finding.with_note(match stage {
                        Stage::Rewrite => "the URL is 404, unless a fallback matches it",
                        Stage::Fallback => "the URLs that it matches are 404",
                        _ => "an unknown URL gets the site's 404 page",
                    }));
                }
                if self.paths_with_files(rule).is_some_and(|paths| paths.is_empty()) {
                    let what = format!("`{rule}` names no file, whatever it captures");
                    let finding = Finding::on(Code::MissingFile, rule.line(), what);
                    out.push(
                        finding
                            .with_note("it never serves anything")
                            .with_help("correct the path, or build the files"),
                    );
                }
                if stage == Stage::Rewrite && literal {
                    self.hides_by_rewrite(rule, out);
                }
            }
        }
        self.fallback_everywhere(out);
    }

    fn no_such_file(&self, line: ravel::language::Line, who: &str, path: &str) -> Finding {
        Finding::on(
            Code::MissingFile,
            line,
            format!("{who} names {path}, and the folder has no such file"),
        )
        .with_help(self.or_nearest(path, "build the file, or name an existing one"))
    }

    /// A rewrite of the address of a file that shows another.
    fn hides_by_rewrite(&self, rule: RuleRef<'r>, out: &mut Vec<Finding>) {
        if rule.pattern().origin().is_some() || rule.tests().request_headers() != 0 {
            return;
        }
        let edge = self.edge();
        let hidden =
            self.addresses_below(rule.pattern().path().literal_prefix()).find_map(|address| {
                let file =
                    edge.file_number(address).filter(|file| edge.own_address(*file) == address)?;
                let request = Request::get(&edge.url_of(file)).ok()?;
                let answer = edge.answer(&request);
                let other = answer.file() != Some(&*edge.files().names()[file as usize]);
                let hides = answer.rule() == Some(rule.id()) && other;
                (hides && !self.is_shown_elsewhere(file)).then_some(file)
            });
        out.extend(hidden.map(|file| self.hides(rule, 1, file)));
    }

    /// A fallback that leaves no address missing.
    fn fallback_everywhere(&self, out: &mut Vec<Finding>) {
        let Some(unknown) = self.request_below(UNKNOWN) else { return };
        let taken_by = self.edge().answer(&unknown).rule();
        let canonical = self.space.with_origins(|origin| origin.role == Role::Canonical);
        let get = self.space.with_methods(|method| *method == http::Method::GET);
        let home = self.space.at_home().and(&canonical);
        for rule in self.space.rules(Stage::Fallback) {
            let Some(path) = rule.shows() else { continue };
            // One address that it does not take settles nearly every case.
            if taken_by != Some(rule.id()) || !path.path().is_literal() {
                continue;
            }
            let mut rest = home.and(&get).and(&self.space.below_a_base());
            rest.take_out(&self.space.of_known_type());
            rest.take_out(&self.space.matching(rule.rule()));
            rest.take_out(&self.space.naming_a_file());
            for number in self.overlaps(Stage::Redirect).with(rule.pattern()).into_iter().take(64) {
                rest.take_out(
                    &self.space.acting(self.space.rule(Stage::Redirect, number).rule()).0,
                );
            }
            if let Member::None = rest.shortest(&self.space) {
                out.push(
                    Finding::on(
                        Code::CatchAllFallback,
                        rule.line(),
                        format!("`{rule}` matches the whole site, so no URL is ever missing"),
                    )
                    .with_note(format!("a mistyped URL gets {path} with 200"))
                    .with_help("use the fallback only for the part of the site that is an app, and a 404 page for the rest")
                    .with_example(unknown.url()),
                );
            }
        }
    }
}
