//! What `ravel build` says of what it has written.

use std::io::{self, Write};

use ravel_publish::{LineSupport, Support};
use serde_json::json;

use super::{Arguments, Content, Kind, Output};
use crate::diagnostic::{width as columns, write_folded};
use crate::load::LoadedSite;
use crate::style::{BAD, FAINT, GOOD, NOTE, STRONG, count, cut, in_style};

/// Wider rules are cut, in characters.
const MAX_WIDTH: usize = 52;
/// Rules are not cut to less, in characters.
const MIN_WIDTH: usize = 20;
/// A reason is not folded into less, in columns.
const MIN_REASON: usize = 20;
/// More lines of one kind are counted, since few lists have so many that are read.
const MAX_LINES: usize = 40;

pub(super) struct Report<'r> {
    pub(super) loaded: &'r LoadedSite,
    pub(super) arguments: &'r Arguments,
    pub(super) output: &'r Output,
}

impl Report<'_> {
    pub(super) fn print(&self, out: &mut dyn Write) -> io::Result<()> {
        match self.arguments.kind {
            Kind::Module => self.print_module(out),
            Kind::Files => self.print_pages(out),
            Kind::List => self.print_list(out),
        }
    }

    fn print_module(&self, out: &mut dyn Write) -> io::Result<()> {
        self.print_files(out)?;
        let what = "edge.mjs exports decide(request), fetch.mjs handle(request, file); \
                    service-worker.mjs runs them in a browser";
        writeln!(out)?;
        write_folded(&in_style(FAINT, what), "", "", out)?;
        if !self.output.lines.is_empty() {
            writeln!(out)?;
        }
        self.print_lines(out, Support::None, "not with the service worker")
    }

    fn print_pages(&self, out: &mut dyn Write) -> io::Result<()> {
        self.print_lines(out, Support::Full, "fully: as on an edge")?;
        let partial = "partially: visitors end where they should, in another way";
        self.print_lines(out, Support::Partial, partial)?;
        self.print_lines(out, Support::None, "not on a host that only serves files")?;
        let Output { files, left_out, .. } = self.output;
        let made = files.values().filter(|content| matches!(content, Content::Made(_))).count();
        let less = match left_out.len() {
            0 => String::new(),
            less => format!(", {} left out", count(less, "file", "files")),
        };
        let files = count(files.len(), "file", "files");
        let place = self.arguments.out.display();
        let head =
            format!("{files}, {made} of them made for this{less}, in {}", in_style(STRONG, place));
        write_folded(&head, "", "", out)?;
        let not = count(self.of(Support::None).count(), "line", "lines");
        let note = format!(
            "{not} cannot be done there; a page that leads on answers with and without a trailing slash"
        );
        write_folded(&in_style(FAINT, note), "", "", out)?;
        self.print_private(out)
    }

    /// Files that a server of another user cannot read.
    fn print_private(&self, out: &mut dyn Write) -> io::Result<()> {
        let private = self.private();
        let Some((first, mode)) = private.first() else { return Ok(()) };
        let more = match private.len() - 1 {
            0 => String::new(),
            more => format!(", and {} more", count(more, "file", "files")),
        };
        let why = format!(
            "{first} is for its owner alone (mode {mode:o}){more}: a server of another user answers 403; `chmod a+r` lets it read"
        );
        writeln!(out, "{}", in_style(NOTE, why))
    }

    /// The files that are copied and that not everybody may read, with their modes.
    #[cfg(unix)]
    fn private(&self) -> Vec<(&str, u32)> {
        use std::os::unix::fs::PermissionsExt;

        let files = self.output.files.iter().filter_map(|(name, content)| {
            let Content::Copy(from) = content else { return None };
            let mode = std::fs::metadata(from).ok()?.permissions().mode() & 0o777;
            (mode & 0o004 == 0).then_some((&**name, mode))
        });
        files.collect()
    }

    #[cfg(not(unix))]
    fn private(&self) -> Vec<(&str, u32)> {
        Vec::new()
    }

    fn print_list(&self, out: &mut dyn Write) -> io::Result<()> {
        self.print_lines(
            out,
            Support::Partial,
            "partially: a row that is right for most visitors",
        )?;
        self.print_lines(out, Support::None, "not in a list")?;
        self.print_files(out)?;
        let rows = self.of(Support::Full).count() + self.of(Support::Partial).count();
        let of = count(self.output.lines.len(), "line", "lines");
        let note = format!("\n{}, of {of}", count(rows, "row", "rows"));
        writeln!(out, "{}", in_style(FAINT, note))
    }

    /// The files with their sizes.
    fn print_files(&self, out: &mut dyn Write) -> io::Result<()> {
        let place = self.arguments.out.display();
        self.output.files.iter().try_for_each(|(name, content)| {
            writeln!(out, "{:>9}  {place}/{name}", bytes(content.len()))
        })
    }

    fn of(&self, support: Support) -> impl Iterator<Item = &LineSupport> {
        self.output.lines.iter().filter(move |line| line.support() == support)
    }

    /// The lines of one kind below their title.
    fn print_lines(&self, out: &mut dyn Write, support: Support, title: &str) -> io::Result<()> {
        let total = self.of(support).count();
        if total == 0 {
            return Ok(());
        }
        let style = match support {
            Support::Full => GOOD,
            Support::Partial => NOTE,
            _ => BAD,
        };
        let lines = &self.output.lines;
        let width = lines.iter().map(|line| self.loaded.name(line.line()).len()).max().unwrap_or(0);
        // The rule gives way to the reason where the terminal is narrow.
        let most = columns().saturating_sub(width + 6 + MIN_REASON).clamp(MIN_WIDTH, MAX_WIDTH);
        let what_width = |line: &LineSupport| line.what().chars().count().min(most);
        let widest = lines.iter().map(what_width).max().unwrap_or(0);
        writeln!(out, "{}", in_style(style, title))?;
        for line in self.of(support).take(MAX_LINES) {
            let place = self.loaded.name(line.line());
            let what = cut(line.what(), most);
            let place = in_style(FAINT, format!("{place:<width$}"));
            let beside = width + widest + 6;
            if beside + MIN_REASON <= columns() {
                let row = format!("{place}  {what:<widest$}  {}", line.how());
                write_folded(&row, "  ", &" ".repeat(beside), out)?;
            } else {
                let what = cut(line.what(), columns().saturating_sub(width + 4).max(MIN_WIDTH));
                writeln!(out, "  {place}  {what}")?;
                let below = " ".repeat(width + 6);
                write_folded(line.how(), &below, &below, out)?;
            }
        }
        if total > MAX_LINES {
            let more = format!("  and {} more: `--json` has all", total - MAX_LINES);
            writeln!(out, "{}", in_style(FAINT, more))?;
        }
        writeln!(out)
    }

    pub(super) fn print_json(&self, out: &mut dyn Write) -> io::Result<()> {
        let files: Vec<_> = self
            .output
            .files
            .iter()
            .map(|(name, content)| {
                let made = matches!(content, Content::Made(_));
                json!({ "name": name, "bytes": content.len(), "made": made })
            })
            .collect();
        let kind = match self.arguments.kind {
            Kind::Module => "module",
            Kind::Files => "files",
            Kind::List => "list",
        };
        let data = json!({
            "as": kind,
            "out": self.arguments.out.to_string_lossy(),
            "files": files,
            "left_out": self.output.left_out,
            "private": self.private().into_iter().map(|(name, _)| name).collect::<Vec<_>>(),
            "rules": self.loaded.rules().data(&*self.output.lines),
        });
        serde_json::to_writer_pretty(&mut *out, &data)?;
        writeln!(out)
    }
}

fn bytes(number: u64) -> String {
    match number {
        0..1_000 => format!("{number} B"),
        1_000..1_000_000 => format!("{:.1} kB", number as f64 / 1e3),
        _ => format!("{:.1} MB", number as f64 / 1e6),
    }
}
