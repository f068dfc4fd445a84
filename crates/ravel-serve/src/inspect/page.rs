//! What the inspector's page is made of.

use http::{HeaderName, HeaderValue, Method};
use maud::{DOCTYPE, Markup, html};
use ravel::expect::journey;
use ravel::finding::Finding;
use ravel::rules::Severity;
use ravel_check::EntryPointEnd;

use super::{Inspector, requests};
use crate::{CheckResult, ExplainedAnswer, Record, RequestDifference, Site};

/// A request that was typed in, and the result of it.
#[derive(Debug)]
pub(super) struct TestedRequest {
    method: String,
    address: String,
    header: String,
    result: Result<TestedAnswer, String>,
}

/// What a request that was typed in gets.
#[derive(Debug)]
struct TestedAnswer {
    journey: String,
    answers: Vec<ExplainedAnswer>,
    difference: Option<RequestDifference>,
}

impl TestedRequest {
    /// Asks the site, without sending anything.
    pub(super) fn ask(
        inspector: &Inspector,
        method: String,
        address: String,
        header: String,
    ) -> TestedRequest {
        let result = ask(inspector, &method, &address, &header);
        TestedRequest { method, address, header, result }
    }
}

fn ask(
    inspector: &Inspector,
    method: &str,
    address: &str,
    header: &str,
) -> Result<TestedAnswer, String> {
    let site = inspector.live.site();
    let method = match method {
        "" => Method::GET,
        method => Method::from_bytes(method.to_ascii_uppercase().as_bytes())
            .map_err(|_| format!("`{method}` is not a method"))?,
    };
    let url = site.edge.site().url_of(address);
    let mut request = ravel::Request::new(method, &url).map_err(|error| error.to_string())?;
    if !header.is_empty() {
        let field = header.split_once(':').and_then(|(name, value)| {
            let name = HeaderName::from_bytes(name.trim().as_bytes()).ok()?;
            Some((name, HeaderValue::from_str(value.trim()).ok()?))
        });
        let (name, value) =
            field.ok_or_else(|| format!("`{header}` is not a header; write `name: value`"))?;
        request = request.with_header(name, value);
    }
    let walk = site.edge.walk(&request);
    Ok(TestedAnswer {
        journey: journey(&walk),
        answers: ExplainedAnswer::all(&site, &walk),
        difference: inspector.live.difference(&site, &request),
    })
}

/// The whole page, with an answer to what was asked, or a request that is looked at.
pub(super) fn whole(
    inspector: &Inspector,
    asked: Option<&TestedRequest>,
    shown: Option<&Record>,
) -> Markup {
    let site = inspector.live.site();
    let name = site.rules.site().host().to_string();
    html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { (name) " · Ravel" }
                link rel="stylesheet" href="/inspect.css";
                script src="/inspect.js" defer {}
            }
            body {
                header.top {
                    h1 { (name) }
                    p { (open_at(inspector)) }
                    @if let Some(old) = inspector.live.old_edition() { p.hint { "compared with " code { (old.name()) } } }
                }
                main {
                    (requests::list(inspector))
                    div.aside {
                        section #details.details tabindex="-1" aria-label="Details" {
                            @match shown {
                                Some(record) => (requests::details(inspector, record)),
                                None => p.hint { "Choose a request to see why it was answered so." },
                            }
                        }
                        (form(inspector, asked))
                        div #state { (state(inspector)) }
                    }
                }
            }
        }
    }
}

fn open_at(inspector: &Inspector) -> Markup {
    let site = inspector.live.site();
    let host = site.rules.site().host().as_str().to_owned();
    let (http, https) = (inspector.addresses.http().port(), inspector.addresses.https().port());
    let base = &site.rules.site().base();
    let urls = [
        format!("http://{host}.localhost:{http}{base}"),
        format!("https://{host}.localhost:{https}{base}"),
    ];
    html! { @for url in &urls { a href=(url) rel="noreferrer" { (url) } " " } }
}

fn form(inspector: &Inspector, asked: Option<&TestedRequest>) -> Markup {
    let value = |of: fn(&TestedRequest) -> &str| asked.map_or("", of);
    html! {
        section aria-labelledby="try" {
            h2 #try { "Ask a URL" }
            form #ask action="/try" method="get" {
                label.wide { "URL" input name="address" required placeholder="/summer" value=(value(|tried| &tried.address)) autocomplete="off" spellcheck="false"; }
                label { "Method" input name="method" placeholder="GET" value=(value(|tried| &tried.method)) autocomplete="off"; }
                label { "Header" input name="header" placeholder="cookie: beta=on" value=(value(|tried| &tried.header)) autocomplete="off"; }
                button { "Ask" }
            }
            div #answer aria-live="polite" { @if let Some(asked) = asked { (tried(inspector, asked)) } }
        }
    }
}

pub(super) fn tried(inspector: &Inspector, tried: &TestedRequest) -> Markup {
    html! {
        @match &tried.result {
            Err(why) => p.bad { (why) },
            Ok(answer) => {
                p.journey { (tried.address) " " strong { (answer.journey) } }
                @if let (Some(old), Some(difference)) = (inspector.live.old_edition(), &answer.difference) {
                    (requests::compared(old, difference))
                }
                (requests::answers(&answer.answers))
            }
        }
    }
}

pub(super) fn state(inspector: &Inspector) -> Markup {
    let site = inspector.live.site();
    html! {
        @if let Some(problem) = inspector.live.problem() {
            section.problem role="alert" {
                h2 { "The rules cannot be read" }
                p { "The last good rules are answering." }
                pre { (problem.to_string()) }
            }
        }
        @match inspector.live.checked() {
            None => p.hint { "Expectations and findings are being worked out." },
            Some(checked) => {
                (expectations(&site, &checked))
                (findings(&site, &checked))
                (entry_points(&checked))
            }
        }
    }
}

fn expectations(site: &Site, checked: &CheckResult) -> Markup {
    html! {
        section aria-labelledby="expectations" {
            @let failed = checked.verdicts.iter().filter(|verdict| !verdict.holds()).count();
            h2 #expectations { "Expectations" }
            p class=(if failed == 0 { "good" } else { "bad" }) {
                @if failed == 0 { (checked.verdicts.len()) " hold" }
                @else { (failed) " of " (checked.verdicts.len()) " failed" }
            }
            @for verdict in checked.verdicts.iter().filter(|verdict| !verdict.holds()) {
                div.finding {
                    p { span.line { (site.name(verdict.line())) } " " (verdict.asked()) }
                    @for failure in verdict.failures() {
                        p.words { span.label { "expected" } (failure.expected()) }
                        p.words { span.label { "got" } (failure.got()) }
                    }
                }
            }
        }
    }
}

/// What was found, but for notes.
fn findings(site: &Site, checked: &CheckResult) -> Markup {
    let is_shown = |finding: &&Finding| finding.code().severity() < Severity::Note;
    let shown: Vec<&Finding> = checked.report.findings().iter().filter(is_shown).collect();
    html! {
        section aria-labelledby="findings" {
            h2 #findings { "Findings" }
            @if shown.is_empty() { p.good { "None" } }
            @for finding in shown {
                div.finding {
                    p {
                        span class=(if finding.code().severity() == Severity::Error { "bad" } else { "mild" }) { (finding.code().severity().as_str()) "[" (finding.code()) "]" }
                        " " span.line { (finding.place().name(site.rules())) }
                    }
                    p { (finding.message()) }
                    @if let Some(note) = finding.note() { p.words { span.label { "note" } (note) } }
                    @if let Some(help) = finding.help() { p.words { span.label { "help" } (help) } }
                }
            }
        }
    }
}

fn entry_points(checked: &CheckResult) -> Markup {
    html! {
        section aria-labelledby="entry-points" {
            h2 #entry-points { "Entry points" }
            div.scroll {
                table.ways aria-labelledby="entry-points" {
                    thead { tr { th { "asked" } th { "/" } th { (checked.ways.deep().unwrap_or("")) } } }
                    tbody {
                        @for point in checked.ways.points() {
                            tr {
                                td { code { (point.origin()) } }
                                td { (end(point.first())) }
                                td { @if let Some(deep) = point.deep() { (end(deep)) } }
                            }
                        }
                    }
                }
            }
        }
    }
}

fn end(end: &EntryPointEnd) -> String {
    let status =
        end.status().map_or_else(|| "another site".to_owned(), |status| status.to_string());
    match end.hops() {
        0 => status,
        1 => format!("{status}, 1 hop"),
        hops => format!("{status}, {hops} hops"),
    }
}
