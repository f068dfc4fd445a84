//! Sets of requests: what is said of a rule is decided for every address, not for samples.
//!
//! ```text
//!   Rule ──Space::matching──▶ RequestSet ──and, or, minus──▶ RequestSet ──shortest──▶ a request, or none
//!
//!   a piece of a set:  hosts and schemes · methods · languages     finite: bits
//!                      path                                        regular: automata side by side (leaf, search)
//!                      query, cookies, header fields               facts that hold or not (fact)
//! ```
//!
//! The automata are walked only as far as a question needs. Where a bound is reached, the answer is "undecided".

mod bits;
mod capture;
mod fact;
mod leaf;
mod origin;
mod overlap;
mod search;
mod set;
mod symbol;
mod ways;

pub(crate) use origin::{Origin, Role};
pub(crate) use overlap::Overlaps;
pub(crate) use set::Members;
pub use set::{Member, RequestSet};

use std::cell::OnceCell;
use std::cmp::Ordering;
use std::sync::Arc;

use http::Method;

use crate::address::Scheme;
use crate::edge::Edge;
use crate::rules::{Action, Redirect, Rule, Stage, When, WhenTest, Where};
use crate::template::{Expression, Part, Pattern, QueryTest, Target, Template};
use bits::Bits;
use capture::CaptureTest;
use fact::Fact;
use leaf::{Leaf, Names, PatternLeaf};
use origin::Region;
use set::Piece;
use symbol::{SLASH, Symbol, symbols};

/// Every request that a site can be asked, to take sets from.
#[derive(Debug)]
pub struct Space<'r> {
    edge: &'r Edge,
    origins: Vec<Origin>,
    regions: Vec<Region>,
    methods: Vec<Method>,
    /// The site's languages; one that is empty where it has none.
    languages: Vec<Box<str>>,
    path: Arc<Leaf<'r>>,
    named: Arc<Leaf<'r>>,
    known_type: Arc<Leaf<'r>>,
    overlaps: [OnceCell<Overlaps>; 5],
    /// Every address below the base path that names a file, in order.
    addresses: Vec<&'r str>,
}

/// Where a redirect could lead to the very address that was asked, so that it does not act.
enum Itself {
    Never,
    /// At every address.
    Always,
    /// At this path.
    At(Vec<Symbol>),
    /// At addresses in this leaf, some of them or all.
    Among(Template),
}

impl<'r> Space<'r> {
    /// The requests that an edge's site can be asked.
    pub fn new(edge: &'r Edge) -> Space<'r> {
        let rules = edge.rules();
        let (origins, regions) = origin::of_site(rules);
        let mut methods = vec![Method::GET, Method::HEAD, Method::POST];
        for when in all_conditions(rules).flat_map(|conditions| &conditions.whens) {
            if let WhenTest::Method(listed) = &when.test {
                let more: Vec<Method> = listed.iter().filter(|method| !methods.contains(method)).cloned().collect();
                methods.extend(more);
            }
        }
        let languages = match rules.site.languages.is_empty() {
            true => vec!["".into()],
            false => rules.site.languages.clone(),
        };
        let mut addresses: Vec<&str> = edge.addresses().collect();
        addresses.sort_unstable();
        let names = Names::new(addresses.iter().copied(), &rules.site);
        Space {
            edge,
            origins,
            regions,
            methods,
            languages,
            path: Arc::new(Leaf::Path),
            named: Arc::new(Leaf::Named(Arc::new(names))),
            known_type: Arc::new(Leaf::KnownType),
            overlaps: Default::default(),
            addresses,
        }
    }

    /// The edge that is asked.
    pub fn edge(&self) -> &'r Edge {
        self.edge
    }

    /// Every request to a host of the site.
    pub fn all(&self) -> RequestSet<'r> {
        let piece = |number: usize| {
            let region = &self.regions[number];
            let mut path = vec![(Arc::clone(&self.path), true)];
            path.extend(region.without.iter().map(|prefix| (Arc::new(Leaf::Below(symbols(prefix).collect())), false)));
            Piece {
                region: number,
                origins: Bits::of(self.origins.len(), |origin| self.origins[origin].region == number),
                methods: Bits::of(self.methods.len(), |_| true),
                languages: Bits::of(self.languages.len(), |_| true),
                path,
                facts: Vec::new(),
            }
        };
        let pieces = (0..self.regions.len()).map(piece).filter(|piece| !piece.origins.is_empty());
        RequestSet { pieces: pieces.collect(), loose: false }
    }

    /// The requests that an origin's test lets through.
    pub(crate) fn with_origins(&self, wanted: impl Fn(&Origin) -> bool) -> RequestSet<'r> {
        let mut all = self.all();
        all.pieces.iter_mut().for_each(|piece| piece.origins.retain(|at| self.origins.get(at).is_some_and(&wanted)));
        all.pieces.retain(|piece| !piece.origins.is_empty());
        all
    }

    /// The scheme and host of every way in.
    pub(crate) fn entrances(&self) -> impl Iterator<Item = &Origin> {
        self.origins.iter().filter(|origin| self.regions[origin.region].inside)
    }

    /// Every request below a base path.
    pub(crate) fn below_a_base(&self) -> RequestSet<'r> {
        let mut all = self.all();
        all.pieces.retain(|piece| self.regions[piece.region].inside);
        all
    }

    /// What is left of a set when these header fields are given: what they settle is not asked any more.
    pub(crate) fn given(&self, set: &RequestSet<'r>, headers: &http::HeaderMap) -> RequestSet<'r> {
        let mut set = set.clone();
        let language = headers.contains_key(http::header::ACCEPT_LANGUAGE).then(|| self.edge.language_of(headers));
        set.pieces.retain_mut(|piece| {
            if let Some(language) = language {
                piece.languages.retain(|at| at == language);
            }
            let mut fits = !piece.languages.is_empty();
            piece.facts.retain(|(fact, holds)| match fact.under(headers) {
                Some(is) => {
                    fits &= is == *holds;
                    false
                }
                None => true,
            });
            fits
        });
        set
    }

    /// The requests that no canonical redirect moves to another origin.
    pub(crate) fn at_home(&self) -> RequestSet<'r> {
        self.with_origins(|origin| self.is_home(origin))
    }

    /// Whether a local target leads to this origin, for some visitors.
    fn is_home(&self, origin: &Origin) -> bool {
        let upgraded = origin.scheme == Scheme::Http && self.edge.rules().site.upgrades();
        origin.is_preview() || (origin.role == Role::Canonical && !upgraded)
    }

    /// The requests for which a rule's conditions on more than the path hold, wherever they are asked.
    pub(crate) fn beyond_path(&self, rule: &'r Rule) -> RequestSet<'r> {
        let mut set = self.all();
        for part in rule.pattern.query() {
            let fact = match &part.test {
                QueryTest::Present => Fact::Parameter(&part.key),
                QueryTest::Text(value) => Fact::ParameterIs(&part.key, value),
                QueryTest::Capture(name) => Fact::FirstValue(&part.key, self.tests_of(rule, name)),
            };
            self.add_fact(&mut set, Arc::new(fact), true);
        }
        let whens = rule.conditions.as_deref().map_or(&[][..], |conditions| &conditions.whens);
        whens
            .iter()
            .filter(|when| when.test.is_about_headers() || matches!(when.test, WhenTest::Method(_)))
            .for_each(|when| self.add_when(&mut set, when));
        set.pieces.retain(|piece| !(piece.methods.is_empty() || piece.languages.is_empty()));
        set
    }

    fn tests_of(&self, rule: &'r Rule, name: &str) -> Vec<CaptureTest<'r>> {
        let fold = self.edge.rules().site.ignore_case;
        let wheres = rule.conditions.as_deref().map_or(&[][..], |conditions| &conditions.wheres);
        let about = wheres.iter().filter(|condition| *condition.name == *name);
        about.map(|condition| CaptureTest::of(&condition.test, fold)).collect()
    }

    /// The requests with a method that this lets through.
    pub(crate) fn with_methods(&self, wanted: impl Fn(&Method) -> bool) -> RequestSet<'r> {
        let mut all = self.all();
        all.pieces.iter_mut().for_each(|piece| piece.methods.retain(|at| self.methods.get(at).is_some_and(&wanted)));
        all
    }

    /// The requests that name a file of the site, in any spelling.
    pub(crate) fn naming_a_file(&self) -> RequestSet<'r> {
        self.inside(&self.named)
    }

    /// The requests whose address ends like a file of a known type.
    pub(crate) fn of_known_type(&self) -> RequestSet<'r> {
        self.inside(&self.known_type)
    }

    fn inside(&self, leaf: &Arc<Leaf<'r>>) -> RequestSet<'r> {
        let mut all = self.below_a_base();
        all.pieces.iter_mut().for_each(|piece| piece.path.push((Arc::clone(leaf), true)));
        all
    }

    /// The requests with this path, below the base path of their host.
    pub(crate) fn at_path(&self, path: &str) -> RequestSet<'r> {
        self.inside(&Arc::new(Leaf::Word(symbols(path).collect())))
    }

    /// The requests that a rule's pattern matches and whose conditions hold.
    pub fn matching(&self, rule: &'r Rule) -> RequestSet<'r> {
        let conditions = rule.conditions.as_deref();
        let wheres = conditions.map_or(&[][..], |conditions| &conditions.wheres);
        let whens = conditions.map_or(&[][..], |conditions| &conditions.whens);
        let target = match &rule.action {
            Action::Redirect(redirect) => Some(&redirect.target),
            Action::Rewrite(path) | Action::Missing(path) | Action::Fallback { path, .. } => Some(path),
            _ => None,
        };
        self.asked_by(&rule.pattern, wheres, whens, target)
    }

    /// The requests that a pattern matches.
    pub fn of_pattern(&self, pattern: &'r Pattern) -> RequestSet<'r> {
        self.asked_by(pattern, &[], &[], None)
    }

    fn asked_by(&self, pattern: &'r Pattern, wheres: &'r [Where], whens: &'r [When], target: Option<&Target>) -> RequestSet<'r> {
        let mut set = self.all();
        let fold = self.edge.rules().site.ignore_case;
        let tests = |name: &str, from_query: bool, from_host: bool| {
            let mut tests: Vec<CaptureTest<'r>> = wheres
                .iter()
                .filter(|condition| *condition.name == *name)
                .map(|condition| CaptureTest::of(&condition.test, fold))
                .collect();
            if from_query && target.is_some_and(|target| target.puts_into_path(name)) {
                tests.push(CaptureTest::Segment);
            }
            if !from_host && target.is_some_and(|target| target.puts_into_host(name)) {
                tests.push(CaptureTest::Label);
            }
            tests
        };
        let host_tests =
            pattern.origin.as_ref().and_then(|origin| origin.host.capture.as_deref()).map(|name| tests(name, false, true));
        set.pieces.retain(|piece| pattern.origin.is_some() || self.regions[piece.region].inside);
        for piece in &mut set.pieces {
            if let Some(origin) = &pattern.origin {
                piece.origins.retain(|at| {
                    self.origins.get(at).is_some_and(|asked| asked.takes(origin, host_tests.as_deref(), &self.edge.rules().site))
                });
            }
            let read: Vec<Symbol> = match pattern.origin {
                Some(_) => symbols(&self.regions[piece.region].prefix).collect(),
                None => Vec::new(),
            };
            let mut path_tests = Vec::new();
            for (number, (_, name)) in (0_u16..).zip(pattern.path.expressions()) {
                path_tests.extend(tests(name, false, false).into_iter().map(|test| (number, test)));
            }
            let leaf = match pattern.path.is_literal() && !fold {
                true => {
                    let word: Vec<Symbol> = symbols(pattern.path.as_str()).collect();
                    word.strip_prefix(&*read).map(|rest| Leaf::Word(rest.to_vec()))
                }
                false => Some(Leaf::Pattern(PatternLeaf::new(&pattern.path, path_tests, fold, &read))),
            };
            match leaf {
                Some(leaf) => piece.path.push((Arc::new(leaf), true)),
                None => piece.origins.retain(|_| false),
            }
        }
        for part in pattern.query() {
            let fact = match &part.test {
                QueryTest::Present => Fact::Parameter(&part.key),
                QueryTest::Text(value) => Fact::ParameterIs(&part.key, value),
                QueryTest::Capture(name) => Fact::FirstValue(&part.key, tests(name, true, false)),
            };
            self.add_fact(&mut set, Arc::new(fact), true);
        }
        whens.iter().for_each(|when| self.add_when(&mut set, when));
        set.pieces.retain(|piece| !(piece.origins.is_empty() || piece.methods.is_empty() || piece.languages.is_empty()));
        set
    }

    fn add_fact(&self, set: &mut RequestSet<'r>, fact: Arc<Fact<'r>>, holds: bool) {
        set.pieces.iter_mut().for_each(|piece| piece.facts.push((Arc::clone(&fact), holds)));
    }

    fn add_when(&self, set: &mut RequestSet<'r>, when: &'r When) {
        let wanted = !when.negated;
        let mut origins = |fits: &dyn Fn(&Origin) -> bool| {
            for piece in &mut set.pieces {
                piece.origins.retain(|at| self.origins.get(at).is_some_and(|origin| fits(origin) == wanted));
            }
        };
        match &when.test {
            WhenTest::Host(hosts) => origins(&|origin| hosts.iter().any(|host| host.as_str() == &*origin.host)),
            WhenTest::Scheme(scheme) => origins(&|origin| origin.scheme == *scheme),
            WhenTest::Preview => origins(&|origin| origin.is_preview()),
            WhenTest::Method(methods) => {
                let fits = |method: &Method| {
                    methods.iter().any(|listed| listed == method || (*listed == Method::GET && *method == Method::HEAD))
                };
                for piece in &mut set.pieces {
                    piece.methods.retain(|at| self.methods.get(at).is_some_and(|method| fits(method) == wanted));
                }
            }
            WhenTest::Language(listed) => {
                for piece in &mut set.pieces {
                    piece.languages.retain(|at| listed.contains(&at) == wanted);
                }
            }
            WhenTest::Cookie(name, value) => {
                self.add_fact(set, Arc::new(Fact::Cookie(name, value.as_deref())), wanted);
            }
            WhenTest::Header(name, test) => self.add_fact(set, Arc::new(Fact::Header(name, test)), wanted),
            WhenTest::NoFile => {
                for piece in &mut set.pieces {
                    if self.regions[piece.region].inside {
                        piece.path.push((Arc::clone(&self.named), !wanted));
                    } else if !wanted {
                        piece.origins.retain(|_| false);
                    }
                }
            }
        }
    }

    /// The requests on which a rule of the first stage surely acts, and those of which it is not worked out, since its target
    /// could be the very address that was asked.
    pub(crate) fn acting(&self, rule: &'r Rule) -> (RequestSet<'r>, RequestSet<'r>) {
        let all = self.matching(rule);
        let mut maybe = RequestSet::default();
        let Action::Redirect(redirect) = &rule.action else { return (all, maybe) };
        let mut sure = RequestSet { pieces: Vec::new(), loose: all.loose };
        for piece in all.pieces {
            let stays = Bits::of(self.origins.len(), |at| self.could_be_itself(&redirect.target, &self.origins[at]));
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
            match itself(rule, redirect, &*self.edge.rules().site.base == "/") {
                Itself::Never => sure.pieces.push(here),
                Itself::Always if redirect.drop_query => {
                    let mut asked = here.clone();
                    asked.facts.push((Arc::new(Fact::Parameter("q")), true));
                    sure.pieces.push(asked);
                    maybe.pieces.push(here);
                }
                Itself::Always => {}
                Itself::At(word) => {
                    let read = self.own_prefix(&redirect.target, here.region);
                    if let Some(word) = word.strip_prefix(&*read) {
                        here.path.push((Arc::new(Leaf::Word(word.to_vec())), false));
                    }
                    sure.pieces.push(here);
                }
                Itself::Among(template) => {
                    let read = self.own_prefix(&redirect.target, here.region);
                    let leaf = Arc::new(Leaf::Pattern(PatternLeaf::new(&template, Vec::new(), false, &read)));
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

    /// The requests that a redirect to the site's own hosts can lead to, and more: each capture takes all that its form can.
    pub(crate) fn image(&self, rule: &'r Rule) -> Option<RequestSet<'r>> {
        let Action::Redirect(redirect) = &rule.action else { return None };
        let target = &redirect.target;
        let site = &self.edge.rules().site;
        let template = target.path_as_pattern(|name| form_of(&rule.pattern, name));
        let fold = site.ignore_case;
        let wheres = rule.conditions.as_deref().map_or(&[][..], |conditions| &conditions.wheres);
        let mut tests = Vec::new();
        for (number, (_, name)) in (0_u16..).zip(template.expressions()) {
            let about = wheres.iter().filter(|condition| *condition.name == *name);
            tests.extend(about.map(|condition| (number, CaptureTest::of(&condition.test, fold))));
        }
        // Captures that are all empty come to `/`.
        let mut empty = Vec::new();
        let own = target.origin().is_some_and(|origin| site.has_host(origin.host.host.as_str()));
        let mut set = self.all();
        set.pieces.retain(|piece| target.origin().is_some() || self.regions[piece.region].inside);
        for piece in &mut set.pieces {
            piece.origins.retain(|at| {
                self.origins.get(at).is_some_and(|asked| match target.origin() {
                    None => self.is_home(asked),
                    Some(origin) if origin.host.capture.is_some() => {
                        let below = asked.host.split_once('.').is_some_and(|(_, rest)| rest == origin.host.host.as_str());
                        below && origin.scheme == asked.scheme
                    }
                    Some(origin) => {
                        let same = origin.host.host.as_str() == &*asked.host && origin.scheme == asked.scheme;
                        same || (own && asked.is_preview())
                    }
                })
            });
            if template.parts().iter().all(|part| matches!(part, Part::Expression { .. })) && !template.is_literal() {
                let mut nothing = piece.clone();
                nothing.path.push((Arc::new(Leaf::Word(vec![SLASH])), true));
                empty.push(nothing);
            }
            // Text without a `/` at its start gets one: such a target can lead anywhere.
            if !matches!(template.expressions().next(), Some((Expression::Any | Expression::Segment, _)) if template.literal_prefix().is_empty())
            {
                let read = self.own_prefix(target, piece.region);
                piece.path.push((Arc::new(Leaf::Pattern(PatternLeaf::new(&template, tests.clone(), false, &read))), true));
            }
        }
        set.pieces.extend(empty);
        // Who asks brings the same cookies and header fields along.
        let whens = rule.conditions.as_deref().map_or(&[][..], |conditions| &conditions.whens);
        whens.iter().filter(|when| when.test.is_about_headers()).for_each(|when| self.add_when(&mut set, when));
        set.pieces.retain(|piece| !piece.origins.is_empty() && !piece.languages.is_empty());
        Some(set)
    }

    /// What a whole-URL target's path begins with when it is seen from a region.
    fn own_prefix(&self, target: &Target, region: usize) -> Vec<Symbol> {
        match target.origin() {
            Some(_) => symbols(&self.regions[region].prefix).collect(),
            None => Vec::new(),
        }
    }

    /// Whether a target leads to the origin that was asked.
    fn could_be_itself(&self, target: &Target, asked: &Origin) -> bool {
        let site = &self.edge.rules().site;
        let home =
            asked.is_preview() || (site.host.as_str() == &*asked.host && (site.scheme == asked.scheme || !site.upgrades()));
        match target.origin() {
            None => home,
            Some(origin) if origin.host.capture.is_some() => true,
            Some(origin) => {
                let own = site.host.as_str() == origin.host.host.as_str()
                    || site.aliases.iter().any(|alias| alias.host == origin.host.host);
                (origin.scheme == asked.scheme && origin.host.host.as_str() == &*asked.host) || (own && asked.is_preview())
            }
        }
    }

    /// Which rules of a stage could have an address in common with a pattern.
    pub(crate) fn overlaps(&self, stage: Stage) -> &Overlaps {
        self.overlaps[stage as usize].get_or_init(|| Overlaps::new(self.edge, stage))
    }

    /// The addresses of files that begin with a text, in order.
    pub(crate) fn addresses_below(&self, text: &str) -> impl Iterator<Item = &'r str> {
        let from = self.addresses.partition_point(|address| **address < *text);
        self.addresses[from..].iter().copied().take_while(move |address| address.starts_with(text))
    }

    /// The requests with the path of this one, on any host that has it.
    pub(crate) fn at(&self, request: &crate::Request) -> RequestSet<'r> {
        let mut all = self.all();
        let path = request.address().map_or("/", crate::address::Address::path);
        for piece in &mut all.pieces {
            match path.strip_prefix(&*self.regions[piece.region].prefix) {
                Some(rest) => piece.path.push((Arc::new(Leaf::Word(symbols(rest).collect())), true)),
                None => piece.origins.retain(|_| false),
            }
        }
        all.pieces.retain(|piece| !piece.origins.is_empty());
        all
    }

    /// The requests with one of these paths, below the base path of their host.
    pub(crate) fn at_paths(&self, paths: &[String]) -> RequestSet<'r> {
        paths.iter().fold(RequestSet::default(), |all, path| all.or(&self.at_path(path)))
    }

    /// The rules of a stage.
    pub(crate) fn rules(&self, stage: Stage) -> &'r [Rule] {
        self.edge.rules().stage(stage)
    }
}

fn all_conditions(rules: &crate::rules::RuleSet) -> impl Iterator<Item = &crate::rules::Conditions> {
    Stage::ALL.into_iter().flat_map(|stage| rules.stage(stage)).filter_map(|rule| rule.conditions.as_deref())
}

/// Where a redirect on the origin that was asked could lead to itself.
fn itself(rule: &Rule, redirect: &Redirect, base_is_root: bool) -> Itself {
    let (pattern, target) = (&rule.pattern, &redirect.target);
    if changes_length(rule, redirect).is_some() {
        return Itself::Never;
    }
    let among = || Itself::Among(target.path_as_pattern(|name| form_of(pattern, name)));
    let same_root = base_is_root || pattern.origin.is_none() == target.origin().is_none();
    if target.has_query() || !pattern.query().is_empty() || target.has_fragment() || !same_root {
        // What becomes of the query is not worked out.
        return among();
    }
    let same_shape = pattern.path.as_str() == target.path().as_str();
    match (same_shape, target.path().is_literal()) {
        (true, _) => Itself::Always,
        (false, true) if pattern.path.is_literal() => Itself::Never,
        (false, true) if !redirect.drop_query => Itself::At(symbols(target.path().as_str()).collect()),
        (false, _) => among(),
    }
}

/// Whether a redirect makes every path shorter, or every path longer; none where that hangs on what is captured.
pub(crate) fn changes_length(rule: &Rule, redirect: &Redirect) -> Option<Ordering> {
    let (from, to) = (&rule.pattern.path, redirect.target.path());
    if rule.pattern.origin.is_some() || redirect.target.origin().is_some() {
        return None;
    }
    let text = |template: &[Part], whole: &str| match template.is_empty() {
        true => symbols(whole).count() as i64,
        false => template
            .iter()
            .map(|part| match *part {
                Part::Text { start, end } => symbols(&whole[start as usize..end as usize]).count() as i64,
                Part::Expression { .. } => 0,
            })
            .sum(),
    };
    let (before, after) = (text(from.parts(), from.as_str()), text(to.parts(), to.as_str()));
    let least = |form| i64::from(form == Expression::Segment);
    let captures: Vec<(i64, i64)> = from
        .expressions()
        .map(|(form, name)| (least(form), to.expressions().filter(|(_, used)| *used == name).count() as i64))
        .collect();
    let from_path = to.expressions().all(|(_, used)| from.expressions().any(|(_, name)| name == used));
    let shortest: i64 = before + captures.iter().map(|(least, _)| least).sum::<i64>();
    // A target that comes to nothing becomes `/`, one without a `/` at its start gets one, and of several one is left.
    let begins_open = to.expressions().next().is_some() && matches!(to.literal_prefix(), "" | "/");
    let given = i64::from(to.expressions().next().is_some() && to.literal_prefix().is_empty());
    let unused: i64 = captures.iter().filter(|(_, used)| *used == 0).map(|(least, _)| least).sum();
    if from_path && captures.iter().all(|(_, used)| *used <= 1) && after + given - before - unused < 0 && shortest > 1 {
        return Some(Ordering::Less);
    }
    let more: i64 = captures.iter().map(|(least, used)| (used - 1) * least).sum();
    if captures.iter().all(|(_, used)| *used >= 1) && !begins_open && after - before + more > 0 {
        return Some(Ordering::Greater);
    }
    None
}

/// What a capture can take: what is captured from a query or a host is one segment of a path.
fn form_of(pattern: &Pattern, name: &str) -> Expression {
    pattern.captures().find(|(_, captured)| *captured == name).map_or(Expression::Any, |(form, _)| form)
}
