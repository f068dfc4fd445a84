//! What patterns match, and that hostile paths cost no more than long ones.

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
        let expected = expected.map(|texts| texts.iter().map(|text| (*text).to_owned()).collect());
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
    #![proptest_config(ravel_testing::config(4_000))]
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
