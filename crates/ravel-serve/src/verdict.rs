//! The result of an expectation, beside a running site or the rules alone.

use ravel::Rules;
use ravel::expect::{Failure, Verdict};
use ravel::language::Line;
use ravel::serial::{Data, SerializeBeside};
use serde::{Serialize, Serializer};

/// The result of an expectation of a running site.
#[derive(Debug)]
pub struct LiveVerdict {
    pub(crate) verdict: Verdict,
    /// What the rules say, where something does not hold; and whether they hold themselves.
    pub(crate) rules: Option<(String, bool)>,
    pub(crate) not_asked: Option<String>,
    pub(crate) sampled: Option<usize>,
}

impl From<Verdict> for LiveVerdict {
    /// The verdict on the rules alone.
    fn from(verdict: Verdict) -> LiveVerdict {
        LiveVerdict { verdict, rules: None, not_asked: None, sampled: None }
    }
}

impl LiveVerdict {
    /// What was expected, and what does not hold of it.
    pub fn verdict(&self) -> &Verdict {
        &self.verdict
    }

    /// Whether it was asked, and holds.
    pub fn holds(&self) -> bool {
        self.verdict.holds() && self.not_asked.is_none()
    }

    /// Where the site does something else than expected: what the rules say, and what that means.
    pub fn rules(&self) -> Option<(&str, &'static str)> {
        let (says, hold) = self.rules.as_ref()?;
        let why = match hold {
            true => {
                "the site answers otherwise than these rules do: an older version, a cache, or another host"
            }
            false => "these rules do not do it, either",
        };
        Some((says, why))
    }

    /// Why it was not asked, if it was not.
    pub fn not_asked(&self) -> Option<&str> {
        self.not_asked.as_deref()
    }

    /// How many addresses were asked, of `expect every`.
    pub fn sampled(&self) -> Option<usize> {
        self.sampled
    }
}

#[derive(Serialize)]
struct LiveVerdictData<'a> {
    source: &'a str,
    line: u32,
    asked: &'a str,
    holds: bool,
    failures: &'a [Failure],
    decided: Data<'a, Option<Line>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    rules: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    not_asked: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    sampled: Option<usize>,
}

impl SerializeBeside for LiveVerdict {
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        LiveVerdictData {
            source: rules.source(self.verdict.line()),
            line: self.verdict.line().number(),
            asked: self.verdict.asked(),
            holds: self.holds(),
            failures: self.verdict.failures(),
            decided: rules.data(&self.verdict.decided()),
            rules: self.rules().map(|(says, why)| format!("{says}; {why}")),
            not_asked: self.not_asked(),
            sampled: self.sampled,
        }
        .serialize(serializer)
    }
}
