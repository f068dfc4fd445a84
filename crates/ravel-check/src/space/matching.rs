//! What patterns and conditions let through, as sets.

use std::sync::Arc;

use http::Method;

use super::bits::Bits;
use super::capture::CaptureTest;
use super::fact::Fact;
use super::leaf::Leaf;
use super::origin::Origin;
use super::pattern::PatternLeaf;
use super::symbol::{Symbol, symbols};
use super::{RequestSet, Space};
use ravel::program::{Rule, Test, TestKind, TestSubject, Tests};
use ravel::template::{Expression, Pattern, Piece, QueryTest, Target, Template};

impl<'r> Space<'r> {
    pub(super) fn asked_by(
        &self,
        pattern: &'r Pattern,
        asked: &'r Tests,
        target: Option<&Target>,
    ) -> RequestSet<'r> {
        let mut set = self.all();
        let fold = self.edge.site().ignore_case();
        let tests = |name: &str, from_query: bool, from_host: bool| {
            let mut tests: Vec<CaptureTest<'r>> = self.tests_about(name, asked).collect();
            if from_query && target.is_some_and(|target| target.puts_into_path(name)) {
                tests.push(CaptureTest::SEGMENT);
            }
            if !from_host && target.is_some_and(|target| target.puts_into_host(name)) {
                tests.push(CaptureTest::LABEL);
            }
            tests
        };
        let host_tests = pattern
            .origin()
            .and_then(|origin| origin.host().capture())
            .map(|name| tests(name, false, true));
        set.pieces
            .retain(|piece| pattern.origin().is_some() || self.axes.regions[piece.region].inside);
        for piece in &mut set.pieces {
            if let Some(origin) = pattern.origin() {
                piece.origins.retain(|at| {
                    self.axes.origins.get(at).is_some_and(|origin_asked| {
                        origin_asked.takes(origin, host_tests.as_deref(), self.edge.site())
                    })
                });
            }
            let read: Vec<Symbol> = match pattern.origin() {
                Some(_) => symbols(&self.axes.regions[piece.region].prefix).collect(),
                None => Vec::new(),
            };
            let mut path_tests = Vec::new();
            for (number, (_, name)) in (0_u16..).zip(pattern.path().expressions()) {
                path_tests.extend(tests(name, false, false).into_iter().map(|test| (number, test)));
            }
            if path_tests.is_empty() && takes_every_path(pattern.path()) {
                continue;
            }
            match path_leaf(pattern, path_tests, fold, &read) {
                Some(leaf) => piece.path.push((Arc::new(leaf), true)),
                None => piece.origins.retain(|_| false),
            }
        }
        for part in pattern.query() {
            let fact = match part.test() {
                QueryTest::Present => Fact::Parameter(part.key()),
                QueryTest::Text(value) => Fact::ParameterIs(part.key(), value),
                QueryTest::Capture(name) => {
                    Fact::FirstValue(part.key(), Arc::new(Leaf::Value(tests(name, true, false))))
                }
            };
            self.add_fact(&mut set, Arc::new(fact), true);
        }
        asked.iter().for_each(|test| self.add_test(&mut set, test));
        set.pieces.retain(|piece| {
            !(piece.origins.is_empty() || piece.methods.is_empty() || piece.languages.is_empty())
        });
        set
    }

    pub(super) fn add_fact(&self, set: &mut RequestSet<'r>, fact: Arc<Fact<'r>>, holds: bool) {
        set.pieces.iter_mut().for_each(|piece| piece.facts.push((Arc::clone(&fact), holds)));
    }

    /// Narrows a set to what passes a test; what is asked of captures is part of the pattern's
    /// leaf, and what is asked of the answer cannot be said of a request.
    pub(super) fn add_test(&self, set: &mut RequestSet<'r>, test: &'r Test) {
        let wanted = !test.negated();
        let mut origins = |fits: &dyn Fn(&Origin) -> bool| {
            for piece in &mut set.pieces {
                piece.origins.retain(|at| {
                    self.axes.origins.get(at).is_some_and(|origin| fits(origin) == wanted)
                });
            }
        };
        match test.kind() {
            TestKind::Capture(..) | TestKind::ContentType(_) => {}
            TestKind::Host(hosts) => {
                origins(&|origin| hosts.iter().any(|host| host.as_str() == &*origin.host))
            }
            TestKind::Scheme(scheme) => origins(&|origin| origin.scheme == *scheme),
            TestKind::Role(role) => origins(&|origin| origin.role == *role),
            TestKind::Method(methods) => {
                let fits = |method: &Method| {
                    methods.contains(if *method == Method::HEAD { &Method::GET } else { method })
                };
                for piece in &mut set.pieces {
                    piece.methods.retain(|at| {
                        self.axes.methods.get(at).is_some_and(|method| fits(method) == wanted)
                    });
                }
            }
            TestKind::Language(listed) => {
                for piece in &mut set.pieces {
                    piece.languages.retain(|at| {
                        self.language_of.get(at).is_some_and(|at| listed.contains(at)) == wanted
                    });
                }
            }
            TestKind::Cookie(name, values) => {
                self.add_fact(set, Arc::new(Fact::Cookie(name, values)), wanted)
            }
            TestKind::Header(name, values) => {
                self.add_fact(set, Arc::new(Fact::Header(name, values)), wanted)
            }
            TestKind::FileExists => {
                for piece in &mut set.pieces {
                    if self.axes.regions[piece.region].inside {
                        piece.path.push((Arc::clone(&self.named), wanted));
                    } else if wanted {
                        piece.origins.retain(|_| false);
                    }
                }
            }
        }
    }

    /// The requests for which a rule looks at the visitor: those that its pattern matches and whose
    /// other conditions hold.
    pub(crate) fn looking_at_visitors(&self, rule: &'r Rule) -> RequestSet<'r> {
        let mut set = self.of_pattern_where(rule.pattern(), rule.tests());
        set.pieces.iter_mut().for_each(|piece| {
            piece.facts.retain(|(fact, _)| fact.is_of_query());
            piece.languages = Bits::of(self.axes.languages.len(), |_| true);
        });
        set
    }

    /// The requests for which a rule's conditions on more than the path hold, wherever they are
    /// asked.
    pub(crate) fn beyond_path(&self, rule: &'r Rule) -> RequestSet<'r> {
        let mut set = self.all();
        for part in rule.pattern().query() {
            let fact = match part.test() {
                QueryTest::Present => Fact::Parameter(part.key()),
                QueryTest::Text(value) => Fact::ParameterIs(part.key(), value),
                QueryTest::Capture(name) => {
                    let tests = self.tests_about(name, rule.tests()).collect();
                    Fact::FirstValue(part.key(), Arc::new(Leaf::Value(tests)))
                }
            };
            self.add_fact(&mut set, Arc::new(fact), true);
        }
        rule.tests()
            .iter()
            .filter(|test| match test.kind().subject() {
                TestSubject::Method | TestSubject::Headers => true,
                TestSubject::Captures
                | TestSubject::Origin
                | TestSubject::File
                | TestSubject::Answer => false,
            })
            .for_each(|test| self.add_test(&mut set, test));
        set.pieces.retain(|piece| !(piece.methods.is_empty() || piece.languages.is_empty()));
        set
    }

    /// What is asked of a capture.
    pub(super) fn tests_about(
        &self,
        name: &str,
        asked: &'r Tests,
    ) -> impl Iterator<Item = CaptureTest<'r>> {
        let fold = self.edge.site().ignore_case();
        let about = asked.captures().filter(move |(known, ..)| *known == name);
        about.map(move |(_, set, negated)| CaptureTest::of(set, negated, fold))
    }
}

/// Whether it is `{/name*}` alone, and so takes whatever is a path.
fn takes_every_path(template: &Template) -> bool {
    let mut pieces = template.pieces();
    matches!(
        (pieces.next(), pieces.next()),
        (Some(Piece::Expression(Expression::Segments, _)), None)
    )
}

/// The paths that a pattern matches, behind what was read of them; none where nothing fits.
fn path_leaf<'r>(
    pattern: &'r Pattern,
    tests: Vec<(u16, CaptureTest<'r>)>,
    fold: bool,
    read: &[Symbol],
) -> Option<Leaf<'r>> {
    if !pattern.path().is_literal() || fold {
        return Some(Leaf::Pattern(PatternLeaf::new(pattern.path(), tests, fold, read)));
    }
    let word: Vec<Symbol> = symbols(pattern.path().as_str()).collect();
    word.strip_prefix(read).map(|rest| Leaf::Word(rest.to_vec()))
}
