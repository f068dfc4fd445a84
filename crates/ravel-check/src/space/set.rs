//! Sets of requests, as unions of pieces; a piece says of each part of a request what it may be,
//! whatever the others are.

use std::ops::ControlFlow;
use std::sync::Arc;

use http::Method;

use super::Space;
use super::axes::Axes;
use super::bits::Bits;
use super::fact::{Fact, SignedFact};
use super::leaf::Leaf;
use super::request::request_with;
use super::search::{SearchResult, SignedLeaf, Work, contains};
use super::symbol::{Symbol, spell};
use ravel::address::Request;

/// A set of requests.
#[derive(Debug, Clone, Default)]
pub struct RequestSet<'r> {
    pub(super) pieces: Vec<Piece<'r>>,
    /// Something was left in that could not be taken out: the set may be too large.
    pub(super) loose: bool,
    pub(super) work: Work<'r>,
}

#[derive(Debug, Clone)]
pub(super) struct Piece<'r> {
    /// The part of the site's hosts that paths are seen from.
    pub(super) region: usize,
    pub(super) origins: Bits,
    pub(super) methods: Bits,
    pub(super) languages: Bits,
    pub(super) path: Vec<SignedLeaf<'r>>,
    pub(super) facts: Vec<SignedFact<'r>>,
}

/// Whether a set has a member.
#[derive(Debug, Clone)]
pub enum Member {
    /// A shortest one.
    Shortest(Box<Request>),
    /// The set is empty.
    None,
    /// It would take too long to say.
    Undecided,
}

/// The most pieces that a difference is cut into.
const MAX_PIECES: usize = 256;

impl<'r> RequestSet<'r> {
    /// What is in both.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// # let space = ravel_check::space::Space::new(&edge);
    /// let rule = &rules.rules(ravel::program::Stage::Redirect)[0];
    /// let both = space.matching(rule).and(&space.all());
    /// assert!(matches!(both.shortest(&space), ravel_check::space::Member::Shortest(_)));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[must_use]
    pub fn and(&self, other: &RequestSet<'r>) -> RequestSet<'r> {
        let pairs =
            self.pieces.iter().flat_map(|a| other.pieces.iter().filter_map(move |b| a.and(b)));
        let loose = self.loose || other.loose;
        RequestSet { pieces: pairs.collect(), loose, work: self.work.clone() }
    }

    /// What is in either.
    #[must_use]
    pub fn or(mut self, other: &RequestSet<'r>) -> RequestSet<'r> {
        if self.pieces.is_empty() {
            self.work = other.work.clone();
        }
        self.pieces.extend(other.pieces.iter().cloned());
        self.loose |= other.loose;
        self
    }

    /// What is in this and not in the other. Pieces of the two that have nothing in common leave
    /// each other whole.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// # let space = ravel_check::space::Space::new(&edge);
    /// let rule = &rules.rules(ravel::program::Stage::Redirect)[0];
    /// let others = space.all().minus(&space.matching(rule));
    /// assert!(matches!(others.shortest(&space), ravel_check::space::Member::Shortest(_)));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[must_use]
    pub fn minus(&self, other: &RequestSet<'r>) -> RequestSet<'r> {
        let mut rest = self.clone();
        rest.take_out(other);
        rest
    }

    /// Takes the other's members out; says whether there were any in common.
    pub(crate) fn take_out(&mut self, other: &RequestSet<'r>) -> bool {
        let mut met = false;
        self.loose |= other.loose;
        for cut in &other.pieces {
            let mut left = Vec::new();
            for piece in std::mem::take(&mut self.pieces) {
                if piece.is_apart(cut) {
                    left.push(piece);
                    continue;
                }
                match piece.and(cut).map(|both| both.is_empty(&self.work)) {
                    Some(SearchResult::Member(())) => {
                        met = true;
                        left.extend(piece.minus(cut, &self.work));
                    }
                    Some(SearchResult::Undecided) => {
                        self.loose = true;
                        left.push(piece);
                    }
                    Some(SearchResult::Nothing) | None => left.push(piece),
                }
            }
            self.pieces = left;
            if self.pieces.len() > MAX_PIECES {
                self.loose = true;
                break;
            }
        }
        met
    }

    /// The same set without pieces that have nothing in them.
    pub(crate) fn not_empty(mut self) -> RequestSet<'r> {
        let work = self.work.clone();
        self.pieces.retain(|piece| piece.is_empty(&work) != SearchResult::Nothing);
        self
    }

    /// Whether no piece is left of it.
    pub(crate) fn is_nothing(&self) -> bool {
        self.pieces.is_empty()
    }

    /// The same set, in pieces of which each is inside the other set or outside.
    pub(crate) fn cut_by(self, other: &RequestSet<'r>) -> RequestSet<'r> {
        match other.pieces.is_empty() {
            true => self,
            false => self.minus(other).or(&self.and(other)),
        }
    }

    /// A member whose address is as short as any.
    pub fn shortest(&self, space: &Space<'r>) -> Member {
        match self.shortest_parts(space) {
            SearchResult::Member(found) => Member::Shortest(Box::new(found.request)),
            SearchResult::Nothing if !self.loose => Member::None,
            SearchResult::Nothing | SearchResult::Undecided => Member::Undecided,
        }
    }

    /// Members one after another, each with another path, the shortest first, until `each` breaks.
    pub(crate) fn each_member(
        &self,
        space: &Space<'r>,
        most: usize,
        mut each: impl FnMut(&Request) -> ControlFlow<()>,
    ) -> Members {
        let mut rest = self.clone();
        for _ in 0..most {
            match rest.shortest_parts(space) {
                SearchResult::Member(found) => {
                    if each(&found.request).is_break() {
                        return Members::Stopped;
                    }
                    rest.pieces[found.piece].path.push((Arc::new(Leaf::Word(found.word)), false));
                }
                SearchResult::Nothing if !rest.loose => return Members::Exhausted,
                SearchResult::Nothing | SearchResult::Undecided => return Members::More,
            }
        }
        Members::More
    }

    /// A shortest member of every piece, on every origin of it.
    pub(crate) fn members_by_piece(&self, space: &Space<'r>) -> Vec<Request> {
        let mut members = Vec::new();
        for piece in &self.pieces {
            let mut one = piece.clone();
            while let (false, SearchResult::Member((request, _))) =
                (one.origins.is_empty(), one.shortest(&space.axes, &self.work))
            {
                members.push(request);
                let first = one.origins.first();
                one.origins.retain(|origin| Some(origin) != first);
            }
        }
        members
    }

    fn shortest_parts(&self, space: &Space<'r>) -> SearchResult<FoundMember> {
        // Of addresses of one length the canonical one is the best example.
        let mut best = None;
        let mut undecided = false;
        for (number, piece) in self.pieces.iter().enumerate() {
            match piece.shortest(&space.axes, &self.work) {
                SearchResult::Member((request, word)) => {
                    let length = request.address().map_or(0, |address| {
                        address.path().len() + address.query().map_or(0, str::len)
                    });
                    let cost = (length, request.headers().len(), piece.origins.first());
                    if best.as_ref().is_none_or(|(known, _)| cost < *known) {
                        best = Some((cost, FoundMember { request, piece: number, word }));
                    }
                }
                SearchResult::Nothing => {}
                SearchResult::Undecided => undecided = true,
            }
        }
        match best {
            Some((_, found)) => SearchResult::Member(found),
            None if undecided => SearchResult::Undecided,
            None => SearchResult::Nothing,
        }
    }
}

struct FoundMember {
    request: Request,
    piece: usize,
    word: Vec<Symbol>,
}

/// How a row of members ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Members {
    /// It was stopped.
    Stopped,
    /// There are no others.
    Exhausted,
    /// There may be others.
    More,
}

impl<'r> Piece<'r> {
    pub(super) fn and(&self, other: &Piece<'r>) -> Option<Piece<'r>> {
        if self.region != other.region {
            return None;
        }
        let mut both = self.clone();
        both.origins.keep(&other.origins);
        both.methods.keep(&other.methods);
        both.languages.keep(&other.languages);
        if both.origins.is_empty() || both.methods.is_empty() || both.languages.is_empty() {
            return None;
        }
        for (leaf, wanted) in &other.path {
            if both.has_leaf(leaf, !*wanted) {
                return None;
            }
            if !both.has_leaf(leaf, *wanted) {
                both.path.push((Arc::clone(leaf), *wanted));
            }
        }
        for (fact, holds) in &other.facts {
            match self.known(fact) {
                Some(known) if known != *holds => return None,
                Some(_) => {}
                None => both.facts.push((Arc::clone(fact), *holds)),
            }
        }
        Some(both)
    }

    /// Whether a fact holds of all of it, or of none, where that is said.
    pub(super) fn known(&self, fact: &Arc<Fact<'r>>) -> Option<bool> {
        let same = self.facts.iter().find(|(known, _)| Arc::ptr_eq(known, fact) || known.is(fact));
        same.map(|(_, holds)| *holds)
    }

    /// Whether its paths are known to be in a leaf, or outside.
    pub(super) fn has_leaf(&self, leaf: &Arc<Leaf<'r>>, wanted: bool) -> bool {
        self.path.iter().any(|(known, sign)| {
            *sign == wanted
                && (Arc::ptr_eq(known, leaf)
                    || matches!((&**known, &**leaf), (Leaf::Word(a), Leaf::Word(b)) if a == b))
        })
    }

    /// The one path that all of it is for, where that is said.
    pub(super) fn one_path(&self) -> Option<&Vec<Symbol>> {
        self.path.iter().find_map(|(leaf, wanted)| match &**leaf {
            Leaf::Word(word) if *wanted => Some(word),
            _ => None,
        })
    }

    /// Whether it surely has nothing in common with the requests for one path.
    pub(super) fn is_apart(&self, other: &Piece<'r>) -> bool {
        let is_outside = |word: &Vec<Symbol>| {
            self.path.iter().any(|(leaf, wanted)| contains(leaf, word) != *wanted)
        };
        self.region != other.region || other.one_path().is_some_and(is_outside)
    }

    /// `Nothing` if it is empty; facts are asked first, since they cost less.
    pub(super) fn is_empty(&self, work: &Work<'r>) -> SearchResult<()> {
        match request_with(&self.facts, &work.steps) {
            SearchResult::Nothing => return SearchResult::Nothing,
            SearchResult::Undecided => return SearchResult::Undecided,
            SearchResult::Member(_) => {}
        }
        match work.shortest(&self.path) {
            SearchResult::Member(_) => SearchResult::Member(()),
            SearchResult::Nothing => SearchResult::Nothing,
            SearchResult::Undecided => SearchResult::Undecided,
        }
    }

    /// The parts of this that are outside the other, none of them twice.
    pub(super) fn minus(&self, other: &Piece<'r>, work: &Work<'r>) -> Vec<Piece<'r>> {
        let (mut parts, mut wide) = (Vec::new(), Vec::new());
        let mut rest = self.clone();
        let finite: [for<'p> fn(&'p mut Piece<'r>) -> &'p mut Bits; 3] =
            [|piece| &mut piece.origins, |piece| &mut piece.methods, |piece| &mut piece.languages];
        let mut cut = other.clone();
        for of in finite {
            let mut outside = rest.clone();
            of(&mut outside).drop(of(&mut cut));
            if !of(&mut outside).is_empty() {
                parts.push(outside);
            }
            of(&mut rest).keep(of(&mut cut));
        }
        for (leaf, wanted) in &other.path {
            if rest.has_leaf(leaf, *wanted) {
                continue;
            }
            let mut outside = rest.clone();
            outside.path.push((Arc::clone(leaf), !wanted));
            // All but one path is hardly ever none: that is not looked at for each of many paths.
            let is_wide = *wanted && matches!(**leaf, Leaf::Word(_)) && rest.one_path().is_none();
            match is_wide {
                true => wide.push(outside),
                false => parts.push(outside),
            }
            rest.path.push((Arc::clone(leaf), *wanted));
        }
        for (fact, holds) in &other.facts {
            if rest.known(fact) == Some(*holds) {
                continue;
            }
            let mut outside = rest.clone();
            outside.facts.push((Arc::clone(fact), !holds));
            parts.push(outside);
            rest.facts.push((Arc::clone(fact), *holds));
        }
        parts.retain(|part| part.is_empty(work) != SearchResult::Nothing);
        parts.extend(wide);
        parts
    }

    pub(super) fn shortest(
        &self,
        axes: &Axes,
        work: &Work<'r>,
    ) -> SearchResult<(Request, Vec<Symbol>)> {
        let (query, mut headers) = match request_with(&self.facts, &work.steps) {
            SearchResult::Member(parts) => parts,
            SearchResult::Nothing => return SearchResult::Nothing,
            SearchResult::Undecided => return SearchResult::Undecided,
        };
        let word = match work.shortest(&self.path) {
            SearchResult::Member(word) => word,
            SearchResult::Nothing => return SearchResult::Nothing,
            SearchResult::Undecided => return SearchResult::Undecided,
        };
        let (Some(origin), Some(method), Some(language)) =
            (self.origins.first(), self.methods.first(), self.languages.first())
        else {
            return SearchResult::Nothing;
        };
        let origin = &axes.origins[origin];
        let mut target = format!("{}{}", axes.regions[self.region].prefix, spell(&word));
        query.iter().for_each(|query| target.extend(["?", query]));
        let method: Method = axes.methods[method].clone();
        if !axes.languages[language].is_empty()
            && let Ok(value) = http::HeaderValue::from_str(&axes.languages[language])
        {
            headers.append(http::header::ACCEPT_LANGUAGE, value);
        }
        let request =
            Request::from_parts(method, origin.scheme, &origin.host, &target).with_headers(headers);
        SearchResult::Member((request, word))
    }
}
