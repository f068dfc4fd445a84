//! What a difference is about, in words.

use ravel::Outcome;

use super::{Difference, DifferenceKind, HeaderDifference, Reply};

impl Difference {
    /// What the example got, and what it gets, in words: how it ends, or the headers where these
    /// alone differ.
    ///
    /// ```
    /// # use ravel::{Edge, FileList, Request, Rules};
    /// # let site = "site https://h.example/\n";
    /// # let (old, new) = (Rules::parse(site)?, Rules::parse(&format!("{site}gone /a\n"))?);
    /// # let files = FileList::from_iter(["a.html"]);
    /// # let edges = [Edge::new(&old, files.clone()), Edge::new(&new, files)];
    /// let comparison = ravel_check::compare(&edges[0], &edges[1]);
    /// assert_eq!(comparison.differences()[0].descriptions(), ["200 a.html", "410 gone"]);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn descriptions(&self) -> [String; 2] {
        match self.kind() {
            DifferenceKind::Headers | DifferenceKind::Lifetime => {
                [HeaderDifference::before, HeaderDifference::after].map(|value| {
                    let words = |header: &HeaderDifference| match value(header) {
                        Some(value) => format!("{}: {value}", header.name()),
                        None => format!("no {}", header.name()),
                    };
                    self.headers().iter().map(words).collect::<Vec<_>>().join("; ")
                })
            }
            _ => [self.before(), self.after()].map(description),
        }
    }
}

fn description(reply: &Reply) -> String {
    let status =
        |status: &Option<u16>| status.map_or("—".to_owned(), |status| status.to_string());
    let (last, hops) = match reply.statuses() {
        [hops @ .., last] => (status(last), hops),
        [] => (String::new(), &[][..]),
    };
    let end = match (reply.outcome(), reply.file()) {
        (Outcome::Loop, _) => "a redirect loop".to_owned(),
        (Outcome::Elsewhere, _) if last == "—" => "another service answers".to_owned(),
        (Outcome::Elsewhere, _) => return format!("{last} to {}", reply.url()),
        (Outcome::File, Some(file)) => format!("{last} {file}"),
        (Outcome::Gone, _) => format!("{last} gone"),
        (Outcome::Missing | Outcome::Outside, Some(file)) => format!("{last}, showing {file}"),
        _ => last,
    };
    match hops.is_empty() {
        true => end,
        false => {
            let hops: Vec<String> = hops.iter().map(status).collect();
            format!("{} to {}, then {end}", hops.join(", "), reply.url())
        }
    }
}
