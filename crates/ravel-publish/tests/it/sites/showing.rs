//! A site whose answers show how texts are read, and requests for it.

use proptest::prelude::*;
use proptest::string::string_regex;
use serde_json::{Value, json};

use super::pick;

/// A site whose answers show how hosts, paths, queries, forms and languages are read.
pub(crate) const SHOWING: &str = "\
site https://h.example/
  alias [2001:db8::1], 192.0.2.7
  preview *.p.example
  languages en, de, de-CH, pt-BR, zh-Hant
redirect /lang -> /to/de?l
  when language is de
redirect /lang -> /to/ch?l
  when language is de-CH
redirect /lang -> /to/other?l
  when not language is en
redirect https://{l}.p.example/label -> https://{l}.away.example/
redirect /form?k={q} -> /to/{q}?z={q}#{q}
redirect /form?k -> /to/form?z=&y
redirect /path/{s}-{t} -> https://away.example/{t}/{s}?s={s}
redirect /path{/r*}/end{+w} -> https://away.example/{+w}{/r*}?r={r}#{w}
redirect /path{+w} -> https://away.example/x{+w}
";

/// A request for that site, of any text where a part of it is read.
pub(crate) fn showing_request() -> impl Strategy<Value = Value> {
    const HOST: &str = "([hH]\\.example|\\[?[0-9a-fA-F:.]{1,24}\\]?|(xn--|[a-zA-Z0-9_-]){0,12}\\.p\\.example\\.?|[ -~]{0,12}|\\PC{0,8})(:[0-9]{0,6}|)";
    const TEXT: &str =
        "([a-z]|[!-~]|%[0-9a-fA-F]{2}|/|%2[eEfF]|\\.|-|\\+|&|=|\\PC|\u{0}|\u{7f}| ){0,16}";
    const LANGUAGES: &str = "((de|en|pt-br|zh-hant-tw|de-x-y|DE-ch|fr|\\*|)(;q=(0|1|0\\.[0-9]{0,4}|1\\.0|x)|; Q=0\\.5|)(, ?|,|)){0,4}";
    // They are read once, and not for each request.
    let [others, text, languages] = [HOST, TEXT, LANGUAGES].map(|text| string_regex(text).unwrap());
    let host = prop_oneof![4 => Just("h.example".to_owned()), 3 => others];
    let place = pick(&["/lang", "/label", "/form?k=", "/form?a=b&k=", "/path/", "/path", "/", ""]);
    (host, place, text, languages).prop_map(|(host, place, text, languages)| {
        let scheme = if text.len() % 5 == 0 { "http" } else { "https" };
        let headers = if languages.is_empty() { json!([]) } else { json!([["accept-language", languages]]) };
        json!({ "method": "GET", "scheme": scheme, "host": host, "target": format!("{place}{text}"), "headers": headers })
    })
}
