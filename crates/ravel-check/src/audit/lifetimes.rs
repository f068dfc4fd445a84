//! How long files may be kept by caches, and whether their names allow it.

use ravel::address::Request;
use ravel::edge::{Answer, Outcome};
use ravel::language::Line;

use super::{Audit, Code, Finding};

/// A page kept longer than this is a mistake, in seconds.
pub(super) const PAGE_LIFE: u64 = 3_600;

/// Fields that protect visitors, and should be on every answer.
const SECURITY: [&str; 8] = [
    "content-security-policy",
    "cross-origin-embedder-policy",
    "cross-origin-opener-policy",
    "permissions-policy",
    "referrer-policy",
    "strict-transport-security",
    "x-content-type-options",
    "x-frame-options",
];

impl<'r> Audit<'r> {
    /// Findings on how long files are kept, and on fields that the missing page lacks.
    pub(super) fn kept_files(&self, out: &mut Vec<Finding>) {
        let edge = self.edge();
        let mut pages: Vec<(String, u64, Option<Line>)> = Vec::new();
        let mut assets: Vec<&str> = Vec::new();
        let mut secured: Option<(&str, Vec<(&str, Line)>)> = None;
        for (file, name) in (0..).zip(edge.files().names()) {
            let Ok(request) = Request::get(&edge.url_of(file)) else { continue };
            let answer = edge.answer(&request);
            if answer.outcome() != Outcome::File || answer.file() != Some(name) {
                continue;
            }
            let kept = answer.header("cache-control").and_then(life);
            let is_page =
                answer.header("content-type").is_some_and(|kind| kind.starts_with("text/html"));
            if is_page && kept.is_some_and(|life| life > PAGE_LIFE) {
                pages.push((
                    name.to_string(),
                    kept.unwrap_or(0),
                    line_of(&answer, "cache-control"),
                ));
            }
            if is_page && secured.is_none() {
                let fields = answer.headers().iter().filter_map(|header| {
                    let name = SECURITY.into_iter().find(|name| *name == header.name())?;
                    Some((name, header.line()?))
                });
                secured = Some((name, fields.collect()));
            }
            if !is_page && is_fingerprinted(name) && kept.is_none_or(|life| life < 30 * 86_400) {
                assets.push(name);
            }
        }
        out.extend(self.html_cached(&pages));
        out.extend(self.assets_not_cached(&assets));
        self.missing_lacks(secured, out);
    }

    /// Pages with a long cache lifetime.
    fn html_cached(&self, pages: &[(String, u64, Option<Line>)]) -> Option<Finding> {
        let (name, kept, line) = pages.first()?;
        let others = match pages.len() {
            1 => " is".to_owned(),
            2 => " and 1 other page are".to_owned(),
            number => format!(" and {} other pages are", number - 1),
        };
        let what = format!("{name}{others} cached for {} without revalidation", in_words(*kept));
        let place = line.unwrap_or(self.edge().site().line());
        Some(
            Finding::on(Code::HtmlCached, place, what)
                .with_note("visitors who have seen the page get the old one for that long")
                .with_help(
                    "write `set cache-control: no-cache` for pages, and a long `max-age` only for fingerprinted files",
                ),
        )
    }

    /// Fingerprinted files without one.
    fn assets_not_cached(&self, assets: &[&str]) -> Option<Finding> {
        let first = assets.first()?;
        let many = match assets.len() {
            1 => " changes".to_owned(),
            2 => " and 1 other change".to_owned(),
            number => format!(" and {} others change", number - 1),
        };
        let folder = first.rsplit_once('/').map_or("", |(folder, _)| folder);
        let pattern =
            if folder.is_empty() { "/{+file}".to_owned() } else { format!("/{folder}/{{+file}}") };
        let what =
            format!("the name of {first}{many} with the content, and no long `max-age` is set");
        Some(
            Finding::on(Code::AssetNotCached, self.files_line(), what)
                .with_note("browsers request it again and again")
                .with_help(format!("write `headers {pattern}` with `set cache-control: public, max-age=31536000, immutable`")),
        )
    }

    /// The line that names the folder of files, or the site's.
    pub(super) fn files_line(&self) -> Line {
        self.edge().site().folder_line()
    }
}

/// For how many seconds a browser may keep an answer without asking again (RFC 9111, section
/// 4.2.1).
pub(super) fn life(cache_control: &str) -> Option<u64> {
    let directives = || cache_control.split(',').map(str::trim);
    if directives().any(|directive| {
        directive.eq_ignore_ascii_case("no-cache") || directive.eq_ignore_ascii_case("no-store")
    }) {
        return Some(0);
    }
    directives().find_map(|directive| {
        directive.to_ascii_lowercase().strip_prefix("max-age=")?.trim_matches('"').parse().ok()
    })
}

pub(super) fn in_words(seconds: u64) -> String {
    let (number, unit) = match seconds {
        0..7_200 => (seconds / 60, "minutes"),
        7_200..172_800 => (seconds / 3_600, "hours"),
        _ => (seconds / 86_400, "days"),
    };
    format!("{number} {unit}")
}

/// Whether a name has a piece that looks like a hash of the content: eight or more letters and
/// digits, among them a digit.
pub(super) fn is_fingerprinted(name: &str) -> bool {
    let last = name.rsplit('/').next().unwrap_or(name);
    let Some((stem, _)) = last.rsplit_once('.') else { return false };
    stem.split(['.', '-', '_']).skip(1).any(|piece| {
        let hash = piece.len() >= 8 && piece.bytes().all(|byte| byte.is_ascii_alphanumeric());
        hash && piece.bytes().any(|byte| byte.is_ascii_digit())
    })
}

fn line_of(answer: &Answer<'_>, name: &str) -> Option<Line> {
    answer.headers().iter().find(|header| header.name() == name).and_then(|header| header.line())
}
