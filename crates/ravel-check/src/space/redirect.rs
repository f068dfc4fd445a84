//! Where redirects act, and where they lead, as sets.

use std::sync::Arc;

use super::bits::Bits;
use super::fact::{Fact, SignedFact};
use super::leaf::Leaf;
use super::origin::Origin;
use super::pattern::PatternLeaf;
use super::query::written_parameters;
use super::symbol::{SLASH, Symbol, symbols};
use super::{RequestSet, SelfLed, Space};
use ravel::program::{Redirect, Rule};
use ravel::template::{Expression, OriginPattern, Piece, Target, Template};

/// Where a redirect could lead to the very address that was asked, so that it does not act.
enum SelfTarget {
    Never,
    /// At every address, but for what leaves out `/` at the start of a path.
    Always,
    /// At the paths that the target's template matches as it is spelled, where letters match in any
    /// case.
    Spelled(Template),
    /// At this path.
    At(Vec<Symbol>),
    /// At addresses in this leaf, some of them or all.
    Among(Template),
}

impl<'r> Space<'r> {
    /// The requests on which a rule of the first stage surely acts, and those of which it is not
    /// worked out, since its target could be the very address that was asked.
    pub(crate) fn acting(&self, rule: &'r Rule) -> (RequestSet<'r>, RequestSet<'r>) {
        self.acting.of(rule, || self.find_acting(rule))
    }

    fn find_acting(&self, rule: &'r Rule) -> (RequestSet<'r>, RequestSet<'r>) {
        let all = self.matching(rule);
        let mut maybe = RequestSet::default();
        let Some(redirect) = rule.redirect() else { return (all, maybe) };
        let mut sure = RequestSet { pieces: Vec::new(), loose: all.loose, work: all.work };
        for piece in all.pieces {
            let stays = Bits::of(self.axes.origins.len(), |at| {
                self.could_be_itself(redirect.target(), &self.axes.origins[at])
            });
            let mut here = piece.clone();
            here.origins.keep(&stays);
            let mut away = piece;
            away.origins.drop(&stays);
            if !away.origins.is_empty() {
                sure.pieces.push(away);
            }
            if here.origins.is_empty() {
                continue;
            }
            match self.itself(rule, redirect) {
                SelfTarget::Never => sure.pieces.push(here),
                SelfTarget::Always if redirect.drop_query() => {
                    let mut asked = here.clone();
                    asked.facts.push((Arc::new(Fact::Parameter("q")), true));
                    sure.pieces.push(asked);
                    maybe.pieces.push(here);
                }
                SelfTarget::Always => {}
                SelfTarget::At(word) => {
                    let read = self.own_prefix(redirect.target(), here.region);
                    if let Some(word) = word.strip_prefix(&*read) {
                        let leaf = Arc::new(Leaf::Word(word.to_vec()));
                        if redirect.drop_query() {
                            let mut there = here.clone();
                            there.path.push((Arc::clone(&leaf), true));
                            maybe.pieces.push(there.clone());
                            there.facts.push((Arc::new(Fact::Parameter("q")), true));
                            sure.pieces.push(there);
                        }
                        here.path.push((leaf, false));
                    }
                    sure.pieces.push(here);
                }
                SelfTarget::Spelled(template) | SelfTarget::Among(template) => {
                    let read = self.own_prefix(redirect.target(), here.region);
                    let leaf = template_leaf(&template, &read);
                    let mut there = here.clone();
                    there.path.push((Arc::clone(&leaf), true));
                    here.path.push((leaf, false));
                    sure.pieces.push(here);
                    maybe.pieces.push(there);
                }
            }
        }
        (sure, maybe)
    }

    /// Where, on an origin, a redirect's target could be the URL that was asked, so that it does not
    /// act; none where that is nowhere, or everywhere.
    pub(super) fn itself_at(&self, rule: &'r Rule, place: usize) -> Option<SelfLed<'r>> {
        let key = (std::ptr::from_ref(rule) as usize, place);
        if let Some(known) = self.itself.borrow().get(&key) {
            return known.clone();
        }
        let found = self.find_itself(rule, place);
        self.itself.borrow_mut().insert(key, found.clone());
        found
    }

    fn find_itself(&self, rule: &'r Rule, place: usize) -> Option<SelfLed<'r>> {
        let redirect = rule.redirect()?;
        let target = redirect.target();
        if !self.could_be_itself(target, &self.axes.origins[place]) {
            return None;
        }
        let read = self.own_prefix(target, self.axes.origins[place].region);
        let query = || self.own_query(rule, redirect);
        let (paths, is_exact) = match self.itself(rule, redirect) {
            SelfTarget::Never => return None,
            // What writes one `/` for several leads `//a` elsewhere, and nothing else.
            SelfTarget::Always if leaves_slashes(target) && read.is_empty() => {
                ((Arc::clone(&self.several), false), true)
            }
            SelfTarget::Always if query().is_empty() => return None,
            SelfTarget::Always => ((Arc::clone(&self.path), true), true),
            SelfTarget::At(word) => {
                ((Arc::new(Leaf::Word(word.strip_prefix(&*read)?.to_vec())), true), true)
            }
            SelfTarget::Spelled(template) => {
                ((template_leaf(&template, &read), true), !leaves_slashes(target))
            }
            SelfTarget::Among(template) => ((template_leaf(&template, &read), true), false),
        };
        Some(SelfLed { paths, query: query(), is_exact })
    }

    /// What the query must be for a redirect to lead to the URL itself.
    fn own_query(&self, rule: &'r Rule, redirect: &'r Redirect) -> Vec<SignedFact<'r>> {
        if let Some(own) = redirect.target().query() {
            let fact = |(key, value): (&'r str, Option<&'r str>)| {
                let fact =
                    value.map_or(Fact::Parameter(key), |value| Fact::ParameterIs(key, value));
                (Arc::new(fact), true)
            };
            return written_parameters(own.as_str()).map(fact).collect();
        }
        if !redirect.drop_query() || !rule.pattern().query().is_empty() {
            return Vec::new();
        }
        let rules = self.edge.program().all_rules().iter();
        let mut keys: Vec<&str> =
            rules.flat_map(|rule| rule.pattern().query()).map(|part| part.key()).collect();
        keys.push("q");
        keys.sort_unstable();
        keys.dedup();
        keys.into_iter().map(|key| (Arc::new(Fact::Parameter(key)), false)).collect()
    }

    /// Whether a target can lead to an origin; `own`: it names a host of the site.
    fn is_led_to(&self, asked: &Origin, target: &Target, own: bool) -> bool {
        match target.origin() {
            None => self.is_home(asked),
            Some(origin) if origin.host().capture().is_some() => {
                let host = origin.host().host().as_str();
                let below = asked.host.split_once('.').is_some_and(|(_, rest)| rest == host);
                below && origin.scheme() == asked.scheme
            }
            Some(origin) => {
                let same = origin.host().host().as_str() == &*asked.host
                    && origin.scheme() == asked.scheme;
                same || (own && asked.is_preview())
            }
        }
    }

    /// The requests that a redirect to the site's own hosts can lead to, and more: each capture
    /// takes all that its form can.
    pub(crate) fn image(&self, rule: &'r Rule) -> Option<RequestSet<'r>> {
        self.images.of(rule, || self.find_image(rule))
    }

    fn find_image(&self, rule: &'r Rule) -> Option<RequestSet<'r>> {
        let redirect = rule.redirect()?;
        let target = &redirect.target();
        let site = self.edge.site();
        let template = target.path_as_pattern(rule.pattern());
        let mut tests = Vec::new();
        for (number, (_, name)) in (0_u16..).zip(template.expressions()) {
            tests.extend(self.tests_about(name, rule.tests()).map(|test| (number, test)));
        }
        // Captures that are all empty come to `/`.
        let mut empty = Vec::new();
        let own =
            target.origin().is_some_and(|origin| site.has_host(origin.host().host().as_str()));
        let mut set = self.all();
        set.pieces
            .retain(|piece| target.origin().is_some() || self.axes.regions[piece.region].inside);
        for piece in &mut set.pieces {
            piece.origins.retain(|at| {
                self.axes.origins.get(at).is_some_and(|asked| self.is_led_to(asked, target, own))
            });
            if template.pieces().all(|piece| matches!(piece, Piece::Expression(..))) {
                let mut nothing = piece.clone();
                nothing.path.push((Arc::new(Leaf::Word(vec![SLASH])), true));
                empty.push(nothing);
            }
            // Text without a `/` at its start gets one: such a target can lead anywhere.
            if !matches!(template.expressions().next(), Some((Expression::Any | Expression::Segment, _)) if template.literal_prefix().is_empty())
            {
                let read = self.own_prefix(target, piece.region);
                piece.path.push((
                    Arc::new(Leaf::Pattern(PatternLeaf::new(
                        &template,
                        tests.clone(),
                        false,
                        &read,
                    ))),
                    true,
                ));
            }
        }
        if leaves_slashes(target) {
            for piece in &mut set.pieces {
                if self.own_prefix(target, piece.region).is_empty() {
                    piece.path.push((Arc::clone(&self.several), false));
                }
            }
        }
        set.pieces.extend(empty);
        // Who asks brings the same cookies and header fields along.
        rule.tests()
            .iter()
            .filter(|test| test.request_header().is_some())
            .for_each(|test| self.add_test(&mut set, test));
        set.pieces.retain(|piece| !piece.origins.is_empty() && !piece.languages.is_empty());
        Some(set)
    }

    /// What a whole-URL target's path begins with when it is seen from a region.
    fn own_prefix(&self, target: &Target, region: usize) -> Vec<Symbol> {
        read_before(target.origin(), &self.axes.regions[region].prefix)
    }

    /// Where a redirect on the origin that was asked could lead to itself.
    fn itself(&self, rule: &Rule, redirect: &Redirect) -> SelfTarget {
        let (pattern, target) = (rule.pattern(), redirect.target());
        if Growth::of(rule, redirect).is_change() {
            return SelfTarget::Never;
        }
        let site = self.edge.site();
        let template = || target.path_as_pattern(pattern);
        let same_root =
            site.base() == "/" || pattern.origin().is_none() == target.origin().is_none();
        // A parameter that the pattern takes, and the target does not give, is not in the URL any more.
        let own = target.query().map_or("", |query| query.as_str());
        let gives = |key: &str| Fact::Parameter(key).of_query(own) == Some(true);
        if pattern.query().iter().any(|part| !gives(part.key())) {
            return SelfTarget::Never;
        }
        if target.has_query() || target.has_fragment() || !same_root {
            // What becomes of the query is not worked out.
            return SelfTarget::Among(template());
        }
        let (from, to) = (pattern.path().as_str(), target.path().as_str());
        let is_in_any_case = site.ignore_case() && from.eq_ignore_ascii_case(to);
        match target.path().is_literal() {
            _ if is_in_any_case => SelfTarget::Spelled(template()),
            _ if from == to => SelfTarget::Always,
            true if pattern.path().is_literal() => SelfTarget::Never,
            true => SelfTarget::At(symbols(to).collect()),
            false => SelfTarget::Among(template()),
        }
    }

    /// Whether a target leads to the origin that was asked.
    fn could_be_itself(&self, target: &Target, asked: &Origin) -> bool {
        let site = self.edge.site();
        let home = asked.is_preview()
            || (site.host().as_str() == &*asked.host
                && (site.scheme() == asked.scheme || !site.upgrades()));
        match target.origin() {
            None => home,
            Some(origin) if origin.host().capture().is_some() => true,
            Some(origin) => {
                let own = site.host().as_str() == origin.host().host().as_str()
                    || site.aliases().iter().any(|alias| alias.host() == origin.host().host());
                (origin.scheme() == asked.scheme && origin.host().host().as_str() == &*asked.host)
                    || (own && asked.is_preview())
            }
        }
    }
}

/// What is read of whole paths before those behind a prefix: patterns and targets with an origin are
/// about whole ones.
pub(super) fn read_before(origin: Option<&OriginPattern>, prefix: &str) -> Vec<Symbol> {
    origin.map_or_else(Vec::new, |_| symbols(prefix).collect())
}

/// The paths that a template matches as it is spelled, behind what was read of them.
fn template_leaf<'r>(template: &Template, read: &[Symbol]) -> Arc<Leaf<'r>> {
    Arc::new(Leaf::Pattern(PatternLeaf::new(template, Vec::new(), false, read)))
}

/// Whether a target could write several `/` at its start, of which it leaves one: `{/x*}` leads `//a`
/// to `/a`.
fn leaves_slashes(target: &Target) -> bool {
    let first = target.path().expressions().next();
    first.is_some_and(|(form, _)| form != Expression::Segment)
        && matches!(target.path().literal_prefix(), "" | "/")
}

/// By how many symbols a redirect makes a path longer at least and at most, where that has a bound.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Growth {
    pub(crate) least: Option<i64>,
    pub(crate) most: Option<i64>,
}

impl Growth {
    pub(crate) fn of(rule: &Rule, redirect: &Redirect) -> Growth {
        let (from, to) = (&rule.pattern().path(), redirect.target().path());
        if rule.pattern().origin().is_some() || redirect.target().origin().is_some() {
            return Growth::default();
        }
        let length = |piece| match piece {
            Piece::Text(text) => symbols(text).count() as i64,
            Piece::Expression(..) => 0,
        };
        let (before, after): (i64, i64) =
            (from.pieces().map(length).sum(), to.pieces().map(length).sum());
        let least = |form| i64::from(form == Expression::Segment);
        let captures: Vec<(i64, i64)> = from
            .expressions()
            .map(|(form, name)| {
                (least(form), to.expressions().filter(|(_, used)| *used == name).count() as i64)
            })
            .collect();
        let from_path =
            to.expressions().all(|(_, used)| from.expressions().any(|(_, name)| name == used));
        // A target that comes to nothing becomes `/`, one without a `/` at its start gets one, and
        // of several one is left.
        let begins_open =
            to.expressions().next().is_some() && matches!(to.literal_prefix(), "" | "/");
        let given = i64::from(to.expressions().next().is_some() && to.literal_prefix().is_empty());
        let unused: i64 =
            captures.iter().filter(|(_, used)| *used == 0).map(|(least, _)| least).sum();
        let is_bounded = from_path && captures.iter().all(|(_, used)| *used <= 1);
        let more: i64 = captures.iter().map(|(least, used)| (used - 1) * least).sum();
        let keeps_all = captures.iter().all(|(_, used)| *used >= 1) && !begins_open;
        Growth {
            least: keeps_all.then_some(after - before + more),
            most: is_bounded.then_some(after + given - before - unused),
        }
    }

    /// Whether every path becomes shorter, or every path longer.
    fn is_change(self) -> bool {
        self.least.is_some_and(|least| least > 0) || self.most.is_some_and(|most| most < 0)
    }
}
