//! Reads the `site` block.

use super::{Cursor, Outcome, Reader};
use crate::address::{Host, Scheme, split_port};
use crate::language::grammar::{Form, SiteSetting, listed};
use crate::language::{Line, LineText, Problem, ProblemKind, Statement, Word, nearest};
use crate::rules::{Alias, Hsts, HttpPolicy, Pages, PreviewHost, Site};
use crate::template::{Pattern, Target};

impl Site {
    /// Stands in for a site that could not be read, so that the rest of the file is still looked
    /// at.
    pub(super) fn unknown() -> Site {
        let host = Host::parse("unknown.invalid").expect("this is a host name");
        Site::new(Line::new(0, 0), Scheme::Https, host, "/".into())
    }

    pub(super) fn is_known(&self) -> bool {
        self.line.number > 0
    }

    fn new(line: Line, scheme: Scheme, host: Host, base: Box<str>) -> Site {
        Site {
            line,
            scheme,
            host,
            base,
            files: None,
            files_line: None,
            aliases: Vec::new(),
            previews: Vec::new(),
            pages: Pages::Tidy,
            pages_line: None,
            index: "index.html".into(),
            missing: None,
            languages: Vec::new(),
            http: HttpPolicy::Upgrade,
            hsts: None,
            one_hop: true,
            ignore_case: false,
        }
    }
}

impl Reader<'_> {
    pub(super) fn site(&mut self, statement: &Statement<'_>) -> Site {
        let line = statement.head.line;
        let mut site = match site_line(Cursor::new(statement.head)) {
            Ok((scheme, host, base)) => Site::new(line, scheme, host, base),
            Err(problem) => {
                self.problems.push(problem);
                Site::unknown()
            }
        };
        let mut seen = SeenSettings::default();
        for &body in &statement.body {
            if let Err(problem) = setting(&mut site, body, &mut seen) {
                self.problems.push(problem);
            }
        }
        self.promises_hold(&site);
        self.hosts_stand_once(&site);
        site
    }

    fn promises_hold(&mut self, site: &Site) {
        if let Some(hsts) = &site.hsts
            && (site.scheme == Scheme::Http || site.http == HttpPolicy::Allow)
        {
            self.problems.push(Problem::new(hsts.line.at(0..0), ProblemKind::HstsNeedsHttps));
        }
    }

    fn hosts_stand_once(&mut self, site: &Site) {
        let aliases =
            site.aliases.iter().map(|alias| (alias.host.to_string(), &alias.base, alias.line));
        let previews =
            site.previews.iter().map(|preview| (preview.to_string(), &site.base, preview.line));
        let mut seen = vec![(site.host.to_string(), &site.base)];
        for (host, base, line) in aliases.chain(previews) {
            if seen.iter().any(|(other, other_base)| *other == host && *other_base == base) {
                let found = if *base == site.base { host } else { format!("{host}{base}") };
                self.problems.push(Problem::new(line.at(0..0), ProblemKind::HostTwice { found }));
                continue;
            }
            seen.push((host, base));
        }
    }
}

fn site_line(mut cursor: Cursor<'_>) -> Outcome<(Scheme, Host, Box<str>)> {
    cursor.word()?;
    let Some(word) = cursor.word()? else { return Err(cursor.expected("the URL of the site")) };
    let site = site_url(&word, &cursor)?;
    cursor.end()?;
    Ok(site)
}

/// Scheme, host and base path; a final `/` that was left out is put back.
fn site_url(word: &Word<'_>, cursor: &Cursor<'_>) -> Outcome<(Scheme, Host, Box<str>)> {
    let wrong = || {
        Problem::new(
            cursor.place(word.columns.clone()),
            ProblemKind::SiteUrl { found: word.text.to_string() },
        )
    };
    let pattern = Pattern::parse(&word.text).map_err(|_| wrong())?;
    let origin = pattern.origin().ok_or_else(wrong)?;
    if origin.host.capture.is_some()
        || !pattern.path.is_literal()
        || !pattern.query().is_empty()
        || word.text.contains('?')
    {
        return Err(wrong());
    }
    let mut base = pattern.path.as_str().to_owned();
    if !base.ends_with('/') {
        base.push('/');
    }
    if base.contains("//") {
        return Err(wrong());
    }
    Ok((origin.scheme, origin.host.host.clone(), base.into()))
}

fn setting(site: &mut Site, line: LineText<'_>, seen: &mut SeenSettings) -> Outcome<()> {
    let mut cursor = Cursor::new(line);
    match seen.next(&mut cursor, SiteSetting::find, SiteSetting::FORMS)? {
        SiteSetting::Files => {
            site.files = Some(value(&mut cursor, "a folder")?.text.into());
            site.files_line = Some(line.line);
        }
        SiteSetting::Alias => aliases(site, &mut cursor, line.line)?,
        SiteSetting::Preview => previews(site, &mut cursor, line.line)?,
        SiteSetting::Pages => {
            let pages = [("tidy", Pages::Tidy), ("loose", Pages::Loose), ("exact", Pages::Exact)];
            site.pages_line = Some(line.line);
            site.pages = one_of(&mut cursor, "`tidy`, `loose` or `exact`", &pages)?;
        }
        SiteSetting::Index => {
            let word = value(&mut cursor, "a file name")?;
            if word.text.contains(['/', '\\']) || word.text.starts_with('.') {
                return Err(cursor.unexpected(word, "a file name without a folder"));
            }
            site.index = word.text.into();
        }
        SiteSetting::Missing => {
            let word = value(&mut cursor, "the path of the 404 page")?;
            let nothing = Pattern::parse("/").expect("this is a pattern");
            let path = Target::parse_path(&word.text, &nothing)
                .map_err(|error| super::in_word(error, &word, line.line))?;
            site.missing = Some((path.path.as_str().into(), line.line));
        }
        SiteSetting::Languages => {
            for word in cursor.list("a language tag such as `en`")? {
                if !is_language(&word.text) {
                    return Err(cursor.unexpected(word, "a language tag such as `en` or `pt-BR`"));
                }
                site.languages.push(word.text.into());
            }
        }
        SiteSetting::Http => {
            let policies = [("upgrade", HttpPolicy::Upgrade), ("allow", HttpPolicy::Allow)];
            site.http = one_of(&mut cursor, "`upgrade` or `allow`", &policies)?;
        }
        SiteSetting::Hsts => site.hsts = Some(hsts(&mut cursor, line.line)?),
        SiteSetting::Hops => {
            site.one_hop =
                one_of(&mut cursor, "`one` or `each`", &[("one", true), ("each", false)])?
        }
        SiteSetting::Ignore => site.ignore_case = one_of(&mut cursor, "`case`", &[("case", true)])?,
    }
    cursor.end()
}

/// What is wrong with a word that is not a setting.
fn not_a_setting(found: String, value: &str, forms: &'static [Form]) -> ProblemKind {
    let nearest = nearest(&found, forms.iter().map(Form::word));
    let has_pages = forms.iter().any(|form| form.word() == "pages");
    if has_pages && found.ends_with(".html") {
        let written = format!("missing /{}", found.trim_start_matches('/'));
        return ProblemKind::NoKeyword { written };
    }
    if has_pages && found == "404" {
        let written = format!("missing /{}", value.trim_start_matches('/'));
        return ProblemKind::Renamed { found, name: written };
    }
    let about_pages =
        |text: &str| ["slash", "html", "extension", "clean"].iter().any(|part| text.contains(part));
    if nearest.is_none() && has_pages && (about_pages(&found) || about_pages(value)) {
        return ProblemKind::PagesSetting { found };
    }
    if found == "proof" && !has_pages {
        return ProblemKind::Renamed { found, name: "verification".to_owned() };
    }
    ProblemKind::Setting { found, nearest, allowed: listed(forms) }
}

/// The settings that were given, with their lines.
#[derive(Debug, Default)]
pub(super) struct SeenSettings(Vec<(&'static str, u32)>);

impl SeenSettings {
    /// The setting that a line begins with, which was not given before.
    pub(super) fn next<S>(
        &mut self,
        cursor: &mut Cursor<'_>,
        find: fn(&str) -> Option<S>,
        forms: &'static [Form],
    ) -> Outcome<S> {
        let Some(word) = cursor.word()? else { return Err(cursor.expected("a setting")) };
        let place = cursor.place(word.columns);
        let known = find(&word.text).zip(forms.iter().find(|form| form.word() == word.text));
        let Some((setting, form)) = known else {
            let kind = not_a_setting(word.text.into_owned(), cursor.rest(), forms);
            return Err(Problem::new(place, kind));
        };
        if let Some(&(name, first)) = self.0.iter().find(|(other, _)| *other == form.word()) {
            return Err(Problem::new(place, ProblemKind::SettingTwice { name, first }));
        }
        self.0.push((form.word(), place.line.number));
        Ok(setting)
    }

    /// A setting that may be given again.
    pub(super) fn forget(&mut self, word: &str) {
        self.0.retain(|(seen, _)| *seen != word);
    }
}

pub(super) fn value<'t>(cursor: &mut Cursor<'t>, wanted: &'static str) -> Outcome<Word<'t>> {
    match cursor.word()? {
        Some(word) if !word.text.is_empty() => Ok(word),
        Some(word) => Err(cursor.unexpected(word, wanted)),
        None => Err(cursor.expected(wanted)),
    }
}

pub(super) fn one_of<T: Copy>(
    cursor: &mut Cursor<'_>,
    wanted: &'static str,
    values: &[(&str, T)],
) -> Outcome<T> {
    let word = value(cursor, wanted)?;
    match values.iter().find(|(name, _)| *name == word.text) {
        Some((_, value)) => Ok(*value),
        None => Err(cursor.unexpected(word, wanted)),
    }
}

fn aliases(site: &mut Site, cursor: &mut Cursor<'_>, line: Line) -> Outcome<()> {
    for word in cursor.list("a host or a URL")? {
        if Scheme::split(&word.text).is_some() {
            let (_, host, base) = site_url(&word, cursor)?;
            site.aliases.push(Alias { host, base, line });
        } else {
            let host = host(&word, cursor)?;
            site.aliases.push(Alias { host, base: site.base.clone(), line });
        }
    }
    Ok(())
}

fn previews(site: &mut Site, cursor: &mut Cursor<'_>, line: Line) -> Outcome<()> {
    for word in cursor.list("a host")? {
        let (wildcard, name) = match word.text.strip_prefix("*.") {
            Some(rest) => {
                (true, Word { text: rest.to_owned().into(), columns: word.columns.clone() })
            }
            None => (false, word),
        };
        let host = host(&name, cursor)?;
        site.previews.push(PreviewHost { wildcard, host, line });
    }
    Ok(())
}

pub(super) fn host(word: &Word<'_>, cursor: &Cursor<'_>) -> Outcome<Host> {
    let found = word.text.to_string();
    let place = cursor.place(word.columns.clone());
    if found.contains('*') {
        return Err(Problem::new(place, ProblemKind::Wildcard { found }));
    }
    match Host::parse(&found) {
        Ok(host) if split_port(&found).1.is_none() => Ok(host),
        _ => Err(Problem::new(place, ProblemKind::Host { found })),
    }
}

fn hsts(cursor: &mut Cursor<'_>, line: Line) -> Outcome<Hsts> {
    let word = value(cursor, "a duration such as `1y`")?;
    let Some(seconds) = duration(&word.text) else {
        let found = word.text.into_owned();
        return Err(Problem::new(cursor.place(word.columns), ProblemKind::Duration { found }));
    };
    let subdomains = cursor.take("subdomains");
    let place = cursor.here();
    let preload = cursor.take("preload");
    if preload && (!subdomains || seconds < 365 * 86_400) {
        return Err(Problem::new(place, ProblemKind::HstsPreload));
    }
    let mut value = format!("max-age={seconds}");
    if subdomains {
        value.push_str("; includeSubDomains");
    }
    if preload {
        value.push_str("; preload");
    }
    Ok(Hsts { value: value.into(), subdomains, max_age: seconds, line })
}

/// A whole number with its unit, in seconds.
pub(super) fn duration(text: &str) -> Option<u64> {
    let unit = text.chars().next_back()?;
    let seconds = match unit {
        's' => 1,
        'm' => 60,
        'h' => 3_600,
        'd' => 86_400,
        'w' => 7 * 86_400,
        'y' => 365 * 86_400,
        _ => return None,
    };
    let number = &text[..text.len() - 1];
    let digits = !number.is_empty() && number.bytes().all(|byte| byte.is_ascii_digit());
    digits.then(|| number.parse::<u64>().ok()?.checked_mul(seconds)).flatten()
}

/// A well-formed tag, as far as sites need (RFC 5646, section 2.1): subtags of letters and digits.
fn is_language(tag: &str) -> bool {
    let mut subtags = tag.split('-');
    let primary = subtags.next().unwrap_or_default();
    (2..=8).contains(&primary.len())
        && primary.bytes().all(|byte| byte.is_ascii_alphabetic())
        && subtags.all(|subtag| {
            (1..=8).contains(&subtag.len())
                && subtag.bytes().all(|byte| byte.is_ascii_alphanumeric())
        })
}
