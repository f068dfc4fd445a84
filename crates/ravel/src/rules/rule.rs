use std::fmt;
use std::sync::Arc;

use super::{Conditions, HeaderRule, When, Where};
use crate::language::Line;
use crate::template::{Pattern, Target};

/// One rule: for which addresses, under which conditions, what is done.
// Aligned, so that among very many a rule is one pair of cache lines, which are mostly fetched together.
#[derive(Debug, Clone)]
#[repr(align(128))]
pub struct Rule {
    /// Where it stands.
    pub line: Line,
    /// The addresses.
    pub pattern: Pattern,
    /// What must hold besides; shared by the rules of a group.
    pub conditions: Option<Arc<Conditions>>,
    /// What is done.
    pub action: Action,
}

/// What a rule does.
#[derive(Debug, Clone)]
pub enum Action {
    /// Sends the visitor on.
    Redirect(Redirect),
    /// Answers 410.
    Gone,
    /// Leaves the address to another service, which may be named.
    Elsewhere(Option<Box<str>>),
    /// Looks up another file.
    Rewrite(Target),
    /// Shows a file when no file answers.
    Fallback {
        /// The file; boxed, so that a redirect, of which there may be very many, is no larger.
        path: Box<Target>,
        /// Whether addresses that look like files get it too.
        even_files: bool,
    },
    /// Shows a file, with 404, when nothing answers.
    Missing(Target),
    /// Changes header fields of the answer.
    Headers(Box<HeaderRule>),
}

/// Where a redirect leads, and how.
#[derive(Debug, Clone)]
pub struct Redirect {
    /// Where it leads.
    pub target: Target,
    /// 301, 302, 303, 307 or 308.
    pub status: u16,
    /// Whether parameters that the pattern does not name are left behind.
    pub drop_query: bool,
}

/// The step of the decision at which a rule is looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Stage {
    /// Redirect, gone and elsewhere.
    Redirect,
    /// Rewrite.
    Rewrite,
    /// Fallback.
    Fallback,
    /// Missing pages of a part of the site.
    Missing,
    /// Header fields.
    Headers,
}

impl Stage {
    /// Every stage.
    pub const ALL: [Stage; 5] = [Stage::Redirect, Stage::Rewrite, Stage::Fallback, Stage::Missing, Stage::Headers];
}

impl Rule {
    /// What its captures must be.
    pub fn wheres(&self) -> &[Where] {
        self.conditions.as_deref().map_or(&[], |conditions| &conditions.wheres)
    }

    /// What the request must be.
    pub fn whens(&self) -> &[When] {
        self.conditions.as_deref().map_or(&[], |conditions| &conditions.whens)
    }

    /// Whether nothing but the path below the base path is asked.
    pub(crate) fn asks_path_alone(&self) -> bool {
        self.conditions.is_none() && self.pattern.origin().is_none() && self.pattern.query().is_empty()
    }

    /// The one path that it is for, if it asks nothing else.
    pub(crate) fn one_path(&self) -> Option<&str> {
        (self.asks_path_alone() && self.pattern.path.is_literal()).then(|| self.pattern.path.as_str())
    }

    /// The path that a rewrite, a fallback or a missing page looks up a file by.
    pub fn shows(&self) -> Option<&Target> {
        match &self.action {
            Action::Rewrite(path) | Action::Missing(path) => Some(path),
            Action::Fallback { path, .. } => Some(path),
            Action::Redirect(_) | Action::Gone | Action::Elsewhere(_) | Action::Headers(_) => None,
        }
    }

    /// The stage at which it is looked at.
    pub fn stage(&self) -> Stage {
        match self.action {
            Action::Redirect(_) | Action::Gone | Action::Elsewhere(_) => Stage::Redirect,
            Action::Rewrite(_) => Stage::Rewrite,
            Action::Fallback { .. } => Stage::Fallback,
            Action::Missing(_) => Stage::Missing,
            Action::Headers(_) => Stage::Headers,
        }
    }
}

impl fmt::Display for Rule {
    /// The rule as its first line reads in canonical form.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let pattern = &self.pattern;
        match &self.action {
            Action::Redirect(redirect) => {
                write!(f, "redirect {pattern} -> {}", redirect.target)?;
                match redirect.status {
                    302 => {}
                    301 => f.write_str(" permanent")?,
                    status => write!(f, " {status}")?,
                }
                f.write_str(if redirect.drop_query { " drop query" } else { "" })
            }
            Action::Gone => write!(f, "gone {pattern}"),
            Action::Elsewhere(None) => write!(f, "elsewhere {pattern}"),
            Action::Elsewhere(Some(who)) => {
                write!(f, "elsewhere {pattern} \"{}\"", who.replace('\\', "\\\\").replace('"', "\\\""))
            }
            Action::Rewrite(path) => write!(f, "rewrite {pattern} -> {path}"),
            Action::Fallback { path, even_files } => {
                write!(f, "fallback {pattern} -> {path}{}", if *even_files { " even files" } else { "" })
            }
            Action::Missing(path) => write!(f, "missing {pattern} -> {path}"),
            Action::Headers(headers) => write!(f, "headers {pattern}{}", headers.on.suffix()),
        }
    }
}
