//! The message of each error of a rules file, and what to write instead.

use std::fmt;

use super::ProblemKind;
use super::grammar::Statement;

impl fmt::Display for ProblemKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        use ProblemKind as K;
        match self {
            K::Stray => f.write_str("indented line outside of a statement"),
            K::Keyword { found, .. } => write!(f, "unknown statement `{found}`"),
            K::NoKeyword { .. } => f.write_str("this line has no keyword"),
            K::Comment { found } => write!(f, "`{found}` does not begin a comment"),
            K::Setting { found, .. } | K::PagesSetting { found } => {
                write!(f, "unknown setting `{found}`")
            }
            K::Body { found, .. } | K::NoBody { found } => {
                write!(f, "`{found}` is not allowed here")
            }
            K::EntryBelowRule => f.write_str("a rule below a rule that has a pattern of its own"),
            K::EmptyGroup => f.write_str("this group has no rule"),
            K::Expected { wanted, found: Some(found) } => {
                write!(f, "expected {wanted}, found `{found}`")
            }
            K::Expected { wanted, found: None } => {
                write!(f, "expected {wanted}, found the end of the line")
            }
            K::NoArrow { found, .. } => write!(f, "expected `->`, found `{found}`"),
            K::StatusFirst { status, .. } => {
                write!(f, "the status `{status}` comes before the pattern")
            }
            K::TooMuch { found } => write!(f, "expected the end of the line, found `{found}`"),
            K::OpenQuote => f.write_str("this quote is not closed on its line"),
            K::AfterQuote => f.write_str("expected a space or a comma after the closing quote"),
            K::NoSite => f.write_str("the file has no `site` statement"),
            K::SiteNotFirst => f.write_str("this statement comes before `site`"),
            K::SiteTwice => f.write_str("a second `site` statement"),
            K::SettingTwice { name, first } => {
                write!(f, "`{name}` is already set on line {first}")
            }
            K::HostTwice { found } => write!(f, "`{found}` is already a host of the site"),
            K::DomainTwice { found } => write!(f, "`{found}` already has a `domain` statement"),
            K::DomainWithoutHost { found } => {
                write!(f, "no host of the site is in the domain `{found}`")
            }
            K::DomainLacks { host, setting: setting @ "verification" } => write!(
                f,
                "the certificate for `{host}` needs a verification record, and there is no `{setting}`"
            ),
            K::DomainLacks { host, setting } => {
                write!(
                    f,
                    "`{host}` is a host of the site, and this domain has no `{setting}` for it"
                )
            }
            K::Renamed { found, .. } => write!(f, "`{found}` was renamed"),
            K::SiteUrl { found } => write!(f, "`{found}` is not a valid URL of a site"),
            K::Host { found } => write!(f, "`{found}` is not a valid host name"),
            K::Wildcard { found } => write!(f, "the `*` in `{found}` is not allowed there"),
            K::ForeignHost { found } => {
                write!(f, "`{found}` is not a host of this site, so this can never match")
            }
            K::PortOfSite { found } => write!(f, "`{found}` is a host of this site with a port"),
            K::MethodHead => f.write_str("`HEAD` is answered as `GET` is"),
            K::Status { found } => write!(f, "`{found}` is not a redirect status"),
            K::Duration { found } => write!(f, "`{found}` is not a valid duration"),
            K::HstsNeedsHttps => {
                f.write_str("`hsts` needs HTTPS, and this site answers over plain HTTP")
            }
            K::HstsPreload => f.write_str("`preload` needs `subdomains` and at least a year"),
            K::FileName { found } => {
                write!(f, "`{found}` is not the relative name of a file")
            }
            K::Template(kind) => kind.fmt(f),
            K::WhereName { name, pattern, .. } => {
                write!(f, "the pattern `{pattern}` has no capture `{name}`")
            }
            K::Regex { why } => write!(f, "this is not a valid regular expression: {why}"),
            K::RegexSize => f.write_str("this regular expression is too large"),
            K::NoLanguages => f.write_str("the site has no `languages`"),
            K::FindingName { found, .. } => write!(f, "unknown finding `{found}`"),
            K::ForeignLanguage { found } => {
                write!(f, "`{found}` is not one of the site's `languages`")
            }
            K::TooManyNames => f.write_str(
                "conditions of this file look at more than 64 different request headers",
            ),
            K::HeaderName { found } => write!(f, "`{found}` is not a valid header name"),
            K::HeaderValue { found } if found.is_empty() => f.write_str("the header has no value"),
            K::HeaderValue { found } => write!(f, "`{found}` is not a valid header value"),
            K::HeaderCapture { found } => {
                write!(
                    f,
                    "captures are not expanded in header values: `{found}` would be sent as it is"
                )
            }
            K::HeaderReserved { name } => write!(f, "rules cannot change `{name}`"),
            K::NoHeaderLines => f.write_str("this `headers` statement changes no header"),
            K::Address { found, why } => write!(f, "`{found}` is not a valid URL: {why}"),
            K::ExpectsNothing => f.write_str("this expectation has no outcome"),
            K::UnknownOutcome { found, .. } => write!(f, "unknown outcome `{found}`"),
            K::TwoOutcomes => f.write_str("this expectation already has an outcome"),
            K::Unreadable { name, why } => write!(f, "cannot read `{name}`: {why}"),
            K::NotUtf8 { name } => write!(f, "`{name}` is not UTF-8 here"),
            K::IncludeCircle { name } => write!(f, "`{name}` includes itself"),
            K::IncludesTooDeep { name } => {
                write!(f, "`{name}` is included through more than 64 files, one in another")
            }
            K::NoColumn { column, .. } => write!(f, "the table has no column `{column}`"),
            K::Separator { found } => {
                write!(f, "the columns of this table are separated by {found}")
            }
            K::RowLength { wanted, found } => {
                let fields = if *found == 1 { "field" } else { "fields" };
                write!(f, "this row has {found} {fields}, and the header row has {wanted}")
            }
            K::TooManyFiles => f.write_str("more than 65535 files are read"),
        }
    }
}

impl ProblemKind {
    /// What to write instead.
    ///
    /// ```
    /// let problems = ravel::Rules::parse("sit https://h.example/\n").unwrap_err();
    /// assert!(problems.iter().next().unwrap().kind().remedy().contains("`site`"));
    /// ```
    pub fn remedy(&self) -> String {
        use ProblemKind as K;
        let of_file = "the folder of the file that names it";
        let fixed = match self {
            K::Keyword { nearest, .. } => return nearest_or(*nearest, Statement::expected()),
            K::NoKeyword { written } => return format!("write a keyword first, as in `{written}`"),
            K::Setting { found, .. } | K::Body { found, .. } | K::NoBody { found }
                if Statement::find(found).is_some() =>
            {
                return format!("begin `{found}` in the first column");
            }
            K::Setting { nearest, allowed, .. } | K::Body { nearest, allowed, .. } => {
                return nearest_or(*nearest, allowed);
            }
            K::Expected { wanted, .. } => return format!("write {wanted}"),
            K::NoArrow { written, .. } | K::StatusFirst { written, .. } => {
                return format!("write `{written}`");
            }
            K::DomainLacks { setting, .. } => domain_needs(setting),
            K::Host { found } if found.contains("://") => {
                let host = found.split("://").nth(1).unwrap_or_default();
                let host = host.split(['/', ':', '?', '#']).next().unwrap_or_default();
                return format!("write the host alone: `{host}`");
            }
            K::Renamed { name, .. } => return format!("write `{name}`"),
            K::Template(kind) => return kind.remedy(),
            K::WhereName { defined, .. } if !defined.is_empty() => {
                let names: Vec<String> = defined.iter().map(|name| format!("`{name}`")).collect();
                return format!("its captures are {}", names.join(", "));
            }
            K::FindingName { nearest, .. } => {
                return nearest_or(*nearest, "the names that `ravel check` shows in brackets");
            }
            K::UnknownOutcome { found, .. } if found == "status" => {
                "write `serves FILE` (200), `is missing` (404), `is gone` (410), or `goes to URL`; `redirects to URL as 301` names the status of a redirect"
            }
            K::UnknownOutcome { nearest, allowed, .. } => return nearest_or(*nearest, allowed),
            K::Unreadable { .. } => {
                return format!("correct the name; it is relative to {of_file}");
            }
            K::NoColumn { column, header } => {
                let needs = match *column {
                    "url" => "`url` and, if wanted, `outcome`",
                    _ => "`old`, `new` and, if wanted, `status`",
                };
                return match header.is_empty() {
                    true => format!("begin the file with a header row: {needs}"),
                    false => format!("name the columns {needs}; the header row is `{header}`"),
                };
            }
            other => other.fixed_remedy(),
        };
        fixed.into()
    }

    /// What is the same for all problems of a kind.
    fn fixed_remedy(&self) -> &'static str {
        use ProblemKind as K;
        match self {
            K::Stray => "begin a statement in the first column, or remove the indentation",
            K::Comment { .. } => "write `#` at the beginning of each line",
            K::PagesSetting { .. } => {
                "`pages tidy`, `pages loose` or `pages exact` says what `.html` and a trailing slash do in URLs"
            }
            K::NoBody { .. } => "this statement has no indented lines; remove this one",
            K::EntryBelowRule => {
                "move the pattern of the first line to a line of its own, or begin a new statement"
            }
            K::EmptyGroup => "write a pattern on its line, or rules on indented lines below it",
            K::TooMuch { .. } => {
                "remove it; put `\"` around a value with spaces, and commas between the items of a list"
            }
            K::OpenQuote => "close it with `\"`; inside, write `\\\"` for a quote",
            K::AfterQuote => "put a space or a comma between them",
            K::NoSite => {
                "begin it with `site` and the site's URL, as in `site https://harbour.example/`"
            }
            K::SiteNotFirst => "move `site` to the top",
            K::SiteTwice => "a site has one `site` statement, in the first file; remove this one",
            K::SettingTwice { .. } | K::TwoOutcomes => {
                "keep one of them, or write a statement for each"
            }
            K::HostTwice { .. } => "name it once",
            K::DomainTwice { .. } => "put their settings together",
            K::DomainWithoutHost { .. } => {
                "name one as `alias` or `preview` in `site`, or remove the domain"
            }
            K::SiteUrl { .. } => {
                "write scheme, host and base path without a port, as in `https://harbour.example/guide/`"
            }
            K::Host { .. } => {
                "a host is labels of letters, digits and `-` with dots between them, without a port"
            }
            K::Wildcard { .. } => {
                "only a preview host can begin with `*.`, which stands for one label"
            }
            K::ForeignHost { .. } => "add it to `alias` or `preview`, or leave the host out",
            K::PortOfSite { .. } => "leave the port out; a site answers on the standard ports",
            K::MethodHead => "write `GET`, which covers `HEAD`",
            K::Status { .. } => {
                "write `temporary` (302), `permanent` (301) or one of 301, 302, 303, 307, 308"
            }
            K::Duration { .. } => {
                "write a whole number with `s`, `m`, `h`, `d`, `w` or `y`, as in `30d`"
            }
            K::HstsNeedsHttps => "give the site an `https://` URL and leave `http allow` out",
            K::HstsPreload => "write `hsts 1y subdomains preload`, or leave `preload` out",
            K::FileName { .. } => {
                "write its name as seen from the folder of this file, with `/` between folders"
            }
            K::WhereName { .. } => "the pattern captures nothing; write `{name}` in it",
            K::Regex { .. } => {
                "it is ASCII, has no look-around and no back-reference, and always matches the whole capture"
            }
            K::RegexSize => "make its repetitions smaller, or list the values with `is one of`",
            K::NoLanguages => {
                "add `languages` to `site`, the default first, as in `languages en, de`"
            }
            K::ForeignLanguage { .. } => "add it to `languages` in `site`, or correct it",
            K::TooManyNames => "use fewer request headers",
            K::HeaderName { .. } => {
                "a name is letters, digits and `-`, followed by `:` and the value"
            }
            K::HeaderValue { .. } => "a value is visible ASCII, with spaces or tabs inside",
            K::HeaderCapture { .. } => {
                "write the value that is to be sent, in a `headers` statement for each"
            }
            K::HeaderReserved { .. } => {
                "remove the line; the answer itself, its connection or what is sent of the file decides it"
            }
            K::NoHeaderLines => {
                "write `set NAME: VALUE`, `add NAME: VALUE` or `drop NAME` on indented lines below it"
            }
            K::Address { .. } => "write a path that begins with `/`, or a whole URL",
            K::ExpectsNothing => {
                "add `goes to URL`, `redirects to URL`, `serves FILE`, `is OUTCOME` or `has NAME`"
            }
            K::NotUtf8 { .. } => "save the file as UTF-8",
            K::IncludeCircle { .. } => "remove this `include`",
            K::IncludesTooDeep { .. } => {
                "include it from the rules file itself, or from one near it"
            }
            K::Separator { .. } => {
                "separate them by commas, with `\"` around a field that has one (RFC 4180)"
            }
            K::RowLength { wanted, found } if found < wanted => {
                "write a comma for each field, also for one that is empty"
            }
            K::RowLength { .. } => "put `\"` around a field that has a comma",
            K::TooManyFiles => "put tables together",
            // What `remedy` words itself.
            _ => "",
        }
    }
}

fn nearest_or(nearest: Option<&str>, all: &str) -> String {
    match nearest {
        Some(nearest) => format!("did you mean `{nearest}`?"),
        None => format!("expected one of {all}"),
    }
}

fn domain_needs(setting: &str) -> &'static str {
    match setting {
        "host" => {
            "add `host` with the name that the hosting gives the site; a CNAME will point there"
        }
        "address" => {
            "add `address` with what the hosting gives for a bare domain, or `apex alias` if the DNS host can follow a name there"
        }
        _ => "add `verification NAME \"TEXT\"`, or leave `issue verification` out",
    }
}
