//! Plain lists: `[COUNT] [METHOD] URL [STATUS]` on each line.

use crate::hit::{method, short, status};
use crate::input::{Input, read_line};
use crate::{Hit, SourceError};

/// Longer lines are not read, in bytes.
const MAX_LINE: usize = 64 * 1024;

/// The lines of a list.
pub(crate) struct List<'r> {
    pub(crate) input: Input<'r>,
    /// Lines that were read.
    pub(crate) line: u64,
}

impl List<'_> {
    pub(crate) fn next(&mut self) -> Option<Result<Hit, SourceError>> {
        loop {
            let text = match read_line(&mut self.input, MAX_LINE) {
                Ok(read) => read?,
                Err(error) => return Some(Err(error.into())),
            };
            self.line += 1;
            let error = |why: String| SourceError::Line(self.line, why);
            match text {
                Err(why) => return Some(Err(error(why.to_owned()))),
                // A URL has more than a fragment, so a line may be a comment.
                Ok(text) if text.trim().is_empty() || text.trim().starts_with('#') => {}
                Ok(text) => return Some(read(text.trim()).map_err(error)),
            }
        }
    }
}

fn read(line: &str) -> Result<Hit, String> {
    let mut words: Vec<&str> = line.split_whitespace().collect();
    let mut hit = Hit::of("");
    let is_count = |word: &str| word.bytes().all(|byte| byte.is_ascii_digit());
    if words.len() > 1 && is_count(words[0]) {
        hit.count = crate::hit::count(words.remove(0))?;
    }
    if words.len() > 1 && method(words[0]).is_ok() {
        hit.method = Some(method(words.remove(0))?);
    }
    match words.as_slice() {
        [url] => hit.url = (*url).to_owned(),
        [url, answered] => {
            hit.url = (*url).to_owned();
            hit.status = Some(status(answered)?);
        }
        _ => {
            return Err(format!(
                "expected `[COUNT] [METHOD] URL [STATUS]`, found `{}`",
                short(line)
            ));
        }
    }
    if is_url(&hit.url) {
        return Ok(hit);
    }
    let is_table = line.contains([',', ';']);
    let help = if is_table { "; for a table, name its column with `--url`" } else { "" };
    Err(format!("expected a URL, or a path from `/`, found `{}`{help}", short(&hit.url)))
}

/// Whether a text is a URL, or a path below the base path; not whether it is a valid one.
pub(crate) fn is_url(text: &str) -> bool {
    text.starts_with('/') || text.contains("://")
}
