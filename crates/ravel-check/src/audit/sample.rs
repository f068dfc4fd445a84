//! Single requests that a rule is for.

use ravel::address::Request;
use ravel::program::{RuleRef, Stage, TextSet};
use ravel::template::{Expression, Pattern, QueryTest};

use super::Audit;

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
}
