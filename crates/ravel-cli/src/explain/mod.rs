//! `ravel explain`: what URLs get, hop by hop, and why.

mod rows;

use std::io::{self, Write};
use std::path::Path;

use http::{HeaderMap, HeaderName, HeaderValue, Method};
use ravel::address::Scheme;
use ravel::edge::{Explanation, HeaderChange, RuleResult, Step, Walk, WalkEnd};
use ravel::language::Line;
use ravel::program::Stage;
use ravel::serial::Data;
use ravel::{Outcome, Request};
use ravel_traffic::Hit;
use serde::Serialize;

use rows::{Row, print_rows};

use crate::diagnostic::write_folded;
use crate::load::LoadedSite;
use crate::style::{BAD, FAINT, STRONG, count, in_style, outcome};
use crate::urls::UrlSources;
use crate::{ExitStatus, Failure};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// Whole URLs, or paths below the base path; `-` is the same as `--urls -`
    #[arg(required_unless_present = "sources", value_name = "URL")]
    addresses: Vec<String>,
    #[command(flatten)]
    known: UrlSources,
    /// The method of the request
    #[arg(long, default_value = "GET", value_parser = method)]
    method: Method,
    /// A request header; may be given several times
    #[arg(long, value_name = "NAME: VALUE", value_parser = header)]
    header: Vec<(HeaderName, HeaderValue)>,
    /// Take URLs as a client sends them, host and target byte for byte, and not as a browser reads
    /// what is typed
    #[arg(long)]
    as_sent: bool,
    /// Show one line for each URL: where it ends, without the reasons; with `--json`, its answers without the steps
    #[arg(long)]
    brief: bool,
    /// Exit with 1 if a visitor ends so: file, redirect, gone, missing, outside, elsewhere,
    /// refused, loop
    #[arg(long, value_name = "LIST", value_delimiter = ',', value_parser = outcome_named)]
    fail_on: Vec<Outcome>,
    /// Output JSON
    #[arg(long)]
    pub(crate) json: bool,
}

impl Arguments {}

/// Every outcome, by its name.
const OUTCOMES: [Outcome; 8] = [
    Outcome::File,
    Outcome::Redirect,
    Outcome::Gone,
    Outcome::Missing,
    Outcome::Outside,
    Outcome::Elsewhere,
    Outcome::Refused,
    Outcome::Loop,
];

fn outcome_named(text: &str) -> Result<Outcome, String> {
    let named = OUTCOMES.into_iter().find(|outcome| outcome.to_string() == text);
    named.ok_or_else(|| format!("write one of {}", OUTCOMES.map(|one| one.to_string()).join(", ")))
}

fn method(text: &str) -> Result<Method, String> {
    let method = Method::from_bytes(text.as_bytes())
        .ok()
        .filter(|_| text.bytes().all(|byte| !byte.is_ascii_lowercase()));
    method.ok_or_else(|| "write the method in capitals, as in `POST`".to_owned())
}

fn header(text: &str) -> Result<(HeaderName, HeaderValue), String> {
    let (name, value) = text.split_once(':').ok_or("write it as `NAME: VALUE`")?;
    let name = name.trim().parse().map_err(|_| format!("`{name}` is not a valid header name"))?;
    let value = value
        .trim()
        .parse()
        .map_err(|_| format!("`{}` is not a valid header value", value.trim()))?;
    Ok((name, value))
}

/// What is shown of answers, and the result of them.
struct Answers<'a> {
    loaded: &'a LoadedSite,
    arguments: &'a Arguments,
    headers: HeaderMap,
    width: usize,
    shown: usize,
    /// Whether URLs come from standard input.
    is_live: bool,
    found: bool,
    wrong: Vec<String>,
}

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    let loaded = LoadedSite::read(rules)?;
    let width = arguments.addresses.iter().map(|url| url.chars().count()).max().unwrap_or(0);
    let headers = arguments.header.iter().cloned().collect();
    let mut answers = Answers {
        loaded: &loaded,
        arguments,
        headers,
        width,
        shown: 0,
        is_live: arguments.addresses.iter().any(|url| url == "-") || arguments.known.read_input(),
        found: false,
        wrong: vec![],
    };
    match answers.show_all(out) {
        // Whoever reads the answers has seen enough, and what was found was found.
        Err(Failure::Output(error))
            if error.kind() == io::ErrorKind::BrokenPipe && answers.found =>
        {
            return Ok(ExitStatus::Found);
        }
        shown => shown?,
    }
    match (answers.wrong.is_empty(), answers.found) {
        (true, false) => Ok(ExitStatus::Well),
        (true, true) => Ok(ExitStatus::Found),
        (false, _) => Err(Failure::Message(answers.wrong.join("\n       "))),
    }
}

impl Answers<'_> {
    fn show_all(&mut self, out: &mut dyn Write) -> Result<(), Failure> {
        for address in &self.arguments.addresses {
            match address.as_str() {
                "-" => self.arguments.known.read("-", &mut |hit| self.take(hit, out))?,
                url => self.show(&self.arguments.method, url, None, out)?,
            }
        }
        self.arguments.known.each(&mut |hit| self.take(hit, out))?;
        Ok(out.flush()?)
    }

    /// Shows what a hit gets, as soon as it is read.
    fn take(&mut self, hit: Result<Hit, String>, out: &mut dyn Write) -> Result<(), Failure> {
        match hit {
            Ok(hit) => {
                let method = hit.method().unwrap_or(&self.arguments.method);
                self.show(method, hit.url(), hit.status(), out)?;
            }
            Err(why) => self.wrong.push(why),
        }
        // Who types, or waits for what a program prints, sees each answer at once.
        if self.is_live {
            out.flush()?;
        }
        Ok(())
    }

    fn show(
        &mut self,
        method: &Method,
        url: &str,
        status: Option<u16>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        let asked = match self.arguments.as_sent {
            true => sent(self.loaded, method.clone(), url),
            false => request(self.loaded, method.clone(), url),
        };
        let request = match asked {
            Ok(request) => request.with_headers(self.headers.clone()),
            Err(why) => {
                self.wrong.push(why);
                return Ok(());
            }
        };
        let walk = match self.arguments.brief {
            true => self.loaded.edge().walk_unexplained(&request),
            false => self.loaded.edge().walk(&request),
        };
        let got = walk.first().answer().status();
        let differs = status.filter(|status| Some(*status) != got);
        self.found |= differs.is_some() || self.arguments.fail_on.contains(&walk.outcome());
        self.shown += 1;
        if self.arguments.json {
            return self.print_json(&request, &walk, status, out);
        }
        let but = differs.map(|status| {
            let got = got.map_or_else(|| "none".to_owned(), |status| status.to_string());
            in_style(BAD, format!("expected {status}, got {got}"))
        });
        if self.arguments.brief {
            let but = but.map(|but| format!("  {but}")).unwrap_or_default();
            let width = self.width;
            return writeln!(out, "{url:width$}  {}{but}", summary(&walk));
        }
        if self.shown > 1 {
            writeln!(out)?;
        }
        print(self.loaded, &request, &walk, out)?;
        but.map_or(Ok(()), |but| writeln!(out, "  {but}"))
    }

    fn print_json(
        &self,
        request: &Request,
        walk: &Walk<'_>,
        expected: Option<u16>,
        out: &mut dyn Write,
    ) -> io::Result<()> {
        let asked = RequestData { method: request.method().as_str(), url: request.url() };
        let document = Document { request: asked, expected, walk: self.loaded.rules().data(walk) };
        let stream = match self.arguments.addresses.as_slice() {
            [one] => one == "-" || !self.arguments.known.is_empty(),
            _ => true,
        };
        match stream {
            true => serde_json::to_writer(&mut *out, &document)?,
            false => serde_json::to_writer_pretty(&mut *out, &document)?,
        }
        writeln!(out)
    }
}

/// A request for an address as people write it; a path is below the base path at the canonical
/// origin.
fn request(loaded: &LoadedSite, method: Method, address: &str) -> Result<Request, String> {
    let url = loaded.rules().site().url_of(address);
    Request::new(method, &url).map_err(|error| format!("{error}, or with `/`"))
}

/// The same as a client sends it: a target alone goes to the canonical host.
fn sent(loaded: &LoadedSite, method: Method, address: &str) -> Result<Request, String> {
    let site = loaded.rules().site();
    if address.starts_with('/') {
        return Ok(Request::from_parts(method, site.scheme(), site.host().as_str(), address));
    }
    let Some((scheme, rest)) = Scheme::split(address) else {
        return Request::new(method, address).map_err(|error| format!("{error}, or with `/`"));
    };
    let (host, target) = rest.split_at(rest.find(['/', '?']).unwrap_or(rest.len()));
    let target = if target.is_empty() { "/" } else { target };
    Ok(Request::from_parts(method, scheme, host, target))
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
    write_folded(&summary(walk), "  ", "    ", out)?;
    let several = walk.answers().len() > 1;
    for (number, (url, explanation)) in walk.answers().iter().enumerate() {
        writeln!(out)?;
        if several && number > 0 {
            write_folded(&in_style(FAINT, format!("then GET {url}")), "  ", "    ", out)?;
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
        (WalkEnd::Loop, _) => paint("ends in a redirect loop".to_owned()),
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
    let (steps, headers): (Vec<Row>, Vec<Row>) = (steps.collect(), header_rows(explanation, place));
    let places =
        steps.iter().chain(&headers).map(|row| row.place.chars().count()).max().unwrap_or(0);
    print_rows(&steps, places, out)?;
    if !headers.is_empty() {
        writeln!(out, "    {}", in_style(FAINT, "with"))?;
    }
    print_rows(&headers, places, out)
}

/// The headers of an answer, with what they replaced, and those that were dropped.
fn header_rows(explanation: &Explanation<'_>, place: impl Fn(Option<Line>) -> String) -> Vec<Row> {
    let before = |name: &str, line: Option<Line>| {
        let steps = explanation.headers().iter().filter(|step| step.name() == name);
        let others = steps.filter(|step| step.line() != line);
        let values: Vec<String> = others
            .filter_map(|step| match step.change() {
                HeaderChange::Set(value) | HeaderChange::Added(value) => {
                    let by = step.line().map_or("the default".to_owned(), |by| place(Some(by)));
                    Some(format!("`{value}` of {by}"))
                }
                _ => None,
            })
            .collect();
        values.join(", ")
    };
    let answer = explanation.answer();
    let is_there = |name: &str| answer.headers().iter().any(|header| header.name() == name);
    let kept = answer.headers().iter().map(|header| {
        let replaces = explanation.headers().iter().any(|step| {
            let sets = matches!(step.change(), HeaderChange::Set(_));
            step.name() == header.name() && step.line() == header.line() && sets
        });
        let replaced = match replaces {
            true => before(header.name(), header.line()),
            false => String::new(),
        };
        Row {
            place: place(header.line()),
            what: format!("{}: {}", header.name(), header.value()),
            came: if replaced.is_empty() { replaced } else { format!("replaces {replaced}") },
            decides: false,
        }
    });
    let dropped = explanation
        .headers()
        .iter()
        .filter(|step| matches!(step.change(), HeaderChange::Dropped) && !is_there(step.name()));
    let dropped = dropped.map(|step| Row {
        place: place(step.line()),
        what: format!("{}:", step.name()),
        came: format!("dropped: {}", before(step.name(), step.line())),
        decides: false,
    });
    kept.chain(dropped).collect()
}

#[derive(Serialize)]
struct Document<'a, 'e> {
    request: RequestData<'a>,
    /// The status that a line of standard input expects.
    #[serde(skip_serializing_if = "Option::is_none")]
    expected: Option<u16>,
    #[serde(flatten)]
    walk: Data<'a, Walk<'e>>,
}

#[derive(Serialize)]
struct RequestData<'a> {
    method: &'a str,
    url: &'a str,
}
