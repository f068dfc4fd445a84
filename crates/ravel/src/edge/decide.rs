//! The decision, in its order: host, redirect, canonical address, method, rewrite, file, fallback, missing.

use std::borrow::Cow;

use http::Method;

use super::Edge;
use super::answer::{Answer, Header, Headers, Outcome};
use super::explain;
use super::header::Permanence;
use super::hosts::{Asked, Below, Role};
use super::look::Looking;
use super::trace::{Came, Step, Trace};
use crate::address::{Address, Request, Scheme};
use crate::files::{Spelled, is_known_type};
use crate::language::Line;
use crate::rules::{Action, Redirect, Stage};
use crate::template::{Captures, Pattern, TargetBase};

/// The most redirects that are made into one.
pub(super) const MOST_STEPS: usize = 16;
/// The longest address that a redirect leads to, in bytes.
pub(super) const LONGEST: usize = 8_192;

/// What was decided, before header fields.
pub(super) struct Decision {
    pub(super) outcome: Outcome,
    status: u16,
    pub(super) file: Option<u32>,
    pub(super) by: Option<Line>,
    pub(super) location: Option<Address>,
    permanence: Option<Permanence>,
}

impl Decision {
    fn of(outcome: Outcome, status: u16) -> Decision {
        Decision { outcome, status, file: None, by: None, location: None, permanence: None }
    }
}

/// What steps 2 and 3 say.
pub(super) enum Hop {
    Redirect {
        to: Address,
        status: u16,
        by: Option<Line>,
        permanence: Permanence,
        /// Whether it is known that this is redirected no further.
        last: bool,
    },
    Gone(Line),
    Elsewhere(Line),
    /// No redirect; with what the address names, where that was looked up.
    None(Option<Spelled>),
}

impl Edge {
    pub(super) fn decide<'e, T: Trace>(&'e self, request: &Request, trace: &mut T) -> Answer<'e> {
        let address = match request.address() {
            Ok(address) => address,
            Err(why) => return refused(400, || why.to_string(), trace),
        };
        let Some(asked) = self.hosts.locate(request.method(), request.headers(), address) else {
            return refused(421, || format!("`{}` is no host of this site", address.host()), trace);
        };
        trace.step(|| explain::host_step(&asked));
        let mut looking = Looking::new(trace);
        let decision = self.decision(&asked, address, &mut looking);
        let vary = looking.vary;
        self.complete(decision, &asked, vary, trace)
    }

    /// The answer that a decision comes to. One way out, so that the answer is made where it is wanted.
    fn complete<'e, T: Trace>(&'e self, decision: Decision, asked: &Asked<'_>, vary: u64, trace: &mut T) -> Answer<'e> {
        let file = decision.file.map(|file| self.file_name(file));
        let (outcome, status, by) = (decision.outcome, decision.status, decision.by);
        let mut answer = Answer { outcome, status, file, by, headers: Headers::new() };
        if let Some(location) = decision.location {
            answer.headers.push(Header { name: "location", value: Cow::Owned(location.into_string()), line: decision.by });
        }
        if status == 405 {
            answer.headers.push(Header { name: "allow", value: Cow::Borrowed("GET, HEAD"), line: None });
        }
        self.add_headers(&mut answer, asked, decision.permanence, vary, trace);
        answer
    }

    fn decision<T: Trace>(&self, asked: &Asked<'_>, address: &Address, looking: &mut Looking<'_, T>) -> Decision {
        if let Some(first) = self.https_first(asked, looking) {
            return first;
        }
        match self.hop(asked, looking) {
            Hop::Redirect { to, status, by, permanence, last } => {
                let settled = last && to.as_str().len() <= LONGEST;
                let joins = self.rules.site.one_hop && is_safe(asked.method) && !settled;
                let permanence = Some(permanence);
                let first = Decision { location: Some(to), by, permanence, ..Decision::of(Outcome::Redirect, status) };
                if joins { self.one_hop(first, asked, address, looking) } else { first }
            }
            Hop::Gone(line) => {
                let file = self.missing_page(asked, looking);
                Decision { file, by: Some(line), ..Decision::of(Outcome::Gone, 410) }
            }
            Hop::Elsewhere(line) => Decision { by: Some(line), ..Decision::of(Outcome::Elsewhere, 0) },
            Hop::None(named) => self.file_decision(asked, named, looking),
        }
    }

    /// Under `hsts` with `subdomains`, plain HTTP goes to HTTPS on its own host first: the promise must be seen there.
    pub(super) fn https_first<T: Trace>(&self, asked: &Asked<'_>, looking: &mut Looking<'_, T>) -> Option<Decision> {
        let hsts = self.rules.site.hsts.as_ref().filter(|hsts| hsts.subdomains)?;
        if asked.scheme == Scheme::Https || asked.role == Role::Preview {
            return None;
        }
        looking.trace.step(|| Step {
            line: Some(hsts.line),
            what: "hsts with subdomains".to_owned(),
            came: Came::Noted(format!("plain HTTP goes to https://{} first, so that the promise is seen there", asked.host)),
        });
        let to = Address::joined(Scheme::Https, asked.host, [asked.path, ""], asked.query);
        let decided = Decision::of(Outcome::Redirect, canonical_status(asked.method));
        Some(Decision { by: Some(hsts.line), location: Some(to), permanence: Some(Permanence::Canonical), ..decided })
    }

    /// Steps 2 and 3.
    pub(super) fn hop<T: Trace>(&self, asked: &Asked<'_>, looking: &mut Looking<'_, T>) -> Hop {
        // Who asks why is told of every rule.
        if !T::LISTENS
            && let Some(hop) = self.at_a_glance(asked, looking)
        {
            return hop;
        }
        let mut hop = Hop::None(None);
        let acted = self.first(Stage::Redirect, asked, looking, |number, rule, captures| {
            hop = match &rule.action {
                Action::Redirect(redirect) => {
                    let to = self.target(redirect, &rule.pattern, captures, asked);
                    let to = to.ok_or("a capture can not stand in its target")?;
                    if asked.is(&to) {
                        return Err("it leads to this very address, so it does not act");
                    }
                    let permanence = Permanence::of(redirect.status);
                    let last = self.foreseen.is_last(number);
                    Hop::Redirect { to, status: redirect.status, by: Some(rule.line), permanence, last }
                }
                Action::Gone => Hop::Gone(rule.line),
                _ => Hop::Elsewhere(rule.line),
            };
            Ok(())
        });
        match acted {
            None if !looking.unknown_cookie => self.canonical(asked, looking),
            _ => hop,
        }
    }

    /// The origin that a visitor is kept on: the canonical one, or the preview host they came to.
    pub(super) fn home<'a>(&'a self, asked: &Asked<'a>) -> (Scheme, &'a str) {
        let site = &self.rules.site;
        match asked.role {
            Role::Preview => (asked.scheme, asked.host),
            _ if site.upgrades() => (Scheme::Https, site.host.as_str()),
            _ => (asked.scheme, site.host.as_str()),
        }
    }

    /// Where a redirect leads this visitor.
    fn target(&self, redirect: &Redirect, pattern: &Pattern, captures: &Captures<'_>, asked: &Asked<'_>) -> Option<Address> {
        let site = &self.rules.site;
        let (scheme, host) = self.home(asked);
        let base = TargetBase { scheme, host, base: &site.base };
        let query = if redirect.drop_query { None } else { asked.query };
        let to = redirect.target.expand(pattern, captures, base, query)?;
        let own_host = |host: &str| host == site.host.as_str() || site.aliases.iter().any(|alias| alias.host.as_str() == host);
        if asked.role == Role::Preview && redirect.target.origin().is_some() && own_host(to.host()) {
            return Some(to.on(asked.scheme, asked.host));
        }
        Some(to)
    }

    /// Step 3: the canonical address of what no rule redirects.
    pub(super) fn canonical<T: Trace>(&self, asked: &Asked<'_>, looking: &mut Looking<'_, T>) -> Hop {
        let site = &self.rules.site;
        let path = match asked.below {
            Below::Path(path) => path,
            Below::NoSlash => "/",
            Below::Outside => return Hop::None(None),
        };
        let (scheme, host) = self.home(asked);
        // Only an alias has another host, or a base path of its own.
        let alias = asked.role == Role::Alias;
        let moved = scheme != asked.scheme || (alias && host != asked.host);
        let rebased = asked.below == Below::NoSlash
            || (alias && (asked.path.len() != site.open_base().len() + path.len() || !asked.path.starts_with(&*site.base)));
        let named = self.spellings.asked(path, asked.hash, asked.odd);
        let respelled = match named {
            Some(Spelled::Moved(file)) if !self.rewrites(asked, path, (scheme, host), looking) => Some(file),
            _ => None,
        };
        if !moved && !rebased && respelled.is_none() {
            return Hop::None(named);
        }
        let path = respelled.map_or(path, |file| self.spellings.own(file));
        let to = Address::joined(scheme, host, [site.open_base(), path], asked.query);
        looking.trace.step(|| explain::canonical_step(asked, &to, site, respelled.map(|file| self.file_name(file))));
        let by = if moved || rebased { Some(asked.line) } else { None };
        Hop::Redirect { to, status: canonical_status(asked.method), by, permanence: Permanence::Canonical, last: false }
    }

    /// Whether a rewrite takes an address of the site once it is on this origin.
    fn rewrites<T: Trace>(
        &self,
        asked: &Asked<'_>,
        path: &str,
        (scheme, host): (Scheme, &str),
        looking: &mut Looking<'_, T>,
    ) -> bool {
        if self.rules.rewrites.is_empty() {
            return false;
        }
        let full = format!("{}{path}", self.rules.site.open_base());
        let role = if asked.role == Role::Alias { Role::Canonical } else { asked.role };
        let there = Asked { scheme, host, path: &full, role, hash: None, below: Below::Path(path), ..*asked };
        let mark = looking.trace.mark();
        let taken = self.first(Stage::Rewrite, &there, looking, |_, _, _| Ok::<_, &str>(())).is_some();
        looking.trace.forget(mark);
        taken
    }

    /// Applies steps 2 and 3 to their own outcome, as the browser's next requests would.
    fn one_hop<T: Trace>(&self, first: Decision, asked: &Asked<'_>, address: &Address, looking: &mut Looking<'_, T>) -> Decision {
        let mut decision = first;
        let mut passed: Vec<Address> = Vec::new();
        loop {
            let Some(current) = decision.location.as_ref() else { return decision };
            let came_back = |to: &Address| {
                let seen = std::iter::once(address).chain(&passed);
                seen.into_iter().any(|seen| seen.without_fragment() == to.without_fragment())
            };
            if came_back(current) || current.as_str().len() > LONGEST || passed.len() >= MOST_STEPS {
                looking.trace.step(|| explain::loop_step(current, came_back(current)));
                return Decision { by: decision.by, ..Decision::of(Outcome::Loop, 508) };
            }
            let Some(next) = self.hosts.locate(asked.method, asked.headers, current) else { return decision };
            looking.other_origin |= (next.scheme, next.host) != (asked.scheme, asked.host);
            let mark = looking.trace.mark();
            looking.trace.step(|| explain::onward_step(current));
            let Hop::Redirect { mut to, status, by, permanence, .. } = self.hop(&next, looking) else {
                looking.trace.forget(mark);
                return decision;
            };
            to.keep_fragment(current.fragment());
            if outranks(permanence, decision.permanence) {
                (decision.status, decision.by, decision.permanence) = (status, by, Some(permanence));
            }
            passed.extend(decision.location.replace(to));
        }
    }

    /// Steps 4 to 8.
    pub(super) fn file_decision<T: Trace>(
        &self,
        asked: &Asked<'_>,
        named: Option<Spelled>,
        looking: &mut Looking<'_, T>,
    ) -> Decision {
        let Some(path) = asked.relative() else {
            looking.trace.step(|| explain::outside_step(&self.rules.site, asked));
            return Decision::of(Outcome::Outside, 404);
        };
        if !is_safe(asked.method) {
            looking.trace.step(|| explain::method_step(asked.method));
            return Decision::of(Outcome::Refused, 405);
        }
        let served = |file, by| Decision { file: Some(file), by, ..Decision::of(Outcome::File, 200) };
        let rewritten = self.first(Stage::Rewrite, asked, looking, |_, rule, captures| {
            let Action::Rewrite(to) = &rule.action else { return Err("") };
            let file = to.with_path(&rule.pattern, captures, |path| self.spellings.any(path).ok_or_else(|| path.to_owned()));
            Ok((file.ok_or("a capture can not stand in its path")?, rule.line))
        });
        match rewritten {
            Some((Ok(file), line)) => return served(file, Some(line)),
            Some((Err(path), line)) => looking.trace.step(|| explain::no_file_step(Some(line), &path)),
            None => {
                if let Some(Spelled::Serves(file)) = named {
                    looking.trace.step(|| explain::file_step(self.file_name(file)));
                    return served(file, None);
                }
                looking.trace.step(|| explain::no_file_step(None, path));
            }
        }
        let fallback = self.first(Stage::Fallback, asked, looking, |_, rule, captures| {
            let Action::Fallback { path: to, even_files } = &rule.action else { return Err("") };
            if !even_files && is_known_type(path) {
                return Err("the address ends like a file, and the rule does not say `even files`");
            }
            let file = to.with_path(&rule.pattern, captures, |to| self.spellings.any(to));
            let file = file.ok_or("a capture can not stand in its path")?.ok_or("the file it names is not there")?;
            Ok((file, rule.line))
        });
        if let Some((file, line)) = fallback {
            return served(file, Some(line));
        }
        let file = self.missing_page(asked, looking);
        Decision { file, ..Decision::of(Outcome::Missing, 404) }
    }

    /// Step 8: the page that is shown for what is not there.
    fn missing_page<T: Trace>(&self, asked: &Asked<'_>, looking: &mut Looking<'_, T>) -> Option<u32> {
        let by_rule = self.first(Stage::Missing, asked, looking, |_, rule, captures| {
            let Action::Missing(to) = &rule.action else { return Err("") };
            let file = to.with_path(&rule.pattern, captures, |to| self.spellings.any(to));
            file.ok_or("a capture can not stand in its path")?.ok_or("the file it names is not there")
        });
        by_rule.or_else(|| {
            let (path, line) = self.rules.site.missing.as_ref()?;
            let file = self.spellings.any(path);
            looking.trace.step(|| match file {
                Some(file) => explain::missing_step(*line, self.file_name(file)),
                None => explain::no_file_step(Some(*line), path),
            });
            file
        })
    }
}

fn refused<'e, T: Trace>(status: u16, why: impl FnOnce() -> String, trace: &mut T) -> Answer<'e> {
    trace.step(|| Step { line: None, what: "the request".to_owned(), came: Came::Noted(why()) });
    let text = Header { name: "content-type", value: Cow::Borrowed("text/plain; charset=utf-8"), line: None };
    Answer { outcome: Outcome::Refused, status, file: None, by: None, headers: [text].into_iter().collect() }
}

/// Which status a row of redirects answers with: the first temporary one's, else the first that a rule made.
fn outranks(later: Permanence, so_far: Option<Permanence>) -> bool {
    match so_far {
        Some(Permanence::Canonical) => later != Permanence::Canonical,
        Some(Permanence::ByRule) => later == Permanence::Temporary,
        Some(Permanence::Temporary) | None => false,
    }
}

fn is_safe(method: &Method) -> bool {
    method == Method::GET || method == Method::HEAD
}

fn canonical_status(method: &Method) -> u16 {
    if is_safe(method) { 301 } else { 308 }
}
