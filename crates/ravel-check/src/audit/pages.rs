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
                self.no_such_file(*line, "the missing page", path)
                    .with_visitor("an unknown address gets a plain 404"),
            );
        }
        for stage in [Stage::Rewrite, Stage::Fallback, Stage::Missing] {
            for rule in self.space.rules(stage) {
                let Some(path) = rule.shows() else { continue };
                let literal = path.path().is_literal();
                if literal && !self.names_a_file(path.path().as_str()) {
                    let finding =
                        self.no_such_file(rule.line(), &format!("`{rule}`"), path.path().as_str());
                    out.push(finding.with_visitor(match stage {
                        Stage::Rewrite => "the address is 404, unless a fallback takes it",
                        Stage::Fallback => "the addresses below it are 404",
                        _ => "an unknown address gets the site's missing page",
                    }));
                }
                if self.paths_with_files(rule).is_some_and(|paths| paths.is_empty()) {
                    let what = format!("`{rule}` names no file, whatever it captures");
                    let finding = Finding::on(Code::NoSuchFile, rule.line(), what);
                    out.push(
                        finding
                            .with_visitor("it never shows anything")
                            .with_instead("correct the path, or build the files"),
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
            Code::NoSuchFile,
            line,
            format!("{who} names {path}, and no such file is in the folder"),
        )
        .with_instead(self.or_nearest(path, "build the file, or name one that is there"))
    }

    /// A rewrite of the address of a file that shows another.
    fn hides_by_rewrite(&self, rule: RuleRef<'r>, out: &mut Vec<Finding>) {
        if rule.pattern().origin().is_some() || !rule.is_unconditional() {
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
                (answer.rule() == Some(rule.id()) && other).then_some(file)
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
                        Code::FallbackEverywhere,
                        rule.line(),
                        format!("`{rule}` covers the whole site: no address is ever missing"),
                    )
                    .with_visitor(format!("a mistyped address answers 200 with {path}"))
                    .with_instead("give the fallback only the part of the site that is an app, and the rest a missing page")
                    .with_example(unknown.url()),
                );
            }
        }
    }
}
