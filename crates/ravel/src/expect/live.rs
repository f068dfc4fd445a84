//! Expectations held against what a running host answers. What is asked next is decided here; who
//! asks it is the caller's affair.

use http::HeaderMap;

use super::Failure;
use crate::address::{Address, Request};
use crate::edge::{MAX_HOPS, WalkEnd, method_after};
use crate::rules::{Check, CheckTest, Expectation, ExpectedOutcome, Site, StatedOutcome};

/// What a running host answered to one request.
#[derive(Debug, Clone)]
pub struct LiveAnswer {
    pub(crate) url: String,
    pub(crate) status: u16,
    pub(crate) headers: HeaderMap,
    pub(crate) body: Vec<u8>,
    pub(crate) cut: bool,
}

/// A request to a running host, followed through its redirects.
#[derive(Debug, Clone)]
pub struct LiveWalk {
    pub(crate) answers: Vec<LiveAnswer>,
    pub(crate) end: WalkEnd,
}

/// What to do after an answer.
#[derive(Debug)]
pub enum NextStep {
    /// Ask this.
    Ask(Box<Request>),
    /// Nothing: it ends here.
    Done(WalkEnd),
}

impl LiveAnswer {
    /// What was answered to a request for this URL: the status, the header fields and the body.
    ///
    /// ```
    /// let gone = ravel::expect::live::LiveAnswer::new("https://h.example/a", 410, http::HeaderMap::new(), vec![]);
    /// assert_eq!(gone.status(), 410);
    /// ```
    pub fn new(
        url: impl Into<String>,
        status: u16,
        headers: HeaderMap,
        body: Vec<u8>,
    ) -> LiveAnswer {
        LiveAnswer { url: url.into(), status, headers, body, cut: false }
    }

    /// With a body that was longer than what was read of it.
    #[must_use]
    pub fn with_cut_body(mut self) -> LiveAnswer {
        self.cut = true;
        self
    }

    /// Where the answer leads, as a browser reads its `location`: a fragment is kept, unless there
    /// is another.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\nexpect /a goes to https://h.example/b\n")?;
    /// # let moved = |url: &str, status, to: &str| {
    /// #     let headers = [(http::header::LOCATION, to.parse().unwrap())].into_iter().collect();
    /// #     ravel::expect::live::LiveAnswer::new(url, status, headers, Vec::new())
    /// # };
    /// let answer = moved("https://h.example/a", 301, "/b");
    /// assert_eq!(answer.leads_to().unwrap().as_str(), "https://h.example/b");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn leads_to(&self) -> Option<Address> {
        if !matches!(self.status, 301 | 302 | 303 | 307 | 308) {
            return None;
        }
        if self.leads_apart() {
            return None;
        }
        let location = self.headers.get(http::header::LOCATION)?.to_str().ok()?;
        let to = url::Url::parse(&self.url).ok()?.join(location).ok()?;
        let mut to = Address::parse_location(to.as_str()).ok()?;
        to.keep_fragment(self.url.split_once('#').map(|(_, fragment)| fragment));
        Some(to)
    }

    /// Whether it leads to several places, which browsers refuse (Fetch, section 2.2.6).
    fn leads_apart(&self) -> bool {
        let mut locations = self.headers.get_all(http::header::LOCATION).iter();
        let first = locations.next();
        locations.any(|other| Some(other) != first)
    }

    /// The address that was asked.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// The status.
    pub fn status(&self) -> u16 {
        self.status
    }

    /// The header fields.
    pub fn headers(&self) -> &HeaderMap {
        &self.headers
    }

    /// The body, decoded, as far as it was read.
    pub fn body(&self) -> &[u8] {
        &self.body
    }

    /// Whether there was more of the body than was read.
    pub fn cut(&self) -> bool {
        self.cut
    }
}

impl LiveWalk {
    /// The answers in the order in which they came, at least one, and how they end.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\nexpect /a goes to https://h.example/b\n")?;
    /// # let moved = |url: &str, status, to: &str| {
    /// #     let headers = [(http::header::LOCATION, to.parse().unwrap())].into_iter().collect();
    /// #     ravel::expect::live::LiveAnswer::new(url, status, headers, Vec::new())
    /// # };
    /// use ravel::edge::WalkEnd;
    /// use ravel::expect::live::LiveWalk;
    ///
    /// let walk = LiveWalk::new(vec![moved("https://h.example/a", 301, "https://other.example/")], WalkEnd::Away);
    /// assert_eq!(walk.hops(), 1);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn new(answers: Vec<LiveAnswer>, end: WalkEnd) -> LiveWalk {
        LiveWalk { answers, end }
    }

    /// The number of redirects.
    pub fn hops(&self) -> usize {
        self.answers.iter().filter(|seen| seen.leads_to().is_some()).count()
    }

    fn first(&self) -> &LiveAnswer {
        &self.answers[0]
    }

    fn last(&self) -> &LiveAnswer {
        &self.answers[self.answers.len() - 1]
    }

    fn url(&self) -> String {
        match (self.end, self.last().leads_to()) {
            (WalkEnd::Answer, _) | (_, None) => self.last().url.clone(),
            (_, Some(to)) => to.as_str().to_owned(),
        }
    }

    fn in_words(&self) -> String {
        match self.hops() {
            0 => self.first().in_words(),
            hops => {
                let number = if hops == 1 { "1 hop".to_owned() } else { format!("{hops} hops") };
                let end = match self.end {
                    WalkEnd::Answer => format!("which is {}", self.last().in_words()),
                    WalkEnd::Away => "which is not this site".to_owned(),
                    WalkEnd::Loop => "and again".to_owned(),
                };
                format!("goes to {} as {} in {number}, {end}", self.url(), self.first().status)
            }
        }
    }

    /// Whether the visitor ends so.
    fn ends_as(&self, is: StatedOutcome) -> bool {
        let (status, answered) = (self.last().status, self.end == WalkEnd::Answer);
        match is {
            StatedOutcome::Gone => answered && status == 410,
            StatedOutcome::Missing | StatedOutcome::Outside => answered && status == 404,
            StatedOutcome::Refused => answered && matches!(status, 400 | 405 | 414 | 421),
            StatedOutcome::Loop => self.end == WalkEnd::Loop || status == 508,
            StatedOutcome::Elsewhere => false,
        }
    }

    /// The answers; at least one.
    pub fn answers(&self) -> &[LiveAnswer] {
        &self.answers
    }

    /// Where it ends.
    pub fn end(&self) -> WalkEnd {
        self.end
    }
}

impl LiveAnswer {
    fn in_words(&self) -> String {
        let age = self.headers.get(http::header::AGE).and_then(|age| age.to_str().ok());
        let age = age.map_or(String::new(), |age| format!(" (from a cache, {age} s old)"));
        match self.leads_to() {
            None if self.leads_apart() => {
                let all = self.headers.get_all(http::header::LOCATION).iter();
                let all = all.map(|to| String::from_utf8_lossy(to.as_bytes()));
                let all = all.collect::<Vec<_>>().join(" and ");
                format!("{} to {all}: browsers refuse several `location` lines{age}", self.status)
            }
            Some(to) => format!("{} to {to}{age}", self.status),
            None => format!("{}{age}", self.status),
        }
    }
}

/// What a browser does after an answer: follows a redirect, as long as it stays on the site and
/// comes to an end.
///
/// ```
/// # let rules = ravel::Rules::parse("site https://h.example/\nexpect /a goes to https://h.example/b\n")?;
/// # let moved = |url: &str, status, to: &str| {
/// #     let headers = [(http::header::LOCATION, to.parse().unwrap())].into_iter().collect();
/// #     ravel::expect::live::LiveAnswer::new(url, status, headers, Vec::new())
/// # };
/// use ravel::expect::live::{NextStep, next};
///
/// let asked = ravel::Request::get("https://h.example/a")?;
/// let answers = [moved("https://h.example/a", 301, "/b")];
/// let NextStep::Ask(request) = next(rules.site(), &asked, &answers) else { panic!() };
/// assert_eq!(request.url(), "https://h.example/b");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn next(site: &Site, asked: &Request, answers: &[LiveAnswer]) -> NextStep {
    let Some(last) = answers.last() else { return NextStep::Ask(Box::new(asked.clone())) };
    let Some(to) = last.leads_to() else { return NextStep::Done(WalkEnd::Answer) };
    // A site is answered on the standard ports alone.
    if to.port().is_some() || !site.has_host(to.host()) {
        return NextStep::Done(WalkEnd::Away);
    }
    let plain = |url: &str| url.split('#').next().unwrap_or_default().to_owned();
    if answers.len() > MAX_HOPS
        || answers.iter().any(|seen| plain(&seen.url) == to.without_fragment())
    {
        return NextStep::Done(WalkEnd::Loop);
    }
    let method = answers
        .iter()
        .fold(asked.method().clone(), |method, seen| method_after(&method, seen.status));
    NextStep::Ask(Box::new(Request::of(method, to).with_headers(asked.headers().clone())))
}

/// The parts of an expectation that do not hold of what was seen. `differs` says how a body differs
/// from a file of the folder.
///
/// ```
/// # let rules = ravel::Rules::parse("site https://h.example/\nexpect /a goes to https://h.example/b\n")?;
/// # let moved = |url: &str, status, to: &str| {
/// #     let headers = [(http::header::LOCATION, to.parse().unwrap())].into_iter().collect();
/// #     ravel::expect::live::LiveAnswer::new(url, status, headers, Vec::new())
/// # };
/// use ravel::edge::WalkEnd;
/// use ravel::expect::live::{LiveWalk, compare};
///
/// let walk = LiveWalk::new(vec![moved("https://h.example/a", 301, "https://other.example/")], WalkEnd::Away);
/// let failures = compare(&rules.expectations()[0], &walk, |_, _| None);
/// assert!(failures[0].got().starts_with("goes to https://other.example/"));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn compare(
    expectation: &Expectation,
    walk: &LiveWalk,
    differs: impl Fn(&str, &LiveAnswer) -> Option<String>,
) -> Vec<Failure> {
    let first = walk.first();
    let mut failures = Vec::new();
    let mut fail = |expected: String, got: String| failures.push(Failure { expected, got });
    if let Some(outcome) = &expectation.outcome {
        let got = match outcome {
            ExpectedOutcome::GoesTo { address, status, hops } => {
                let ends_well = match walk.end {
                    WalkEnd::Answer => walk.hops() > 0 && walk.last().status == 200,
                    WalkEnd::Away => true,
                    WalkEnd::Loop => false,
                };
                let holds = ends_well
                    && super::same_address(address, &walk.url())
                    && status.is_none_or(|status| status == first.status)
                    && hops.is_none_or(|hops| hops == walk.hops());
                (!holds).then(|| walk.in_words())
            }
            ExpectedOutcome::RedirectsTo { address, status } => {
                let leads = first.leads_to();
                let leads = leads.is_some_and(|to| super::same_address(address, to.as_str()));
                let holds = leads && status.is_none_or(|status| status == first.status);
                (!holds).then(|| first.in_words())
            }
            ExpectedOutcome::IsNot(is) => walk.ends_as(*is).then(|| walk.in_words()),
            ExpectedOutcome::Serves(file) if first.status == 200 => differs(file, first),
            ExpectedOutcome::Serves(_) => Some(walk.in_words()),
            ExpectedOutcome::Is(is, status) => {
                let right = match is {
                    StatedOutcome::Gone => first.status == 410,
                    StatedOutcome::Missing | StatedOutcome::Outside => first.status == 404,
                    StatedOutcome::Refused => matches!(first.status, 400 | 405 | 414 | 421),
                    StatedOutcome::Loop => first.status == 508 || walk.end == WalkEnd::Loop,
                    StatedOutcome::Elsewhere => true,
                };
                let holds = right && status.is_none_or(|status| status == first.status);
                (!holds).then(|| walk.in_words())
            }
        };
        if let Some(got) = got {
            fail(outcome.to_string(), got);
        }
    }
    let at_end = matches!(expectation.outcome, Some(ExpectedOutcome::GoesTo { .. }));
    for check in &expectation.checks {
        if at_end && walk.end != WalkEnd::Answer {
            fail(check.to_string(), "the visitor leaves the site".to_owned());
        } else if let Some(got) = check_differs(check, if at_end { walk.last() } else { first }) {
            fail(check.to_string(), got);
        }
    }
    failures
}

fn check_differs(check: &Check, seen: &LiveAnswer) -> Option<String> {
    let values: Vec<String> = seen
        .headers
        .get_all(&check.name)
        .iter()
        .map(|value| String::from_utf8_lossy(value.as_bytes()).into_owned())
        .collect();
    let holds = match &check.test {
        CheckTest::Has => !values.is_empty(),
        CheckTest::HasValue(wanted) => {
            values.iter().any(|value| **value == **wanted) || values.join(", ") == **wanted
        }
        CheckTest::HasContaining(text) => values.iter().any(|value| value.contains(&**text)),
        CheckTest::HasMatching(regex) => {
            values.iter().any(|value| regex.is_match(value.as_bytes()))
        }
        CheckTest::Lacks => values.is_empty(),
    };
    (!holds).then(|| match values.is_empty() {
        true => format!("{} without {}", seen.in_words(), check.name),
        false => format!("{}: {}", check.name, values.join(", ")),
    })
}
