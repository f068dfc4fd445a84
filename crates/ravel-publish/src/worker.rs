//! What a Service Worker cannot do of a site's rules.

use ravel::edge::Edge;
use ravel::program::{Effect, HeaderOp, Rule, Stage, TestKind};

use crate::{LineSupport, Support};

/// What a browser tells a Service Worker nothing of, beside names that begin with `sec-` or
/// `proxy-`: it adds them behind the worker (Fetch, sections 2.2.2 and 4.6).
const UNSEEN: [&str; 10] = [
    "accept-encoding",
    "authorization",
    "connection",
    "cookie",
    "dnt",
    "host",
    "origin",
    "referer",
    "te",
    "via",
];

/// The lines that [`SERVICE_WORKER`](crate::SERVICE_WORKER) does not do, in the order of the files
/// they stand in; all others it does fully, from a visitor's second page on.
///
/// ```
/// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a -> /b\n  when cookie c\n")?;
/// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
/// let lines = ravel_publish::worker_lines(&edge);
/// assert_eq!(lines[0].how(), "a browser does not show it what `when cookie c` asks for");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn worker_lines(edge: &Edge) -> Vec<LineSupport> {
    let site = edge.site();
    let not = |line, what, how: &str| LineSupport {
        line,
        what,
        support: Support::None,
        how: how.to_owned(),
    };
    let mut lines = Vec::new();
    for alias in site.aliases() {
        let what = format!("alias {}", alias.host());
        lines.push(not(alias.line(), what, "a worker is for one origin"));
    }
    if let Some(hsts) = site.hsts() {
        let how = "browsers take it from the network alone";
        lines.push(not(hsts.line(), "hsts".to_owned(), how));
    }
    for rule in Stage::ALL.into_iter().flat_map(|stage| edge.program().rules(stage)) {
        let how = match unseen(rule.rule(), site.languages()) {
            Some(condition) => {
                format!("a browser does not show it what `{condition}` asks for")
            }
            None if sets_cookie(rule.rule()) => "browsers take no `set-cookie` from it".to_owned(),
            None => continue,
        };
        lines.push(not(rule.line(), rule.to_string(), &how));
    }
    lines.sort_by_key(LineSupport::line);
    lines
}

/// A condition that looks at what a worker is not shown.
fn unseen(rule: &Rule, languages: &[Box<str>]) -> Option<String> {
    let is_unseen = |name: &str| {
        UNSEEN.contains(&name) || name.starts_with("sec-") || name.starts_with("proxy-")
    };
    let found = rule.tests().iter().find(|test| match test.kind() {
        TestKind::Header(name, _) => is_unseen(name.as_str()),
        TestKind::Cookie(..) => true,
        TestKind::Capture(..)
        | TestKind::Host(_)
        | TestKind::Scheme(_)
        | TestKind::Role(_)
        | TestKind::Method(_)
        | TestKind::Language(_)
        | TestKind::FileExists
        | TestKind::ContentType(_) => false,
    });
    found.map(|test| test.written(languages))
}

fn sets_cookie(rule: &Rule) -> bool {
    let Effect::Headers(headers) = rule.effect() else { return false };
    headers.ops().iter().any(|op| match op {
        HeaderOp::Set(name, ..) | HeaderOp::Add(name, ..) => name.as_str() == "set-cookie",
        HeaderOp::Drop(..) => false,
    })
}
