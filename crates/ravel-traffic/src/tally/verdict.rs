//! What visitors get: the same for all requests of one URL, so that each is asked once.

use http::{HeaderName, HeaderValue, Method};
use ravel::address::Scheme;
use ravel::edge::{Edge, MAX_URL_BYTES, RouteEnd, WalkEnd};
use ravel::program::{Program, RuleId, Stage};
use ravel::{Outcome, Request};

/// How a request ends for a visitor.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[non_exhaustive]
pub enum Ending {
    /// With a file, at once.
    File,
    /// With a file or off the site, after redirects.
    Redirect,
    /// Another service answers.
    Elsewhere,
    /// It hangs on a header that the source does not have.
    Depends,
    /// 410.
    Gone,
    /// 404.
    Missing,
    /// 404: the URL is below no base path of the site.
    Outside,
    /// 400, 405, 414 or 421.
    Refused,
    /// In a redirect loop.
    Loop,
}

impl Ending {
    /// All of them, what is well first.
    pub const ALL: [Ending; 9] = [
        Ending::File,
        Ending::Redirect,
        Ending::Elsewhere,
        Ending::Depends,
        Ending::Gone,
        Ending::Missing,
        Ending::Outside,
        Ending::Refused,
        Ending::Loop,
    ];

    /// Its name.
    ///
    /// ```
    /// assert_eq!(ravel_traffic::Ending::Missing.as_str(), "missing");
    /// ```
    pub fn as_str(self) -> &'static str {
        match self {
            Ending::File => "file",
            Ending::Redirect => "redirect",
            Ending::Elsewhere => "elsewhere",
            Ending::Depends => "depends",
            Ending::Gone => "gone",
            Ending::Missing => "missing",
            Ending::Outside => "outside",
            Ending::Refused => "refused",
            Ending::Loop => "loop",
        }
    }
}

/// What all requests of a URL get.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) struct Verdict {
    pub(crate) ending: Ending,
    pub(crate) hops: u8,
    /// The status of the first answer; 0 if another service answers.
    pub(crate) status: u16,
    /// The rules that decide, hop by hop.
    pub(crate) rules: Box<[RuleId]>,
    /// Headers on which it hangs.
    pub(crate) headers: Box<[HeaderName]>,
}

/// What asks for verdicts.
#[derive(Debug)]
pub(crate) struct Judge<'e> {
    pub(crate) edge: &'e Edge,
    pub(crate) scheme: Scheme,
    pub(crate) host: String,
    /// Headers on which outcomes can hang.
    pub(crate) deciding: Vec<HeaderName>,
}

/// Between a request and each of the headers that the log has of it.
pub(crate) const HEADER_MARK: char = '\t';

impl<'e> Judge<'e> {
    pub(crate) fn new(edge: &'e Edge, scheme: Scheme, host: &str) -> Judge<'e> {
        let deciding = deciding_headers(edge.program());
        Judge { edge, scheme, host: host.to_owned(), deciding }
    }

    /// A request by its text: `METHOD URL`, and the headers that are known of it.
    pub(crate) fn request(&self, text: &str) -> Option<Request> {
        let (asked, headers) = split(text);
        let (method, url) = asked.split_once(' ')?;
        let method = Method::from_bytes(method.as_bytes()).ok()?;
        let mut request = match url.starts_with('/') {
            true => Request::from_parts(method, self.scheme, &self.host, url),
            false => Request::new(method, url).ok()?,
        };
        for header in headers.split_terminator(HEADER_MARK) {
            let (name, value) = header.split_once(": ")?;
            let name: HeaderName = name.parse().ok()?;
            request = request.with_header(name, HeaderValue::from_str(value).ok()?);
        }
        Some(request)
    }

    /// The URL of a request.
    pub(crate) fn url(&self, text: &str) -> String {
        let url = url(text);
        match url.starts_with('/') {
            true => format!("{}://{}{url}", self.scheme, self.host),
            false => url.to_owned(),
        }
    }

    /// The scheme and host of a request; none where it is the origin of requests that do not say
    /// theirs.
    pub(crate) fn origin<'t>(&self, text: &'t str) -> Option<&'t str> {
        let url = url(text);
        let end = || url.match_indices('/').nth(2).map_or(url.len(), |(at, _)| at);
        (!url.starts_with('/')).then(|| &url[..end()])
    }

    /// What visitors get.
    pub(crate) fn verdict(&self, text: &str) -> Verdict {
        let Some(request) = self.request(text) else {
            let (rules, headers) = Default::default();
            return Verdict { ending: Ending::Refused, hops: 0, status: 400, rules, headers };
        };
        if let Some(verdict) = self.at_once(&request) {
            return verdict;
        }
        let walk = self.edge.walk_unexplained(&request);
        let answers = walk.answers().iter().map(|(_, explanation)| explanation.answer());
        let rules = answers.clone().filter_map(|answer| answer.rule()).collect();
        let mut headers: Vec<HeaderName> = Vec::new();
        if !self.deciding.is_empty() {
            let varied = answers.filter_map(|answer| answer.header("vary"));
            let names = varied.flat_map(|vary| vary.split(", ").map(str::to_owned));
            let names: Vec<String> = names.collect();
            let is_open = |name: &&HeaderName| {
                names.iter().any(|varied| varied == name.as_str())
                    && !request.headers().contains_key(*name)
            };
            headers = self.deciding.iter().filter(is_open).cloned().collect();
        }
        let hops = walk.hops();
        let ending = match (walk.outcome(), walk.end()) {
            _ if !headers.is_empty() => Ending::Depends,
            (Outcome::Loop, _) | (_, WalkEnd::Loop) => Ending::Loop,
            (_, WalkEnd::Away) => Ending::Redirect,
            (Outcome::File, _) if hops == 0 => Ending::File,
            (Outcome::File | Outcome::Redirect, _) => Ending::Redirect,
            (Outcome::Gone, _) => Ending::Gone,
            (Outcome::Missing, _) => Ending::Missing,
            (Outcome::Outside, _) => Ending::Outside,
            (Outcome::Elsewhere, _) => Ending::Elsewhere,
            (Outcome::Refused, _) | (_, WalkEnd::Answer) => Ending::Refused,
        };
        Verdict {
            ending,
            hops: u8::try_from(hops).unwrap_or(u8::MAX),
            status: walk.first().answer().status().unwrap_or(0),
            rules,
            headers: headers.into(),
        }
    }
}

impl Judge<'_> {
    /// The same for what is answered at once or behind one redirect, as most is: the fields of answers
    /// are not made, which would be most of the work. None where it hangs on them, or may be refused.
    fn at_once(&self, request: &Request) -> Option<Verdict> {
        let is_plain = self.deciding.is_empty()
            && matches!(*request.method(), Method::GET | Method::HEAD)
            && request.address().ok()?.without_fragment().len() <= MAX_URL_BYTES;
        let route = is_plain.then(|| self.edge.route(request))?;
        let redirect = match route.hops() {
            [] => None,
            [hop] => Some(hop.rule()?),
            _ => return None,
        };
        let (ending, status, by) = match route.end() {
            RouteEnd::Away => (Ending::Redirect, 0, None),
            RouteEnd::Answer { outcome, by, .. } => match outcome {
                Outcome::File if redirect.is_some() => (Ending::Redirect, 200, *by),
                Outcome::File => (Ending::File, 200, *by),
                Outcome::Gone => (Ending::Gone, 410, *by),
                Outcome::Missing => (Ending::Missing, 404, *by),
                Outcome::Outside => (Ending::Outside, 404, *by),
                Outcome::Elsewhere => (Ending::Elsewhere, 0, *by),
                _ => return None,
            },
            _ => return None,
        };
        let status = match (redirect, route.end()) {
            (Some(id), _) => self.edge.program().rule(id).rule().redirect()?.status(),
            // At the first URL, a host that is not the site's is refused.
            (None, RouteEnd::Away) => return None,
            (None, _) => status,
        };
        let rules = redirect.into_iter().chain(by).collect();
        let hops = u8::from(redirect.is_some());
        Some(Verdict { ending, hops, status, rules, headers: Box::default() })
    }
}

/// `METHOD URL`, and the headers behind.
fn split(text: &str) -> (&str, &str) {
    match memchr::memchr(HEADER_MARK as u8, text.as_bytes()) {
        Some(at) => (&text[..at], &text[at + 1..]),
        None => (text, ""),
    }
}

/// The URL of a request, if its text says more than that it is asked for by GET.
pub(crate) fn url_of_others(text: &str) -> Option<&str> {
    let is_plain = text.starts_with("GET ") && split(text).1.is_empty();
    (!is_plain).then(|| url(text))
}

fn url(text: &str) -> &str {
    let (asked, _) = split(text);
    asked.split_once(' ').map_or(asked, |(_, url)| url)
}

/// The headers that rules look at which decide more than header fields.
fn deciding_headers(program: &Program) -> Vec<HeaderName> {
    let rules = program.all_rules().iter().filter(|rule| rule.stage() != Stage::Headers);
    let bits = rules.fold(0, |bits, rule| bits | rule.tests().request_headers());
    let names = program.request_headers().iter().enumerate();
    names.filter(|(bit, _)| bits >> bit & 1 == 1).map(|(_, name)| name.clone()).collect()
}
