//! URLs that are known of a site, and how many of them are answered differently.

use std::collections::HashMap;

use ravel::{Edge, Outcome, Request};
use ravel_check::{Comparison, Difference};

use crate::Failure;
use crate::style::count;
use crate::urls::UrlSources;

/// Lines that cannot be read and are shown.
const MAX_UNREAD: usize = 3;

/// The requests that sources have, each once.
#[derive(Default)]
pub(super) struct KnownUrls {
    hits: HashMap<String, (Request, u64)>,
    unread: Vec<String>,
    unread_count: usize,
}

/// How many URLs are known, and differ.
pub(super) struct KnownSummary {
    /// URLs, and how often they are asked.
    pub(super) all: (usize, u64),
    /// Those that are answered differently.
    pub(super) differing: (usize, u64),
    /// URLs that are not of the site in either edition.
    pub(super) outside: usize,
    /// Lines that cannot be read.
    pub(super) unread: usize,
}

impl KnownUrls {
    /// Reads all sources; paths are those of an edition. What cannot be read is said.
    pub(super) fn read(sources: &UrlSources, edge: &Edge) -> Result<Option<KnownUrls>, Failure> {
        if sources.is_empty() {
            return Ok(None);
        }
        let mut known = KnownUrls::default();
        sources.each(&mut |hit| {
            let read = hit.and_then(|hit| {
                let method = hit.method().cloned().unwrap_or_default();
                let request = Request::new(method, &edge.site().url_of(hit.url()));
                Ok((request.map_err(|error| error.to_string())?, hit.count()))
            });
            match read {
                Ok((request, times)) => known.add(request, times),
                Err(why) => {
                    known.unread_count += 1;
                    if known.unread.len() < MAX_UNREAD {
                        known.unread.push(why);
                    }
                }
            }
            Ok(())
        })?;
        match (known.hits.is_empty(), known.unread.is_empty()) {
            (true, false) => Err(Failure::Message(known.unread.join("\n       "))),
            (true, true) => Err(Failure::Message("`--urls` names no URL".to_owned())),
            (false, _) => Ok(Some(known)),
        }
    }

    fn add(&mut self, request: Request, times: u64) {
        let key = format!("{} {}", request.method(), request.url());
        let (_, known) = self.hits.entry(key).or_insert((request, 0));
        *known = known.saturating_add(times);
    }

    /// Counts them in the differences that they fall into.
    pub(super) fn count_in(
        &self,
        comparison: &mut Comparison<'_>,
        edges: [&Edge; 2],
    ) -> KnownSummary {
        comparison.count(self.hits.values().cloned());
        let is_outside = |(request, _): &&(Request, u64)| {
            edges.iter().all(|edge| {
                matches!(edge.answer(request).outcome(), Outcome::Outside | Outcome::Refused)
            })
        };
        KnownSummary {
            all: (
                self.hits.len(),
                self.hits.values().fold(0, |sum, (_, times)| sum.saturating_add(*times)),
            ),
            differing: (
                comparison.differences().iter().map(Difference::urls).sum(),
                comparison.differences().iter().map(Difference::hits).sum(),
            ),
            outside: self.hits.values().filter(is_outside).count(),
            unread: self.unread_count,
        }
    }

    /// The first lines that cannot be read, and how many more there are.
    pub(super) fn unread(&self) -> Option<String> {
        let more = self.unread_count - self.unread.len();
        let more = if more > 0 { format!("\n         and {more} more") } else { String::new() };
        let lines = count(self.unread_count, "line cannot", "lines cannot");
        let first = self.unread.join("\n         ");
        (self.unread_count > 0).then(|| format!("{lines} be read:\n         {first}{more}"))
    }
}

impl KnownSummary {
    /// In a sentence.
    pub(super) fn words(&self) -> String {
        let (urls, hits) = self.all;
        let (differing, of_hits) = self.differing;
        let verb = if differing == 1 { "is" } else { "are" };
        let mut words = format!(
            "{differing} of {} {verb} answered differently",
            count(urls, "known URL", "known URLs")
        );
        if hits != urls as u64 {
            words += &format!(", {of_hits} of {hits} hits");
        }
        if self.outside > 0 {
            let hosts = "not of the site";
            words += &format!(
                "; {} {} {hosts}",
                self.outside,
                if self.outside == 1 { "is" } else { "are" }
            );
        }
        words
    }
}
