//! One rule: for which URLs, under which conditions, what is done.

use std::fmt;
use std::sync::Arc;

use super::{Effect, FileRole, Redirect, Tests};
use crate::language::Line;
use crate::template::{Pattern, Target};

/// One rule: a pattern, the tests that must all pass, and an effect.
// Aligned, so that among very many a rule is one pair of cache lines, which are mostly fetched
// together.
#[derive(Debug, Clone)]
#[repr(align(128))]
pub struct Rule {
    pub(crate) line: Line,
    pub(crate) pattern: Pattern,
    /// What must hold besides; shared by the rules of a group.
    pub(crate) tests: Option<Arc<Tests>>,
    pub(crate) effect: Effect,
}

const _: () = assert!(size_of::<Rule>() == 128, "a rule is one pair of cache lines");

/// The step of the decision at which a rule is asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Stage {
    /// Redirect, gone and elsewhere.
    Redirect,
    /// Rewrite.
    Rewrite,
    /// Fallback.
    Fallback,
    /// 404 pages of a part of the site.
    Missing,
    /// Headers of the answer.
    Headers,
}

impl Stage {
    /// Every stage, in the order in which they are asked.
    pub const ALL: [Stage; 5] =
        [Stage::Redirect, Stage::Rewrite, Stage::Fallback, Stage::Missing, Stage::Headers];
}

impl Rule {
    /// What must hold besides the pattern.
    pub fn tests(&self) -> &Tests {
        self.tests.as_deref().unwrap_or(Tests::NONE)
    }

    /// Whether nothing but the pattern is asked.
    pub fn is_unconditional(&self) -> bool {
        self.tests.is_none()
    }

    /// Whether nothing but the path below the base path is asked.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/{x}?k={k} -> /b/{x}\n")?;
    /// # let rule = rules.program().rules(ravel::program::Stage::Redirect).next().unwrap();
    /// assert!(!rule.asks_path_alone());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn asks_path_alone(&self) -> bool {
        self.is_unconditional()
            && self.pattern.origin().is_none()
            && self.pattern.query().is_empty()
    }

    /// The one path that it is for, if it asks nothing else.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\nredirect /a -> /b\n")?;
    /// # let rule = rules.program().rules(ravel::program::Stage::Redirect).next().unwrap();
    /// assert_eq!(rule.one_path(), Some("/a"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn one_path(&self) -> Option<&str> {
        (self.asks_path_alone() && self.pattern.path.is_literal())
            .then(|| self.pattern.path.as_str())
    }

    /// The redirect that it makes, if it makes one.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/{x}?k={k} -> /b/{x}\n")?;
    /// # let rule = rules.program().rules(ravel::program::Stage::Redirect).next().unwrap();
    /// assert_eq!(rule.redirect().unwrap().status(), 302);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn redirect(&self) -> Option<&Redirect> {
        match &self.effect {
            Effect::Redirect(redirect) => Some(redirect),
            Effect::Gone
            | Effect::Elsewhere(_)
            | Effect::File(_)
            | Effect::NotFoundPage(_)
            | Effect::Headers(_) => None,
        }
    }

    /// The path that a rewrite, a fallback or a 404 page looks up a file by.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nrewrite /a -> /b.html\n")?;
    /// let rule = rules.program().rules(ravel::program::Stage::Rewrite).next().unwrap();
    /// assert_eq!(rule.shows().unwrap().to_string(), "/b.html");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn shows(&self) -> Option<&Target> {
        match &self.effect {
            Effect::File(file) => Some(&file.path),
            Effect::NotFoundPage(path) => Some(path),
            Effect::Redirect(_) | Effect::Gone | Effect::Elsewhere(_) | Effect::Headers(_) => None,
        }
    }

    /// The URL or path that captures are put into, if it has one.
    pub fn target(&self) -> Option<&Target> {
        self.redirect().map(|redirect| &redirect.target).or_else(|| self.shows())
    }

    /// Whether it is a fallback that leaves URLs of known file types alone.
    pub fn spares_files(&self) -> bool {
        matches!(&self.effect, Effect::File(file) if file.role == FileRole::Fallback { even_files: false })
    }

    /// The stage at which it is asked.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\nredirect /a/{x}?k={k} -> /b/{x}\n")?;
    /// # let rule = rules.program().rules(ravel::program::Stage::Redirect).next().unwrap();
    /// assert_eq!(rule.stage(), ravel::program::Stage::Redirect);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn stage(&self) -> Stage {
        match &self.effect {
            Effect::Redirect(_) | Effect::Gone | Effect::Elsewhere(_) => Stage::Redirect,
            Effect::File(file) => match file.role {
                FileRole::Rewrite => Stage::Rewrite,
                FileRole::Fallback { .. } => Stage::Fallback,
            },
            Effect::NotFoundPage(_) => Stage::Missing,
            Effect::Headers(_) => Stage::Headers,
        }
    }

    /// Where it is written; a table that is named twice gives two rules one text, so this is for
    /// showing alone.
    pub fn line(&self) -> Line {
        self.line
    }

    /// The URLs.
    pub fn pattern(&self) -> &Pattern {
        &self.pattern
    }

    /// What is done.
    pub fn effect(&self) -> &Effect {
        &self.effect
    }
}

impl fmt::Display for Rule {
    /// The rule as its first line reads in canonical form.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let pattern = &self.pattern;
        match &self.effect {
            Effect::Redirect(redirect) => {
                write!(f, "redirect {pattern} -> {}", redirect.target)?;
                match redirect.status {
                    302 => {}
                    301 => f.write_str(" permanent")?,
                    status => write!(f, " {status}")?,
                }
                f.write_str(if redirect.drop_query { " drop query" } else { "" })
            }
            Effect::Gone => write!(f, "gone {pattern}"),
            Effect::Elsewhere(None) => write!(f, "elsewhere {pattern}"),
            Effect::Elsewhere(Some(who)) => {
                write!(
                    f,
                    "elsewhere {pattern} \"{}\"",
                    who.replace('\\', "\\\\").replace('"', "\\\"")
                )
            }
            Effect::File(file) => match file.role {
                FileRole::Rewrite => write!(f, "rewrite {pattern} -> {}", file.path),
                FileRole::Fallback { even_files } => {
                    write!(
                        f,
                        "fallback {pattern} -> {}{}",
                        file.path,
                        if even_files { " even files" } else { "" }
                    )
                }
            },
            Effect::NotFoundPage(path) => write!(f, "missing {pattern} -> {path}"),
            Effect::Headers(headers) => {
                write!(f, "headers {pattern}")?;
                if headers.on != super::HeaderScope::Served {
                    write!(f, " on {}", headers.on.as_str())?;
                }
                self.tests().media_ranges().try_for_each(|types| write!(f, " type {types}"))
            }
        }
    }
}
