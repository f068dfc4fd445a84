//! The URLs that are known of a site, read from where people have them: one reader for all commands.

use std::collections::HashSet;
use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use ravel_traffic::{Columns, Entry, Hit, HitReader, SourceError};

use crate::Failure;

#[derive(clap::Args, Default)]
pub(crate) struct UrlSources {
    /// URLs that are known: a list, a table as CSV or TSV, a sitemap or an index of sitemaps, each
    /// also with gzip; `-` is standard input; may be given several times
    #[arg(long = "urls", value_name = "SOURCE")]
    sources: Vec<String>,
    /// The column of a table that has the URLs, if it has another name than `url`, `page` or `path`
    #[arg(long = "url", value_name = "NAME", requires = "sources")]
    url_column: Option<String>,
    /// The column of a table that says how often, if it has another name than `count`, `hits` or
    /// `visits`
    #[arg(long = "count", value_name = "NAME", requires = "sources")]
    count_column: Option<String>,
}

/// What is done with each line: the hit, or why it cannot be read, with its place.
type Take<'t> = dyn FnMut(Result<Hit, String>) -> Result<(), Failure> + 't;

impl UrlSources {
    /// Whether none is named.
    pub(crate) fn is_empty(&self) -> bool {
        self.sources.is_empty()
    }

    /// Whether one is standard input.
    pub(crate) fn read_input(&self) -> bool {
        self.sources.iter().any(|source| source == "-")
    }

    /// Reads all sources, one hit after another.
    pub(crate) fn each(&self, take: &mut Take<'_>) -> Result<(), Failure> {
        self.sources.iter().try_for_each(|source| self.read(source, take))
    }

    /// Columns by the names that are given, for commands that say them otherwise.
    pub(crate) fn of_columns(url: Option<String>, count: Option<String>) -> UrlSources {
        UrlSources { sources: Vec::new(), url_column: url, count_column: count }
    }

    fn columns(&self) -> Columns {
        Columns::default().with_url(self.url_column.clone()).with_count(self.count_column.clone())
    }

    /// Reads what comes from somewhere.
    pub(crate) fn read_from(
        &self,
        input: impl Read,
        name: &str,
        take: &mut Take<'_>,
    ) -> Result<(), Failure> {
        match read(input, name, &self.columns(), take)?.first() {
            None => Ok(()),
            Some(url) => Err(Failure::Message(format!(
                "{name} is an index that names {url}; name it as a file, beside which its sitemaps \
                 are"
            ))),
        }
    }

    /// Reads one source; `-` is standard input.
    pub(crate) fn read(&self, source: &str, take: &mut Take<'_>) -> Result<(), Failure> {
        let columns = self.columns();
        let mut known = HashSet::new();
        if source == "-" {
            return self.read_from(io::stdin().lock(), "standard input", take);
        }
        let mut waiting = vec![PathBuf::from(source)];
        while let Some(path) = waiting.pop() {
            if !known.insert(path.clone()) {
                continue;
            }
            let name = path.display().to_string();
            if path.is_dir() {
                return Err(Failure::Message(format!(
                    "`{name}` is a folder; name a list, a table or a sitemap"
                )));
            }
            let file = File::open(&path)
                .map_err(|error| Failure::Message(format!("cannot read `{name}`: {error}")))?;
            for url in read(file, &name, &columns, take)? {
                let beside = beside(&path, &url).ok_or_else(|| {
                    Failure::Message(format!(
                        "`{name}` names {url}, and there is no such file beside it; put it there"
                    ))
                })?;
                waiting.push(beside);
            }
        }
        Ok(())
    }
}

/// Reads one file; the result is the sitemaps that it names.
fn read(
    input: impl Read,
    name: &str,
    columns: &Columns,
    take: &mut Take<'_>,
) -> Result<Vec<String>, Failure> {
    let whole = |error: SourceError| Failure::Message(format!("{name}: {error}"));
    let mut index = Vec::new();
    for entry in HitReader::new(input, columns).map_err(whole)? {
        match entry {
            Ok(Entry::Hit(hit)) => take(Ok(hit))?,
            Ok(Entry::Sitemap(url)) => index.push(url),
            Err(error) if error.line().is_some() => take(Err(format!("{name}: {error}")))?,
            Err(error) => return Err(whole(error)),
        }
    }
    Ok(index)
}

/// The file of a sitemap that an index names: as much of the end of its path as is there.
fn beside(index: &Path, url: &str) -> Option<PathBuf> {
    let folder = index.parent().unwrap_or(Path::new(""));
    let path = url.split_once("://").map_or(url, |(_, rest)| rest);
    let path = path.split(['?', '#']).next().unwrap_or_default();
    let names: Vec<&str> = path.split('/').filter(|name| !name.is_empty()).skip(1).collect();
    if names.iter().any(|name| matches!(*name, "." | "..") || name.contains('\\')) {
        return None;
    }
    let tails = (0..names.len()).map(|from| folder.join(names[from..].join("/")));
    tails.into_iter().find(|path| path.is_file())
}
