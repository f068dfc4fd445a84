//! `ravel explain`: what addresses get, hop by hop, and why.

use std::io::{self, BufRead, Write};
use std::path::Path;

use anstyle::Style;
use http::{HeaderMap, HeaderName, HeaderValue, Method};
use ravel::edge::{Explanation, RuleResult, Step, Walk, WalkEnd};
use ravel::language::Line;
use ravel::program::Stage;
use ravel::serial::Data;
use ravel::{Outcome, Request};
use serde::Serialize;

use crate::load::LoadedSite;
use crate::style::{FAINT, STRONG, count, in_style, outcome};
use crate::{ExitStatus, Failure};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// Whole URLs, or paths below the base path; `-` reads them from standard input, one a line
    #[arg(required = true, value_name = "ADDRESS")]
    addresses: Vec<String>,
    /// The method of the request
    #[arg(long, default_value = "GET", value_parser = method)]
    method: Method,
    /// A request header; may be given several times
    #[arg(long, value_name = "NAME: VALUE", value_parser = header)]
    header: Vec<(HeaderName, HeaderValue)>,
    /// Print one line an address: where it ends, without the reasons
    #[arg(long, conflicts_with = "json")]
    brief: bool,
    /// Print data for programs
    #[arg(long)]
    json: bool,
}

fn method(text: &str) -> Result<Method, String> {
    let method = Method::from_bytes(text.as_bytes())
        .ok()
        .filter(|_| text.bytes().all(|byte| !byte.is_ascii_lowercase()));
    method.ok_or_else(|| "a method is written in capitals, as `POST`".to_owned())
}

fn header(text: &str) -> Result<(HeaderName, HeaderValue), String> {
    let (name, value) = text.split_once(':').ok_or("write it as `NAME: VALUE`")?;
    let name = name.trim().parse().map_err(|_| format!("`{name}` is no name of a header field"))?;
    let value = value
        .trim()
        .parse()
        .map_err(|_| format!("`{}` is no value of a header field", value.trim()))?;
    Ok((name, value))
}

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    let loaded = LoadedSite::read(rules)?;
    let headers: HeaderMap = arguments.header.iter().cloned().collect();
    let stream = arguments.addresses.len() > 1 || arguments.addresses[0] == "-";
    let mut wrong = Vec::new();
    let width =
        arguments.addresses.iter().map(|address| address.chars().count()).max().unwrap_or(0);
    let mut first = true;
    let mut each = |address: &str, out: &mut dyn Write| -> io::Result<()> {
        let request = match request(&loaded, arguments.method.clone(), address) {
            Ok(request) => request.with_headers(headers.clone()),
            Err(why) => {
                wrong.push(why);
                return Ok(());
            }
        };
        let walk = loaded.edge().walk(&request);
        if arguments.brief {
            return writeln!(out, "{address:width$}  {}", summary(&walk));
        }
        if !arguments.json {
            if !std::mem::take(&mut first) {
                writeln!(out)?;
            }
            return print(&loaded, &request, &walk, out);
        }
        let asked = RequestData { method: request.method().as_str(), url: request.url() };
        let document = Document { request: asked, walk: loaded.rules().data(&walk) };
        match stream {
            true => serde_json::to_writer(&mut *out, &document)?,
            false => serde_json::to_writer_pretty(&mut *out, &document)?,
        }
        writeln!(out)
    };
    for address in &arguments.addresses {
        if address != "-" {
            each(address, out)?;
            continue;
        }
        for line in io::stdin().lock().lines() {
            let line = line.map_err(|error| {
                Failure::Message(format!("standard input cannot be read: {error}"))
            })?;
            let line = line.trim();
            if !line.is_empty() {
                each(line, out)?;
                out.flush()?;
            }
        }
    }
    match wrong.is_empty() {
        true => Ok(ExitStatus::Well),
        false => Err(Failure::Message(wrong.join("\n       "))),
    }
}

/// A request for an address as people write it; a path is below the base path at the canonical
/// origin.
fn request(loaded: &LoadedSite, method: Method, address: &str) -> Result<Request, String> {
    let url = match address.starts_with('/') {
        true => format!("{}{address}", loaded.rules().site().url().trim_end_matches('/')),
        false => address.to_owned(),
    };
    Request::new(method, &url).map_err(|error| format!("{error}, or with `/`"))
}

/// The answer first, then each hop with its reasons.
fn print(
    loaded: &LoadedSite,
    request: &Request,
    walk: &Walk<'_>,
    out: &mut dyn Write,
) -> io::Result<()> {
    let method = match request.method().as_str() {
        "GET" => String::new(),
        method => format!("{method} "),
    };
    writeln!(out, "{}", in_style(STRONG, format_args!("{method}{}", request.url())))?;
    writeln!(out, "  {}", summary(walk))?;
    let several = walk.answers().len() > 1;
    for (number, (url, explanation)) in walk.answers().iter().enumerate() {
        writeln!(out)?;
        if several && number > 0 {
            writeln!(out, "  {}", in_style(FAINT, format_args!("then GET {url}")))?;
        }
        print_answer(loaded, explanation, out)?;
    }
    Ok(())
}

fn summary(walk: &Walk<'_>) -> String {
    let last = &walk.last().1.answer();
    let paint = |text: String| in_style(outcome(walk.outcome()), text);
    let ends = match (walk.end(), last.outcome()) {
        (WalkEnd::Away, _) => paint("leaves the site".to_owned()),
        (WalkEnd::Loop, _) => paint("never ends: the redirects lead back".to_owned()),
        (WalkEnd::Answer, Outcome::File) => {
            format!("{} {}", paint("200".to_owned()), last.file().unwrap_or_default())
        }
        (WalkEnd::Answer, Outcome::Elsewhere) => paint("another service answers".to_owned()),
        (WalkEnd::Answer, other) => {
            let shown = last.file().map(|file| format!(", showing {file}")).unwrap_or_default();
            format!(
                "{} {other}{shown}",
                paint(last.status().map_or_else(String::new, |status| status.to_string()))
            )
        }
    };
    match walk.hops() {
        0 => ends,
        hops => format!("goes to {} in {}: {ends}", walk.url(), count(hops, "hop", "hops")),
    }
}

fn print_answer(
    loaded: &LoadedSite,
    explanation: &Explanation<'_>,
    out: &mut dyn Write,
) -> io::Result<()> {
    let answer = &explanation.answer();
    let status = answer.status().map_or_else(|| "—".to_owned(), |status| status.to_string());
    let what = match (answer.location(), answer.file()) {
        (Some(location), _) => format!("to {location}"),
        (None, Some(file)) => file.to_owned(),
        (None, None) => answer.outcome().to_string(),
    };
    writeln!(out, "  {} {what}", in_style(outcome(answer.outcome()), status))?;
    let settled = matches!(
        answer.outcome(),
        Outcome::File | Outcome::Redirect | Outcome::Gone | Outcome::Elsewhere
    );
    let program = loaded.edge().program();
    let worth = |step: &Step| match step {
        Step::Rule(_, RuleResult::NotMatched(_)) => !settled,
        // What `headers` statements do is seen below, with their lines.
        Step::Rule(rule, result) if program.rule(*rule).stage() == Stage::Headers => {
            matches!(result, RuleResult::ConditionNotMet(_))
        }
        _ => true,
    };
    let place = |line: Option<Line>| line.map(|line| loaded.name(line)).unwrap_or_default();
    let steps = explanation.words().filter(|words| worth(words.step())).map(|words| Row {
        place: place(words.line()),
        what: words.subject(),
        came: words.result(),
        decides: words.matched(),
    });
    let headers = answer.headers().iter().map(|header| Row {
        place: place(header.line()),
        what: format!("{}: {}", header.name(), header.value()),
        came: String::new(),
        decides: false,
    });
    let (steps, headers): (Vec<Row>, Vec<Row>) = (steps.collect(), headers.collect());
    let places =
        steps.iter().chain(&headers).map(|row| row.place.chars().count()).max().unwrap_or(0);
    print_rows(&steps, places, out)?;
    if !headers.is_empty() {
        writeln!(out, "    {}", in_style(FAINT, "with"))?;
    }
    print_rows(&headers, places, out)
}

/// A line of an explanation.
struct Row {
    place: String,
    what: String,
    came: String,
    decides: bool,
}

/// Rows in columns; a text that is far longer than the others does not push them aside.
fn print_rows(rows: &[Row], places: usize, out: &mut dyn Write) -> io::Result<()> {
    const MAX_WIDTH: usize = 56;
    let whats = rows.iter().map(|row| row.what.chars().count().min(MAX_WIDTH)).max().unwrap_or(0);
    for Row { place, what, came, decides } in rows {
        let style = if *decides { STRONG } else { Style::new() };
        let place = in_style(FAINT, format_args!("{place:places$}"));
        let told = format!("{what:whats$}  {came}");
        writeln!(out, "    {place}  {}", in_style(style, told.trim_end()))?;
    }
    Ok(())
}

#[derive(Serialize)]
struct Document<'a, 'e> {
    request: RequestData<'a>,
    #[serde(flatten)]
    walk: Data<'a, Walk<'e>>,
}

#[derive(Serialize)]
struct RequestData<'a> {
    method: &'a str,
    url: &'a str,
}
