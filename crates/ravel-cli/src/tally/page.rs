//! A tally as a page, which needs nothing beside it.

use maud::{Markup, html};
use ravel_traffic::{Ending, TalliedUrl};

use super::words::{asked, fix, grouped, meaning, share, status, summary, urlless, urls_of};
use super::{Shown, picture};
use crate::page;

pub(super) fn of(shown: &Shown<'_>) -> String {
    let report = &shown.report;
    let body = html! {
        @for source in &shown.sources { p.source { code { (source.name) } " " (source.format) } }
        @if shown.stopped { p.source { "Stopped: this is what was read so far." } }
        @if let Some(picture) = picture::of(report) { (picture) }
        table.endings {
            @for one in report.endings() {
                tr {
                    th class=(tone(one.ending())) { (one.ending().as_str()) }
                    td.number { (grouped(one.requests())) }
                    td.number { (share(one.requests(), report.requests())) }
                    td.number { (urls_of(one.urls())) }
                    td.soft { (meaning(one.ending())) }
                }
            }
        }
        @for (header, requests) in report.headers() {
            p.soft { (grouped(*requests)) " hang on " code { (header) } ", which the sources do not have." }
        }
        @if !report.missing().is_empty() {
            h2 { "Missing" }
            (urls(shown, report.missing(), |one| html! { code { (fix(shown, one).unwrap_or_default()) } }))
        }
        @if !report.redirected().is_empty() {
            h2 { "Redirected" }
            p.soft {
                "Requests by number of redirects: "
                (report.hops().iter().map(|(hops, n)| format!("{} by {hops}", grouped(*n))).collect::<Vec<_>>().join(", "))
                "."
            }
            (urls(shown, report.redirected(), |one| html! { @if one.hops() > 1 { (one.hops()) " redirects" } }))
        }
        (differing(shown))
        (rules(shown))
        @if report.origins().len() > 1 {
            h2 { "Hosts" }
            table {
                @for (origin, requests) in report.origins().iter().take(shown.top) {
                    tr { td.number { (grouped(*requests)) } td { code { (origin) } } }
                }
            }
        }
        @if report.unread() > 0 || !report.urlless().is_empty() {
            h2 { "Not counted" }
            ul {
                @for (why, lines) in report.urlless() { li { (grouped(*lines)) " lines " (urlless(*why)) } }
                @if report.unread() > 0 { li { (grouped(report.unread())) " lines that cannot be read" } }
            }
            @for example in report.examples() { p.soft { (example) } }
        }
    };
    let style = format!("{STYLE}{}", picture::STYLE);
    page::whole(&summary(report), &style, &body)
}

fn tone(ending: Ending) -> &'static str {
    match ending {
        Ending::File | Ending::Elsewhere => "good",
        Ending::Redirect | Ending::Depends | Ending::Gone => "mild",
        _ => "bad",
    }
}

fn urls(shown: &Shown<'_>, urls: &[TalliedUrl], more: impl Fn(&TalliedUrl) -> Markup) -> Markup {
    html! {
        table {
            @for one in urls {
                tr { td.number { (grouped(one.requests())) } td { code { (asked(shown, one)) } } td.soft { (more(one)) } }
            }
        }
    }
}

fn differing(shown: &Shown<'_>) -> Markup {
    let differing = shown.report.differing();
    html! {
        @if !differing.is_empty() {
            h2 { "Answered otherwise than it is logged" }
            table {
                @for one in differing.iter().take(shown.top) {
                    tr {
                        td.number { (grouped(one.requests())) }
                        td { (one.logged()) " before, " (status(one.answered())) " now" }
                        td.soft { "as " code { (asked(shown, one.example())) } }
                    }
                }
            }
        }
    }
}

fn rules(shown: &Shown<'_>) -> Markup {
    let mut rules: Vec<_> = shown.report.rules().iter().collect();
    rules.sort_by_key(|rule| std::cmp::Reverse(rule.requests()));
    let used = rules.partition_point(|rule| rule.requests() > 0);
    let row = |rule: &ravel_traffic::RuleHits| {
        html! {
            tr { td.number { (grouped(rule.requests())) } td.soft { (shown.loaded.name(rule.line())) } td { code { (rule.rule()) } } }
        }
    };
    html! {
        @if !rules.is_empty() {
            h2 { "Rules" }
            table { @for rule in rules[..used].iter().take(shown.top) { (row(rule)) } }
            @if used < rules.len() {
                details {
                    summary { (rules.len() - used) " rules that nobody used" }
                    table { @for rule in &rules[used..] { (row(rule)) } }
                }
            }
        }
    }
}

const STYLE: &str = "h2{font-size:1.1rem;margin:1.6rem 0 .4rem}.source,.soft,summary,figcaption{color:var(--soft)}\
table{border-collapse:collapse}th{text-align:left}td,th{padding:.1rem 1.2rem .1rem 0;vertical-align:top}.number{text-align:right;font-variant-numeric:tabular-nums;white-space:nowrap}\
th.bad{color:var(--bad)}th.mild{color:var(--mild)}th.good{color:var(--good)}figure{margin:1rem 0}figure>svg{width:100%}.key{margin-right:.8rem;white-space:nowrap}";
