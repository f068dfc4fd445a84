//! What is found to be wrong, with what a visitor gets from it and what to write instead.

use http::{HeaderName, HeaderValue, Method};

use crate::address::Request;
use crate::edit::Edit;
use crate::language::Line;
use crate::rules::{Accept, Code, Rules, Site};

/// Something that is wrong with a site, or could be better.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finding {
    pub(crate) code: Code,
    pub(crate) place: FindingPlace,
    pub(crate) message: String,
    pub(crate) note: Option<String>,
    pub(crate) help: Option<String>,
    pub(crate) example: Option<FindingExample>,
    pub(crate) lines: Vec<Line>,
    pub(crate) edits: Vec<Edit>,
}

/// A request that shows a finding: its method and headers are enough to see it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FindingExample {
    method: Method,
    url: String,
    headers: Vec<(String, String)>,
}

impl FindingExample {
    /// The method.
    pub fn method(&self) -> &Method {
        &self.method
    }

    /// The whole URL.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// The headers that it needs, each a name and a value.
    pub fn headers(&self) -> &[(String, String)] {
        &self.headers
    }
}

impl From<&Request> for FindingExample {
    fn from(request: &Request) -> FindingExample {
        let line = |(name, value): (&HeaderName, &HeaderValue)| {
            (name.to_string(), String::from_utf8_lossy(value.as_bytes()).into_owned())
        };
        FindingExample {
            method: request.method().clone(),
            url: request.url().to_owned(),
            headers: request.headers().iter().map(line).collect(),
        }
    }
}

/// Where a finding is.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum FindingPlace {
    /// On a line of the rules.
    Line(Line),
    /// In a built file.
    File {
        /// The file's name, from the root of the folder.
        name: Box<str>,
        /// The line from 1, and the byte range within the whole file; none where the file as a
        /// whole is meant.
        at: Option<(u32, std::ops::Range<usize>)>,
    },
    /// In another file that the rules name, such as a zone.
    Named {
        /// The line of the rules that names it.
        by: Line,
        /// The file's name, from the rules file's folder.
        name: Box<str>,
        /// The line, from 1; none where the file as a whole is meant.
        number: Option<u32>,
    },
}

impl FindingPlace {
    /// The file that it is in, as people name it: one of the rules', or of the folder of files.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// let line = rules.rules(ravel::program::Stage::Redirect)[0].line();
    /// assert_eq!(ravel::finding::FindingPlace::Line(line).file(&rules), "edge.ravel");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn file(&self, rules: &Rules) -> String {
        match self {
            FindingPlace::Line(line) => rules.source(*line).to_owned(),
            FindingPlace::File { name, .. } => rules.path(&rules.site().file_path(name)),
            FindingPlace::Named { name, .. } => name.to_string(),
        }
    }

    /// The line in that file, from 1; none where the file as a whole is meant.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// let line = rules.rules(ravel::program::Stage::Redirect)[0].line();
    /// assert_eq!(ravel::finding::FindingPlace::Line(line).number(), Some(3));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn number(&self) -> Option<u32> {
        match self {
            FindingPlace::Line(line) => Some(line.number),
            FindingPlace::File { at, .. } => at.as_ref().map(|(number, _)| *number),
            FindingPlace::Named { number, .. } => *number,
        }
    }

    /// The place as people name it: `edge.ravel:12`, or the file alone.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// let line = rules.rules(ravel::program::Stage::Redirect)[0].line();
    /// assert_eq!(ravel::finding::FindingPlace::Line(line).name(&rules), "edge.ravel:3");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn name(&self, rules: &Rules) -> String {
        match self.number() {
            Some(number) => format!("{}:{number}", self.file(rules)),
            None => self.file(rules),
        }
    }
}

impl PartialOrd for Finding {
    fn partial_cmp(&self, other: &Finding) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Finding {
    fn cmp(&self, other: &Finding) -> std::cmp::Ordering {
        let [this, that] =
            [self, other].map(|finding| (finding.place_key(), finding.code as usize));
        this.cmp(&that)
            .then_with(|| self.lines.cmp(&other.lines))
            .then_with(|| self.message.cmp(&other.message))
    }
}

impl Finding {
    /// Whether the rules accept it.
    ///
    /// ```
    /// use ravel::finding::Finding;
    /// use ravel::rules::Code;
    ///
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /{x} -> /b\n  accept unused-capture \"old names\"\n")?;
    /// let line = rules.rules(ravel::program::Stage::Redirect)[0].line();
    /// let finding = Finding::on(Code::UnusedCapture, line, "x goes nowhere");
    /// assert!(finding.is_accepted(&rules));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn is_accepted(&self, rules: &Rules) -> bool {
        rules.accepts().iter().any(|accept| self.is_accepted_by(accept, rules.site()))
    }

    /// Whether this `accept` is about it; what is in a built file is accepted where the folder is
    /// named.
    ///
    /// ```
    /// use ravel::finding::Finding;
    /// use ravel::rules::Code;
    ///
    /// let rules = ravel::Rules::parse("site https://h.example/\n  files dist\n  accept missing-index \"an API\"\n")?;
    /// let finding = Finding::in_file(Code::MissingIndex, "index.html", "no first page");
    /// assert!(finding.is_accepted_by(&rules.accepts()[0], rules.site()));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn is_accepted_by(&self, accept: &Accept, site: &Site) -> bool {
        let line = match &self.place {
            FindingPlace::Line(line) | FindingPlace::Named { by: line, .. } => *line,
            FindingPlace::File { .. } => site.folder_line(),
        };
        accept.code == self.code && accept.covers(line)
    }

    fn place_key(&self) -> (bool, Option<Line>, &str, u32) {
        match &self.place {
            FindingPlace::Line(line) => (false, Some(*line), "", 0),
            FindingPlace::File { name, at } => {
                (true, None, &**name, at.as_ref().map_or(0, |(line, _)| *line))
            }
            FindingPlace::Named { by, name, number } => {
                (false, Some(*by), &**name, number.unwrap_or(0))
            }
        }
    }

    /// A finding on a line of the rules.
    ///
    /// ```
    /// # let rules = ravel::Rules::parse("site https://h.example/\n  missing /404.html\nredirect /a/{x} -> /b/{x}\n")?;
    /// # let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["index.html", "b/1.html", "404.html"]));
    /// use ravel::finding::Finding;
    /// use ravel::rules::Code;
    ///
    /// let line = rules.rules(ravel::program::Stage::Redirect)[0].line();
    /// let finding = Finding::on(Code::UnreachableRule, line, "no request gets here").with_help("remove it");
    /// assert_eq!(finding.help(), Some("remove it"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn on(code: Code, line: Line, message: impl Into<String>) -> Finding {
        Finding::at(code, FindingPlace::Line(line), message)
    }

    /// A finding about a built file as a whole.
    ///
    /// ```
    /// use ravel::finding::Finding;
    /// use ravel::rules::Code;
    ///
    /// assert_eq!(Finding::in_file(Code::BrokenLink, "a.html", "a link leads nowhere").lines(), []);
    /// ```
    pub fn in_file(code: Code, name: &str, message: impl Into<String>) -> Finding {
        Finding::at(code, FindingPlace::File { name: name.into(), at: None }, message)
    }

    /// A finding at a place.
    ///
    /// ```
    /// use ravel::finding::{Finding, FindingPlace};
    /// use ravel::rules::Code;
    ///
    /// let place = FindingPlace::File { name: "a.html".into(), at: Some((3, 40..52)) };
    /// assert_eq!(Finding::at(Code::BrokenLink, place, "a link leads nowhere").place().number(), Some(3));
    /// ```
    pub fn at(code: Code, place: FindingPlace, message: impl Into<String>) -> Finding {
        Finding {
            code,
            place,
            message: message.into(),
            note: None,
            help: None,
            example: None,
            lines: Vec::new(),
            edits: Vec::new(),
        }
    }

    /// With more about what is so.
    #[must_use]
    pub fn with_more(mut self, text: &str) -> Finding {
        self.message.push_str(text);
        self
    }

    /// With what a visitor gets from it.
    #[must_use]
    pub fn with_note(mut self, text: impl Into<String>) -> Finding {
        self.note = Some(text.into());
        self
    }

    /// With what to write instead.
    #[must_use]
    pub fn with_help(mut self, text: impl Into<String>) -> Finding {
        self.help = Some(text.into());
        self
    }

    /// With a URL that shows it to everybody who gets it.
    #[must_use]
    pub fn with_example(mut self, url: impl Into<String>) -> Finding {
        let (method, headers) = (Method::GET, Vec::new());
        self.example = Some(FindingExample { method, url: url.into(), headers });
        self
    }

    /// With a request that shows it.
    ///
    /// ```
    /// use ravel::finding::Finding;
    /// use ravel::rules::Code;
    ///
    /// let asked = ravel::Request::get("https://h.example/a")?
    ///     .with_header(http::header::COOKIE, http::HeaderValue::from_static("c=1"));
    /// let finding = Finding::in_file(Code::BrokenLink, "a.html", "x").with_request(&asked);
    /// assert_eq!(finding.example().unwrap().headers()[0].1, "c=1");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[must_use]
    pub fn with_request(mut self, request: &Request) -> Finding {
        self.example = Some(FindingExample::from(request));
        self
    }

    /// With other lines that have to do with it.
    #[must_use]
    pub fn with_lines(mut self, lines: impl IntoIterator<Item = Line>) -> Finding {
        self.lines.extend(lines);
        self
    }

    /// With what to change so that it is gone. Where the help asks for work on the site, there is
    /// nothing to change here.
    #[must_use]
    pub fn with_edits(mut self, edits: impl IntoIterator<Item = Edit>) -> Finding {
        self.edits.extend(edits);
        self
    }

    /// Without what to change: it is part of something that is changed as a whole.
    #[must_use]
    pub fn without_edits(mut self) -> Finding {
        self.edits.clear();
        self
    }

    /// Which kind.
    pub fn code(&self) -> Code {
        self.code
    }

    /// Where it is.
    pub fn place(&self) -> &FindingPlace {
        &self.place
    }

    /// What is so.
    pub fn message(&self) -> &str {
        &self.message
    }

    /// What a visitor gets from it, unless that is said already.
    pub fn note(&self) -> Option<&str> {
        self.note.as_deref()
    }

    /// What to write instead.
    pub fn help(&self) -> Option<&str> {
        self.help.as_deref()
    }

    /// A request that shows it.
    pub fn example(&self) -> Option<&FindingExample> {
        self.example.as_ref()
    }

    /// Other lines that have to do with it.
    pub fn lines(&self) -> &[Line] {
        &self.lines
    }

    /// What to change so that it is gone, all of it together.
    pub fn edits(&self) -> &[Edit] {
        &self.edits
    }
}
