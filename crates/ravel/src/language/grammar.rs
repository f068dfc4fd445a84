//! Every statement, setting, condition and outcome of the language, once each.
//!
//! From here come the dispatch of the readers, what is "expected", the nearest word to a mistyped
//! one, what the formatter keeps together, and the tables of docs/language.md. What a line *means*
//! is said by its reader in `rules/read`, which matches these enums without a wildcard: a new line
//! here is an error of the compiler there.

use std::sync::LazyLock;

use super::nearest;

/// A line of the grammar.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Form {
    pub(crate) name: &'static str,
    pub(crate) form: &'static str,
    pub(crate) about: &'static str,
    pub(crate) left_out: Option<&'static str>,
    /// Words behind which a list with commas comes; `*` is any word.
    lists: &'static [&'static str],
    /// Words behind which all the rest of the line is one value.
    values: &'static [&'static str],
}

impl Form {
    /// The word that readers look at.
    pub fn word(&self) -> &'static str {
        self.name.split(' ').next().unwrap_or_default()
    }

    /// Whether a list comes behind these words of a line.
    pub(super) fn begins_list(&self, words: &[String]) -> bool {
        self.lists.iter().any(|pattern| fits(pattern, words))
    }

    /// Whether the rest of the line is one value behind these words.
    pub(super) fn begins_value(&self, words: &[String]) -> bool {
        self.values.iter().any(|pattern| fits(pattern, words))
    }

    /// The words that it is known by, as `goes to`; readers look at the first.
    pub fn name(&self) -> &'static str {
        self.name
    }

    /// How it is written: words in lower case stand as they are, `[…]` can be left out, `…` repeats
    /// what is before it.
    pub fn form(&self) -> &'static str {
        self.form
    }

    /// What it does or means.
    pub fn about(&self) -> &'static str {
        self.about
    }

    /// What holds when a setting is left out; none where that cannot be.
    pub fn left_out(&self) -> Option<&'static str> {
        self.left_out
    }
}

/// Whether words are as a pattern has them: `*` is any word, `*:` one that ends in a colon, `**` at
/// the start any words.
fn fits(pattern: &str, words: &[String]) -> bool {
    let mut wanted: Vec<&str> = pattern.split(' ').collect();
    let mut words = words;
    if wanted.first() == Some(&"**") {
        wanted.remove(0);
        words = &words[words.len().saturating_sub(wanted.len())..];
    }
    let fit = |(wanted, word): (&&str, &String)| match *wanted {
        "*" => true,
        "*:" => word.ends_with(':'),
        wanted => word == wanted,
    };
    wanted.len() == words.len() && wanted.iter().zip(words).all(fit)
}

macro_rules! grammar {
    ($(
        $(#[$doc:meta])*
        $name:ident { $(
            $variant:ident $form:literal $about:literal
                $(, left_out $left_out:literal)? $(, named $named:literal)?
                $(, lists $lists:expr)? $(, values $values:expr)?;
        )* }
    )*) => { $(
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub(crate) enum $name { $($variant),* }

        #[allow(dead_code, reason = "not every part of a line is listed or guessed")]
        impl $name {
            pub(crate) const FORMS: &[Form] = &[$(Form {
                name: grammar!(@name $form $(, $named)?),
                form: $form,
                about: $about,
                left_out: grammar!(@some $($left_out)?),
                lists: grammar!(@or &[] $(, $lists)?),
                values: grammar!(@or &[] $(, $values)?),
            }),*];
            const ALL: &[$name] = &[$($name::$variant),*];

            /// The one that this word begins.
            pub(crate) fn find(word: &str) -> Option<$name> {
                $name::FORMS.iter().position(|form| form.word() == word).map(|at| $name::ALL[at])
            }

            /// Its line of the grammar.
            pub(crate) fn form(self) -> &'static Form {
                &$name::FORMS[self as usize]
            }

            /// All of them, as a message lists them.
            pub(crate) fn expected() -> &'static str {
                static EXPECTED: LazyLock<String> = LazyLock::new(|| listed($name::FORMS));
                &EXPECTED
            }

            /// The one that a mistyped word most likely meant.
            pub(crate) fn nearest(word: &str) -> Option<&'static str> {
                nearest(word, $name::FORMS.iter().map(Form::word))
            }
        }
    )* };
    (@some) => { None };
    (@some $given:literal) => { Some($given) };
    (@or $default:expr) => { $default };
    (@or $default:expr, $given:expr) => { $given };
    (@name $form:literal) => { first_word($form) };
    (@name $form:literal, $named:literal) => { $named };
}

/// The first word of a form.
const fn first_word(form: &'static str) -> &'static str {
    let bytes = form.as_bytes();
    let mut end = 0;
    while end < bytes.len() && bytes[end] != b' ' {
        end += 1;
    }
    form.split_at(end).0
}

/// `a`, `b` or `c`
pub(crate) fn listed<'f>(forms: impl IntoIterator<Item = &'f Form>) -> String {
    let names: Vec<String> = forms.into_iter().map(|form| format!("`{}`", form.name)).collect();
    match names.as_slice() {
        [] => String::new(),
        [one] => one.clone(),
        [others @ .., last] => format!("{} or {last}", others.join(", ")),
    }
}

grammar! {
    /// What begins in the first column.
    Statement {
        Site "site URL" "the site that the rules are for: its canonical origin and its base path";
        Redirect "redirect PATTERN -> TARGET [STATUS] [drop query]"
            "sends the visitor on. STATUS is `temporary` (302, when left out), `permanent` (301), or 301, 302, 303, 307, 308";
        Gone "gone PATTERN" "answers 410";
        Elsewhere "elsewhere PATTERN [\"WHO\"]" "another service answers there";
        Rewrite "rewrite PATTERN -> PATH" "shows another file; the URL stays";
        Fallback "fallback PATTERN -> PATH [even files]"
            "shows a file, with 200, when no file answers; not for a URL that ends in a known file extension, unless `even files`";
        Missing "missing PATTERN -> PATH" "a 404 page of its own for a part of the site";
        Headers "headers PATTERN [on WHAT] [type TYPE, …]" "changes the headers of answers", lists &["headers * type", "headers * on * type"];
        Include "include FILE" "puts the statements of another file here";
        Domain "domain NAME" "what the DNS and the certificate of a domain must say";
        Expect "expect [METHOD] URL OUTCOME" "states what must be true; with `every`, of every URL that a pattern matches, with `every file`, of every built file";
    }

    /// The settings of `site`.
    SiteSetting {
        Files "files FOLDER" "the folder of built files, from the rules file's place", left_out "no files";
        Alias "alias HOST-OR-URL, …"
            "answers only by redirecting to the canonical URL; a host shares the site's base path, a URL has an old base path of its own",
            left_out "none", lists &["alias"];
        Preview "preview HOST, …"
            "answers as the site does, without redirects to the canonical host and with `x-robots-tag: noindex`; `*.` stands for one label",
            left_out "none", lists &["preview"];
        Pages "pages tidy|loose|exact" "how URLs name pages, see below", left_out "`tidy`";
        Index "index NAME" "the file that answers for a folder", left_out "`index.html`";
        Missing "missing PATH" "the 404 page: the file that is shown when nothing answers", left_out "a plain 404";
        Languages "languages TAG, …" "the languages the site has (BCP 47), the default first", left_out "none", lists &["languages"];
        Http "http upgrade|allow" "what plain HTTP gets when the canonical URL is HTTPS", left_out "`upgrade`";
        Hsts "hsts DURATION [subdomains] [preload]" "`strict-transport-security` on HTTPS answers (RFC 6797)", left_out "none";
        Hops "hops one|each" "whether a redirect to a redirect is answered with the last URL at once", left_out "`one`";
        Ignore "ignore case" "ASCII letters of paths, of the base path and of `where` lists match in any case",
            left_out "case counts", named "ignore case";
    }

    /// The settings of `domain`.
    DomainSetting {
        Host "host NAME" "the name that the hosting gives the site: where a CNAME must point",
            left_out "needed when a host below the domain is one of the site";
        Address "address IP, …" "the addresses it gives for a bare domain",
            left_out "needed when the domain itself is a host of the site, but for `apex alias`", lists &["address"];
        Verification "verification NAME \"TEXT\"|cname TARGET"
            "a verification record: the TXT record, or the CNAME, that proves ownership; NAME is relative to the domain, `@` is the domain itself, a final dot makes it whole; there may be several",
            left_out "none";
        Zone "zone FILE" "the zone as it is today, a zone file (RFC 1035, section 5)", left_out "nothing is known of it";
        Apex "apex address|alias"
            "what the bare domain gets: address records, or an alias of the DNS host's own making, which no zone file shows",
            left_out "`address`";
        Nameservers "nameservers NAME, …" "the zone's name servers as the registry must name them",
            left_out "not looked at", lists &["nameservers"];
        ParentTtl "parent-ttl DURATION" "how long resolvers keep which name servers the zone has: the TTL of its delegation, which the parent zone states",
            left_out "2 days are assumed";
        Certificate "certificate FILE" "the certificate chain (PEM) that will be served; no key", left_out "none";
        Issue "issue verification|records [in DURATION]"
            "whether a certificate can be issued as soon as the verification records are visible, or only once every name server gives the new records; and how long that takes at most",
            left_out "`records in 1h`";
        Ttl "ttl DURATION" "the TTL wanted on the records",
            left_out "new records get 1 hour, and those that are right stay as they are";
    }

    /// The lines of a group of rules besides the rules.
    GroupLine {
        Table "table FILE.csv" "reads rules from comma-separated CSV (RFC 4180)";
    }

    /// The lines that narrow a rule.
    Condition {
        Where "where NAME TEST" "narrows a capture", lists &["where * is one of", "where * is not one of"];
        When "when [not] TEST" "asks something of the request", lists &[
            "when language is", "when host is", "when method is", "when not language is", "when not host is", "when not method is",
            "when header * is one of", "when header * is not one of", "when not header * is one of", "when not header * is not one of",
            "when cookie * is one of", "when cookie * is not one of", "when not cookie * is one of", "when not cookie * is not one of",
        ];
    }

    /// What `where` can ask of a capture's decoded text.
    CaptureTest {
        Digits "is digits [N|N..M|N..]" "it is that many ASCII digits; one or more when left out", named "is digits";
        OneOf "is [not] one of A, …" "it is, or is not, in the list", named "is one of";
        Matches "matches \"REGEX\""
            "the regular expression matches the whole text: ASCII, no anchors, no look-around, no back-references";
    }

    /// What `when` can ask of a request.
    Subject {
        Language "language is TAG, …"
            "the visitor's `accept-language`, matched against `languages`, gives one of these (RFC 4647 lookup)";
        Cookie "cookie NAME [is VALUE|is [not] one of VALUE, …|contains TEXT]"
            "the cookie is there, has this value, has one of these, or contains this";
        Header "header NAME [is VALUE|is [not] one of VALUE, …|contains TEXT]"
            "the request header is there, has this value, has one of these, or contains this";
        Host "host is HOST, …" "the host is one of these";
        Scheme "scheme is http|https" "the scheme is this";
        Method "method is METHOD, …" "the method is one of these; `GET` covers `HEAD`";
        Preview "preview" "the request came to a preview host";
        NoFile "no file" "no variant of the URL names a file", named "no file";
    }

    /// The lines of `headers`.
    HeaderLine {
        Set "set NAME: VALUE" "replaces the header", values &["set *:"];
        Add "add NAME: VALUE" "adds a header", values &["add *:"];
        Drop "drop NAME" "removes the header";
    }

    /// The answers that `headers` can be `on`.
    OnWhat {
        Served "served" "answers that show a file with 200, a fallback's too; when left out, this holds";
        Missing "missing" "404 and 410";
        Redirects "redirects" "redirects";
        All "all" "every answer but 400, 414, 421, URLs outside the base path, and `elsewhere`";
    }

    /// What an expectation can say.
    Part {
        Given "given NAME: VALUE" "(a request header; several may be given)", values &["** given *:"];
        GoesTo "goes to URL [as STATUS] [in N hop|hops]"
            "the visitor ends there, after one redirect or more, with 200 or off the site; `as` is the first answer's status",
            named "goes to";
        RedirectsTo "redirects to URL [as STATUS]"
            "the first answer redirects there, wherever the visitor ends", named "redirects to";
        Serves "serves FILE" "the first answer shows this file, with 200";
        StatedOutcome "is [not] OUTCOME [as STATUS]"
            "the first answer is that: `gone`, `missing`, `outside`, `elsewhere`, `a loop` or `refused`; with `not`, the visitor does not end so";
        Has "has NAME|has NAME: VALUE|has NAME containing TEXT|has NAME matching /REGEX/"
            "the header is there, has the value, contains the text, or matches as a whole: of the first answer, or, beside `goes to`, of the end",
            values &["** has *:", "** has * containing", "** has * matching"];
        Lacks "lacks NAME" "the header is not there";
    }

    /// What an answer can be expected to be.
    OutcomeWord {
        Gone "gone" "410";
        Missing "missing" "404, on the site";
        Outside "outside" "404, outside the base path";
        Elsewhere "elsewhere" "another service answers";
        Loop "a loop" "508, or redirects without an end", named "a loop";
        Refused "refused" "400, 405, 414 or 421";
    }
}

/// Every part of the grammar with the heading that its table in docs/language.md has, in the order
/// of that file.
///
/// ```
/// let tables = ravel::language::grammar::tables();
/// assert!(tables.iter().any(|(_, forms)| forms.iter().any(|form| form.word() == "redirect")));
/// ```
pub fn tables() -> Vec<(&'static str, &'static [Form])> {
    vec![
        ("setting of `site`", SiteSetting::FORMS),
        ("statement", Statement::FORMS),
        ("`where NAME`", CaptureTest::FORMS),
        ("`when [not]`", Subject::FORMS),
        ("line of `headers`", HeaderLine::FORMS),
        ("`on`", OnWhat::FORMS),
        ("part of an expectation", Part::FORMS),
        ("outcome", OutcomeWord::FORMS),
        ("setting of `domain`", DomainSetting::FORMS),
    ]
}

/// The forms that a line of a statement can have.
pub(super) fn lines_of(statement: &str, indented: bool) -> Vec<&'static Form> {
    let Some(statement) = Statement::find(statement) else { return Vec::new() };
    if !indented {
        let also = if statement == Statement::Expect { Part::FORMS } else { &[] };
        return std::iter::once(statement.form()).chain(also).collect();
    }
    let conditions = || Condition::FORMS.iter();
    match statement {
        Statement::Site => SiteSetting::FORMS.iter().collect(),
        Statement::Domain => DomainSetting::FORMS.iter().collect(),
        Statement::Expect => {
            let more = Condition::FORMS.iter().chain(GroupLine::FORMS);
            Part::FORMS.iter().chain(more).collect()
        }
        Statement::Headers => HeaderLine::FORMS.iter().chain(conditions()).collect(),
        Statement::Redirect
        | Statement::Gone
        | Statement::Elsewhere
        | Statement::Rewrite
        | Statement::Fallback
        | Statement::Missing => conditions().collect(),
        Statement::Include => Vec::new(),
    }
}

/// Whether the indented lines of a statement are settings, which stand in a column.
pub(super) fn has_settings(statement: &str) -> bool {
    matches!(Statement::find(statement), Some(Statement::Site | Statement::Domain))
}
