//! The decision, in its order: host, redirect, canonical address, method, rewrite, file, fallback, missing.

use std::borrow::Cow;
use std::ops::ControlFlow;

use http::Method;

use super::Edge;
use super::answer::{Answer, Header, Headers, Outcome};
use super::condition::Held;
use super::explain;
use super::header::Permanence;
use super::hosts::{Asked, Below, Role};
use super::trace::{Came, Step, Trace};
use crate::address::{Address, Request, Scheme};
use crate::files::{Spelled, is_known_type};
use crate::language::Line;
use crate::rules::{Action, Redirect, Rule, Stage};
use crate::template::{Captured, Captures, OriginPattern, Pattern, TargetBase};

/// The most redirects that are made into one.
const MOST_STEPS: usize = 16;
/// The longest address that a redirect leads to, in bytes.
pub(super) const LONGEST: usize = 8_192;

/// What is carried through a decision.
pub(super) struct Looking<'t, T> {
    pub(super) trace: &'t mut T,
    /// The request headers that the answer depends on.
    pub(super) vary: u64,
    /// The address is on another origin than the request was: cookies are not known any more.
    other_origin: bool,
    /// A rule that looks at a cookie was met on another origin.
    unknown_cookie: bool,
}

/// What was decided, before header fields.
struct Decision {
    outcome: Outcome,
    status: u16,
    file: Option<u32>,
    by: Option<Line>,
    location: Option<Address>,
    permanence: Option<Permanence>,
}

impl Decision {
    fn of(outcome: Outcome, status: u16) -> Decision {
        Decision { outcome, status, file: None, by: None, location: None, permanence: None }
    }
}

/// What steps 2 and 3 say.
enum Hop {
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
            Err(why) => return refused(400, why.to_string(), trace),
        };
        let Some(asked) = self.hosts.locate(request.method(), request.headers(), address) else {
            return refused(421, format!("`{}` is no host of this site", address.host()), trace);
        };
        trace.step(|| explain::host_step(&asked));
        let mut looking = Looking { trace, vary: 0, other_origin: false, unknown_cookie: false };
        let decision = self.decision(&asked, address, &mut looking);
        let file = decision.file.map(|file| self.file_name(file));
        let (outcome, status, by) = (decision.outcome, decision.status, decision.by);
        let mut answer = Answer { outcome, status, file, by, headers: Headers::new() };
        if let Some(location) = decision.location {
            answer.headers.push(Header { name: "location", value: Cow::Owned(location.into_string()), line: decision.by });
        }
        if status == 405 {
            answer.headers.push(Header { name: "allow", value: Cow::Borrowed("GET, HEAD"), line: None });
        }
        let vary = looking.vary;
        self.add_headers(&mut answer, &asked, decision.permanence, vary, trace);
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
    fn https_first<T: Trace>(&self, asked: &Asked<'_>, looking: &mut Looking<'_, T>) -> Option<Decision> {
        let hsts = self.rules.site.hsts.as_ref().filter(|hsts| hsts.subdomains)?;
        if asked.scheme == Scheme::Https || asked.role == Role::Preview {
            return None;
        }
        looking.trace.step(|| Step {
            line: Some(hsts.line),
            what: "hsts with subdomains".to_owned(),
            came: Came::Noted(format!("plain HTTP goes to https://{} first, so that the promise is seen there", asked.host)),
        });
        let to = Address::joined(Scheme::Https, asked.host, asked.path, asked.query);
        let decided = Decision::of(Outcome::Redirect, canonical_status(asked.method));
        Some(Decision { by: Some(hsts.line), location: Some(to), permanence: Some(Permanence::Canonical), ..decided })
    }

    /// Steps 2 and 3.
    fn hop<T: Trace>(&self, asked: &Asked<'_>, looking: &mut Looking<'_, T>) -> Hop {
        let acted = self.first(Stage::Redirect, asked, looking, |number, rule, captures| match &rule.action {
            Action::Redirect(redirect) => {
                let to = self.target(redirect, &rule.pattern, captures, asked).ok_or("a capture can not stand in its target")?;
                if asked.is(&to) {
                    return Err("it leads to this very address, so it does not act");
                }
                let permanence = if matches!(redirect.status, 301 | 308) { Permanence::ByRule } else { Permanence::Temporary };
                let last = self.last[number as usize / 64] & (1 << (number % 64)) != 0;
                Ok(Hop::Redirect { to, status: redirect.status, by: Some(rule.line), permanence, last })
            }
            Action::Gone => Ok(Hop::Gone(rule.line)),
            _ => Ok(Hop::Elsewhere(rule.line)),
        });
        match acted {
            Some(hop) => hop,
            None if looking.unknown_cookie => Hop::None(None),
            None => self.canonical(asked, looking),
        }
    }

    /// Where a redirect leads this visitor.
    fn target(&self, redirect: &Redirect, pattern: &Pattern, captures: &Captures<'_>, asked: &Asked<'_>) -> Option<Address> {
        let site = &self.rules.site;
        let (scheme, host) = match asked.role {
            Role::Preview => (asked.scheme, asked.host),
            _ if site.upgrades() => (Scheme::Https, site.host.as_str()),
            _ => (asked.scheme, site.host.as_str()),
        };
        let base = TargetBase { scheme, host, base: &site.base };
        let query = if redirect.drop_query { None } else { asked.query };
        let to = redirect.target.expand(pattern, captures, base, query)?;
        let own_host = |host: &str| host == site.host.as_str() || site.aliases.iter().any(|alias| alias.host.as_str() == host);
        if asked.role == Role::Preview && redirect.target.origin.is_some() && own_host(to.host()) {
            return Some(to.on(asked.scheme, asked.host));
        }
        Some(to)
    }

    /// Step 3: the canonical address of what no rule redirects.
    fn canonical<T: Trace>(&self, asked: &Asked<'_>, looking: &mut Looking<'_, T>) -> Hop {
        let site = &self.rules.site;
        let path = match asked.below {
            Below::Path(path) => path,
            Below::NoSlash => "/",
            Below::Outside => return Hop::None(None),
        };
        let (scheme, host) = match asked.role {
            Role::Preview => (asked.scheme, asked.host),
            _ if site.upgrades() => (Scheme::Https, site.host.as_str()),
            _ => (asked.scheme, site.host.as_str()),
        };
        let moved = (scheme, host) != (asked.scheme, asked.host);
        let rebased = asked.path.len() != site.base.len() - 1 + path.len() || !asked.path.starts_with(&*site.base);
        let named = self.spellings.asked(path, asked.hash, asked.odd);
        let respelled = match named {
            Some(Spelled::Moved(file)) if !self.rewrites(asked, path, (scheme, host), looking) => Some(file),
            _ => None,
        };
        if !moved && !rebased && respelled.is_none() {
            return Hop::None(named);
        }
        let mut full = String::with_capacity(site.base.len() + path.len());
        full.push_str(&site.base[..site.base.len() - 1]);
        full.push_str(respelled.map_or(path, |file| self.spellings.own(file)));
        let to = Address::joined(scheme, host, &full, asked.query);
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
        let full = format!("{}{path}", &self.rules.site.base[..self.rules.site.base.len() - 1]);
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
            if let (None, Some(fragment)) = (to.fragment(), current.fragment()) {
                to.set_fragment(fragment);
            }
            if outranks(permanence, decision.permanence) {
                (decision.status, decision.by, decision.permanence) = (status, by, Some(permanence));
            }
            passed.extend(decision.location.replace(to));
        }
    }

    /// Steps 4 to 8.
    fn file_decision<T: Trace>(&self, asked: &Asked<'_>, named: Option<Spelled>, looking: &mut Looking<'_, T>) -> Decision {
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
            let path = to.expand_path(&rule.pattern, captures).ok_or("a capture can not stand in its path")?;
            Ok((self.spellings.any(&path), rule.line, path))
        });
        match rewritten {
            Some((Some(file), line, _)) => return served(file, Some(line)),
            Some((None, line, path)) => looking.trace.step(|| explain::no_file_step(Some(line), &path)),
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
            let to = to.expand_path(&rule.pattern, captures).ok_or("a capture can not stand in its path")?;
            let file = self.spellings.any(&to).ok_or("the file it names is not there")?;
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
            let to = to.expand_path(&rule.pattern, captures).ok_or("a capture can not stand in its path")?;
            self.spellings.any(&to).ok_or("the file it names is not there")
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

    /// The first rule of a stage that matches, whose conditions hold, and that acts.
    pub(super) fn first<'e, R, T: Trace>(
        &'e self,
        stage: Stage,
        asked: &Asked<'_>,
        looking: &mut Looking<'_, T>,
        mut act: impl FnMut(u32, &'e Rule, &Captures<'_>) -> Result<R, &'static str>,
    ) -> Option<R> {
        let rules = self.rules.stage(stage);
        if rules.is_empty() {
            return None;
        }
        let mut notes = explain::Notes::new();
        let mut found = None;
        self.index(stage).candidates(rules, asked, self.rules.site.ignore_case, |number| {
            let rule = &rules[number as usize];
            let mut captures = Captures::new();
            if !self.pattern_matches(&rule.pattern, asked, &mut captures) {
                return ControlFlow::Continue(());
            }
            match self.held(rule, &captures, asked, looking) {
                Ok(()) => {}
                Err(Some(came)) => {
                    notes.add::<T>(number, rule, || came);
                    return ControlFlow::Continue(());
                }
                Err(None) => return ControlFlow::Break(()),
            }
            match act(number, rule, &captures) {
                Ok(acted) => {
                    notes.add::<T>(number, rule, || Came::Matched);
                    found = Some((number, acted));
                    ControlFlow::Break(())
                }
                Err(why) => {
                    notes.add::<T>(number, rule, || Came::Noted(why.to_owned()));
                    ControlFlow::Continue(())
                }
            }
        });
        if T::LISTENS {
            self.note_others(stage, asked, found.as_ref().map(|(number, _)| *number), &mut notes, looking.trace);
            notes.tell(looking.trace);
        }
        found.map(|(_, acted)| acted)
    }

    /// Every rule of a stage that matches and whose conditions hold, in order; `act` says whether it acted.
    pub(super) fn all<'e, T: Trace>(
        &'e self,
        stage: Stage,
        asked: &Asked<'_>,
        vary: &mut u64,
        trace: &mut T,
        mut act: impl FnMut(&'e Rule) -> bool,
    ) {
        let mut looking = Looking { trace, vary: *vary, other_origin: false, unknown_cookie: false };
        let none = self.first(stage, asked, &mut looking, |_, rule, _| match act(rule) {
            true => Err::<(), _>("sets header fields"),
            false => Err("is for other answers"),
        });
        debug_assert!(none.is_none());
        *vary = looking.vary;
    }

    /// Whether a rule's conditions hold, else what came of it; `Err(None)` stops before a cookie that is not known.
    fn held<T: Trace>(
        &self,
        rule: &Rule,
        captures: &Captures<'_>,
        asked: &Asked<'_>,
        looking: &mut Looking<'_, T>,
    ) -> Result<(), Option<Came>> {
        let Some(conditions) = rule.conditions.as_deref() else { return Ok(()) };
        let held = self.conditions(conditions, &rule.pattern, captures, asked);
        let came = |text: &dyn Fn() -> String| Err(Some(Came::HeldBack(if T::LISTENS { text() } else { String::new() })));
        let languages = &self.rules.site.languages;
        match held {
            Held::Where(condition) => return came(&|| condition.to_string()),
            Held::When(when) => return came(&|| when.written(languages)),
            Held::Header(_) | Held::Yes => {}
        }
        if looking.other_origin && conditions.whens.iter().any(|when| when.test.looks_at_cookies()) {
            looking.unknown_cookie = true;
            return Err(None);
        }
        looking.vary |= conditions.vary;
        match held {
            Held::Header(when) => came(&|| when.written(languages)),
            _ => Ok(()),
        }
    }

    /// Whether a pattern matches an address, and what it captures.
    pub(super) fn pattern_matches<'r>(&self, pattern: &Pattern, asked: &Asked<'r>, captures: &mut Captures<'r>) -> bool {
        let fold = self.rules.site.ignore_case;
        let path = match &pattern.origin {
            None => asked.relative(),
            Some(origin) => self.origin_matches(origin, asked, captures).then_some(asked.path),
        };
        path.is_some_and(|path| pattern.path.matches(path, fold, captures)) && pattern.match_query(asked.query, captures)
    }

    /// Under `http upgrade` a pattern written `https` is for plain HTTP too; one for the canonical host is for previews too.
    pub(super) fn origin_matches<'r>(&self, origin: &OriginPattern, asked: &Asked<'r>, captures: &mut Captures<'r>) -> bool {
        let site = &self.rules.site;
        if origin.scheme != asked.scheme && !(origin.scheme == Scheme::Https && site.upgrades()) {
            return false;
        }
        if origin.host.takes(asked.host, captures) {
            return true;
        }
        // A label of the canonical host is captured as it stands in the pattern's own terms: the preview host has none.
        asked.role == Role::Preview && origin.host.capture.is_none() && origin.host.host == site.host
    }

    fn index(&self, stage: Stage) -> &super::index::Index {
        &self.indexes[stage as usize]
    }
}

impl crate::template::HostPattern {
    /// Whether it is this host; adds the label it captures.
    fn takes<'r>(&self, host: &'r str, captures: &mut Captures<'r>) -> bool {
        match &self.capture {
            None => self.host.as_str() == host,
            Some(_) => match host.split_once('.') {
                Some((label, rest)) if rest == self.host.as_str() => {
                    captures.push(Captured::host_label(label));
                    true
                }
                _ => false,
            },
        }
    }
}

fn refused<'e, T: Trace>(status: u16, why: String, trace: &mut T) -> Answer<'e> {
    trace.step(|| Step { line: None, what: "the request".to_owned(), came: Came::Noted(why) });
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
