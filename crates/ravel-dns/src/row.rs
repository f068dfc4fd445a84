//! A row of a plan: a record that is there, or needed, and what to do.

use super::zone::{Record, RecordType};

/// A record that is there, or needed, or both.
#[cfg_attr(feature = "serde", derive(serde::Serialize))]
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    pub(crate) host: String,
    #[cfg_attr(feature = "serde", serde(rename = "type"))]
    pub(crate) kind: RecordType,
    pub(crate) there: Option<RecordValue>,
    pub(crate) needed: Option<RecordValue>,
    pub(crate) action: Action,
    pub(crate) note: Option<String>,
    /// Whether it proves ownership.
    #[cfg_attr(feature = "serde", serde(skip))]
    pub(crate) verifies: bool,
}

impl Row {
    /// The host, as the rules name it, or the name of the verification.
    pub fn host(&self) -> &str {
        &self.host
    }

    /// The type.
    pub fn kind(&self) -> RecordType {
        self.kind
    }

    /// What is there.
    pub fn there(&self) -> Option<&RecordValue> {
        self.there.as_ref()
    }

    /// What is needed.
    pub fn needed(&self) -> Option<&RecordValue> {
        self.needed.as_ref()
    }

    /// What to do.
    pub fn action(&self) -> Action {
        self.action
    }

    /// What else is to know.
    pub fn note(&self) -> Option<&str> {
        self.note.as_deref()
    }
}

/// What a record says.
#[cfg_attr(feature = "serde", derive(serde::Serialize))]
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RecordValue {
    pub(crate) data: String,
    pub(crate) ttl: Option<u32>,
}

impl RecordValue {
    /// What a record says.
    pub(crate) fn of(record: &Record) -> RecordValue {
        let data = record.data.as_ref().map(ToString::to_string).unwrap_or_default();
        RecordValue { data, ttl: Some(record.ttl) }
    }

    /// In the notation of master files.
    pub fn data(&self) -> &str {
        &self.data
    }

    /// Its TTL, in seconds; none where it is not a record.
    pub fn ttl(&self) -> Option<u32> {
        self.ttl
    }
}

/// What to do about a record.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Action {
    /// Nothing: it is as it must be.
    Keep,
    /// Add it.
    Add,
    /// Write something else in its place, or another TTL.
    Change,
    /// Remove it.
    Remove,
    /// The zone cannot show it: it is set at the DNS host.
    Unseen,
    /// It cannot be added; the note says why.
    Blocked,
}

impl Action {
    /// Whether somebody has to do something.
    pub fn is_to_do(self) -> bool {
        !matches!(self, Action::Keep | Action::Unseen)
    }

    /// The word for it.
    ///
    /// ```
    /// assert_eq!(ravel_dns::Action::Add.name(), "add");
    /// ```
    pub fn name(self) -> &'static str {
        match self {
            Action::Keep => "keep",
            Action::Add => "add",
            Action::Change => "change",
            Action::Remove => "remove",
            Action::Unseen => "not seen",
            Action::Blocked => "blocked",
        }
    }
}
