//! Results as data for other programs (feature `serde`).
//!
//! A [`Line`] knows its file by a number that only its rules can name, so a result is serialized
//! beside them: [`Rules::data`]. What the keys mean, docs/answering.md says.

mod walk;

use serde::ser::{Serialize, SerializeSeq, Serializer};

use crate::expect::{Failure, Verdict};
use crate::finding::{Finding, FindingExample};
use crate::language::Line;
use crate::rules::Rules;

/// A result that names lines of rules.
///
/// Implement it to let a type of your own stand beside the rules it is about; [`Data`] serializes
/// it, and lists and options of it.
pub trait SerializeBeside {
    /// Serializes it, with the names that these rules have for lines.
    ///
    /// # Errors
    /// Those of the serializer.
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error>;
}

/// A result beside the rules that it is about, to be serialized.
#[derive(Debug)]
pub struct Data<'a, T: ?Sized> {
    rules: &'a Rules,
    result: &'a T,
}

impl<T: ?Sized> Clone for Data<'_, T> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T: ?Sized> Copy for Data<'_, T> {}

impl Rules {
    /// A result as data, with the names that these rules have for lines.
    ///
    /// ```
    /// let rules = ravel::Rules::parse("site https://h.example/\nredirect /a -> /b 302\n")?;
    /// let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["b.html"]));
    /// let walk = edge.walk(&ravel::Request::get("https://h.example/a")?);
    /// let data = serde_json::to_value(rules.data(&walk))?;
    /// assert_eq!(data["ends"]["file"], "b.html");
    /// assert_eq!(data["answers"][0]["steps"][1]["line"], 2);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn data<'a, T: SerializeBeside + ?Sized>(&'a self, result: &'a T) -> Data<'a, T> {
        Data { rules: self, result }
    }
}

impl<T: SerializeBeside + ?Sized> Serialize for Data<'_, T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.result.serialize_beside(self.rules, serializer)
    }
}

impl<T: SerializeBeside> SerializeBeside for [T] {
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        let mut list = serializer.serialize_seq(Some(self.len()))?;
        for one in self {
            list.serialize_element(&rules.data(one))?;
        }
        list.end()
    }
}

impl<T: SerializeBeside> SerializeBeside for Option<T> {
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        match self {
            Some(one) => serializer.serialize_some(&rules.data(one)),
            None => serializer.serialize_none(),
        }
    }
}

/// The file and the number of a line.
#[derive(serde::Serialize)]
struct LineData<'a> {
    source: &'a str,
    line: u32,
}

impl SerializeBeside for Line {
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        LineData { source: rules.source(*self), line: self.number }.serialize(serializer)
    }
}

#[derive(serde::Serialize)]
struct FailureData<'a> {
    expected: &'a str,
    got: &'a str,
}

impl Serialize for Failure {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        FailureData { expected: &self.expected, got: &self.got }.serialize(serializer)
    }
}

#[derive(serde::Serialize)]
struct VerdictData<'a> {
    source: &'a str,
    line: u32,
    asked: &'a str,
    holds: bool,
    failures: &'a [Failure],
    decided: Data<'a, Option<Line>>,
}

impl SerializeBeside for Verdict {
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        VerdictData {
            source: rules.source(self.line),
            line: self.line.number,
            asked: &self.asked,
            holds: self.holds(),
            failures: &self.failures,
            decided: rules.data(&self.decided),
        }
        .serialize(serializer)
    }
}

#[derive(serde::Serialize)]
struct FindingData<'a> {
    name: &'a str,
    severity: &'a str,
    source: String,
    line: Option<u32>,
    message: &'a str,
    note: Option<&'a str>,
    help: Option<&'a str>,
    example: Option<&'a FindingExample>,
    lines: Vec<String>,
}

#[derive(serde::Serialize)]
struct ExampleData<'a> {
    method: &'a str,
    url: &'a str,
    headers: &'a [(String, String)],
}

impl Serialize for FindingExample {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let (method, url, headers) = (self.method().as_str(), self.url(), self.headers());
        ExampleData { method, url, headers }.serialize(serializer)
    }
}

impl SerializeBeside for Finding {
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        FindingData {
            name: self.code.name(),
            severity: self.code.severity().as_str(),
            source: self.place.file(rules),
            line: self.place.number(),
            message: &self.message,
            note: self.note.as_deref(),
            help: self.help.as_deref(),
            example: self.example.as_ref(),
            lines: self.lines.iter().map(|line| rules.line_name(*line)).collect(),
        }
        .serialize(serializer)
    }
}
