//! The folder of files, by names only.

use std::collections::BTreeMap;

use unicode_normalization::UnicodeNormalization;

use super::{Audit, Code, Finding};
use ravel::files::Omission;
use ravel::program::Pages;

/// Files that stand beside sources, and are not made by a build.
const SOURCES: [&str; 6] =
    ["package.json", "package-lock.json", "tsconfig.json", "Makefile", "Cargo.toml", "Gemfile"];
/// Endings of files that browsers cannot run.
const SOURCE_ENDINGS: [&str; 6] = [".ts", ".tsx", ".jsx", ".scss", ".sass", ".less"];

impl<'r> Audit<'r> {
    pub(super) fn folder_names(&self, out: &mut Vec<Finding>) {
        let edge = self.edge();
        let site = edge.site();
        let names = edge.files().names();
        let line = self.files_line();
        let Some(folder) = site.files() else { return };
        let sources = self.sources();
        if let Some(first) = sources.first() {
            let what =
                format!("{folder} looks like sources rather than built files: it holds {first}");
            out.push(
                Finding::on(Code::Sources, line, what)
                    .with_visitor("they see sources, or a list of them, instead of the site")
                    .with_instead("name the folder that the build writes"),
            );
        }
        if !edge.files().contains(site.index()) {
            let what = format!("{folder} has no {} at its root", site.index());
            let elsewhere = names.iter().find(|name| name.ends_with(&format!("/{}", site.index())));
            let instead = match elsewhere.and_then(|name| name.rsplit_once('/')) {
                Some((inner, _)) => format!("`files {folder}/{inner}`, if that is the built site"),
                None => "name the folder that the build writes".to_owned(),
            };
            out.push(
                Finding::on(Code::NoIndex, line, what)
                    .with_visitor("the site's first page is 404")
                    .with_instead(instead)
                    .with_example(site.url()),
            );
        }
        if site.missing().is_none() {
            let ready = names
                .iter()
                .find(|name| matches!(&***name, "404.html" | "404/index.html" | "not-found.html"));
            let instead = match ready {
                Some(name) => format!("`missing /{name}`"),
                None => {
                    "build a page that says so and leads on, and name it with `missing`".to_owned()
                }
            };
            out.push(
                Finding::on(
                    Code::NoMissingPage,
                    site.line(),
                    "no page is shown for what is missing",
                )
                .with_visitor("an unknown address gets one line of plain text")
                .with_instead(instead),
            );
        }
        self.left_out(line, out);
        self.two_addresses(out);
        self.same_url(out);
        self.case_only(out);
    }

    fn sources(&self) -> Vec<&str> {
        let names = self.edge().files().names();
        let is_source = |name: &&str| {
            SOURCES.contains(name)
                || name.starts_with("node_modules/")
                || SOURCE_ENDINGS.iter().any(|end| name.ends_with(end))
        };
        names.iter().map(|name| &**name).filter(is_source).collect()
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
                "copy what they lead to into the folder",
            ),
            (
                Omission::NotUtf8,
                "have names that are no UTF-8, which no address can spell",
                "rename them",
            ),
            (
                Omission::Unreadable,
                "stand for files or folders that cannot be read",
                "let the one who publishes read them",
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
                    Code::LeftOut,
                    line,
                    format!("{count} not published: {shown}{more}; such names {said}"),
                )
                .with_visitor(format!("/{first} is 404"))
                .with_instead(instead),
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
                        Code::TwoAddresses,
                        name,
                        format!("{name} and {folder} are one page by name: /{stem} and /{stem}/"),
                    )
                    .with_visitor("which of the two is seen hangs on a `/`")
                    .with_instead("keep one of the files"),
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
                    Finding::in_file(Code::SameUrl, name, what)
                        .with_visitor("which of the two is seen is left to chance")
                        .with_instead("rename one of them"),
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
                        Code::CaseOnly,
                        name,
                        format!("{other} and {name} differ only in case"),
                    )
                    .with_visitor("who types the address in the other case gets the other file")
                    .with_instead("rename one of them"),
                );
            }
        }
    }
}
