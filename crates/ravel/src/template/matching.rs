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

use super::capture::{CaptureValue, Captures, Source};
use super::piece::{Expression, Part, Template, span};

type Spans = SmallVec<[(u32, u32); 6]>;

impl Template {
    /// Holds the template against a normalized path and adds what it captures. With `fold`, ASCII
    /// letters match in any case.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// let mut captures = Default::default();
    /// assert!(Pattern::parse("/a/{x}")?.path().matches("/a/1", false, &mut captures));
    /// assert_eq!(captures[0].text(), "1");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
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
                    .map(|&at| CaptureValue { text: span(path, at), source: Source::Path }),
            );
        }
        matched
    }

    /// How many bytes of a path it does not match fit its beginning.
    ///
    /// ```
    /// use ravel::template::Pattern;
    ///
    /// assert_eq!(Pattern::parse("/about")?.path().fits_until("/abend", false), 3);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
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
enum MismatchReason {
    /// Its first text does not stand there, or does not end at a segment's end.
    Here,
    /// It fits from no start in this segment.
    Segment,
}

/// What must follow a chunk.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Following {
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
                None => (None, Following::End),
                Some(&Part::Expression { form: Expression::Segments, .. }) => {
                    (Some(Expression::Segments), Following::Boundary)
                }
                Some(_) => (Some(Expression::Any), Following::Anything),
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
        then: Following,
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
                Err(MismatchReason::Here) => start = self.after_unit(start)?,
                Err(MismatchReason::Segment) => start = self.next_slash(start + 1)?,
            }
        }
    }

    /// The first place at or after `start` where the chunk could begin.
    fn next_start(
        &self,
        wide: Expression,
        chunk: &[Part],
        start: usize,
        then: Following,
    ) -> Option<usize> {
        let end = self.path.len();
        match *chunk {
            [] if then == Following::End => Some(end),
            [Part::Text { start: a, end: b }] if then == Following::End => {
                let at = end.checked_sub((b - a) as usize)?;
                (at >= start).then_some(at)
            }
            [Part::Text { start: a, end: b }, ..] => self.find(self.text(a, b), start, end),
            [] if then == Following::Boundary => Some(self.next_slash(start).unwrap_or(end)),
            _ if wide == Expression::Segments => Some(self.next_slash(start).unwrap_or(end)),
            _ => Some(start),
        }
    }

    /// Fits a chunk at a start; gives its end.
    fn chunk(
        &mut self,
        chunk: &[Part],
        start: usize,
        then: Following,
    ) -> Result<usize, MismatchReason> {
        let mut at = start;
        let mut parts = chunk;
        if let [Part::Text { start: a, end: b }, ref rest @ ..] = *parts {
            let text = self.text(a, b);
            if !self.stands_at(text, at) {
                return Err(MismatchReason::Here);
            }
            at += text.len();
            parts = rest;
            self.reached = self.reached.max(at);
        }
        if parts.is_empty() {
            return if self.holds(then, at) { Ok(at) } else { Err(MismatchReason::Here) };
        }
        while let [_narrow, rest @ ..] = parts {
            let misfit = if at == start { MismatchReason::Here } else { MismatchReason::Segment };
            let least = self.after_unit(at).filter(|_| self.path[at] != b'/').ok_or(misfit)?;
            let slash = self.next_slash(at).unwrap_or(self.path.len());
            let (narrow_end, end);
            (narrow_end, end, parts) = match *rest {
                [] => {
                    let end = if then == Following::Anything { least } else { slash };
                    (end, end, rest)
                }
                [Part::Text { start: a, end: b }, ref after @ ..] => {
                    let text = self.text(a, b);
                    let last = if after.is_empty() { then } else { Following::Anything };
                    let found = self
                        .find_before(text, least, slash, last)
                        .ok_or(MismatchReason::Segment)?;
                    (found, found + text.len(), after)
                }
                [..] => (least, least, rest),
            };
            self.spans.push((at as u32, narrow_end as u32));
            at = end;
            self.reached = self.reached.max(at);
        }
        if self.holds(then, at) { Ok(at) } else { Err(MismatchReason::Segment) }
    }

    /// The first place from `from` on, at most at `slash`, where `text` stands and `then` holds
    /// behind it.
    fn find_before(
        &self,
        text: &[u8],
        from: usize,
        slash: usize,
        then: Following,
    ) -> Option<usize> {
        if then == Following::End {
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

    fn holds(&self, then: Following, at: usize) -> bool {
        match then {
            Following::Anything => true,
            Following::Boundary => self.path.get(at).is_none_or(|&byte| byte == b'/'),
            Following::End => at == self.path.len(),
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

/// What is searched for is mostly near: a few bytes are looked at before a search over many is set up.
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
mod tests;
