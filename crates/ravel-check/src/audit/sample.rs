//! Single requests and paths that a rule is for.

use ravel::address::Request;
use ravel::program::{RuleRef, Stage, TextSet};
use ravel::template::{Expression, Pattern, QueryTest};

use super::Audit;

/// Paths of one rule that are gone through.
const MAX_PATHS: usize = 400;

impl<'r> Audit<'r> {
    /// A request made of the rule's own text on which it acts; finding none says nothing.
    pub(super) fn quick_example(&self, stage: Stage, rule: RuleRef<'_>) -> Option<Request> {
        let request = self.sample(rule)?;
        self.acts(stage, rule, &request).then_some(request)
    }

    /// A request made of the rule's own text, as short as its conditions let it be.
    pub(super) fn sample(&self, rule: RuleRef<'_>) -> Option<Request> {
        let listed = |name: &str| {
            rule.tests().of_capture(name).filter(|(_, negated)| !negated).find_map(|(set, _)| {
                match set {
                    TextSet::OneOf(list) => list.first().map(|text| text.to_string()),
                    TextSet::Digits { least, .. } => Some("1".repeat((*least).min(64))),
                    TextSet::Matches(regex) => regex.shortest(),
                }
            })
        };
        self.sample_with(rule.pattern(), &|name| match (listed(name), rule.pattern().form_of(name))
        {
            (Some(text), Some(Expression::Segments)) => format!("/{text}"),
            (Some(text), _) => text,
            (None, Some(Expression::Segment)) => "a".to_owned(),
            (None, _) => String::new(),
        })
    }

    /// A request that a pattern's text makes with these captures.
    pub(super) fn sample_with(
        &self,
        pattern: &Pattern,
        capture: &dyn Fn(&str) -> String,
    ) -> Option<Request> {
        let site = self.edge().site();
        let mut url = match pattern.origin() {
            None => format!("{}://{}{}", site.scheme(), site.host(), site.open_base()),
            Some(origin) if origin.host().capture().is_none() => {
                format!("{}://{}", origin.scheme(), origin.host().host())
            }
            Some(_) => return None,
        };
        url.push_str(&pattern.path_with(capture));
        for (at, part) in pattern.query().iter().enumerate() {
            url.push(if at == 0 { '?' } else { '&' });
            url.push_str(part.key());
            match part.test() {
                QueryTest::Present => {}
                QueryTest::Text(value) => url.extend(["=", value]),
                QueryTest::Capture(name) => url.extend(["=", &capture(name)]),
            }
        }
        Request::get(&url).ok()
    }

    /// The paths for which a rule's captures name a file, where it has captures and all of them
    /// stand in its path.
    pub(super) fn paths_with_files(&self, rule: RuleRef<'_>) -> Option<Vec<String>> {
        let path = rule.shows().filter(|_| rule.stage() != Stage::Rewrite)?;
        let first =
            path.path().expressions().next().and_then(|(_, name)| rule.pattern().form_of(name));
        // Slashes at the start become one, so that very many captures come to one path.
        let opens =
            matches!(path.path().literal_prefix(), "" | "/") && first != Some(Expression::Segment);
        // What is captured elsewhere than in the path does not matter where it is not used.
        let in_path = |name: &str| rule.pattern().path().expressions().any(|(_, one)| one == name);
        let complete = rule
            .pattern()
            .names()
            .all(|name| path.expressions().any(|(_, used)| used == name) == in_path(name));
        if path.path().is_literal() || opens || !complete || rule.pattern().origin().is_some() {
            return None;
        }
        let prefix = path.path().literal_prefix();
        let fold = self.edge().site().ignore_case();
        let mut paths = Vec::new();
        for address in self.edge().variant_paths().filter(|address| address.starts_with(prefix)) {
            let Some(values) = path.captures_for(address, rule.pattern(), fold) else { continue };
            let value = |name: &str| {
                values
                    .iter()
                    .find(|(known, _)| known == name)
                    .map_or(String::new(), |(_, value)| value.clone())
            };
            paths.push(rule.pattern().path_with(value));
            if paths.len() > MAX_PATHS {
                return None;
            }
        }
        Some(paths)
    }
}
