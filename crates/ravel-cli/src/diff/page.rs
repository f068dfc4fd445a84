//! Differences as a page, which needs nothing beside it.

use maud::{Markup, html};
use ravel_check::{Difference, DifferenceKind};

use super::{Compared, words};
use crate::page;

pub(super) fn of(compared: &Compared<'_>) -> String {
    let [old, new] = compared.editions;
    let body = html! {
        p.editions { code { (old.name) } " → " code { (new.name) } }
        @if let Some(said) = &compared.files_from { p.editions { (said) } }
        @if let Some(known) = &compared.known { p.editions { (known.words()) } }
        @for one in &compared.shown { (article(compared, one)) }
    };
    let title = words::summary(compared);
    let mut letters = title.chars();
    let first = letters.next().map(|first| first.to_ascii_uppercase());
    let title: String = first.into_iter().chain(letters).collect();
    page::whole(&title, STYLE, &body)
}

fn article(compared: &Compared<'_>, one: &Difference) -> Markup {
    let class = match one.kind() {
        DifferenceKind::Missing | DifferenceKind::Loop => "bad",
        DifferenceKind::Found => "good",
        _ => "mild",
    };
    html! {
        article class=(class) {
            h2 { b { (one.kind()) } " " code { (words::about(one, words::MAX_PATHS)) } " " span { (words::counts(one)) } }
            p { code { (words::asked(one)) } }
            @if let Some(why) = one.why() { p { "Undecided: " (why) "." } }
            table {
                @for (side, label) in ["before", "after"].into_iter().enumerate() {
                    tr { th { (label) } td { code { (one.descriptions()[side]) } } td.lines { (words::lines(compared, one, side)) } }
                }
            }
            @if one.paths().len() > words::MAX_PATHS {
                details {
                    summary { (one.paths().len()) " paths" }
                    ul { @for path in one.paths() { li { code { (path) } } } }
                }
            }
        }
    }
}

const STYLE: &str = "h2{font-size:1rem;font-weight:400;margin:0}h2 span,.editions,.lines,th,summary{color:var(--soft)}\
article{border-left:3px solid var(--rule);padding:.1rem 0 .1rem .9rem;margin:1.4rem 0}.bad{border-color:var(--bad)}.mild{border-color:var(--mild)}.good{border-color:var(--good)}\
.bad h2 b{color:var(--bad)}.mild h2 b{color:var(--mild)}.good h2 b{color:var(--good)}\
table{border-collapse:collapse}th{text-align:left;font-weight:400;padding-right:1rem;vertical-align:top}td{padding-right:1.4rem;vertical-align:top}ul{margin:.3rem 0;columns:2}";
