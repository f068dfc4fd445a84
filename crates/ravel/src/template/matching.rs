//! Whether a template matches a path, in time linear in the path.
//!
//! The wide expressions (`{+x}`, `{/x*}`) cut a template into chunks of text and narrow `{x}`:
//!
//! ```text
//!   /news {/story*} /part-{n} {+rest}
//!   └chunk┘        └─ chunk ─┘       └ empty chunk, at the end
//! ```
//!
//! Taking as little as possible further left is never worse for what follows: a chunk that begins
//! earlier also ends earlier, and the wide expression after it takes up the difference. So the
//! first place where a chunk fits is the right one, and nothing is tried again. Where a chunk fails
//! behind its first narrow expression, it fails from every later start in the same segment too,
//! since narrow expressions stop at the segment's end: the search goes on in the next segment.

use memchr::memchr;
use smallvec::SmallVec;

use super::capture::{Captured, Captures, Source};
use super::piece::{Expression, Part, Template, span};

type Spans = SmallVec<[(u32, u32); 6]>;

impl Template {
    /// Holds the template against a normalized path and adds what it captures. With `fold`, ASCII
    /// letters match in any case.
    pub fn matches<'p>(&self, path: &'p str, fold: bool, captures: &mut Captures<'p>) -> bool {
        if self.is_literal() {
            return same(self.as_str().as_bytes(), path.as_bytes(), fold);
        }
        let mut matcher = Matcher::new(self, path, fold);
        let matched = matcher.run();
        if matched {
            captures.extend(
                matcher
                    .spans
                    .iter()
                    .map(|&at| Captured { text: span(path, at), source: Source::Path }),
            );
        }
        matched
    }

    /// How many bytes of a path it does not match fit its beginning.
    pub fn fits_until(&self, path: &str, fold: bool) -> usize {
        let same_start = |text: &str| {
            let pairs = text.bytes().zip(path.bytes());
            pairs.take_while(|(a, b)| a == b || (fold && a.eq_ignore_ascii_case(b))).count()
        };
        let prefix = self.literal_prefix();
        let fits = same_start(prefix);
        if self.is_literal() || fits < prefix.len() {
            return fits;
        }
        let mut matcher = Matcher::new(self, path, fold);
        matcher.run();
        matcher.reached.max(fits)
    }
}

struct Matcher<'t> {
    template: &'t Template,
    path: &'t [u8],
    fold: bool,
    spans: Spans,
    /// The furthest byte up to which something fitted.
    reached: usize,
}

/// Why a chunk does not fit at a start.
enum Misfit {
    /// Its first text does not stand there, or does not end at a segment's end.
    Here,
    /// It fits from no start in this segment.
    Segment,
}

/// What must follow a chunk.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Then {
    Anything,
    /// A `/` or the end.
    Boundary,
    End,
}

impl<'t> Matcher<'t> {
    fn new(template: &'t Template, path: &'t str, fold: bool) -> Matcher<'t> {
        Matcher { template, path: path.as_bytes(), fold, spans: Spans::new(), reached: 0 }
    }

    fn run(&mut self) -> bool {
        let template = self.template;
        let mut wide: Option<Expression> = None;
        let mut at = 0;
        let mut parts = template.parts();
        loop {
            let len = parts.iter().position(is_wide).unwrap_or(parts.len());
            let (chunk, rest) = parts.split_at(len);
            let (next, then) = match rest.first() {
                None => (None, Then::End),
                Some(&Part::Expression { form: Expression::Segments, .. }) => {
                    (Some(Expression::Segments), Then::Boundary)
                }
                Some(_) => (Some(Expression::Any), Then::Anything),
            };
            let end = match wide {
                None => self.chunk(chunk, at, then).ok(),
                Some(form) => self.search(form, chunk, at, then),
            };
            match (end, next) {
                (None, _) => return false,
                (Some(_), None) => return true,
                (Some(end), Some(form)) => {
                    at = end;
                    wide = Some(form);
                    parts = &rest[1..];
                }
            }
        }
    }

    /// Finds the first start at or after `from` where the chunk fits; what lies between is the wide
    /// expression's.
    fn search(
        &mut self,
        wide: Expression,
        chunk: &[Part],
        from: usize,
        then: Then,
    ) -> Option<usize> {
        let mark = self.spans.len();
        self.spans.push((from as u32, from as u32));
        let mut start = from;
        loop {
            start = self.next_start(wide, chunk, start, then)?;
            self.spans.truncate(mark + 1);
            self.spans[mark].1 = start as u32;
            match self.chunk(chunk, start, then) {
                Ok(end) => return Some(end),
                Err(Misfit::Here) => start = self.after_unit(start)?,
                Err(Misfit::Segment) => start = self.next_slash(start + 1)?,
            }
        }
    }

    /// The first place at or after `start` where the chunk could begin.
    fn next_start(
        &self,
        wide: Expression,
        chunk: &[Part],
        start: usize,
        then: Then,
    ) -> Option<usize> {
        let end = self.path.len();
        match *chunk {
            [] if then == Then::End => Some(end),
            [Part::Text { start: a, end: b }] if then == Then::End => {
                let at = end.checked_sub((b - a) as usize)?;
                (at >= start).then_some(at)
            }
            [Part::Text { start: a, end: b }, ..] => self.find(self.text(a, b), start, end),
            [] if then == Then::Boundary => Some(self.next_slash(start).unwrap_or(end)),
            _ if wide == Expression::Segments => Some(self.next_slash(start).unwrap_or(end)),
            _ => Some(start),
        }
    }

    /// Fits a chunk at a start; gives its end.
    fn chunk(&mut self, chunk: &[Part], start: usize, then: Then) -> Result<usize, Misfit> {
        let mut at = start;
        let mut parts = chunk;
        if let [Part::Text { start: a, end: b }, ref rest @ ..] = *parts {
            let text = self.text(a, b);
            if !self.stands_at(text, at) {
                return Err(Misfit::Here);
            }
            at += text.len();
            parts = rest;
            self.reached = self.reached.max(at);
        }
        if parts.is_empty() {
            return if self.holds(then, at) { Ok(at) } else { Err(Misfit::Here) };
        }
        while let [_narrow, rest @ ..] = parts {
            let misfit = if at == start { Misfit::Here } else { Misfit::Segment };
            let least = self.after_unit(at).filter(|_| self.path[at] != b'/').ok_or(misfit)?;
            let slash = self.next_slash(at).unwrap_or(self.path.len());
            let (narrow_end, end);
            (narrow_end, end, parts) = match *rest {
                [] => {
                    let end = if then == Then::Anything { least } else { slash };
                    (end, end, rest)
                }
                [Part::Text { start: a, end: b }, ref after @ ..] => {
                    let text = self.text(a, b);
                    let last = if after.is_empty() { then } else { Then::Anything };
                    let found =
                        self.find_before(text, least, slash, last).ok_or(Misfit::Segment)?;
                    (found, found + text.len(), after)
                }
                [..] => (least, least, rest),
            };
            self.spans.push((at as u32, narrow_end as u32));
            at = end;
            self.reached = self.reached.max(at);
        }
        if self.holds(then, at) { Ok(at) } else { Err(Misfit::Segment) }
    }

    /// The first place from `from` on, at most at `slash`, where `text` stands and `then` holds
    /// behind it.
    fn find_before(&self, text: &[u8], from: usize, slash: usize, then: Then) -> Option<usize> {
        if then == Then::End {
            let at = self.path.len().checked_sub(text.len())?;
            return ((from..=slash).contains(&at) && self.stands_at(text, at)).then_some(at);
        }
        let until = (slash + text.len()).min(self.path.len());
        let mut from = from;
        loop {
            let at = self.find(text, from, until)?;
            if at > slash {
                return None;
            }
            if self.holds(then, at + text.len()) {
                return Some(at);
            }
            from = at + 1;
        }
    }

    fn find(&self, text: &[u8], from: usize, until: usize) -> Option<usize> {
        let mut from = from;
        loop {
            let hay = self.path.get(from..until)?;
            let at = from
                + match self.fold {
                    false => find_text(text, hay)?,
                    true => hay
                        .windows(text.len())
                        .position(|window| window.eq_ignore_ascii_case(text))?,
                };
            if self.is_unit_start(at) {
                return Some(at);
            }
            from = at + 1;
        }
    }

    fn stands_at(&self, text: &[u8], at: usize) -> bool {
        let window = self.path.get(at..at + text.len());
        window.is_some_and(|window| same(text, window, self.fold)) && self.is_unit_start(at)
    }

    fn holds(&self, then: Then, at: usize) -> bool {
        match then {
            Then::Anything => true,
            Then::Boundary => self.path.get(at).is_none_or(|&byte| byte == b'/'),
            Then::End => at == self.path.len(),
        }
    }

    /// A percent-encoded byte is one character: no piece begins inside it.
    fn is_unit_start(&self, at: usize) -> bool {
        let escape_before = |back: usize| at >= back && self.path[at - back] == b'%';
        !escape_before(1) && !escape_before(2)
    }

    fn after_unit(&self, at: usize) -> Option<usize> {
        match self.path.get(at)? {
            b'%' => Some((at + 3).min(self.path.len())),
            _ => Some(at + 1),
        }
    }

    fn next_slash(&self, from: usize) -> Option<usize> {
        find_byte(b'/', self.path.get(from..)?).map(|at| from + at)
    }

    fn text(&self, start: u32, end: u32) -> &'t [u8] {
        self.template.slice(start, end).as_bytes()
    }
}

/// What is sought is mostly near: a few bytes are looked at before a search over many is set up.
fn find_byte(byte: u8, hay: &[u8]) -> Option<usize> {
    const NEAR: usize = 8;
    let near = hay.len().min(NEAR);
    match hay[..near].iter().position(|&other| other == byte) {
        None if near == NEAR => memchr(byte, &hay[NEAR..]).map(|at| NEAR + at),
        found => found,
    }
}

fn find_text(text: &[u8], hay: &[u8]) -> Option<usize> {
    let mut from = 0;
    loop {
        let at = from + find_byte(*text.first()?, &hay[from..])?;
        if hay[at..].starts_with(text) {
            return Some(at);
        }
        from = at + 1;
    }
}

fn is_wide(part: &Part) -> bool {
    matches!(part, Part::Expression { form: Expression::Any | Expression::Segments, .. })
}

fn same(a: &[u8], b: &[u8], fold: bool) -> bool {
    if fold { a.eq_ignore_ascii_case(b) } else { a == b }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::template::Pattern;

    fn captured(pattern: &str, path: &str) -> Option<Vec<String>> {
        let pattern =
            Pattern::parse(pattern).unwrap_or_else(|error| panic!("{pattern}: {}", error.kind));
        let mut captures = Captures::new();
        let matched = pattern.path.matches(path, false, &mut captures);
        matched.then(|| captures.iter().map(|captured| captured.text.to_owned()).collect())
    }

    #[test]
    fn what_patterns_match() {
        let cases: &[(&str, &str, Option<&[&str]>)] = &[
            ("/fares", "/fares", Some(&[])),
            ("/fares", "/fares/", None),
            ("/p/{x}", "/p/a", Some(&["a"])),
            ("/p/{x}", "/p/", None),
            ("/p/{x}", "/p/a/b", None),
            ("/p/{x}/", "/p/a/", Some(&["a"])),
            ("/p-{x}.html", "/p-a.b.html", Some(&["a.b"])),
            ("/{a}-{b}", "/x-y-z", Some(&["x", "y-z"])),
            ("/{a}{b}", "/xyz", Some(&["x", "yz"])),
            ("/{a}{b}", "/%C3%A9z", Some(&["%C3", "%A9z"])),
            ("/{a}", "/%2F", Some(&["%2F"])),
            ("/a{+x}", "/a", Some(&[""])),
            ("/a{+x}", "/a/b/c", Some(&["/b/c"])),
            ("{+x}.html", "/a/b.html", Some(&["/a/b"])),
            ("{+x}/{y}", "/a/b/c", Some(&["/a/b", "c"])),
            ("{+x}{y}", "/a/b", Some(&["/a/", "b"])),
            ("{+x}/{y}/", "/a/b/", Some(&["/a", "b"])),
            ("/news{/s*}", "/news", Some(&[""])),
            ("/news{/s*}", "/news/", Some(&["/"])),
            ("/news{/s*}", "/news/a/b", Some(&["/a/b"])),
            ("/news{/s*}", "/newspaper", None),
            ("{/s*}", "/", Some(&["/"])),
            ("{/s*}/end", "/a/end/end", Some(&["/a/end"])),
            ("{/s*}/mid{/t*}", "/mid/a/mid", Some(&["", "/a/mid"])),
            ("/{x}{/s*}", "/ab/c", Some(&["ab", "/c"])),
            ("/{x}-{y}{/s*}", "/a-b-c/d", Some(&["a", "b-c", "/d"])),
            ("/x{+a}b{c}d", "/xbbd", Some(&["", "b"])),
            ("/x{+a}b/{c}/d", "/xb/b/q/d", Some(&["b/", "q"])),
            ("/a4", "/%A4", None),
            ("{+x}4", "/%A4", None),
        ];
        for (pattern, path, expected) in cases {
            let expected =
                expected.map(|texts| texts.iter().map(|text| (*text).to_owned()).collect());
            assert_eq!(captured(pattern, path), expected, "{pattern} on {path}");
        }
    }

    /// The definition, tried out: each expression from left to right takes as little as lets the
    /// rest match.
    fn slow(
        parts: &[Part],
        template: &Template,
        path: &str,
        at: usize,
        spans: &mut Vec<String>,
    ) -> bool {
        let Some((part, rest)) = parts.split_first() else { return at == path.len() };
        let (form, after) = match *part {
            Part::Text { start, end } => {
                let text = template.slice(start, end);
                return path[at..].starts_with(text)
                    && slow(rest, template, path, at + text.len(), spans);
            }
            Part::Expression { form, .. } => (form, &path[at..]),
        };
        let boundary = |end: usize| after[end..].is_empty() || after[end..].starts_with('/');
        for end in 0..=after.len() {
            let text = &after[..end];
            let allowed = match form {
                Expression::Any => true,
                Expression::Segment => !text.is_empty() && !text.contains('/'),
                Expression::Segments => boundary(end) && (text.is_empty() || text.starts_with('/')),
            };
            if !allowed {
                continue;
            }
            spans.push(text.to_owned());
            if slow(rest, template, path, at + end, spans) {
                return true;
            }
            spans.pop();
        }
        false
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 4_000, failure_persistence: None, ..ProptestConfig::default() })]
        #[test]
        fn matching_is_as_defined(pieces in prop::collection::vec(0..7_usize, 1..7), path in "(/|a|b|/a){0,9}") {
            let mut text = String::new();
            for (number, piece) in pieces.iter().enumerate() {
                text.push_str(&["a", "/", "b", "/a", "{N}", "{+N}", "{/N*}"][*piece].replace('N', &format!("n{number}")));
            }
            let path = format!("/{path}");
            if let Ok(pattern) = Pattern::parse(&text) && !pattern.path.is_literal() {
                let mut spans = Vec::new();
                let expected = slow(pattern.path.parts(), &pattern.path, &path, 0, &mut spans).then_some(spans);
                prop_assert_eq!(captured(&text, &path), expected, "{} on {}", text, path);
            }
        }

        #[test]
        fn a_printed_pattern_parses_to_itself(text in "(https://a.example)?[/a{}+*?=&%:$.é# -]{0,20}|/[a-c{}+/*]{0,12}([?][a-c={}&%+]{0,12})?") {
            if let Ok(pattern) = Pattern::parse(&text) {
                let printed = pattern.to_string();
                prop_assert_eq!(Pattern::parse(&printed), Ok(pattern), "{}", printed);
            }
        }

        #[test]
        fn no_text_panics(pattern in any::<String>(), rest in any::<String>(), path in any::<String>()) {
            for text in [pattern, format!("/{rest}"), format!("https://a.example/{{x}}{rest}?{rest}")] {
                if let Ok(pattern) = Pattern::parse(&text) {
                    pattern.path.matches(&path, true, &mut Captures::new());
                    pattern.path.fits_until(&path, false);
                }
            }
        }
    }
}
