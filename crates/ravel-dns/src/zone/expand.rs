//! Reads the lines of a master file in order, and those that a line stands for: `$INCLUDE` (RFC 1035,
//! section 5.1) and `$GENERATE`, which is in no standard, and read by many name servers.

use super::line::{ReaderState, entry, expected, span};
use super::name::absolute;
use super::scan::{Scanner, Word, Words};
use super::{Expansion, Notation, RecordType, Zone, ZoneError, ZoneErrorKind};

/// How many files may include one another.
const MAX_INCLUDES: usize = 64;

/// The most records that the `$GENERATE` lines of a zone stand for.
const MAX_GENERATED: u64 = 65_536;

/// A zone that is being read.
pub(super) struct Reading<'r> {
    pub(super) zone: Zone,
    sight: ReaderState,
    read: &'r mut dyn FnMut(&str) -> Result<Vec<u8>, String>,
    /// The files that are being read, the innermost last.
    open: Vec<String>,
    /// How many records were generated.
    generated: u64,
}

impl<'r> Reading<'r> {
    pub(super) fn new(
        zone: Zone,
        read: &'r mut dyn FnMut(&str) -> Result<Vec<u8>, String>,
    ) -> Reading<'r> {
        let sight = ReaderState::new(&zone.origin);
        Reading { zone, sight, read, open: Vec::new(), generated: 0 }
    }

    /// Reads a text; `line` is that of the directive in the zone's own text that led to it.
    pub(super) fn text(&mut self, text: &str, line: Option<u32>) -> Result<(), ZoneError> {
        let mut scanner = Scanner::new(text);
        let mut words = Words::default();
        while scanner.next(&mut words)? {
            if words.is_directive() {
                self.directive(&words, line)?;
                continue;
            }
            let mut entry = entry(&words, &self.sight)?;
            let Notation::Here(spans) = &entry.notation else { continue };
            let written = spans.ttl.is_some().then_some(entry.record.ttl);
            self.sight.pass(&entry.record, written);
            if let Some(line) = line {
                let kept = entry.record.data.is_none().then(|| {
                    let at = spans.data.start as usize..spans.data.end as usize;
                    (self.sight.origin.clone(), text[at].into())
                });
                entry.notation = Notation::Expanded(kept);
                entry.record.line = line;
            }
            self.zone.take(entry)?;
        }
        Ok(())
    }

    fn directive(&mut self, words: &Words<'_>, line: Option<u32>) -> Result<(), ZoneError> {
        if !words.expands() {
            return self.sight.direct(words);
        }
        let first = self.zone.entries.len() as u32;
        let top = line.unwrap_or(words.line);
        // What is read leaves origin and name as they were.
        let (origin, owner) = (self.sight.origin.clone(), self.sight.owner.clone());
        match words.words[0].text.eq_ignore_ascii_case("$INCLUDE") {
            true => self.include(words, top)?,
            false => self.generate(words, top)?,
        }
        (self.sight.origin, self.sight.owner) = (origin, owner);
        if line.is_none() {
            let entries = first..self.zone.entries.len() as u32;
            let (whole, default_ttl) = (span(&words.whole), self.sight.default_ttl);
            self.zone.expansions.push(Expansion { whole, entries, default_ttl });
        }
        Ok(())
    }

    /// `$INCLUDE FILE [ORIGIN]`.
    fn include(&mut self, words: &Words<'_>, top: u32) -> Result<(), ZoneError> {
        let fail = |kind| ZoneError { line: words.line, kind };
        let [_, file, rest @ ..] = words.words.as_slice() else {
            return Err(expected("the name of a file", None, words));
        };
        if let Some(word) = rest.first() {
            let origin = absolute(word.text, &self.sight.origin);
            self.sight.origin =
                origin.ok_or_else(|| expected("the name of an origin", Some(word), words))?;
        }
        if let Some(word) = rest.get(1) {
            return Err(expected("the end of the line", Some(word), words));
        }
        let name = match file.text.starts_with('/') {
            true => file.text.to_owned(),
            false => format!("{}{}", self.zone.folder, file.text),
        };
        if self.open.contains(&name) {
            return Err(fail(ZoneErrorKind::IncludeLoop(name)));
        }
        if self.open.len() > MAX_INCLUDES {
            let why = format!("more than {MAX_INCLUDES} files include one another");
            return Err(fail(ZoneErrorKind::Include { file: name, why }));
        }
        let cannot = |why| fail(ZoneErrorKind::Include { file: name.clone(), why });
        let bytes = (self.read)(&name).map_err(cannot)?;
        let text = String::from_utf8(bytes).map_err(|_| cannot("it is not UTF-8".to_owned()))?;
        let body = text.strip_prefix('\u{feff}').unwrap_or(&text);
        self.open.push(name.clone());
        self.text(body, Some(top)).map_err(|error| {
            let error = Box::new(error);
            fail(ZoneErrorKind::Included { file: name.clone(), error })
        })?;
        self.open.pop();
        self.zone.included.insert(name.into(), text.into());
        Ok(())
    }

    /// `$GENERATE FIRST-LAST[/STEP] NAME [TTL] [CLASS] TYPE DATA`: the records for each number, with
    /// the number where a `$` stands. The data is one word; in quotes, what is between them.
    fn generate(&mut self, words: &Words<'_>, top: u32) -> Result<(), ZoneError> {
        let [_, range, template @ ..] = words.words.as_slice() else {
            return Err(expected("a range as in `1-10`", None, words));
        };
        let wrong = || expected("a range as in `1-10` or `0-254/2`", Some(range), words);
        let (first, last, step) = numbers(range.text).ok_or_else(wrong)?;
        self.generated += u64::from((last - first) / step) + 1;
        if self.generated > MAX_GENERATED {
            let kind = ZoneErrorKind::TooMany(self.generated);
            return Err(ZoneError { line: words.line, kind });
        }
        let end =
            data_at(template).ok_or_else(|| expected("a name, a type and data", None, words))?;
        if let Some(word) = template.get(end + 1) {
            let wanted = "the end of the line (data of several words is one in quotes)";
            return Err(expected(wanted, Some(word), words));
        }
        for number in (first..=last).step_by(step as usize) {
            let mut text = String::new();
            for word in template {
                let filled = fill(word, number)
                    .ok_or_else(|| expected("`$`, or `${OFFSET,WIDTH,BASE}`", Some(word), words))?;
                text.push_str(if text.is_empty() { "" } else { " " });
                match word.quoted {
                    true => text.push_str(&filled.replace("\\\"", "\"")),
                    false => text.push_str(&filled),
                }
            }
            self.text(&text, Some(top))
                .map_err(|error| ZoneError { line: words.line, kind: error.kind })?;
        }
        Ok(())
    }
}

/// Which word of a `$GENERATE` is the data: that behind the type.
fn data_at(template: &[Word<'_>]) -> Option<usize> {
    let is_type = |word: &Word<'_>| word.text.parse::<RecordType>().is_ok();
    let kind = 1 + template.iter().skip(1).position(is_type)?;
    (kind + 1 < template.len()).then_some(kind + 1)
}

/// The first, the last and the step of a range.
fn numbers(text: &str) -> Option<(u32, u32, u32)> {
    let (range, step) = text.split_once('/').unwrap_or((text, "1"));
    let (first, last) = range.split_once('-')?;
    let number = |text: &str| {
        let digits = text.bytes().all(|byte| byte.is_ascii_digit());
        text.parse::<u32>().ok().filter(|number| digits && *number <= i32::MAX as u32)
    };
    let (first, last, step) = (number(first)?, number(last)?, number(step)?);
    (first <= last && step > 0).then_some((first, last, step))
}

/// A word of a `$GENERATE` for a number.
fn fill(word: &Word<'_>, number: u32) -> Option<String> {
    let (mut text, mut rest) = (String::new(), word.text);
    while let Some(at) = rest.find(['$', '\\']) {
        text.push_str(&rest[..at]);
        let after = &rest[at + 1..];
        if rest[at..].starts_with('\\') {
            // An escape stays one; `\$` and `$$` are the character.
            let escaped = after.chars().next()?;
            text.push('\\');
            text.push(escaped);
            rest = &after[escaped.len_utf8()..];
        } else if let Some(after) = after.strip_prefix('$') {
            text.push_str("\\$");
            rest = after;
        } else if let Some(form) = after.strip_prefix('{') {
            let (form, after) = form.split_once('}')?;
            text.push_str(&written(form, number)?);
            rest = after;
        } else {
            text.push_str(&number.to_string());
            rest = after;
        }
    }
    text.push_str(rest);
    Some(text)
}

/// A number as `OFFSET[,WIDTH[,BASE]]` wants it: decimal, octal, hexadecimal, or its nibbles backwards.
fn written(form: &str, number: u32) -> Option<String> {
    let mut parts = form.split(',');
    let offset: i64 = parts.next()?.parse().ok()?;
    let width: usize = parts.next().unwrap_or("0").parse().ok().filter(|width| *width < 128)?;
    let base = parts.next().unwrap_or("d");
    let value = u32::try_from(i64::from(number) + offset).ok()?;
    if parts.next().is_some() {
        return None;
    }
    // The dots between them are part of the width.
    let nibbles = |upper: bool| {
        let digits = if upper { format!("{value:X}") } else { format!("{value:x}") };
        let (mut text, mut digits) = (String::new(), digits.chars().rev().peekable());
        while let Some(digit) = digits.next().or((text.len() < width).then_some('0')) {
            text.push(digit);
            if text.len() < width || digits.peek().is_some() {
                text.push('.');
            }
        }
        text
    };
    Some(match base {
        "d" => format!("{value:0width$}"),
        "o" => format!("{value:0width$o}"),
        "x" => format!("{value:0width$x}"),
        "X" => format!("{value:0width$X}"),
        "n" => nibbles(false),
        "N" => nibbles(true),
        _ => return None,
    })
}
