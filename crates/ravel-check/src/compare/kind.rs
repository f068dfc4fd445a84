//! In which way two answers to one request differ.

use ravel::Outcome;
use ravel::edge::{Answer, Explanation, Walk};

/// In which way a request is answered differently, by what hurts most.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[non_exhaustive]
pub enum DifferenceKind {
    /// It ends with 404, or where the site is not, and did not before.
    Missing,
    /// Its redirects have no end, and had one before.
    Loop,
    /// It leads to another URL.
    Target,
    /// It leads to the same URL, which shows another file.
    File,
    /// It leads to the same place by more redirects, or by fewer.
    Hops,
    /// It ends otherwise, as with 410; or on the way there is another status.
    Status,
    /// Other headers than `cache-control`.
    Headers,
    /// Another cache lifetime: `cache-control` alone.
    Lifetime,
    /// It ends well, and was 404 or a redirect loop before; or the site was not there.
    Found,
    /// It could not be decided whether requests differ.
    Undecided,
}

impl DifferenceKind {
    /// Every kind, what hurts most first.
    pub const ALL: [DifferenceKind; 10] = [
        DifferenceKind::Missing,
        DifferenceKind::Loop,
        DifferenceKind::Target,
        DifferenceKind::File,
        DifferenceKind::Hops,
        DifferenceKind::Status,
        DifferenceKind::Headers,
        DifferenceKind::Lifetime,
        DifferenceKind::Found,
        DifferenceKind::Undecided,
    ];

    /// The kind in one word.
    ///
    /// ```
    /// assert_eq!(ravel_check::DifferenceKind::Missing.as_str(), "missing");
    /// ```
    pub fn as_str(self) -> &'static str {
        match self {
            DifferenceKind::Missing => "missing",
            DifferenceKind::Loop => "loop",
            DifferenceKind::Target => "target",
            DifferenceKind::File => "file",
            DifferenceKind::Hops => "hops",
            DifferenceKind::Status => "status",
            DifferenceKind::Headers => "headers",
            DifferenceKind::Lifetime => "lifetime",
            DifferenceKind::Found => "found",
            DifferenceKind::Undecided => "undecided",
        }
    }
}

impl std::fmt::Display for DifferenceKind {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.as_str())
    }
}

/// A header whose value differs.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct HeaderDifference {
    pub(crate) name: String,
    pub(crate) before: Option<String>,
    pub(crate) after: Option<String>,
}

impl HeaderDifference {
    /// The name, in lower case.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The value before, lines of one name joined by a comma; none where it was not there.
    pub fn before(&self) -> Option<&str> {
        self.before.as_deref()
    }

    /// The value after.
    pub fn after(&self) -> Option<&str> {
        self.after.as_deref()
    }
}

/// In which way the ways of one request through two sites differ, if they do.
pub(crate) fn kind(walks: [&Walk<'_>; 2]) -> Option<DifferenceKind> {
    let [old, new] = walks;
    let (before, after) = (end(old), end(new));
    let from = starts(walks);
    let (ways, others) = (&old.answers()[from[0]..], &new.answers()[from[1]..]);
    // Both may stay where they are, and one of them at another origin.
    let stay = ways.len() == 1 && others.len() == 1;
    let asked = |(a, b): (&Asked<'_>, &Asked<'_>)| a.0 == b.0;
    let statuses = |(a, b): (&Asked<'_>, &Asked<'_>)| {
        let of = |answer: &Answer<'_>| (answer.status(), answer.outcome());
        of(a.1.answer()) == of(b.1.answer())
    };
    let pairs = || ways.iter().zip(others);
    // Of redirects that have no end on either side, nobody sees more than the first.
    let are_loops = before == VisitEnd::Loop && after == VisitEnd::Loop;
    let kinds = [
        (DifferenceKind::Missing, after == VisitEnd::NotHere && before != VisitEnd::NotHere),
        (DifferenceKind::Found, before == VisitEnd::NotHere && after != VisitEnd::NotHere),
        (DifferenceKind::Missing, after == VisitEnd::Missing && before != VisitEnd::Missing),
        (DifferenceKind::Loop, after == VisitEnd::Loop && before != VisitEnd::Loop),
        (
            DifferenceKind::Found,
            after == VisitEnd::Well && matches!(before, VisitEnd::Missing | VisitEnd::Loop),
        ),
        (DifferenceKind::Status, before != after),
        (DifferenceKind::Target, !stay && old.url() != new.url()),
        (DifferenceKind::Hops, ways.len() != others.len()),
        (DifferenceKind::Target, !stay && !pairs().all(asked)),
        (DifferenceKind::File, file_end(old) != file_end(new)),
        (DifferenceKind::Status, !pairs().all(statuses)),
        (DifferenceKind::Hops, old.hops() != new.hops()),
        (DifferenceKind::Target, old.url() != new.url()),
    ];
    let found = match are_loops {
        true => (!pairs().take(1).all(statuses)).then_some(DifferenceKind::Status),
        false => kinds.into_iter().find(|(_, differs)| *differs).map(|(kind, _)| kind),
    };
    found.or_else(|| {
        let headers = headers(old.first().answer(), new.first().answer());
        let is_lifetime = |header: &HeaderDifference| header.name == "cache-control";
        match (headers.is_empty(), headers.iter().all(is_lifetime)) {
            (true, _) => None,
            (false, true) => Some(DifferenceKind::Lifetime),
            (false, false) => Some(DifferenceKind::Headers),
        }
    })
}

/// Whether ways do not end alike, wherever they lead: what hurts is the end then.
pub(crate) fn ends_differ(walks: [&Walk<'_>; 2]) -> bool {
    end(walks[0]) != end(walks[1])
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum VisitEnd {
    Well,
    Gone,
    Missing,
    /// The host that is asked, or its base path, is not the site's.
    NotHere,
    Loop,
    /// Refused: 400, 405, 414.
    Refused,
}

fn end(walk: &Walk<'_>) -> VisitEnd {
    match walk.outcome() {
        Outcome::File | Outcome::Elsewhere => VisitEnd::Well,
        Outcome::Outside if walk.hops() == 0 => VisitEnd::NotHere,
        Outcome::Refused if walk.status() == Some(421) && walk.hops() == 0 => VisitEnd::NotHere,
        Outcome::Missing | Outcome::Outside => VisitEnd::Missing,
        Outcome::Refused if walk.status() == Some(421) => VisitEnd::Missing,
        Outcome::Gone => VisitEnd::Gone,
        Outcome::Loop => VisitEnd::Loop,
        _ => VisitEnd::Refused,
    }
}

/// The file at the end, as the URL that it has: one with another name that has the same is the same.
fn file_end<'e>(walk: &Walk<'e>) -> Option<&'e str> {
    walk.last().1.answer().file().map(page_name)
}

/// A file's name without what URLs of pages leave out.
pub(crate) fn page_name(file: &str) -> &str {
    let stem = file.strip_suffix(".html").unwrap_or(file);
    match stem.strip_suffix("/index") {
        Some(folder) => folder,
        None if stem == "index" => "",
        None => stem,
    }
}

/// A URL that was asked on the way, with its answer.
type Asked<'e> = (String, Explanation<'e>);

/// Where what matters of two ways begins, by the number of the answer: behind redirects to the
/// canonical URL; where both have one redirect more, to the same URL, behind those that both have.
pub(crate) fn starts(walks: [&Walk<'_>; 2]) -> [usize; 2] {
    let [old, new] = walks.map(|walk| walk.answers().iter().map(|(asked, _)| asked));
    let from = walks.map(canonical_hops);
    let common = from[0].min(from[1]);
    let is_last = walks.iter().all(|walk| walk.answers().len() - common <= 2);
    if is_last && old.eq(new) { [common; 2] } else { from }
}

/// How many redirects to the canonical URL a way begins with.
pub(crate) fn canonical_hops(walk: &Walk<'_>) -> usize {
    let is_canonical =
        |answer: &Answer<'_>| answer.outcome() == Outcome::Redirect && answer.rule().is_none();
    let answers = walk.answers();
    let leading = answers.iter().take_while(|(_, why)| is_canonical(why.answer()));
    leading.count().min(answers.len() - 1)
}

/// The headers that differ, but for `location`, in the order of their names; of `vary`, the names
/// count, and not their order (RFC 9110, section 12.5.5).
pub(crate) fn headers(old: &Answer<'_>, new: &Answer<'_>) -> Vec<HeaderDifference> {
    let mut names: Vec<&str> =
        old.headers().iter().chain(new.headers()).map(|header| header.name()).collect();
    names.sort_unstable();
    names.dedup();
    let value = |answer: &Answer<'_>, name: &str| {
        let headers = answer.headers().iter().filter(|header| header.name() == name);
        let mut values: Vec<&str> = headers.map(|header| header.value()).collect();
        if name == "vary" {
            values = values.iter().flat_map(|value| value.split(',')).map(str::trim).collect();
            values.sort_unstable();
        }
        (!values.is_empty()).then(|| values.join(", "))
    };
    let difference = |name: &str| HeaderDifference {
        name: name.to_owned(),
        before: value(old, name),
        after: value(new, name),
    };
    let named = names.into_iter().filter(|name| *name != "location").map(difference);
    named.filter(|header| header.before != header.after).collect()
}
