//! Tables: CSV (RFC 4180) and TSV, of which the first row names the columns.

use csv::{ByteRecord, ReaderBuilder};

use crate::hit::{count, method, short, status};
use crate::input::Input;
use crate::list::is_url;
use crate::{Hit, SourceError};

/// What separates columns, and is looked for in the first row.
const DELIMITERS: [u8; 3] = [b',', b';', b'\t'];

/// Columns with URLs that need not be named.
const URLS: [&str; 9] =
    ["url", "urls", "address", "page", "page url", "page path", "path", "link", "loc"];
/// Columns with counts that need not be named.
const COUNTS: [&str; 8] =
    ["count", "hits", "visits", "views", "requests", "clicks", "sessions", "pageviews"];

/// The columns of a table, where they have other names than usual.
///
/// ```
/// use ravel_traffic::{Columns, Entry, HitReader};
///
/// let columns = Columns::default().with_url(Some("where".to_owned()));
/// let reader = HitReader::new("where;n\n/a;3\n".as_bytes(), &columns)?;
/// assert_eq!(reader.filter_map(Result::ok).count(), 1);
/// # Ok::<(), ravel_traffic::SourceError>(())
/// ```
#[derive(Debug, Clone, Default)]
pub struct Columns {
    url: Option<String>,
    count: Option<String>,
}

impl Columns {
    /// With the name of the column that has the URLs.
    #[must_use]
    pub fn with_url(mut self, name: Option<String>) -> Columns {
        self.url = name;
        self
    }

    /// With the name of the column that says how often.
    #[must_use]
    pub fn with_count(mut self, name: Option<String>) -> Columns {
        self.count = name;
        self
    }

    /// Whether one is named, so that the source has to be a table.
    fn are_named(&self) -> bool {
        self.url.is_some() || self.count.is_some()
    }
}

/// The rows of a table.
pub(crate) struct Table<'r> {
    reader: csv::Reader<Input<'r>>,
    pub(crate) is_tabbed: bool,
    /// How many columns have names.
    width: usize,
    url: usize,
    count: Option<usize>,
    method: Option<usize>,
    status: Option<usize>,
    row: ByteRecord,
}

impl<'r> Table<'r> {
    /// A table, if its first line names columns; the input back if it does not.
    pub(crate) fn of(
        first: &str,
        input: Input<'r>,
        columns: &Columns,
    ) -> Result<Result<Table<'r>, Input<'r>>, SourceError> {
        let Some((delimiter, names)) = header(first, columns)? else { return Ok(Err(input)) };
        let find = |named: Option<&String>, usual: &[&str]| match named {
            Some(name) => names.iter().position(|known| known.eq_ignore_ascii_case(name)),
            None => usual
                .iter()
                .find_map(|usual| names.iter().position(|name| name.eq_ignore_ascii_case(usual))),
        };
        let missing = |named: Option<&String>| {
            let known: Vec<String> =
                names.iter().map(|name| format!("`{}`", short(name))).collect();
            let what = named.map_or("with URLs".to_owned(), |name| format!("`{name}`"));
            let why = format!("there is no column {what}; there are {}", known.join(", "));
            SourceError::Columns(why)
        };
        let url = find(columns.url.as_ref(), &URLS).ok_or_else(|| missing(columns.url.as_ref()))?;
        let count = find(columns.count.as_ref(), &COUNTS);
        if columns.count.is_some() && count.is_none() {
            return Err(missing(columns.count.as_ref()));
        }
        let mut builder = ReaderBuilder::new();
        let reader = builder.delimiter(delimiter).flexible(true).from_reader(input);
        Ok(Ok(Table {
            reader,
            is_tabbed: delimiter == b'\t',
            width: names.len(),
            url,
            count,
            method: find(None, &["method"]),
            status: find(None, &["status"]),
            row: ByteRecord::new(),
        }))
    }

    pub(crate) fn next(&mut self) -> Option<Result<Hit, SourceError>> {
        match self.reader.read_byte_record(&mut self.row) {
            Ok(false) => return None,
            Ok(true) => {}
            Err(error) => {
                let why = error.to_string();
                return Some(Err(match error.into_kind() {
                    csv::ErrorKind::Io(error) => SourceError::Input(error),
                    _ => SourceError::Columns(why),
                }));
            }
        }
        let line = self.row.position().map_or(0, csv::Position::line);
        Some(self.hit().map_err(|why| SourceError::Line(line, why)))
    }

    fn hit(&self) -> Result<Hit, String> {
        let field = |column: Option<usize>| -> Result<Option<&str>, String> {
            let Some(column) = column else { return Ok(None) };
            let bytes = self.row.get(column).ok_or("the row has too few columns")?;
            let text = std::str::from_utf8(bytes).map_err(|_| "it is not UTF-8")?.trim();
            Ok(Some(text).filter(|text| !text.is_empty()))
        };
        let mut others = self.row.iter().skip(self.width);
        if others.any(|field| !field.is_empty()) {
            return Err("the row has more columns than names; quote what has separators".to_owned());
        }
        let url = field(Some(self.url))?.ok_or("the URL is missing")?;
        if url.contains(char::is_control) {
            let shown = short(&url.replace(char::is_control, " "));
            return Err(format!("`{shown}` goes over several lines; is a quote left open?"));
        }
        if !is_url(url) {
            return Err(format!("expected a URL, or a path from `/`, found `{}`", short(url)));
        }
        let mut hit = Hit::of(url);
        if self.count.is_some() {
            hit.count = count(field(self.count)?.ok_or("the count is missing")?)?;
        }
        hit.method = field(self.method)?.map(method).transpose()?;
        hit.status = field(self.status)?.map(status).transpose()?;
        Ok(hit)
    }
}

/// How the columns of a table are separated, and their names; none if the first line names no column.
fn header(first: &str, columns: &Columns) -> Result<Option<(u8, Vec<String>)>, SourceError> {
    let names = |delimiter: u8| -> Vec<String> {
        let mut reader = ReaderBuilder::new();
        let mut reader =
            reader.has_headers(false).delimiter(delimiter).from_reader(first.as_bytes());
        let row = reader.records().next().and_then(Result::ok).unwrap_or_default();
        row.iter().map(|name| name.trim().to_owned()).collect()
    };
    let is_known = |name: &String| match &columns.url {
        Some(named) => name.eq_ignore_ascii_case(named),
        None => URLS.iter().any(|usual| name.eq_ignore_ascii_case(usual)),
    };
    let all = DELIMITERS.map(|delimiter| (delimiter, names(delimiter)));
    if let Some(known) = all.iter().find(|(_, names)| names.iter().any(is_known)) {
        return Ok(Some(known.clone()));
    }
    let is_number = |name: &String| count(name).is_ok();
    let is_row =
        |names: &&[String]| names.iter().any(|name| is_url(name)) && names.iter().any(is_number);
    if all.iter().any(|(_, names)| is_row(&&names[..])) {
        return Err(SourceError::Columns(
            "the first row has no names; write `url,count` above it, or begin a plain list with a \
             line `#`"
                .to_owned(),
        ));
    }
    // The one that separates most is meant.
    let most = all.into_iter().rev().max_by_key(|(_, names)| names.len());
    Ok(most.filter(|(_, names)| columns.are_named() && names.len() > 1))
}
