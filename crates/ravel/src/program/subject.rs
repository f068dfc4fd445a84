//! What tests look at.

use super::TestKind;

/// What of a request a test looks at, or of its answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum TestSubject {
    /// What the pattern captured.
    Captures,
    /// Scheme and host.
    Origin,
    /// The method.
    Method,
    /// Header fields, cookies and languages among them.
    Headers,
    /// The file that the path names.
    File,
    /// The answer.
    Answer,
}

impl TestKind {
    /// What it looks at.
    ///
    /// ```
    /// use ravel::program::{TestKind, TestSubject};
    ///
    /// assert_eq!(TestKind::FileExists.subject(), TestSubject::File);
    /// ```
    pub fn subject(&self) -> TestSubject {
        match self {
            TestKind::Capture(..) => TestSubject::Captures,
            TestKind::Host(_) | TestKind::Scheme(_) | TestKind::Role(_) => TestSubject::Origin,
            TestKind::Method(_) => TestSubject::Method,
            TestKind::Language(_) | TestKind::Header(..) | TestKind::Cookie(..) => {
                TestSubject::Headers
            }
            TestKind::FileExists => TestSubject::File,
            TestKind::ContentType(_) => TestSubject::Answer,
        }
    }
}
