//! Built files, read by several threads and followed in their order.

use std::fmt::Display;

use ravel::address::Request;
use ravel::edit::Edit;

use super::content::{Reference, is_build_manifest, reads};
use super::fingerprints::of_manifest;
use super::links::{base_of, is_relative};
use super::referring::{ReadFile, ReferringFile};
use super::{Audit, Code, Finding};
use crate::parallel::in_order;

impl<'r> Audit<'r> {
    /// Reads a built file and follows what it refers to. Files for which [`super::reads`] is false
    /// need not be read.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// let mut audit = ravel_check::Audit::new(&edge);
    /// audit.read("index.html", b"<a href=/nowhere>x</a>");
    /// assert_eq!(audit.content()[0].code().name(), "broken-link");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn read(&mut self, name: &str, bytes: &[u8]) {
        self.take(name, &ReadFile::of(name, bytes.to_vec()));
    }

    /// Reads all files, by several threads, and follows what they refer to in their order.
    pub(super) fn read_all<E: Display>(
        &mut self,
        read: impl Fn(&str) -> Result<Vec<u8>, E> + Sync,
    ) {
        let files = self.edge().files().names();
        let names: Vec<&str> =
            files.iter().map(|name| &**name).filter(|name| reads(name)).collect();
        let read = |name: &str| match read(name) {
            Ok(bytes) => Ok(ReadFile::of(name, bytes)),
            Err(error) => Err(error.to_string()),
        };
        in_order(&names, read, |name, read| match read {
            Ok(file) => self.take(name, &file),
            Err(why) => self.unreadable(name, &why),
        });
    }

    /// Follows what a file refers to.
    fn take(&mut self, name: &str, read: &ReadFile) {
        let edge = self.edge();
        let Some(file) = edge.number_of(name) else { return };
        if is_build_manifest(name) {
            self.folder.built.extend(of_manifest(name, &read.text));
        }
        let content = match &read.content {
            Ok(content) => content,
            Err(why) => return self.unreadable(name, why),
        };
        let from = ReferringFile::new(name, read);
        let own = edge.url_of(file);
        let hidden =
            Request::get(&own).is_ok_and(|request| !edge.route(&request).hops().is_empty());
        let mut at_fault = Vec::new();
        if !hidden {
            let base = base_of(&own, content.base.as_deref());
            for (number, reference) in content.references.iter().enumerate() {
                let before = self.folder.total;
                self.follow(&from, &own, base.as_ref(), reference);
                if self.folder.total > before {
                    at_fault.push(number);
                }
            }
        }
        for (shown_at, line) in self.shown_deeper(name) {
            let base = base_of(&shown_at, content.base.as_deref());
            let relative =
                |reference: &Reference| reference.kind.is_loaded() && is_relative(&reference.url);
            let others = content
                .references
                .iter()
                .enumerate()
                .filter(|(number, _)| !at_fault.contains(number));
            for reference in
                others.map(|(_, reference)| reference).filter(|reference| relative(reference))
            {
                let at_home = base_of(&own, content.base.as_deref())
                    .and_then(|base| base.join(&reference.url).ok());
                let there = base.as_ref().and_then(|base| base.join(&reference.url).ok());
                if at_home != there {
                    self.deeper(&from, reference, &shown_at, there, line);
                }
            }
        }
        if content.app_shell && !self.is_fallback_page(name) && !self.is_missing_page(name) {
            self.app_without_fallback(name, file);
        }
    }

    fn app_without_fallback(&mut self, name: &str, file: u32) {
        let edge = self.edge();
        let what = format!("{name} looks like a single-page app, and no fallback serves it");
        let address = edge.own_address(file);
        let folder = address.rsplit_once('/').map_or("", |(folder, _)| folder);
        let (path, accept) = match folder {
            "" => ("", "  accept catch-all-fallback \"the app answers every URL\"\n"),
            _ => (folder, ""),
        };
        let text = format!("fallback {path}{{/step*}} -> {address}\n{accept}");
        let finding = Finding::in_file(Code::AppWithoutFallback, name, what)
            .with_edits([Edit::AtEnd { text }])
            .with_note("a URL of the app that is opened directly, or reloaded, is 404")
            .with_help(match folder {
                "" => format!(
                    "write `fallback {{/step*}} -> {address}`, and below it `accept \
                     catch-all-fallback \"the app answers every URL\"`"
                ),
                _ => format!("write `fallback {folder}{{/step*}} -> {address}`"),
            });
        self.folder.add(name, finding);
    }

    /// Says that a file could not be read.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// let mut audit = ravel_check::Audit::new(&edge);
    /// audit.unreadable("index.html", "permission denied");
    /// assert_eq!(audit.content()[0].code().name(), "unreadable-file");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn unreadable(&mut self, name: &str, why: &str) {
        let finding =
            Finding::in_file(Code::UnreadableFile, name, format!("cannot read {name}: {why}"))
                .with_note("its links were not checked")
                .with_help("fix the file");
        self.folder.add(name, finding);
    }
}
