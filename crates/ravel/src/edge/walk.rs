//! A request followed through its redirects, as a browser does.

use std::borrow::Cow;

use http::Method;

use super::Edge;
use super::answer::Outcome;
use super::words::Explanation;
use crate::address::{Address, Request};

/// A request followed through its redirects.
#[derive(Debug, Clone)]
pub struct Walk<'e> {
    pub(crate) answers: Vec<(String, Explanation<'e>)>,
    pub(crate) end: WalkEnd,
    /// Where it leads beyond the last answer.
    beyond: Option<String>,
}

/// Where a walk ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WalkEnd {
    /// At the last answer.
    Answer,
    /// At an address that is not the site's.
    Away,
    /// Nowhere: an address came back, or there were too many redirects.
    Loop,
}

/// The most redirects that browsers follow (Fetch, section 4.4).
pub const MAX_HOPS: usize = 20;

impl<'e> Walk<'e> {
    /// The status that a visitor ends with; none if another service answers, or the way leads off
    /// the site.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// # let request = ravel::Request::get("https://h.example/a/1")?;
    /// assert_eq!(edge.walk(&request).status(), Some(200));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn status(&self) -> Option<u16> {
        match self.end {
            WalkEnd::Answer => self.last().1.answer.status(),
            WalkEnd::Away => None,
            WalkEnd::Loop => Some(508),
        }
    }

    /// The number of redirects.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// # let request = ravel::Request::get("https://h.example/a/1")?;
    /// assert_eq!(edge.walk(&request).hops(), 1);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn hops(&self) -> usize {
        self.answers
            .iter()
            .filter(|(_, explanation)| explanation.answer.location().is_some())
            .count()
    }

    /// The address where it ends: what was asked last, or the location that left the site or came
    /// back; with the fragment that a browser keeps (Fetch, section 4.4).
    pub fn url(&self) -> &str {
        self.beyond.as_deref().unwrap_or_else(|| self.last().0)
    }

    /// What becomes of the request in the end.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// # let request = ravel::Request::get("https://h.example/a/1")?;
    /// assert_eq!(edge.walk(&request).outcome(), ravel::Outcome::File);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn outcome(&self) -> Outcome {
        match self.end {
            WalkEnd::Answer => self.last().1.answer.outcome(),
            WalkEnd::Away => Outcome::Elsewhere,
            WalkEnd::Loop => Outcome::Loop,
        }
    }

    /// The last answer, with the address that was asked.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// # let request = ravel::Request::get("https://h.example/a/1")?;
    /// let walk = edge.walk(&request);
    /// assert_eq!(walk.last().0, "https://h.example/b/1");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn last(&self) -> (&str, &Explanation<'e>) {
        let (asked, explanation) = self.answers.last().expect("a walk has an answer");
        (asked, explanation)
    }

    /// The first answer.
    pub fn first(&self) -> &Explanation<'e> {
        &self.answers.first().expect("a walk has an answer").1
    }

    /// Each answer with the address that was asked; at least one.
    pub fn answers(&self) -> &[(String, Explanation<'e>)] {
        &self.answers
    }

    /// Where it ends.
    pub fn end(&self) -> WalkEnd {
        self.end
    }
}

pub(super) fn walk<'e>(
    edge: &'e Edge,
    request: &Request,
    explain: impl Fn(&Request) -> Explanation<'e>,
) -> Walk<'e> {
    let mut answers: Vec<(String, Explanation<'e>)> = Vec::new();
    let mut request = Cow::Borrowed(request);
    loop {
        let explanation = explain(&request);
        let location = explanation
            .answer
            .location()
            .and_then(|location| Address::parse_location(location).ok());
        let status = explanation.answer.status();
        answers.push((request.url().to_owned(), explanation));
        let Some(mut to) = location else {
            return Walk { answers, end: WalkEnd::Answer, beyond: None };
        };
        to.keep_fragment(request.address().ok().and_then(Address::fragment));
        if to.port().is_some() || !edge.site().has_host(to.host()) {
            return Walk { answers, end: WalkEnd::Away, beyond: Some(to.into_string()) };
        }
        let came_back =
            answers.iter().any(|(asked, _)| without_fragment(asked) == to.without_fragment());
        if came_back || answers.len() > MAX_HOPS {
            return Walk { answers, end: WalkEnd::Loop, beyond: Some(to.into_string()) };
        }
        let method = method_after(request.method(), status.unwrap_or_default());
        let headers = request.headers().clone();
        request = Cow::Owned(Request::of(method, to).with_headers(headers));
    }
}

fn without_fragment(url: &str) -> &str {
    url.split_once('#').map_or(url, |(url, _)| url)
}

/// The method of the request that follows a redirect (Fetch, section 4.4).
///
/// ```
/// use http::Method;
/// use ravel::edge::method_after;
///
/// assert_eq!(method_after(&Method::POST, 303), Method::GET);
/// assert_eq!(method_after(&Method::POST, 308), Method::POST);
/// ```
pub fn method_after(method: &Method, status: u16) -> Method {
    let to_get = match status {
        303 => method != Method::HEAD,
        301 | 302 => method == Method::POST,
        _ => false,
    };
    if to_get { Method::GET } else { method.clone() }
}
