//! What becomes of a query, against a list of parameters: which rules match it, what is carried
//! along, and in which order.

use proptest::prelude::*;
use ravel::{Edge, FileList, Request, Rules};

/// What a pattern asks of a parameter.
#[derive(Debug, Clone)]
enum Asks {
    There(&'static str),
    Is(&'static str, &'static str),
    Captured(&'static str),
}

/// A parameter as it is sent: its key and its value, if it has a `=`.
type Sent = (&'static str, Option<&'static str>);

fn raw((key, value): &Sent) -> String {
    value.map_or((*key).to_owned(), |value| format!("{key}={value}"))
}

/// The bytes that a form means (WHATWG URL, section 5.1).
fn meant(text: &str) -> Vec<u8> {
    let spaced = text.replace('+', " ");
    percent_encoding::percent_decode_str(&spaced).collect()
}

impl Asks {
    fn key(&self) -> &'static str {
        match self {
            Asks::There(key) | Asks::Is(key, _) | Asks::Captured(key) => key,
        }
    }

    fn written(&self, number: usize) -> String {
        match self {
            Asks::There(key) => (*key).to_owned(),
            Asks::Is(key, value) => format!("{key}={value}"),
            Asks::Captured(key) => format!("{key}={{v{number}}}"),
        }
    }

    /// The value that it takes, as it was sent; none where it does not match.
    fn takes(&self, sent: &[Sent]) -> Option<&'static str> {
        let mut values = sent
            .iter()
            .filter(|(key, _)| meant(key) == meant(self.key()))
            .map(|(_, value)| value.unwrap_or(""));
        match self {
            Asks::There(_) => values.next(),
            Asks::Is(_, wanted) => values.find(|value| meant(value) == meant(wanted)),
            Asks::Captured(_) => values.find(|value| !value.is_empty()),
        }
    }
}

fn sent() -> impl Strategy<Value = Vec<Sent>> {
    let keys = prop::sample::select(vec!["a", "b", "c", "%61", "a+b", "k"]);
    let values = prop::option::weighted(
        0.8,
        prop::sample::select(vec!["1", "", "two", "a+b", "%2F", "%zz", "=", "caf%C3%A9"]),
    );
    prop::collection::vec((keys, values), 0..6)
}

fn asks() -> impl Strategy<Value = Vec<Asks>> {
    let one = |key: &'static str| {
        prop_oneof![
            Just(Asks::There(key)),
            prop::sample::select(vec!["1", "two", "a%20b"])
                .prop_map(move |value| Asks::Is(key, value)),
            Just(Asks::Captured(key)),
        ]
    };
    (prop::option::of(one("a")), prop::option::of(one("b")))
        .prop_map(|(a, b)| a.into_iter().chain(b).collect())
}

proptest! {
    #![proptest_config(ravel_testing::config(4_000))]

    #[test]
    fn parameters_are_carried_as_they_were_sent(
        sent in sent(), asks in asks(), own in prop::option::of("(c=0|k=x&c=0|k)"),
        captured_too in any::<bool>(), drops in any::<bool>(),
    ) {
        let pattern: Vec<String> = asks.iter().enumerate().map(|(number, one)| one.written(number)).collect();
        let capture = asks.iter().position(|one| matches!(one, Asks::Captured(_))).filter(|_| captured_too);
        let mut own: Vec<String> = own.iter().cloned().collect();
        own.extend(capture.map(|number| format!("z={{v{number}}}")));
        let query = |parts: &[String]| if parts.is_empty() { String::new() } else { format!("?{}", parts.join("&")) };
        let rule = format!(
            "redirect /from{} -> /to{}{}",
            query(&pattern), query(&own), if drops { " drop query" } else { "" }
        );
        let rules = Rules::parse(&format!("site https://h.example/\n{rule}\n")).unwrap_or_else(|problems| panic!("{rule}\n{problems}"));
        let edge = Edge::new(&rules, FileList::default());
        let parts: Vec<String> = sent.iter().map(raw).collect();
        let asked = format!("https://h.example/from{}", query(&parts));
        let answer = edge.answer(&Request::get(&asked).unwrap());

        let taken: Option<Vec<&str>> = asks.iter().map(|one| one.takes(&sent)).collect();
        let expected = taken.map(|taken| {
            let own_text = own.join("&");
            let own_text = capture.map_or(own_text.clone(), |number| own_text.replace(&format!("{{v{number}}}"), taken[number]));
            let own_keys = own_text.split('&').map(|part| meant(part.split('=').next().unwrap_or_default()));
            let keys: Vec<Vec<u8>> = asks.iter().map(|one| meant(one.key())).chain(own_keys).collect();
            let carried = sent.iter().filter(|(key, _)| !drops && !keys.contains(&meant(key))).map(raw);
            let whole: Vec<String> = (!own.is_empty()).then_some(own_text).into_iter().chain(carried).collect();
            format!("https://h.example/to{}", query(&whole))
        });
        prop_assert_eq!(answer.location(), expected.as_deref(), "{}\n{}", rule, asked);
    }
}
