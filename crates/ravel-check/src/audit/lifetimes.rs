//! How long files may be kept by caches, and whether their names allow it.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use ravel::address::Request;
use ravel::edge::{Answer, Outcome};
use ravel::edit::Edit;
use ravel::language::Line;

use super::fingerprints::{Fingerprint, fingerprints};
use super::{Audit, Code, Finding};

/// A page kept longer than this is a mistake, in seconds.
pub(super) const PAGE_LIFE: u64 = 3_600;

/// A fingerprinted file kept less long than this is requested in vain, in seconds.
const MIN_LIFE: u64 = 30 * 86_400;

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

/// A page that is kept for long.
struct CachedPage {
    name: String,
    /// In seconds.
    life: u64,
    /// The line that sets the value, which is this.
    line: Option<Line>,
    written: String,
}

impl<'r> Audit<'r> {
    /// Findings on how long files are kept, and on fields that the missing page lacks.
    pub(super) fn kept_files(&self, out: &mut Vec<Finding>) {
        let edge = self.edge();
        let mut pages: Vec<CachedPage> = Vec::new();
        let mut of_others: HashSet<Line> = HashSet::new();
        let mut not_kept: HashSet<&str> = HashSet::new();
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
            let line = line_of(&answer, "cache-control");
            if !is_page {
                of_others.extend(line);
            } else if let Some(life) = kept.filter(|life| *life > PAGE_LIFE) {
                let written = answer.header("cache-control").unwrap_or_default().to_owned();
                pages.push(CachedPage { name: name.to_string(), life, line, written });
            }
            if is_page && secured.is_none() && Some(&**name) != edge.missing_file() {
                let fields = answer.headers().iter().filter_map(|header| {
                    let name = SECURITY.into_iter().find(|name| *name == header.name())?;
                    Some((name, header.line()?))
                });
                secured = Some((name, fields.collect()));
            }
            if !is_page && kept.is_none_or(|life| life < MIN_LIFE) {
                not_kept.insert(name);
            }
        }
        out.extend(self.html_cached(&pages, &of_others));
        self.assets_not_cached(&not_kept, out);
        self.missing_lacks(secured, out);
    }

    /// Pages with a long cache lifetime; lines that set that of other files, too, have no edit.
    fn html_cached(&self, pages: &[CachedPage], of_others: &HashSet<Line>) -> Option<Finding> {
        let CachedPage { name, life, line, .. } = pages.first()?;
        let written: Option<BTreeSet<(Line, &str)>> = pages
            .iter()
            .map(|page| Some((page.line.filter(|line| !of_others.contains(line))?, &*page.written)))
            .collect();
        let edits = written.into_iter().flatten().map(|(line, from)| Edit::OnLine {
            line,
            from: from.to_owned(),
            to: "no-cache".to_owned(),
        });
        let others = match pages.len() {
            1 => " is".to_owned(),
            2 => " and 1 other page are".to_owned(),
            number => format!(" and {} other pages are", number - 1),
        };
        let what = format!("{name}{others} cached for {} without revalidation", in_words(*life));
        let place = line.unwrap_or(self.edge().site().line());
        Some(
            Finding::on(Code::HtmlCached, place, what)
                .with_note("visitors who have seen the page get the old one for that long")
                .with_help(
                    "write `set cache-control: no-cache` for pages, and a long `max-age` only for fingerprinted files",
                )
                .with_edits(edits),
        )
    }

    /// Fingerprinted files without one: a finding for each folder that one statement can be for.
    fn assets_not_cached(&self, not_kept: &HashSet<&str>, out: &mut Vec<Finding>) {
        let names = self.edge().files().names();
        let changing: HashMap<&str, Fingerprint<'_>> =
            fingerprints(names, |name| self.folder.built.contains(name))
                .map(|found| (found.name, found))
                .collect();
        // Folders in which something is that must not be kept.
        let fixed: HashSet<&str> = names
            .iter()
            .filter(|name| !changing.contains_key(&***name))
            .flat_map(|name| folders_of(name))
            .collect();
        let mut folders: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
        for name in names.iter().map(|name| &**name).filter(|name| changing.contains_key(name)) {
            if not_kept.contains(name) {
                let of_its_own = folders_of(name).filter(|folder| !fixed.contains(folder)).last();
                folders.entry(of_its_own.unwrap_or("")).or_default().push(name);
            }
        }
        for (folder, assets) in folders {
            let Some(first) = assets.first() else { continue };
            let many = match assets.len() {
                1 => " changes".to_owned(),
                2 => " and 1 other change".to_owned(),
                number => format!(" and {} others change", number - 1),
            };
            let shown = &changing[first];
            let part = shown.part.map_or(String::new(), |part| format!(" by `{part}`"));
            if !assets.iter().any(|name| changing[name].is_certain) {
                let what = format!(
                    "the name of {first} may change with the content{part}; nothing else in the build says so"
                );
                out.push(
                    Finding::on(Code::PossibleFingerprint, self.files_line(), what)
                        .with_note("if it does, browsers request it again and again for nothing")
                        .with_help(
                            "set a long `max-age` for it, if each build gives it another name",
                        ),
                );
                continue;
            }
            let what = format!(
                "the name of {first}{many} with the content{part}, and no long `max-age` is set"
            );
            let finding = Finding::on(Code::AssetNotCached, self.files_line(), what)
                .with_note("browsers request it again and again");
            let field = "set cache-control: public, max-age=31536000, immutable";
            out.push(match folder {
                "" => finding.with_help(format!(
                    "let the build write such files to a folder of their own, and write `{field}` \
                     below a `headers` statement for it"
                )),
                _ => finding
                    .with_help(format!("write `headers /{folder}/{{+file}}` with `{field}`"))
                    .with_edits([Edit::AtEnd {
                        text: format!("headers /{folder}/{{+file}}\n  {field}\n"),
                    }]),
            });
        }
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

/// The folders that a file is in, the innermost first.
fn folders_of(name: &str) -> impl Iterator<Item = &str> {
    memchr::memrchr_iter(b'/', name.as_bytes()).map(|end| &name[..end])
}

fn line_of(answer: &Answer<'_>, name: &str) -> Option<Line> {
    answer.headers().iter().find(|header| header.name() == name).and_then(|header| header.line())
}
