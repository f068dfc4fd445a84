//! The first rules of a site, asked of the same edge and checks as any rules.

use std::fmt;

use ravel::language::format;
use ravel::{FileList, Rules};
use ravel_check::verify_all;
use url::Url;

use crate::base;
use crate::expectations::expectations;
use crate::moves::OldSite;
use crate::settings::Drafting;
use crate::statements::text_of;
use crate::survey::Survey;

/// The first rules of a site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Draft {
    rules: String,
    moves: String,
}

/// Why there is no draft.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum DraftError {
    /// The URL is not one that a site can have.
    Url(String),
    /// No file is a page.
    NoPages,
    /// The build was made for another base path: this one, of the URL, fits so many references from
    /// the root of the host, and that one so many, of all.
    OtherBase {
        /// The URL as it was given.
        url: String,
        /// The URL with the base path of the build.
        fitting: String,
        /// References that fit the URL, that fit the other, and all.
        references: [usize; 3],
    },
    /// The rules that were made cannot be read, which is a mistake here.
    Rules(String),
}

impl fmt::Display for DraftError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            DraftError::Url(why) => f.write_str(why),
            DraftError::NoPages => {
                f.write_str("there is no HTML page; name the folder that the build makes")
            }
            DraftError::OtherBase { url, fitting, references: [own, other, all] } => write!(
                f,
                "the build was made for another base path: of {all} references from `/`, {own} name a file \
                 below {url}, and {other} below {fitting}; draft it at {fitting}, or build it for {url}"
            ),
            DraftError::Rules(why) => write!(f, "the draft cannot be read: {why}"),
        }
    }
}

impl std::error::Error for DraftError {}

impl Draft {
    /// Drafts the rules of a site at a URL, from the names of its built files, in a folder as the
    /// rules name it, and their bytes.
    ///
    /// ```
    /// let page = |_: &str| Ok::<_, String>(b"<p>Hello".to_vec());
    /// let draft = ravel_draft::Draft::of("https://h.example/", "dist", &["index.html"], page)?;
    /// assert!(draft.rules().contains("expect / serves /index.html"));
    /// # Ok::<(), ravel_draft::DraftError>(())
    /// ```
    ///
    /// # Errors
    /// A URL that is not one of a site, no page, a build for another base path.
    pub fn of<N: AsRef<str>, E: fmt::Display>(
        url: &str,
        folder: &str,
        names: &[N],
        read: impl Fn(&str) -> Result<Vec<u8>, E> + Sync,
    ) -> Result<Draft, DraftError> {
        Draft::after(url, folder, names, read, &OldSite::default(), &|_| ())
    }

    /// The same, with redirects for the URLs of the site before that are missing now: by what pages
    /// say, or by the words of their paths. What is not sure is a comment. Each old URL is told when it
    /// was looked at.
    ///
    /// ```
    /// let text = "<p>The ferry leaves at noon from the old pier, and comes back at six.";
    /// let page = |_: &str| Ok::<_, String>(text.as_bytes().to_vec());
    /// let old = ravel_draft::OldSite::of_build("https://h.example/", &["times.html"], page);
    /// let new = &["index.html", "timetable.html"];
    /// let read = |name: &str| if name == "index.html" { Ok(Vec::new()) } else { page(name) };
    /// let draft = ravel_draft::Draft::after("https://h.example/", "dist", new, read, &old, &|_| ())?;
    /// assert!(draft.rules().contains("/times -> /timetable"));
    /// # Ok::<(), ravel_draft::DraftError>(())
    /// ```
    ///
    /// # Errors
    /// As [`Draft::of`].
    pub fn after<N: AsRef<str>, E: fmt::Display>(
        url: &str,
        folder: &str,
        names: &[N],
        read: impl Fn(&str) -> Result<Vec<u8>, E> + Sync,
        old: &OldSite,
        looked_at: &dyn Fn(&str),
    ) -> Result<Draft, DraftError> {
        let url = site_url(url)?;
        let files: FileList = names.iter().map(AsRef::as_ref).collect();
        let survey = Survey::of(files.names().iter().map(|name| &**name), old.depth(), &read);
        if survey.pages.is_empty() {
            return Err(DraftError::NoPages);
        }
        let (own, best) = base::fits(&survey, url.path());
        if best.fits > own.fits * 2 && best.fits > 1 {
            let mut fitting = url.clone();
            fitting.set_path(&best.base);
            return Err(DraftError::OtherBase {
                url: url.to_string(),
                fitting: fitting.to_string(),
                references: [own.fits, best.fits, own.all],
            });
        }
        let drafting = Drafting { url: &url, survey: &survey, files: &files };
        let mut text = drafting.site(folder, &own);
        let statements = drafting.statements(&drafting.edge(&text)?);
        text = format!("{text}\n{}", text_of(&statements));
        text = drafting.with_help(text, &read)?;
        let moves = drafting.moves(&text, old, looked_at)?;
        text += &moves;
        let edge = drafting.edge(&text)?;
        let expected = expectations(&edge);
        if !expected.is_empty() {
            text = format!("{}\n\n{}", text.trim_end(), text_of(&expected));
        }
        let text = format(&text).map_err(|problems| DraftError::Rules(format!("{problems:?}")))?;
        let edge = drafting.edge(&text)?;
        match verify_all(&edge).iter().find(|verdict| !verdict.holds()) {
            None => {
                let moves = format(moves.trim_start())
                    .map_err(|problems| DraftError::Rules(format!("{problems:?}")))?;
                Ok(Draft { rules: text, moves })
            }
            Some(verdict) => Err(DraftError::Rules(format!("`{}` does not hold", verdict.asked()))),
        }
    }

    /// The text of the rules file.
    pub fn rules(&self) -> &str {
        &self.rules
    }

    /// The part of it that is about old URLs, for those who have rules already; empty where none is
    /// missing.
    pub fn moves(&self) -> &str {
        &self.moves
    }
}

fn site_url(text: &str) -> Result<Url, DraftError> {
    let why = || {
        DraftError::Url(format!(
            "`{text}` is not the URL of a site; write scheme, host and base path alone, as in \
             `https://harbour.example/guide/`"
        ))
    };
    let rules = Rules::parse(&format!("site {text}\n")).map_err(|_| why())?;
    Url::parse(&rules.site().url()).map_err(|_| why())
}
