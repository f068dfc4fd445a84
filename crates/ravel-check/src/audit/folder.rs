//! The folder of files, by names only.

use std::collections::BTreeMap;

use unicode_normalization::UnicodeNormalization;

use super::{Audit, Code, Finding};
use ravel::address::Request;
use ravel::edit::Edit;
use ravel::files::Omission;
use ravel::program::Pages;

/// Files that stand beside sources, and are not made by a build.
const SOURCES: [&str; 6] =
    ["package.json", "package-lock.json", "tsconfig.json", "Makefile", "Cargo.toml", "Gemfile"];
/// Endings of files that browsers cannot run.
const SOURCE_ENDINGS: [&str; 6] = [".ts", ".tsx", ".jsx", ".scss", ".sass", ".less"];

/// One file of so many is a source, where a folder is one of sources.
const MIN_SOURCES_PART: usize = 5;

impl<'r> Audit<'r> {
    pub(super) fn folder_names(&self, out: &mut Vec<Finding>) {
        let edge = self.edge();
        let site = edge.site();
        let names = edge.files().names();
        let line = self.files_line();
        let Some(folder) = site.files() else { return };
        let sources = self.sources();
        if let Some(first) = sources.first() {
            let what = format!(
                "{folder} looks like a source folder, not like built files: it has {first}"
            );
            out.push(
                Finding::on(Code::SourceFolder, line, what)
                    .with_note("visitors get source files instead of the site")
                    .with_help("name the folder that the build writes"),
            );
        }
        // A rule may lead on from there, as to a language.
        let is_home_missing =
            Request::get(&site.url()).is_ok_and(|home| edge.route(&home).ends_missing());
        if is_home_missing && !edge.files().contains(site.index()) {
            let what = format!("{folder} has no {} at its root", site.index());
            let end = format!("/{}", site.index());
            let inner: Vec<&str> =
                names.iter().filter_map(|name| name.strip_suffix(&end)).collect();
            let depth = |inner: &&str| inner.matches('/').count();
            let highest = inner.iter().map(depth).min();
            let highest: Vec<&&str> =
                inner.iter().filter(|inner| Some(depth(inner)) == highest).collect();
            // Of several at one height none is more likely the site.
            let instead = match *highest {
                [inner] => format!("write `files {folder}/{inner}`, if that is the built site"),
                _ => "name the folder that the build writes".to_owned(),
            };
            out.push(
                Finding::on(Code::MissingIndex, line, what)
                    .with_note("the home page is 404")
                    .with_help(instead)
                    .with_example(site.url()),
            );
        }
        if site.missing().is_none() {
            let ready = names
                .iter()
                .find(|name| matches!(&***name, "404.html" | "404/index.html" | "not-found.html"));
            let instead = match ready {
                Some(name) => format!("write `missing /{name}` below `site`"),
                None => "build a page such as 404.html, and write `missing /404.html` below `site`"
                    .to_owned(),
            };
            out.push(
                Finding::on(Code::Missing404Page, site.line(), "the site has no 404 page")
                    .with_note("an unknown URL gets one line of plain text")
                    .with_help(instead)
                    .with_edits(ready.map(|name| Edit::Below {
                        line: site.line(),
                        text: format!("  missing /{name}"),
                    })),
            );
        }
        self.left_out(line, out);
        self.two_addresses(out);
        self.same_url(out);
        self.case_only(out);
    }

    /// The sources of a folder of sources: those at its root, or else a good part of all files. One
    /// that lies deep in a build is something that is published.
    fn sources(&self) -> Vec<&str> {
        let names = self.edge().files().names();
        let is_at_root = |name: &&str| {
            SOURCES.contains(name)
                || name.starts_with("node_modules/")
                || (!name.contains('/') && SOURCE_ENDINGS.iter().any(|end| name.ends_with(end)))
        };
        let all = || names.iter().map(|name| &**name);
        let at_root: Vec<&str> = all().filter(is_at_root).collect();
        if !at_root.is_empty() {
            return at_root;
        }
        let sources: Vec<&str> =
            all().filter(|name| SOURCE_ENDINGS.iter().any(|end| name.ends_with(end))).collect();
        if sources.len() * MIN_SOURCES_PART >= names.len() { sources } else { Vec::new() }
    }

    fn left_out(&self, line: ravel::language::Line, out: &mut Vec<Finding>) {
        let left_out = self.edge().files().left_out();
        for (why, said, instead) in [
            (
                Omission::Hidden,
                "begin with a dot",
                "rename what visitors should get; `.well-known` is published",
            ),
            (
                Omission::Link,
                "are links that lead out of the folder",
                "copy the files into the folder",
            ),
            (
                Omission::NotUtf8,
                "have names that are not UTF-8, which no URL can name",
                "rename them",
            ),
            (
                Omission::Unreadable,
                "are files or folders that cannot be read",
                "make them readable",
            ),
        ] {
            let names: Vec<&str> = left_out
                .iter()
                .filter(|(_, other)| *other == why)
                .map(|(name, _)| &**name)
                .collect();
            let Some(first) = names.first() else { continue };
            let shown = names.iter().take(3).copied().collect::<Vec<_>>().join(", ");
            let more = if names.len() > 3 {
                format!(" and {} more", names.len() - 3)
            } else {
                String::new()
            };
            let count = if names.len() == 1 {
                "1 file is".to_owned()
            } else {
                format!("{} files are", names.len())
            };
            out.push(
                Finding::on(
                    Code::UnpublishedFile,
                    line,
                    format!("{count} not published: {shown}{more}; such names {said}"),
                )
                .with_note(format!("/{first} is 404"))
                .with_help(instead),
            );
        }
    }

    /// `about.html` beside `about/index.html`.
    fn two_addresses(&self, out: &mut Vec<Finding>) {
        // Under `exact` each is asked for by its own name.
        if self.edge().site().pages() == Pages::Exact {
            return;
        }
        let files = self.edge().files();
        let index = &self.edge().site().index();
        for name in files.names() {
            let Some(stem) = name.strip_suffix(".html") else { continue };
            let folder = format!("{stem}/{index}");
            if files.contains(&folder) {
                out.push(
                    Finding::in_file(
                        Code::DuplicatePage,
                        name,
                        format!(
                            "{name} and {folder} are the same page by name: /{stem} and /{stem}/"
                        ),
                    )
                    .with_note("a trailing slash decides which of the two a visitor gets")
                    .with_help("keep one of the files"),
                );
            }
        }
    }

    /// Names that are one in Unicode NFC, as URLs are compared.
    fn same_url(&self, out: &mut Vec<Finding>) {
        let mut by_url: BTreeMap<String, &str> = BTreeMap::new();
        for name in self.edge().files().names() {
            if let Some(other) = by_url.insert(name.nfc().collect(), name) {
                let [one, two] = [other, &**name].map(|name| name.chars().collect::<Vec<char>>());
                let start = one.iter().zip(&two).take_while(|(one, two)| one == two).count();
                let end = one[start..]
                    .iter()
                    .rev()
                    .zip(two[start..].iter().rev())
                    .take_while(|(one, two)| one == two)
                    .count();
                let points = |name: &[char]| {
                    let differing = name[start..name.len() - end].iter();
                    differing
                        .map(|c| format!("U+{:04X}", u32::from(*c)))
                        .collect::<Vec<_>>()
                        .join(" ")
                };
                let what = format!(
                    "two files are named {name}, one with {}, one with {}",
                    points(&one),
                    points(&two)
                );
                out.push(
                    Finding::in_file(Code::DuplicateUrl, name, what)
                        .with_note("it is not defined which of the two a visitor gets")
                        .with_help("rename one of them"),
                );
            }
        }
    }

    fn case_only(&self, out: &mut Vec<Finding>) {
        let mut by_lower: BTreeMap<String, &str> = BTreeMap::new();
        for name in self.edge().files().names() {
            if let Some(other) = by_lower.insert(name.to_lowercase(), name) {
                out.push(
                    Finding::in_file(
                        Code::CaseVariants,
                        name,
                        format!("{other} and {name} differ only in case"),
                    )
                    .with_note("typing the URL in the other case gets the other file")
                    .with_help("rename one of them"),
                );
            }
        }
    }
}
