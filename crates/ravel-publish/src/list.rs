//! The redirects of a site as rows, for hosts that read a list of them.

use ravel::edge::{Edge, Route};
use ravel::program::{Effect, RuleRef, Stage};
use serde_json::json;

use crate::urls::{SiteUrls, looks_at_visitor};
use crate::{LineSupport, Support};

/// The redirects that a list can hold, and what it cannot say.
#[derive(Debug, Clone)]
pub struct RedirectList {
    rows: Vec<RedirectRow>,
    lines: Vec<LineSupport>,
}

/// A redirect from one path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RedirectRow {
    from: String,
    to: String,
    status: u16,
    keeps_query: bool,
}

impl RedirectRow {
    /// The path on the canonical host, with the base path, percent-encoded.
    pub fn from(&self) -> &str {
        &self.from
    }

    /// The URL, behind all redirects that the edge joins.
    pub fn to(&self) -> &str {
        &self.to
    }

    /// 301, 302, 303, 307 or 308.
    pub fn status(&self) -> u16 {
        self.status
    }

    /// Whether the visitor's parameters go along, but for those that the URL has itself.
    pub fn keeps_query(&self) -> bool {
        self.keeps_query
    }
}

impl RedirectList {
    /// In the order of the rules.
    pub fn rows(&self) -> &[RedirectRow] {
        &self.rows
    }

    /// What becomes of each rule and setting, in the order of the files they stand in; a rule is
    /// supported fully where its row says the same for every request.
    pub fn lines(&self) -> &[LineSupport] {
        &self.lines
    }

    /// The rows as CSV with a header (RFC 4180).
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\nredirect /a -> /b,c\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::default());
    /// let csv = ravel_publish::redirect_list(&edge).to_csv();
    /// assert_eq!(csv, "from,to,status,keep_query\r\n/a,\"https://h.example/b,c\",302,true\r\n");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn to_csv(&self) -> String {
        let mut writer =
            csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
        let rows = self.rows.iter().map(|row| {
            let (status, keeps) = (row.status.to_string(), row.keeps_query.to_string());
            [row.from.clone(), row.to.clone(), status, keeps]
        });
        let header = ["from", "to", "status", "keep_query"].map(str::to_owned);
        // Memory takes every row, and all of them are as long as the header.
        let written =
            std::iter::once(header).chain(rows).try_for_each(|row| writer.write_record(row));
        let bytes = written.ok().and_then(|()| writer.into_inner().ok()).unwrap_or_default();
        String::from_utf8(bytes).unwrap_or_default()
    }

    /// The rows as JSON texts, one a line.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\nredirect /a -> /b permanent\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::default());
    /// let lines = ravel_publish::redirect_list(&edge).to_json_lines();
    /// assert_eq!(lines, "{\"from\":\"/a\",\"keep_query\":true,\"status\":301,\"to\":\"https://h.example/b\"}\n");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn to_json_lines(&self) -> String {
        let line = |row: &RedirectRow| {
            let row = json!({ "from": row.from, "to": row.to, "status": row.status, "keep_query": row.keeps_query });
            format!("{row}\n")
        };
        self.rows.iter().map(line).collect()
    }
}

/// The redirects of a site that are for one path of its canonical host, hops joined as the edge
/// joins them.
///
/// ```
/// let rules = ravel::Rules::parse("site https://h.example/base/\nredirect /a -> /b\nredirect /old/{x} -> /a\n")?;
/// let edge = ravel::Edge::new(&rules, ravel::FileList::default());
/// let list = ravel_publish::redirect_list(&edge);
/// assert_eq!((list.rows()[0].from(), list.rows()[0].to()), ("/base/a", "https://h.example/base/b"));
/// assert_eq!(list.lines()[2].how(), "it is for many URLs");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn redirect_list(edge: &Edge) -> RedirectList {
    let urls = SiteUrls::new(edge);
    let mut list = RedirectList { rows: Vec::new(), lines: settings(edge) };
    for rule in Stage::ALL.into_iter().flat_map(|stage| edge.program().rules(stage)) {
        let (support, how) = match row(&urls, rule) {
            Ok(RowOf { row, depends_on }) => {
                let how = match depends_on {
                    Some(other) => (Support::Partial, format!("what follows depends on `{other}`")),
                    None => (Support::Full, format!("a row for {}", row.from)),
                };
                list.rows.push(row);
                how
            }
            Err(why) => (Support::None, why),
        };
        list.lines.push(LineSupport { line: rule.line(), what: rule.to_string(), support, how });
    }
    list.lines.sort_by_key(LineSupport::line);
    list
}

struct RowOf {
    row: RedirectRow,
    /// A rule behind the first hop that looks at more than the path.
    depends_on: Option<String>,
}

/// The row of a rule, or why it has none.
fn row(urls: &SiteUrls<'_>, rule: RuleRef<'_>) -> Result<RowOf, String> {
    let from = path_of(urls, rule)?;
    let unusable = || "its URL is none that is answered".to_owned();
    let request = urls.request_at(&from).ok_or_else(unusable)?;
    let route = urls.edge().route(&request);
    if route.decided_by() != Some(rule.id()) {
        return Err("it decides nothing, or only what others leave to it".to_owned());
    }
    if route.never_ends() {
        return Err("it leads nowhere".to_owned());
    }
    let answer = urls.edge().answer(&request);
    let (Some(to), Some(status)) = (answer.location(), answer.status()) else {
        return Err(unusable());
    };
    let with_query = urls.request_at(&format!("{from}?{PARAMETER}"));
    let with_query = with_query.map(|request| urls.edge().answer(&request));
    let with_query = with_query.filter(|other| other.status() == Some(status));
    let keeps_query = match with_query.as_ref().and_then(|answer| answer.location()) {
        Some(other) if other == with_parameter(to) => true,
        Some(other) if other == to => false,
        _ => return Err("where it leads depends on parameters".to_owned()),
    };
    let depends_on = depends_on(urls, &route);
    let row = RedirectRow { from, to: to.to_owned(), status, keeps_query };
    Ok(RowOf { row, depends_on })
}

/// What no rule asks for.
const PARAMETER: &str = "a-parameter-of-nobody=1";

/// A URL with the parameter behind its own.
fn with_parameter(url: &str) -> String {
    let (url, fragment) = url.split_at(url.find('#').unwrap_or(url.len()));
    let mark = match url.split_once('?') {
        None => "?",
        Some((_, "")) => "",
        Some(_) => "&",
    };
    format!("{url}{mark}{PARAMETER}{fragment}")
}

/// The one path on the canonical host that a redirect is for.
fn path_of(urls: &SiteUrls<'_>, rule: RuleRef<'_>) -> Result<String, String> {
    let site = urls.edge().site();
    match rule.rule().effect() {
        Effect::Redirect(_) => {}
        Effect::Gone
        | Effect::Elsewhere(_)
        | Effect::File(_)
        | Effect::NotFoundPage(_)
        | Effect::Headers(_) => return Err("it is no redirect".to_owned()),
    }
    if let Some(test) = rule.tests().iter().find(|test| looks_at_visitor(test)) {
        return Err(format!("it asks for more than a path: `{}`", test.written(site.languages())));
    }
    let pattern = rule.pattern();
    let base = match pattern.origin() {
        None => site.open_base(),
        Some(origin)
            if origin.host().capture().is_none() && origin.host().host() == site.host() =>
        {
            ""
        }
        Some(_) => return Err("it is for another host".to_owned()),
    };
    if !pattern.path().is_literal() {
        return Err("it is for many URLs".to_owned());
    }
    if !pattern.query().is_empty() {
        return Err("it asks for a parameter".to_owned());
    }
    Ok(format!("{base}{}", pattern.path().as_str()))
}

/// A rule that acts for some visitors behind the first hop, where hops are joined.
fn depends_on(urls: &SiteUrls<'_>, route: &Route) -> Option<String> {
    if !urls.edge().site().one_hop() {
        return None;
    }
    route.hops().iter().find_map(|hop| {
        let url = urls.below(hop.to().as_str())?;
        let request = urls.request(url)?;
        let asked = urls.asked(&request, &urls.edge().route(&request));
        let path = url.split('?').next().unwrap_or(url);
        let asking = urls.asking(path).into_iter().map(|(rule, _)| rule);
        asked.conditional.into_iter().chain(asking).next().map(|rule| rule.to_string())
    })
}

/// Settings that a list says nothing of.
fn settings(edge: &Edge) -> Vec<LineSupport> {
    let site = edge.site();
    let not = |line, what: String, how: &str| LineSupport {
        line,
        what,
        support: Support::None,
        how: how.to_owned(),
    };
    let own = "which hosts lead where is for the host's own settings";
    let mut lines: Vec<LineSupport> = Vec::new();
    let pages = "which of its URLs a page has is for the host's own settings";
    lines.push(not(site.line(), "the URLs of pages".to_owned(), pages));
    if site.ignore_case() {
        lines.push(not(site.line(), "ignore case".to_owned(), "a row is for one spelling"));
    }
    for alias in site.aliases() {
        lines.push(not(alias.line(), format!("alias {}", alias.host()), own));
    }
    for preview in site.previews() {
        lines.push(not(preview.line(), format!("preview {preview}"), own));
    }
    if let Some(hsts) = site.hsts() {
        lines.push(not(hsts.line(), "hsts".to_owned(), "it is no redirect"));
    }
    lines
}
