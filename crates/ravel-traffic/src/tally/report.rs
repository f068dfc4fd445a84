//! What was counted, in order of what it costs visitors.

use std::cmp::Reverse;
use std::collections::BTreeMap;

use http::HeaderName;
use ravel::language::Line;
use ravel::program::Stage;

use super::sums::One;
use super::verdict::{Ending, HEADER_MARK, Judge};
use super::{Tally, UnreadLine, locked};
use crate::log::{Day, Urlless};

/// What was counted.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct TallyReport {
    requests: u64,
    urls: u64,
    endings: Vec<EndingCount>,
    missing: Vec<TalliedUrl>,
    redirected: Vec<TalliedUrl>,
    hops: Vec<(u8, u64)>,
    differing: Vec<DifferingStatus>,
    rules: Vec<RuleHits>,
    origins: Vec<(String, u64)>,
    headers: Vec<(HeaderName, u64)>,
    urlless: Vec<(Urlless, u64)>,
    unread: u64,
    examples: Vec<UnreadLine>,
    days: BTreeMap<Day, BTreeMap<Ending, u64>>,
}

/// Requests that end in one way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct EndingCount {
    ending: Ending,
    requests: u64,
    urls: u64,
}

impl EndingCount {
    /// How they end.
    pub fn ending(&self) -> Ending {
        self.ending
    }

    /// How many there are.
    pub fn requests(&self) -> u64 {
        self.requests
    }

    /// How many distinct URLs.
    pub fn urls(&self) -> u64 {
        self.urls
    }
}

/// A URL with its requests.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TalliedUrl {
    method: String,
    url: String,
    requests: u64,
    hops: u8,
}

impl TalliedUrl {
    /// The method, in capitals; GET where that is among several.
    pub fn method(&self) -> &str {
        &self.method
    }

    /// The whole URL.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// How often it was asked.
    pub fn requests(&self) -> u64 {
        self.requests
    }

    /// By how many redirects it comes to its end.
    pub fn hops(&self) -> u8 {
        self.hops
    }
}

/// Requests whose log has another status than the rules give.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DifferingStatus {
    logged: u16,
    answered: u16,
    requests: u64,
    example: TalliedUrl,
}

impl DifferingStatus {
    /// The status in the log.
    pub fn logged(&self) -> u16 {
        self.logged
    }

    /// That of the first answer; 0 if another service answers.
    pub fn answered(&self) -> u16 {
        self.answered
    }

    /// How many there are.
    pub fn requests(&self) -> u64 {
        self.requests
    }

    /// The URL of most of them.
    pub fn example(&self) -> &TalliedUrl {
        &self.example
    }
}

/// A rule with the requests that it decided, at their first answer or behind a redirect.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RuleHits {
    line: Line,
    rule: String,
    requests: u64,
}

impl RuleHits {
    /// The line of the rule.
    pub fn line(&self) -> Line {
        self.line
    }

    /// The rule as it is written.
    pub fn rule(&self) -> &str {
        &self.rule
    }

    /// How many requests it decided.
    pub fn requests(&self) -> u64 {
        self.requests
    }
}

impl TallyReport {
    /// All requests that are about a URL.
    pub fn requests(&self) -> u64 {
        self.requests
    }

    /// Distinct URLs: one that ends in several ways, by its method, is one.
    pub fn urls(&self) -> u64 {
        self.urls
    }

    /// How they end, in the order of [`Ending::ALL`]; only what there is.
    pub fn endings(&self) -> &[EndingCount] {
        &self.endings
    }

    /// Requests that end so.
    pub fn ending(&self, ending: Ending) -> u64 {
        self.endings.iter().find(|known| known.ending == ending).map_or(0, |known| known.requests)
    }

    /// Missing URLs, what is asked most first.
    pub fn missing(&self) -> &[TalliedUrl] {
        &self.missing
    }

    /// What is redirected, what is asked most first.
    pub fn redirected(&self) -> &[TalliedUrl] {
        &self.redirected
    }

    /// Requests by the number of their redirects, from 1.
    pub fn hops(&self) -> &[(u8, u64)] {
        &self.hops
    }

    /// What is answered otherwise than the log says, what is most first. 206 and 304 are as 200.
    pub fn differing(&self) -> &[DifferingStatus] {
        &self.differing
    }

    /// Redirects, rewrites and the like, in the order of the file; of headers it is not counted.
    pub fn rules(&self) -> &[RuleHits] {
        &self.rules
    }

    /// Schemes and hosts, what is asked most first.
    pub fn origins(&self) -> &[(String, u64)] {
        &self.origins
    }

    /// The headers on which requests hang that end with [`Ending::Depends`].
    pub fn headers(&self) -> &[(HeaderName, u64)] {
        &self.headers
    }

    /// Requests that are about no URL.
    pub fn urlless(&self) -> &[(Urlless, u64)] {
        &self.urlless
    }

    /// Lines that cannot be read.
    pub fn unread(&self) -> u64 {
        self.unread
    }

    /// The first of them.
    pub fn examples(&self) -> &[UnreadLine] {
        &self.examples
    }

    /// Requests of each day by how they end, where the source has times.
    pub fn days(&self) -> &BTreeMap<Day, BTreeMap<Ending, u64>> {
        &self.days
    }
}

impl Tally<'_> {
    /// What was counted, with so many URLs in each list.
    pub fn report(&self, most: usize) -> TallyReport {
        let sums = self.sums(most);
        let mut days = locked(&self.others).days.clone();
        for (day, counts) in sums.days {
            let known = days.entry(day).or_default();
            for (ending, count) in Ending::ALL.into_iter().zip(counts).filter(|(_, n)| *n > 0) {
                *known.entry(ending).or_default() += count;
            }
        }
        let tallied = |(requests, text, hops): One| TalliedUrl {
            method: text.split(' ').next().unwrap_or_default().to_owned(),
            url: self.judge.url(text.split(HEADER_MARK).next().unwrap_or_default()),
            requests,
            hops,
        };
        let endings = Ending::ALL.into_iter().zip(sums.endings).filter(|(_, (_, urls))| *urls > 0);
        let program = self.judge.edge.program();
        let stages = [Stage::Redirect, Stage::Rewrite, Stage::Fallback, Stage::Missing];
        let mut rules: Vec<RuleHits> = stages
            .into_iter()
            .flat_map(|stage| {
                (0..program.stage(stage).len() as u32).map(move |n| program.numbered(stage, n))
            })
            .map(|rule| RuleHits {
                line: rule.rule().line(),
                rule: rule.rule().to_string(),
                requests: sums.rules.get(&rule.id()).copied().unwrap_or(0),
            })
            .collect();
        rules.sort_by_key(|rule| rule.line);
        let mut origins = sums.origins;
        if sums.at_home > 0 {
            let Judge { scheme, host, .. } = &self.judge;
            *origins.entry(format!("{scheme}://{host}")).or_default() += sums.at_home;
        }
        let mut origins: Vec<(String, u64)> = origins.into_iter().collect();
        origins.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        let mut headers: Vec<(HeaderName, u64)> = sums.headers.into_values().collect();
        headers.sort_by_key(|(_, count)| Reverse(*count));
        let mut differing: Vec<DifferingStatus> = sums
            .differing
            .into_iter()
            .map(|((logged, answered), differing)| DifferingStatus {
                logged,
                answered,
                requests: differing.requests,
                example: tallied(differing.example),
            })
            .collect();
        differing.sort_by_key(|one| Reverse(one.requests));
        let others = locked(&self.others);
        TallyReport {
            requests: sums.endings.iter().map(|(requests, _)| requests).sum(),
            urls: sums.urls,
            endings: endings
                .map(|(ending, (requests, urls))| EndingCount { ending, requests, urls })
                .collect(),
            missing: sums.missing.sorted().map(tallied).collect(),
            redirected: sums.redirected.sorted().map(tallied).collect(),
            hops: sums.hops.into_iter().collect(),
            differing,
            rules,
            origins,
            headers,
            urlless: others.urlless.iter().map(|(why, count)| (*why, *count)).collect(),
            unread: others.unread,
            examples: others.examples.iter().cloned().collect(),
            days,
        }
    }
}
