//! The decision, in its order: host, redirect, canonical URL, method, rewrite, file, fallback,
//! missing.
//!
//! If you change this, change `publish/edge.mjs` too, which interprets the same program.

use std::borrow::Cow;

use http::Method;
use http::header::HOST;

use super::Edge;
use super::answer::{Answer, Headers, Outcome};
use super::context::Context;
use super::decision::{DecidedBy, Decision, Hop};
use super::header::{Permanence, refused};
use super::hosts::{Below, RequestParts};
use super::step::{CanonicalChange, Refusal, RuleResult, Step, Trace};
use crate::address::{Address, Host, Request, Scheme};
use crate::files::UrlVariant;
use crate::program::{Effect, Redirect, Role, Stage};
use crate::template::{Captures, Pattern, TargetBase};

/// The longest URL that is answered, and that redirects are joined to, in bytes: normalized and
/// without its fragment. A longer one gets 414 (RFC 9110, section 15.5.15).
///
/// ```
/// let rules = ravel::Rules::parse("site https://h.example/\n")?;
/// let edge = ravel::Edge::new(&rules, ravel::FileList::default());
/// let url = format!("https://h.example/{}", "a".repeat(ravel::edge::MAX_URL_BYTES));
/// assert_eq!(edge.answer(&ravel::Request::get(&url)?).status(), Some(414));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub const MAX_URL_BYTES: usize = 8_192;

#[inline]
fn names_one_host(request: &Request, address: &Address) -> bool {
    !request.has_headers() || header_names_host(request, address)
}

fn header_names_host(request: &Request, address: &Address) -> bool {
    let mut hosts = request.headers().get_all(HOST).into_iter();
    let other = |value: &http::HeaderValue| {
        let host = value.to_str().ok().and_then(|host| Host::of_request(host).ok());
        host.is_none_or(|host| host.as_str() != address.host())
    };
    !hosts.next().is_some_and(other) && hosts.next().is_none()
}

/// Why a request is refused before any setting is looked at; if for none of this, its host is not
/// the site's.
#[cold]
fn refusal(request: &Request) -> Refusal {
    match request.address() {
        Err(why) => Refusal::Malformed(why),
        Ok(address) if !names_one_host(request, address) => Refusal::TwoHosts,
        Ok(address) if address.len_without_fragment() > MAX_URL_BYTES => Refusal::TooLong,
        Ok(address) => Refusal::UnknownHost(address.host().into()),
    }
}

impl Edge {
    pub(super) fn decide<'e, T: Trace>(&'e self, request: &Request, trace: &mut T) -> Answer<'e> {
        let address = match request.address() {
            Ok(address)
                if address.len_without_fragment() <= MAX_URL_BYTES
                    && names_one_host(request, address) =>
            {
                address
            }
            _ => return refused(refusal(request), trace),
        };
        let Some(visit) = self.hosts.locate(request.method(), request.headers(), address) else {
            return refused(refusal(request), trace);
        };
        trace.step(|| Step::Host(visit.host.into(), visit.role, visit.line));
        let mut context = Context::new(trace);
        let decision = self.decision(&visit, address, &mut context);
        let vary = context.vary;
        self.complete(decision, &visit, vary, trace)
    }

    /// The answer that a decision comes to. One way out, so that the answer is made where it is
    /// wanted.
    fn complete<'e, T: Trace>(
        &'e self,
        decision: Decision,
        visit: &RequestParts<'_>,
        vary: u64,
        trace: &mut T,
    ) -> Answer<'e> {
        let file = decision.file.map(|file| self.file_name(file));
        let (outcome, status) = (decision.outcome, decision.status);
        let DecidedBy { rule, line: by } = decision.by;
        let mut answer = Answer { outcome, status, file, rule, by, headers: Headers::new() };
        if let Some(location) = decision.location {
            Edge::first_header(
                &mut answer,
                "location",
                Cow::Owned(location.into_string()),
                (rule, by),
                trace,
            );
        }
        if status == Some(405) {
            Edge::first_header(
                &mut answer,
                "allow",
                Cow::Borrowed("GET, HEAD"),
                (None, None),
                trace,
            );
        }
        self.add_headers(&mut answer, visit, decision.permanence, vary, trace);
        answer
    }

    fn decision<T: Trace>(
        &self,
        visit: &RequestParts<'_>,
        address: &Address,
        context: &mut Context<'_, T>,
    ) -> Decision {
        if let Some(first) = self.https_first(visit, context) {
            return first;
        }
        match self.hop(visit, context) {
            Hop::Redirect { to, status, by, permanence, last } => {
                let joins = self.program().site.one_hop && is_safe(visit.method) && !last;
                let permanence = Some(permanence);
                let first = Decision {
                    location: Some(to),
                    by,
                    permanence,
                    ..Decision::of(Outcome::Redirect, status)
                };
                if joins { self.one_hop(first, visit, address, context) } else { first }
            }
            Hop::Gone(by) => {
                let file = self.missing_page(visit, context);
                Decision { file, by, ..Decision::of(Outcome::Gone, 410) }
            }
            Hop::Elsewhere(by) => {
                Decision { by, status: None, ..Decision::of(Outcome::Elsewhere, 0) }
            }
            Hop::None(named) => self.file_decision(visit, named, context),
        }
    }

    /// Under `hsts` with `subdomains`, plain HTTP goes to HTTPS on its own host first: the promise
    /// must be seen there.
    pub(super) fn https_first<T: Trace>(
        &self,
        visit: &RequestParts<'_>,
        context: &mut Context<'_, T>,
    ) -> Option<Decision> {
        let hsts = self.program().site.hsts.as_ref().filter(|hsts| hsts.subdomains)?;
        if visit.scheme == Scheme::Https
            || visit.role == Role::Preview
            || visit.below == Below::Outside
        {
            return None;
        }
        context.trace.step(|| Step::HttpsFirst(visit.host.into(), hsts.line));
        let to = Address::joined(Scheme::Https, visit.host, [visit.path, ""], visit.query);
        let decided = Decision::of(Outcome::Redirect, canonical_status(visit.method));
        let permanence = Some(Permanence::Canonical);
        Some(Decision {
            by: DecidedBy::setting(hsts.line),
            location: Some(to),
            permanence,
            ..decided
        })
    }

    /// Steps 2 and 3.
    pub(super) fn hop<T: Trace>(
        &self,
        visit: &RequestParts<'_>,
        context: &mut Context<'_, T>,
    ) -> Hop {
        // Who asks why is told of every rule.
        if !T::LISTENS
            && let Some(hop) = self.at_a_glance(visit, context)
        {
            return hop;
        }
        self.hop_by_rules(visit, context)
    }

    fn hop_by_rules<T: Trace>(
        &self,
        visit: &RequestParts<'_>,
        context: &mut Context<'_, T>,
    ) -> Hop {
        let acted =
            self.first(Stage::Redirect, visit, context, |rule, captures| match &rule.rule.effect {
                Effect::Redirect(redirect) => {
                    let pattern = &rule.rule.pattern;
                    let to = self
                        .target(redirect, pattern, captures, visit)
                        .map_err(RuleResult::TargetImpossible)?;
                    if visit.is(&to) {
                        return Err(RuleResult::TargetIsRequest);
                    }
                    let permanence = Permanence::of(redirect.status);
                    let last =
                        self.precomputed.is_last(self.program().number(rule.id, Stage::Redirect));
                    Ok(Hop::Redirect {
                        to,
                        status: redirect.status,
                        by: DecidedBy::rule(rule),
                        permanence,
                        last,
                    })
                }
                Effect::Gone => Ok(Hop::Gone(DecidedBy::rule(rule))),
                Effect::Elsewhere(_) => Ok(Hop::Elsewhere(DecidedBy::rule(rule))),
                Effect::File(_) | Effect::NotFoundPage(_) | Effect::Headers(_) => {
                    Err(RuleResult::OtherAnswers)
                }
            });
        match acted {
            Some(hop) => hop,
            None if context.stopped => Hop::None(None),
            None => self.canonical(visit, context),
        }
    }

    /// The origin that a visitor is kept on: the canonical one, or the preview host they came to.
    /// Never from HTTPS to HTTP.
    pub(super) fn home<'a>(&'a self, visit: &RequestParts<'a>) -> (Scheme, &'a str) {
        let site = &self.program().site;
        match visit.role {
            Role::Preview => (visit.scheme, visit.host),
            Role::Canonical | Role::Alias if site.upgrades() => (Scheme::Https, site.host.as_str()),
            Role::Canonical | Role::Alias => (visit.scheme, site.host.as_str()),
        }
    }

    /// Where a redirect leads this visitor.
    fn target(
        &self,
        redirect: &Redirect,
        pattern: &Pattern,
        captures: &Captures<'_>,
        visit: &RequestParts<'_>,
    ) -> Result<Address, crate::template::ExpansionError> {
        let site = &self.program().site;
        let (scheme, host) = self.home(visit);
        let base = TargetBase { scheme, host, base: &site.base };
        let query = if redirect.drop_query { None } else { visit.query };
        let to = redirect.target.expand(pattern, captures, base, query)?;
        // A preview never leads to the site itself.
        if visit.role == Role::Preview
            && redirect.target.origin().is_some()
            && let Some(path) = self.hosts.own_path(to.host(), to.path())
        {
            return Ok(to.moved(visit.scheme, visit.host, [site.open_base(), path]));
        }
        Ok(to)
    }

    /// Step 3: the canonical URL of what no rule redirects.
    pub(super) fn canonical<T: Trace>(
        &self,
        visit: &RequestParts<'_>,
        context: &mut Context<'_, T>,
    ) -> Hop {
        let site = &self.program().site;
        let path = match visit.below {
            Below::Path(path) => path,
            Below::NoSlash => "/",
            Below::Outside => return Hop::None(None),
        };
        let home = self.home(visit);
        let (scheme, host) = home;
        // Only an alias has another host.
        let moved = scheme != visit.scheme || (visit.role == Role::Alias && host != visit.host);
        let open = site.open_base();
        let rebased = visit.path.len() != open.len() + path.len()
            || (!open.is_empty() && !visit.path.starts_with(open));
        let named = self.variants.asked(path, visit.hash, visit.odd);
        let variant = match named {
            Some(UrlVariant::Moved(file))
                if !self.is_rewritten(visit, path, home, moved, context) =>
            {
                Some(file)
            }
            _ => None,
        };
        if !moved && !rebased && variant.is_none() {
            return Hop::None(named);
        }
        let path = variant.map_or(path, |file| self.variants.own(file));
        let to = Address::joined(scheme, host, [site.open_base(), path], visit.query);
        context.trace.step(|| {
            let mut changes = Vec::new();
            if scheme != visit.scheme {
                changes.push(CanonicalChange::Scheme(scheme));
            }
            if host != visit.host {
                changes.push(CanonicalChange::Host(host.into()));
            }
            if rebased {
                changes.push(CanonicalChange::Base(site.base.clone()));
            }
            if let Some(file) = variant {
                changes.push(CanonicalChange::Variant {
                    file: self.file_name(file).into(),
                    path: to.path().into(),
                });
            }
            Step::Canonical(changes, (moved || rebased).then_some(visit.line))
        });
        let by = if moved || rebased { DecidedBy::setting(visit.line) } else { DecidedBy::FILES };
        let status = canonical_status(visit.method);
        Hop::Redirect { to, status, by, permanence: Permanence::Canonical, last: false }
    }
}

pub(super) fn is_safe(method: &Method) -> bool {
    method == Method::GET || method == Method::HEAD
}

fn canonical_status(method: &Method) -> u16 {
    if is_safe(method) { 301 } else { 308 }
}
