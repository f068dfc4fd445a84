use http::Method;

use super::{Cursor, Outcome, Reader, header_name, site};
use crate::address::Scheme;
use crate::language::{Problem, ProblemKind, Word};
use crate::rules::condition::WholeRegex;
use crate::rules::{Conditions, HeaderTest, When, WhenTest, Where, WhereTest};

/// The request headers that conditions can look at: one bit each.
const MOST_NAMES: usize = 64;

impl Reader<'_> {
    pub(super) fn where_line(&mut self, cursor: &mut Cursor<'_>, conditions: &mut Conditions) -> Outcome<()> {
        let Some(name) = cursor.word()? else { return Err(cursor.expected("the name of a capture")) };
        let test = if cursor.take("matches") {
            let word = word(cursor, "a regular expression in quotes")?;
            let place = cursor.place(word.columns.clone());
            WhereTest::Matches(Box::new(WholeRegex::new(&word.text).map_err(|kind| Problem::new(place, kind))?))
        } else if !cursor.take("is") {
            return Err(cursor.expected("`is` or `matches`"));
        } else if cursor.take("digits") {
            digits(cursor)?
        } else {
            let not = cursor.take("not");
            if !(cursor.take("one") && cursor.take("of")) {
                return Err(cursor.expected("`digits`, `one of` or `not one of`"));
            }
            let list = cursor.list("a value")?.into_iter().map(|word| word.text.into()).collect();
            if not { WhereTest::NotOneOf(list) } else { WhereTest::OneOf(list) }
        };
        let place = cursor.place(name.columns);
        conditions.wheres.push(Where { name: name.text.into(), test, place });
        cursor.end()
    }

    pub(super) fn when_line(&mut self, cursor: &mut Cursor<'_>, conditions: &mut Conditions) -> Outcome<()> {
        const WANTED: &str = "`language`, `cookie`, `header`, `host`, `scheme`, `method`, `preview` or `no file`";
        let negated = cursor.take("not");
        let Some(asked) = cursor.word()? else { return Err(cursor.expected(WANTED)) };
        let mut vary = None;
        let test = match &*asked.text {
            "language" => {
                vary = Some(http::header::ACCEPT_LANGUAGE);
                self.languages(cursor, &asked)?
            }
            "cookie" => {
                vary = Some(http::header::COOKIE);
                let name = word(cursor, "the name of a cookie")?;
                let value = if cursor.take("is") { Some(word(cursor, "the cookie's value")?.text.into()) } else { None };
                WhenTest::Cookie(name.text.into(), value)
            }
            "header" => {
                let (name, _) = header_name(cursor)?;
                vary = Some(name.clone());
                let test = if cursor.take("is") {
                    HeaderTest::Is(word(cursor, "the field's value")?.text.into())
                } else if cursor.take("contains") {
                    HeaderTest::Contains(word(cursor, "the text that it holds")?.text.into())
                } else {
                    HeaderTest::Present
                };
                WhenTest::Header(name, test)
            }
            "host" => {
                let mut hosts = Vec::new();
                for word in list(cursor, "a host")? {
                    let host = site::host(&word, cursor)?;
                    if self.set.site.is_known() && !self.set.site.has_host(host.as_str()) {
                        let found = host.to_string();
                        return Err(Problem::new(cursor.place(word.columns), ProblemKind::ForeignHost { found }));
                    }
                    hosts.push(host);
                }
                WhenTest::Host(hosts)
            }
            "scheme" => match list(cursor, "`http` or `https`")?.as_slice() {
                [word] if word.text == "http" => WhenTest::Scheme(Scheme::Http),
                [word] if word.text == "https" => WhenTest::Scheme(Scheme::Https),
                [word, ..] => return Err(cursor.unexpected(word.clone(), "`http` or `https`")),
                [] => return Err(cursor.expected("`http` or `https`")),
            },
            "method" => {
                let mut methods = Vec::new();
                for word in list(cursor, "a method such as `POST`")? {
                    let method = Method::from_bytes(word.text.as_bytes()).ok().filter(|_| is_upper(&word.text));
                    methods.push(method.ok_or_else(|| cursor.unexpected(word, "a method in capitals such as `POST`"))?);
                }
                WhenTest::Method(methods)
            }
            "preview" => WhenTest::Preview,
            "no" if cursor.take("file") => WhenTest::NoFile,
            "no" => return Err(cursor.expected("`file`")),
            _ => return Err(cursor.unexpected(asked, WANTED)),
        };
        if let Some(name) = vary {
            conditions.vary |= 1 << self.vary_bit(name, cursor)?;
        }
        conditions.whens.push(When { negated, test });
        cursor.end()
    }

    fn languages(&mut self, cursor: &mut Cursor<'_>, asked: &Word<'_>) -> Outcome<WhenTest> {
        let site = &self.set.site;
        if site.is_known() && site.languages.is_empty() {
            return Err(Problem::new(cursor.place(asked.columns.clone()), ProblemKind::NoLanguages));
        }
        let mut wanted = Vec::new();
        for word in list(cursor, "a language")? {
            match site.languages.iter().position(|language| language.eq_ignore_ascii_case(&word.text)) {
                Some(at) => wanted.push(at),
                None if !site.is_known() => {}
                None => {
                    let found = word.text.into_owned();
                    return Err(Problem::new(cursor.place(word.columns), ProblemKind::ForeignLanguage { found }));
                }
            }
        }
        Ok(WhenTest::Language(wanted))
    }

    fn vary_bit(&mut self, name: http::HeaderName, cursor: &Cursor<'_>) -> Outcome<usize> {
        let names = &mut self.set.vary_names;
        if let Some(at) = names.iter().position(|known| *known == name) {
            return Ok(at);
        }
        if names.len() == MOST_NAMES {
            return Err(Problem::new(cursor.here(), ProblemKind::TooManyNames));
        }
        names.push(name);
        Ok(names.len() - 1)
    }
}

/// `is` and a list.
fn list<'t>(cursor: &mut Cursor<'t>, wanted: &'static str) -> Outcome<Vec<Word<'t>>> {
    match cursor.take("is") {
        true => cursor.list(wanted),
        false => Err(cursor.expected("`is`")),
    }
}

fn word<'t>(cursor: &mut Cursor<'t>, wanted: &'static str) -> Outcome<Word<'t>> {
    cursor.word()?.ok_or_else(|| cursor.expected(wanted))
}

/// `digits`, `digits 4`, `digits 1..6`, `digits 3..`
fn digits(cursor: &mut Cursor<'_>) -> Outcome<WhereTest> {
    let Some(word) = cursor.word()? else { return Ok(WhereTest::Digits { least: 1, most: None }) };
    let number = |text: &str| text.parse::<usize>().ok().filter(|_| text.bytes().all(|byte| byte.is_ascii_digit()));
    let (least, most) = match word.text.split_once("..") {
        Some((least, "")) => (number(least), Some(None)),
        Some((least, most)) => (number(least), number(most).map(Some)),
        None => (number(&word.text), number(&word.text).map(Some)),
    };
    match (least, most) {
        (Some(least), Some(most)) if least > 0 && most.is_none_or(|most| most >= least) => Ok(WhereTest::Digits { least, most }),
        _ => Err(cursor.unexpected(word, "how many digits, as `4` or `1..6`")),
    }
}

pub(super) fn is_upper(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_uppercase() || byte == b'-' || byte == b'_')
}
