//! Findings, shown where they are: the gravest first, one for each cause.

use std::collections::{BTreeSet, HashMap};
use std::io::{self, Write};

use http::Method;
use ravel::finding::{Finding, FindingExample, FindingPlace};
use ravel::language::Line;
use ravel::rules::{Code, Severity};

use crate::diagnostic::{Diagnostic, Place, Source, whole_line, width};
use crate::load::LoadedSite;
use crate::style::{BAD, FAINT, NOTE, in_style};

/// How many findings are shown unless all are asked for.
const MAX_SHOWN: usize = 20;

/// As many findings of one kind with the same other lines have one cause.
const MIN_ONE_CAUSE: usize = 4;

/// Findings that have one cause: the first stands for all.
struct Cause<'f> {
    first: &'f Finding,
    others: Vec<&'f Finding>,
}

/// Shows findings: with `all` each for itself, else the causes of them, and not more than one can
/// read.
pub(crate) fn print(
    loaded: &LoadedSite,
    findings: &[&Finding],
    all: bool,
    out: &mut dyn Write,
) -> io::Result<()> {
    let mut causes = match all {
        true => findings.iter().map(|first| Cause { first, others: Vec::new() }).collect(),
        false => causes(loaded, findings),
    };
    causes.sort_by_key(|cause| cause.first.code().severity());
    let (shown, width) = (if all { causes.len() } else { MAX_SHOWN }, width());
    let mut sources = Sources { loaded, known: HashMap::new() };
    for cause in causes.iter().take(shown) {
        writeln!(out, "{}\n", render(&mut sources, cause, width))?;
    }
    if causes.len() > shown {
        let more = format!("… and {} more: `--all` shows them", causes.len() - shown);
        writeln!(out, "{}\n", in_style(FAINT, more))?;
    }
    Ok(())
}

/// What findings that have one cause share, beside their kind.
#[derive(Clone, PartialEq, Eq, Hash)]
enum Shared<'f> {
    Lines(&'f [Line]),
    /// The name of what is linked and missing: one template writes it on many pages.
    Name(&'f str),
    /// The folder of what is linked, in which nothing is.
    Folder(&'f str),
}

/// The folder and the name of what a broken link leads to.
fn linked(finding: &Finding) -> Option<(&str, &str)> {
    let url = finding.example().filter(|_| finding.code() == Code::BrokenLink)?.url();
    let path = url.split_once("://").and_then(|(_, rest)| rest.split(['?', '#']).next())?;
    path.rfind('/').map(|at| (&path[..=at], &path[at + 1..]))
}

/// Everything that a finding could have in common with others, the likeliest cause first.
fn shared<'f>(finding: &'f Finding, is_missing: &impl Fn(&str) -> bool) -> Vec<Shared<'f>> {
    if !finding.lines().is_empty() {
        return vec![Shared::Lines(finding.lines())];
    }
    let Some((folder, name)) = linked(finding) else { return Vec::new() };
    let mut all = Vec::new();
    all.extend(is_missing(folder).then_some(Shared::Folder(folder)));
    all.extend((!name.is_empty()).then_some(Shared::Name(name)));
    all
}

/// Findings of one kind that have one cause, at the place of the first of them.
fn causes<'f>(loaded: &LoadedSite, findings: &[&'f Finding]) -> Vec<Cause<'f>> {
    let site = loaded.rules().site();
    let addresses: BTreeSet<&str> = loaded.edge().addresses().collect();
    let is_missing = |folder: &str| {
        let path = folder.strip_prefix(site.host().as_str());
        let path = path.and_then(|path| path.strip_prefix(site.open_base()));
        path.is_some_and(|path| {
            let first = addresses.range(path..).next();
            path != "/" && !first.is_some_and(|address| address.starts_with(path))
        })
    };
    let mut numbers: HashMap<(Code, Shared<'f>), usize> = HashMap::new();
    for finding in findings {
        for shared in shared(finding, &is_missing) {
            *numbers.entry((finding.code(), shared)).or_default() += 1;
        }
    }
    let mut places: HashMap<(Code, Shared<'f>), usize> = HashMap::new();
    let mut causes: Vec<Cause<'f>> = Vec::new();
    for &finding in findings {
        let mut keys = shared(finding, &is_missing).into_iter().map(|one| (finding.code(), one));
        let Some(key) = keys.find(|key| numbers[key] >= MIN_ONE_CAUSE) else {
            causes.push(Cause { first: finding, others: Vec::new() });
            continue;
        };
        match places.get(&key) {
            Some(&at) => causes[at].others.push(finding),
            None => {
                places.insert(key, causes.len());
                causes.push(Cause { first: finding, others: Vec::new() });
            }
        }
    }
    causes
}

fn render(sources: &mut Sources<'_>, cause: &Cause<'_>, width: usize) -> String {
    let Cause { first, others } = cause;
    let loaded = sources.loaded;
    let mut message = first.message().to_owned();
    let mut notes: Vec<String> = first.note().map(str::to_owned).into_iter().collect();
    if !others.is_empty() {
        let name = |finding: &Finding| finding.place().name(loaded.rules());
        let next: Vec<String> = others.iter().take(2).map(|other| name(other)).collect();
        if first.code() == Code::UnreachableRule {
            let by: Vec<String> = first.lines().iter().map(|line| loaded.name(*line)).collect();
            let takes = if by.len() == 1 { "takes" } else { "together take" };
            let (number, by) = (others.len() + 1, by.join(", "));
            message = format!("{number} rules are unreachable: {by} {takes} their URLs");
        }
        notes.push(match others.len() {
            1 | 2 => format!("the others are at {}", next.join(" and ")),
            _ => format!("{} more like it, the next at {}", others.len(), next.join(" and ")),
        });
    }
    notes.extend(first.example().and_then(shown_by));
    let (place, line) = place(first.place(), sources.of(first.place()));
    let place = match place {
        Some((number, marked)) => {
            Place::Line { path: first_file(loaded, first), number, line, marked }
        }
        None => Place::File(first_file(loaded, first)),
    };
    let diagnostic = Diagnostic {
        severity: first.code().severity(),
        name: Some(first.code().name()),
        message,
        place,
        notes,
        help: first.help().map(str::to_owned),
    };
    diagnostic.render(width)
}

/// The command that shows what a URL alone does not.
fn shown_by(example: &FindingExample) -> Option<String> {
    let options = options(example);
    (!options.is_empty()).then(|| format!("`ravel explain{options} '{}'` shows it", example.url()))
}

/// The options of `explain` for a request that is more than a URL.
pub(crate) fn options(example: &FindingExample) -> String {
    let mut options = match *example.method() {
        Method::GET => String::new(),
        ref method => format!(" --method {method}"),
    };
    for (name, value) in example.headers() {
        options.push_str(&format!(" --header '{name}: {}'", value.replace('\'', "'\\''")));
    }
    options
}

/// The file that a finding is shown in: what is wrong with a named file as a whole is wrong with
/// the line that names it.
fn first_file(loaded: &LoadedSite, finding: &Finding) -> String {
    match finding.place() {
        FindingPlace::Named { by, number: None, .. } => loaded.source(*by).to_owned(),
        place => place.file(loaded.rules()),
    }
}

/// The texts that findings stand in, each read once.
struct Sources<'l> {
    loaded: &'l LoadedSite,
    known: HashMap<(bool, String), Source<'l>>,
}

impl<'l> Sources<'l> {
    fn of(&mut self, place: &FindingPlace) -> &Source<'l> {
        let loaded = self.loaded;
        // A built file may have the name of a file of the rules.
        let (is_built, name) = match place {
            FindingPlace::Line(line) | FindingPlace::Named { by: line, number: None, .. } => {
                (false, loaded.source(*line))
            }
            FindingPlace::File { name, at: Some(_) } => (true, &**name),
            FindingPlace::Named { name, .. } => (false, &**name),
            _ => (false, ""),
        };
        self.known.entry((is_built, name.to_owned())).or_insert_with(|| {
            if let Some(text) = loaded.texts().get(name).filter(|_| !is_built) {
                return Source::new(text.into());
            }
            let bytes = match (is_built, name) {
                (_, "") => Vec::new(),
                (true, name) => loaded.bytes(name).unwrap_or_default(),
                (false, name) => loaded.named(name).unwrap_or_default(),
            };
            Source::new(String::from_utf8_lossy(&bytes).into_owned().into())
        })
    }
}

type Marked = (u32, std::ops::Range<usize>);

/// The line of a finding with its number, and what is marked of it; none where the file as a whole
/// is meant.
fn place<'t>(place: &FindingPlace, source: &'t Source<'_>) -> (Option<Marked>, &'t str) {
    match place {
        FindingPlace::Line(line) | FindingPlace::Named { by: line, number: None, .. } => {
            let (number, line) = (line.number(), source.line(line.number()));
            (Some((number, whole_line(line, '#'))), line)
        }
        FindingPlace::Named { number: Some(number), .. } => {
            let line = source.line(*number);
            (Some((*number, whole_line(line, ';'))), line)
        }
        FindingPlace::File { at: Some((number, range)), .. } => {
            let (whole, begin) = source.line_around(range.start);
            let start = range.start.saturating_sub(begin).min(whole.len());
            let end = range.end.saturating_sub(begin).clamp(start, whole.len());
            let ok = whole.is_char_boundary(start) && whole.is_char_boundary(end);
            (Some((*number, if ok { start..end } else { 0..whole.len() })), whole)
        }
        _ => (None, ""),
    }
}

/// The numbers of findings of each severity, in words, and below them those of each name.
pub(crate) fn print_counts(
    findings: &[&Finding],
    accepted: usize,
    out: &mut dyn Write,
) -> io::Result<()> {
    let number = |severity| findings.iter().filter(|one| one.code().severity() == severity).count();
    let words = |severity: Severity| match number(severity) {
        1 => format!("1 {}", severity.as_str()),
        number => format!("{number} {}s", severity.as_str()),
    };
    let mut text = format!("{}, {}", words(Severity::Error), words(Severity::Warning));
    if number(Severity::Note) > 0 {
        text.push_str(&format!(", {}", words(Severity::Note)));
    }
    if accepted > 0 {
        text.push_str(&format!(", {accepted} accepted"));
    }
    let style = if number(Severity::Error) > 0 { BAD } else { crate::style::GOOD };
    writeln!(out, "{}", in_style(style, text))?;
    let mut names: Vec<(Code, usize)> = Vec::new();
    for finding in findings {
        match names.iter_mut().find(|(code, _)| *code == finding.code()) {
            Some((_, number)) => *number += 1,
            None => names.push((finding.code(), 1)),
        }
    }
    names.sort_by_key(|(code, number)| (code.severity(), std::cmp::Reverse(*number), code.name()));
    if names.len() > 1 {
        for (code, number) in &names {
            let severity = in_style(style_of(code.severity()), code.severity().as_str());
            writeln!(out, "{number:>7}  {severity}[{code}]")?;
        }
    }
    if let Some((code, _)) = names.first() {
        let line = format!("`ravel check --why {code}` explains it, with an example");
        writeln!(out, "{}", in_style(FAINT, line))?;
    }
    Ok(())
}

pub(crate) fn style_of(severity: Severity) -> anstyle::Style {
    match severity {
        Severity::Error => BAD.bold(),
        Severity::Warning => NOTE.bold(),
        Severity::Note => FAINT,
    }
}
