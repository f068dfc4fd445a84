//! Whether two sites answer a request differently, by what somebody sees of the answers alone.

use ravel::address::Request;
use ravel::edge::{Edge, Explanation, Outcome, Walk};
use ravel_check::Comparison;

/// What somebody sees of one answer, without the names of pages' files.
#[derive(PartialEq)]
struct SeenAnswer {
    asked: String,
    status: Option<u16>,
    outcome: Outcome,
    file: String,
}

/// The number of redirects to the canonical URL that a way begins with.
fn leading(walk: &Walk<'_>) -> usize {
    let is_canonical = |(_, explanation): &&(String, Explanation<'_>)| {
        let answer = explanation.answer();
        answer.location().is_some() && answer.rule().is_none()
    };
    let answers = walk.answers();
    answers.iter().take_while(is_canonical).count().min(answers.len() - 1)
}

/// The answers behind some. Where there is but one, it does not matter by which URL it was come to.
fn seen(walk: &Walk<'_>, leading: usize) -> Vec<SeenAnswer> {
    let answers = walk.answers();
    let is_alone = answers.len() - leading == 1;
    let one = |(asked, explanation): &(String, Explanation<'_>)| {
        let answer = explanation.answer();
        let file = answer.file().unwrap_or("-").replace("/index.html", ".html");
        SeenAnswer {
            asked: if is_alone { String::new() } else { asked.clone() },
            status: answer.status(),
            outcome: answer.outcome(),
            file,
        }
    };
    answers[leading..].iter().map(one).collect()
}

/// The headers of the first answer, in order, but for where it leads; of `vary`, each name.
fn first_headers(walk: &Walk<'_>) -> Vec<(String, String)> {
    let headers = walk.first().answer().headers().iter();
    let parts = headers.filter(|header| header.name() != "location").flat_map(|header| {
        let names = header.value().split(if header.name() == "vary" { ", " } else { "\n" });
        names.map(|value| (header.name().to_owned(), value.to_owned())).collect::<Vec<_>>()
    });
    let mut headers: Vec<_> = parts.collect();
    headers.sort();
    headers
}

/// Whether two walks differ, and whether only in headers of the first answer.
pub(crate) fn differ(old: &Walk<'_>, new: &Walk<'_>) -> Option<bool> {
    let asked = |walk: &Walk<'_>| -> Vec<String> {
        walk.answers().iter().map(|(asked, _)| asked.clone()).collect()
    };
    // Where one redirect more leads to the same URL, it is seen by which.
    let both = leading(old).min(leading(new));
    let is_last = asked(old) == asked(new) && asked(old).len() - both <= 2;
    let behind = |walk: &Walk<'_>| if is_last { both } else { leading(walk) };
    let (was, is) = (seen(old, behind(old)), seen(new, behind(new)));
    if old.outcome() == Outcome::Loop && new.outcome() == Outcome::Loop {
        // Of redirects that have no end, the first is seen.
        if (was[0].status, was[0].outcome) != (is[0].status, is[0].outcome) {
            return Some(false);
        }
    } else if was != is || (old.hops(), old.url()) != (new.hops(), new.url()) {
        return Some(false);
    }
    (first_headers(old) != first_headers(new)).then_some(true)
}

/// The difference that a request is in: there is one if the answers differ, and only then.
pub(crate) fn told(
    edges: &[Edge; 2],
    comparison: &Comparison<'_>,
    request: &Request,
    about: &str,
) -> Option<usize> {
    let walks = edges.each_ref().map(|edge| edge.walk_unexplained(request));
    let found = comparison.difference_of(request);
    let differs = differ(&walks[0], &walks[1]).is_some();
    assert_eq!(differs, found.is_some(), "{}: {about}", request.url());
    found
}
