//! What can be wrong with a pattern or a target.

use std::fmt;
use std::ops::Range;

use crate::address::UrlError;

/// Why a text is no pattern or no target, and where in it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TemplateError {
    pub(crate) kind: TemplateErrorKind,
    pub(crate) range: Range<usize>,
}

/// What can be wrong with a pattern or a target.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum TemplateErrorKind {
    /// It begins like no path and no URL; with what it may have meant.
    Start(String),
    /// A `{` without its `}`, or the other way round.
    Brace,
    /// Braces around something that is none of the three expressions.
    Expression(String),
    /// A name that is none.
    Name(String),
    /// A name that stands twice in a pattern.
    NameTwice(String),
    /// `{/name*}` behind a `/`.
    SlashBefore(String),
    /// `{/name*}` followed by something that is no `/`, no `?` and not the end.
    SlashAfter(String),
    /// A piece in a style of elsewhere; the second text is its form here.
    Foreign(String, String),
    /// A regular expression.
    Regex,
    /// A `#` in a pattern.
    Fragment,
    /// A `.` or `..` segment beside expressions.
    Dots,
    /// A character that no path holds.
    Character(UrlError),
    /// A host that is not a host name.
    Host(String),
    /// A port in a pattern.
    Port,
    /// A port that is no number from 1 to 65535.
    PortNumber,
    /// An expression in a host that is not a leading `{name}.`.
    HostExpression,
    /// A query value that mixes text and expressions.
    QueryMixed(String),
    /// A query key that is empty or holds an expression.
    QueryKey,
    /// A query key that stands twice in a pattern.
    KeyTwice(String),
    /// A target names what its pattern does not capture; with the names that it does.
    Undefined(String, Vec<String>),
    /// A target has `{/name*}` for what was not captured so.
    NotSegments(String),
    /// A path of the site with a query or a fragment, or a URL, where a path alone is wanted.
    PathOnly,
}

impl TemplateError {
    pub(super) fn new(kind: TemplateErrorKind, range: Range<usize>) -> TemplateError {
        TemplateError { kind, range }
    }

    /// What is wrong.
    pub fn kind(&self) -> &TemplateErrorKind {
        &self.kind
    }

    /// The bytes of the text that show it.
    pub fn range(&self) -> Range<usize> {
        self.range.clone()
    }
}

impl fmt::Display for TemplateError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "{} (bytes {} to {}); {}",
            self.kind,
            self.range.start,
            self.range.end,
            self.kind.remedy()
        )
    }
}

impl std::error::Error for TemplateError {}

impl fmt::Display for TemplateErrorKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        use TemplateErrorKind as K;
        match self {
            K::Start(_) => f.write_str("expected a path or a URL"),
            K::Brace => f.write_str("unbalanced brace"),
            K::Expression(found) => write!(f, "`{found}` is not a valid capture"),
            K::Name(found) => write!(f, "`{found}` is not a valid capture name"),
            K::NameTwice(name) => write!(f, "this pattern captures `{name}` twice"),
            K::SlashBefore(name) => {
                write!(f, "`{{/{name}*}}` begins with its own `/`, and there is one before it")
            }
            K::SlashAfter(name) => write!(
                f,
                "`{{/{name}*}}` matches whole segments, and the text after it begins inside one"
            ),
            K::Foreign(found, _) => write!(f, "`{found}` is not a wildcard or a capture here"),
            K::Regex => f.write_str("a pattern is not a regular expression"),
            K::Fragment => f.write_str("this can never match: browsers do not send the fragment"),
            K::Dots => f.write_str(
                "this can never match: `.` and `..` are resolved before rules are matched",
            ),
            K::Character(why) => write!(f, "this can never match: {}", of_path(*why)),
            K::Host(found) => write!(f, "`{found}` is not a valid host name"),
            K::Port => f.write_str("a pattern cannot have a port"),
            K::PortNumber => f.write_str("not a valid port: a port is a number from 1 to 65535"),
            K::HostExpression => f.write_str("a capture in a host can only be its first label"),
            K::QueryMixed(found) => write!(f, "`{found}` mixes text and a capture"),
            K::QueryKey => f.write_str("the key of a parameter must be plain text"),
            K::KeyTwice(key) => write!(f, "this pattern has the parameter `{key}` twice"),
            K::Undefined(name, _) => write!(f, "the pattern has no capture `{name}`"),
            K::NotSegments(name) => {
                write!(f, "the pattern does not capture `{name}` as whole segments")
            }
            K::PathOnly => f.write_str("expected a path of the site"),
        }
    }
}

impl TemplateErrorKind {
    /// What would be right.
    pub fn remedy(&self) -> String {
        use TemplateErrorKind as K;
        match self {
            K::Start(meant) if meant.is_empty() => "begin it with `/`, `{/` or `{+`, or write a whole URL".into(),
            K::Start(meant) => format!("write `{meant}`"),
            K::Brace => "write `{name}`, or `%7B` and `%7D` for braces in a URL".into(),
            K::Expression(_) => {
                "write `{name}` for text without `/`, `{+name}` for any text, `{/name*}` for whole segments".into()
            }
            K::Name(_) => "a name is lower-case letters, digits and `_`, and begins with a letter".into(),
            K::NameTwice(_) => "give the second one another name".into(),
            K::SlashBefore(name) => format!("leave out the `/` before it: `{{/{name}*}}`"),
            K::SlashAfter(name) => format!("continue with `/` or `?`, end the pattern there, or write `{{+{name}}}`"),
            K::Foreign(found, instead) => {
                let sign = found.trim_start_matches('/').chars().next().unwrap_or('*');
                format!("write `{instead}`, or `%{:02X}` if the URL really has `{sign}`", u32::from(sign))
            }
            K::Regex => "write `/a/{name}` for one segment and `/a{/rest*}` for all below; `where name matches /[0-9]+/` on the next line narrows it".into(),
            K::Fragment => "leave it out; only a script in the page can read it".into(),
            K::Dots => "write the path without them".into(),
            K::Character(UrlError::Escape) => "write `%25` for a `%` in a URL".into(),
            K::Character(UrlError::Backslash) => {
                "leave it out; digits alone are `{name}`, with `where name matches /[0-9]+/` on the next line".into()
            }
            K::Character(_) => "leave the character out".into(),
            K::Host(_) => "a host is labels of letters, digits and `-` with dots between them, or an IP address".into(),
            K::Port => "leave the port out; a site is answered on the standard ports".into(),
            K::PortNumber => "correct the port, or leave it out".into(),
            K::HostExpression => "write `{name}.` before at least two labels, as in `https://{name}.harbour.example/`".into(),
            K::QueryMixed(_) => "make the value one `{name}` or plain text; narrow a capture with `where`".into(),
            K::QueryKey => "write `?key=text`, `?key={name}` or `?key`".into(),
            K::KeyTwice(_) => "keep one of them".into(),
            K::Undefined(_, defined) if defined.is_empty() => "the pattern captures nothing; write `{name}` in it".into(),
            K::Undefined(_, defined) => format!("its captures are {}", list(defined)),
            K::NotSegments(name) => format!("write `{{{name}}}` here, or `{{/{name}*}}` in the pattern too"),
            K::PathOnly => "write a path such as `/book/`, without host, query and fragment".into(),
        }
    }
}

/// What a text that is neither a path nor a URL may have meant.
pub(super) fn start(text: &str) -> TemplateErrorKind {
    let host = text.split(['/', '?', '#', ':']).next().unwrap_or_default();
    let last = host.rsplit('.').next().unwrap_or_default();
    let is_file = crate::files::KNOWN_TYPES.iter().any(|(ending, _)| *ending == last);
    if text.starts_with('^') || text.contains(".*") {
        return TemplateErrorKind::Regex;
    }
    if text.starts_with('$') {
        return TemplateErrorKind::Foreign(text.to_owned(), "{name}".to_owned());
    }
    let meant = match text {
        _ if text.starts_with('*') => format!("{{/rest*}}{}", text.trim_start_matches('*')),
        _ if host.starts_with("www.")
            || (host.contains('.') && host.len() < text.len() && !is_file) =>
        {
            format!("https://{text}")
        }
        _ if text.starts_with(|c: char| c.is_ascii_alphanumeric()) => format!("/{text}"),
        _ => String::new(),
    };
    TemplateErrorKind::Start(meant)
}

fn of_path(why: UrlError) -> &'static str {
    match why {
        UrlError::Control => "a URL has no control characters",
        UrlError::Backslash => "a URL has no `\\`",
        UrlError::Escape => "a `%` must be followed by two hexadecimal digits",
        _ => "no URL has such a path",
    }
}

fn list(names: &[String]) -> String {
    names.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", ")
}
