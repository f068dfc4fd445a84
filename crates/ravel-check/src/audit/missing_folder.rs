//! Redirects that lead below one folder that is not there: one mistake, and one finding.

use std::collections::HashMap;

use ravel::Request;
use ravel::finding::{Finding, FindingPlace};
use ravel::language::Line;
use ravel::rules::Code;

use super::Audit;

/// As many of one file have one cause.
const MIN_ONE_CAUSE: usize = 4;

impl Audit<'_> {
    /// Puts together what the lines of one file do wrong alike.
    pub(super) fn one_missing_folder(&self, out: &mut Vec<Finding>) {
        let mut alike: HashMap<(u16, String), Vec<usize>> = HashMap::new();
        for (at, finding) in out.iter().enumerate() {
            if let Some((line, folder)) = self.missing_folder(finding) {
                alike.entry((line.source(), folder)).or_default().push(at);
            }
        }
        let mut merged = vec![false; out.len()];
        for ((_, folder), all) in alike {
            let [first, others @ ..] = &*all else { continue };
            if all.len() < MIN_ONE_CAUSE {
                continue;
            }
            let lines: Vec<Line> = others.iter().filter_map(|at| line_of(&out[*at])).collect();
            let FindingPlace::Line(line) = *out[*first].place() else { continue };
            let what = format!(
                "{} redirects lead below {folder}, where nothing is: {}",
                all.len(),
                out[*first].message()
            );
            let mut one = Finding::on(Code::RedirectToMissing, line, what)
                .with_note("404 after a redirect")
                .with_help(format!("correct `{folder}` in all of them, or build their pages"))
                .with_lines(lines);
            let asked = out[*first].example().map(|example| example.url().to_owned());
            if let Some(url) = asked {
                one = one.with_example(url);
            }
            out[*first] = one;
            others.iter().for_each(|at| merged[*at] = true);
        }
        let mut at = 0;
        out.retain(|_| {
            at += 1;
            !merged.get(at - 1).copied().unwrap_or_default()
        });
    }

    /// The folder below which a redirect is missing, where nothing else is in it, either.
    fn missing_folder(&self, finding: &Finding) -> Option<(Line, String)> {
        let line = line_of(finding).filter(|_| finding.code() == Code::RedirectToMissing)?;
        let request = Request::get(finding.example()?.url()).ok()?;
        let route = self.edge().route(&request);
        let path = route.hops().last()?.to().path();
        let path = path.strip_prefix(self.edge().site().open_base())?;
        let folder = &path[..=path.trim_end_matches('/').rfind('/')?];
        let is_there = folder == "/" || self.addresses_below(folder).next().is_some();
        (!is_there).then(|| (line, folder.to_owned()))
    }
}

fn line_of(finding: &Finding) -> Option<Line> {
    match finding.place() {
        FindingPlace::Line(line) => Some(*line),
        _ => None,
    }
}
