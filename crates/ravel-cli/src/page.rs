//! Reports as a page of HTML, which needs nothing beside it.

use maud::{DOCTYPE, Markup, PreEscaped, html};

/// The whole page, with its style and what is below the title.
pub(crate) fn whole(title: &str, style: &str, body: &Markup) -> String {
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { (title) }
                style { (PreEscaped(style)) }
            }
            body {
                h1 { (title) }
                (body)
            }
        }
    };
    format!("{}\n", page.into_string())
}
