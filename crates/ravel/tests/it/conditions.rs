//! `when` conditions against a plain reading of the reference: each is asked of a request by a few
//! lines that know nothing of the program.

use http::{HeaderMap, HeaderName, HeaderValue, Method};
use proptest::prelude::*;
use ravel::address::Scheme;
use ravel::{Edge, FileList, Request, Rules};

const LANGUAGES: [&str; 4] = ["en", "de", "pt-BR", "zh-Hant"];

/// A condition as it is written.
#[derive(Debug, Clone)]
struct When {
    not: bool,
    asks: Asks,
}

#[derive(Debug, Clone)]
enum Asks {
    Header(&'static str, Value),
    Cookie(&'static str, Value),
    Language(Vec<&'static str>),
    Host(Vec<&'static str>),
    Scheme(&'static str),
    Method(Vec<&'static str>),
    Preview,
    NoFile,
}

#[derive(Debug, Clone)]
enum Value {
    Any,
    Is(&'static str),
    OneOf(Vec<&'static str>),
    NotOneOf(Vec<&'static str>),
    Containing(&'static str),
}

/// A request in its parts.
#[derive(Debug, Clone)]
struct ServerReport {
    method: &'static str,
    scheme: &'static str,
    host: &'static str,
    headers: Vec<(&'static str, &'static str)>,
}

fn quoted(list: &[&str]) -> String {
    list.iter().map(|text| format!("\"{text}\"")).collect::<Vec<_>>().join(", ")
}

impl When {
    fn line(&self) -> String {
        let value = |value: &Value| match value {
            Value::Any => String::new(),
            Value::Is(text) => format!(" is \"{text}\""),
            Value::OneOf(list) => format!(" is one of {}", quoted(list)),
            Value::NotOneOf(list) => format!(" is not one of {}", quoted(list)),
            Value::Containing(text) => format!(" contains \"{text}\""),
        };
        let asks = match &self.asks {
            Asks::Header(name, accepted) => format!("header {name}{}", value(accepted)),
            Asks::Cookie(name, accepted) => format!("cookie {name}{}", value(accepted)),
            Asks::Language(list) => format!("language is {}", list.join(", ")),
            Asks::Host(list) => format!("host is {}", list.join(", ")),
            Asks::Scheme(scheme) => format!("scheme is {scheme}"),
            Asks::Method(list) => format!("method is {}", list.join(", ")),
            Asks::Preview => "preview".to_owned(),
            Asks::NoFile => "no file".to_owned(),
        };
        format!("  when {}{asks}\n", if self.not { "not " } else { "" })
    }

    fn holds(&self, asked: &ServerReport, file: bool) -> bool {
        let holds = match &self.asks {
            Asks::Header(name, accepted) => {
                let lines = asked.lines(name);
                accepted.takes((!lines.is_empty()).then(|| lines.join(", ")).as_slice())
            }
            Asks::Cookie(name, accepted) => accepted.takes(&asked.cookies(name)),
            Asks::Language(list) => list.contains(&asked.language()),
            Asks::Host(list) => list.contains(&asked.host),
            Asks::Scheme(scheme) => *scheme == asked.scheme,
            Asks::Method(list) => {
                list.contains(&asked.method) || (asked.method == "HEAD" && list.contains(&"GET"))
            }
            Asks::Preview => asked.host.ends_with(".p.example"),
            Asks::NoFile => !file,
        };
        holds != self.not
    }
}

impl Value {
    fn takes(&self, values: &[String]) -> bool {
        let some = |takes: &dyn Fn(&str) -> bool| values.iter().any(|value| takes(value));
        match self {
            Value::Any => !values.is_empty(),
            Value::Is(text) => some(&|value| value == *text),
            Value::OneOf(list) => some(&|value| list.contains(&value)),
            Value::NotOneOf(list) => !some(&|value| list.contains(&value)),
            Value::Containing(text) => some(&|value| value.contains(text)),
        }
    }
}

impl ServerReport {
    fn lines(&self, name: &str) -> Vec<&'static str> {
        let named = self.headers.iter().filter(|(known, _)| known.eq_ignore_ascii_case(name));
        named.map(|(_, value)| value.trim_matches([' ', '\t'])).collect()
    }

    fn cookies(&self, name: &str) -> Vec<String> {
        let joined = self.lines("cookie").join("; ");
        let pairs = joined.split(';').map(|pair| pair.split_once('=').unwrap_or((pair, "")));
        let named = pairs.filter(|(known, _)| known.trim() == name);
        named.map(|(_, value)| value.trim().to_owned()).collect()
    }

    /// RFC 4647, section 3.4: the ranges by their weight, each shortened from its end.
    fn language(&self) -> &'static str {
        let header = self.lines("accept-language").join(",");
        let mut ranges: Vec<(u32, String)> = Vec::new();
        for item in header.split(',') {
            let mut parts = item.split(';').map(str::trim);
            let range = parts.next().unwrap_or_default().to_ascii_lowercase();
            let weight = parts.find_map(|part| part.strip_prefix("q=")).map_or(1000, thousandths);
            if weight > 0 && range != "*" && !range.is_empty() {
                ranges.push((weight, range));
            }
        }
        ranges.sort_by_key(|(weight, _)| std::cmp::Reverse(*weight));
        for (_, range) in ranges {
            let mut subtags: Vec<&str> = range.split('-').collect();
            while !subtags.is_empty() {
                let shortened = subtags.join("-");
                let known = LANGUAGES.iter().find(|tag| tag.eq_ignore_ascii_case(&shortened));
                if let Some(known) = known {
                    return known;
                }
                subtags.pop();
                if subtags.len() > 1 && subtags.last().is_some_and(|last| last.len() == 1) {
                    subtags.pop();
                }
            }
        }
        LANGUAGES[0]
    }

    fn request(&self) -> Request {
        let scheme = if self.scheme == "https" { Scheme::Https } else { Scheme::Http };
        let pairs = self.headers.iter().map(|(name, value)| {
            (name.parse::<HeaderName>().unwrap(), HeaderValue::from_static(value))
        });
        let method: Method = self.method.parse().unwrap();
        let headers: HeaderMap = pairs.fold(HeaderMap::new(), |mut headers, (name, value)| {
            headers.append(name, value);
            headers
        });
        Request::from_parts(method, scheme, self.host, "/a").with_headers(headers)
    }
}

/// A weight (RFC 9110, section 12.4.2) in thousandths; 0 for what is none.
fn thousandths(weight: &str) -> u32 {
    let (whole, part) = weight.split_once('.').unwrap_or((weight, ""));
    let digits = part.len() <= 3 && part.bytes().all(|byte| byte.is_ascii_digit());
    match (whole, format!("{part:0<3}").parse()) {
        ("0", Ok(part)) if digits => part,
        ("1", Ok(0)) if digits => 1000,
        _ => 0,
    }
}

fn some_of(texts: &'static [&'static str]) -> impl Strategy<Value = Vec<&'static str>> {
    prop::sample::subsequence(texts, 1..=texts.len())
}

fn value() -> impl Strategy<Value = Value> {
    const TEXTS: &[&str] = &["on", "off", "a b", "on, off", "n"];
    prop_oneof![
        Just(Value::Any),
        prop::sample::select(TEXTS).prop_map(Value::Is),
        some_of(TEXTS).prop_map(Value::OneOf),
        some_of(TEXTS).prop_map(Value::NotOneOf),
        prop::sample::select(TEXTS).prop_map(Value::Containing),
    ]
}

fn when() -> impl Strategy<Value = When> {
    let asks = prop_oneof![
        3 => (prop::sample::select(vec!["x-h", "X-Other"]), value()).prop_map(|(name, value)| Asks::Header(name, value)),
        3 => (prop::sample::select(vec!["c", "d", "C"]), value()).prop_map(|(name, value)| Asks::Cookie(name, value)),
        3 => some_of(&LANGUAGES).prop_map(Asks::Language),
        1 => some_of(&["h.example", "w.example", "x.p.example"]).prop_map(Asks::Host),
        1 => prop::sample::select(vec!["http", "https"]).prop_map(Asks::Scheme),
        1 => some_of(&["GET", "POST", "PUT"]).prop_map(Asks::Method),
        1 => Just(Asks::Preview),
        1 => Just(Asks::NoFile),
    ];
    (any::<bool>(), asks).prop_map(|(not, asks)| When { not, asks })
}

fn asked() -> impl Strategy<Value = ServerReport> {
    let headers = prop::sample::select(vec![
        ("x-h", "on"),
        ("X-H", "off"),
        ("x-h", " on\t"),
        ("x-h", "a b"),
        ("x-other", "nn"),
        ("cookie", "c=on"),
        ("cookie", "d=off; c = on ;"),
        ("Cookie", "c=\"on\"; d"),
        ("cookie", "C=n"),
        ("accept-language", "de"),
        ("accept-language", "fr, PT-br;q=0.5, de;q=0.4"),
        ("accept-language", "zh-hant-x-a-tw, en;q=0"),
        ("accept-language", "*;q=0.9, pt-BR-1;q=0.001"),
        ("Accept-Language", "zh;q=1, de-CH-1996;q=1.000, en;q=2"),
    ]);
    (
        prop::sample::select(vec!["GET", "HEAD", "POST", "DELETE"]),
        prop::sample::select(vec!["http", "https"]),
        prop::sample::select(vec!["h.example", "w.example", "x.p.example"]),
        prop::collection::vec(headers, 0..5),
    )
        .prop_map(|(method, scheme, host, headers)| ServerReport {
            method,
            scheme,
            host,
            headers,
        })
}

proptest! {
    #![proptest_config(ravel_testing::config(3_000))]

    /// A rule acts exactly where every condition holds; and what decided is in `vary` unless the
    /// request had no say in it.
    #[test]
    fn a_rule_acts_where_its_conditions_hold(
        conditions in prop::collection::vec(when(), 1..4), asked in asked(), file in any::<bool>(),
    ) {
        let lines: String = conditions.iter().map(When::line).collect();
        let text = format!(
            "site https://h.example/\n  alias w.example\n  preview *.p.example\n  languages {}\n  hops each\n\
             redirect /a -> /b\n{lines}",
            LANGUAGES.join(", ")
        );
        let rules = Rules::parse(&text).unwrap_or_else(|problems| panic!("{text}\n{problems}"));
        let files = if file { vec!["a.html", "b.html"] } else { vec!["b.html"] };
        let edge = Edge::new(&rules, FileList::from_iter(files));
        let answer = edge.answer(&asked.request()).clone();
        let holds = conditions.iter().all(|condition| condition.holds(&asked, file));
        prop_assert_eq!(answer.rule().is_some(), holds, "{:?}\n{}", asked, text);
        if holds {
            prop_assert_eq!(answer.status(), Some(302));
        }
    }
}
