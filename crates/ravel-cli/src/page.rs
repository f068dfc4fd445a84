//! Reports as a page of HTML, which needs nothing beside it.

use maud::{DOCTYPE, Markup, PreEscaped, html};

/// Colours for light and dark, and how text is set; a page's own style comes after it.
const STYLE: &str = ":root{color-scheme:light dark;--paper:#fffdf8;--ink:#26221c;--soft:#6b6355;--bad:#a3293d;--mild:#8a5a00;--good:#2c6e49;--rule:#d9d4c8}\
@media(prefers-color-scheme:dark){:root{--paper:#14181b;--ink:#e4e2dc;--soft:#98a1a6;--bad:#f08a80;--mild:#e3b55c;--good:#7cc79a;--rule:#2f373c}}\
body{font:1rem/1.5 system-ui,sans-serif;max-width:60rem;margin:2rem auto;padding:0 1.2rem;background:var(--paper);color:var(--ink);overflow-wrap:anywhere}\
h1{font-size:1.4rem}p{margin:.25rem 0}code{font-size:.9em}";

/// The whole page, with its style and what is below the title.
pub(crate) fn whole(title: &str, style: &str, body: &Markup) -> String {
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { (title) }
                style { (PreEscaped(STYLE)) (PreEscaped(style)) }
            }
            body {
                h1 { (title) }
                (body)
            }
        }
    };
    format!("{}\n", page.into_string())
}
