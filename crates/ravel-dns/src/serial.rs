//! Plans and timelines as data for other programs (feature `serde`); the other types derive it.

use serde::ser::{Serialize, SerializeMap, SerializeStruct, Serializer};

use crate::zone::{Name, RecordData, RecordType};
use crate::{Action, Certificate, HostTimeline, Issuance, Moment, Step, StepKind};

/// As their text.
macro_rules! as_text {
    ($($name:ty),+) => {$(
        impl Serialize for $name {
            fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.collect_str(self)
            }
        }
    )+};
}

as_text!(Moment, Name, RecordType, RecordData);

impl Serialize for Action {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.name())
    }
}

impl Serialize for Certificate {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let (from, until) = self.validity();
        let mut data = serializer.serialize_struct("Certificate", 4)?;
        data.serialize_field("hosts", self.hosts())?;
        data.serialize_field("from", &from)?;
        data.serialize_field("until", &until)?;
        data.serialize_field("issuer", self.issuer())?;
        data.end()
    }
}

impl Serialize for Issuance {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Issuance::There => serializer.serialize_str("there"),
            Issuance::Forbidden => serializer.serialize_str("forbidden"),
            Issuance::In(window) => window.serialize(serializer),
        }
    }
}

/// Records with the TTL that they have.
#[derive(serde::Serialize)]
struct LoweredRecords<'a> {
    name: &'a str,
    #[serde(rename = "type")]
    kind: RecordType,
    ttl: u32,
}

impl Serialize for Step {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let name = match self.kind {
            StepKind::Lower(..) => "lower",
            StepKind::Prove => "prove",
            StepKind::Allow => "allow",
            StepKind::Issue => "issue",
            StepKind::Sign => "sign",
            StepKind::Switch => "switch",
            StepKind::Raise => "raise",
            StepKind::Copy(_) => "copy",
            StepKind::RemoveKeys => "remove_keys",
            StepKind::Delegate(_) => "delegate",
            StepKind::Stop(_) => "stop",
            StepKind::AddKeys => "add_keys",
        };
        let mut map = serializer.serialize_map(None)?;
        map.serialize_entry("at", &self.at)?;
        map.serialize_entry("step", name)?;
        if let StepKind::Copy(servers) | StepKind::Delegate(servers) | StepKind::Stop(servers) =
            &self.kind
        {
            map.serialize_entry("servers", servers)?;
        }
        if let StepKind::Lower(sets, ttl) = &self.kind {
            let records = sets.iter().map(|(name, kind, ttl)| LoweredRecords {
                name,
                kind: *kind,
                ttl: *ttl,
            });
            map.serialize_entry("ttl", ttl)?;
            map.serialize_entry("records", &records.collect::<Vec<_>>())?;
        }
        map.end()
    }
}

impl Serialize for HostTimeline {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut data = serializer.serialize_struct("HostCourse", 7)?;
        data.serialize_field("host", &self.host)?;
        data.serialize_field("spans", &self.spans)?;
        data.serialize_field("all_new", &self.all_new())?;
        data.serialize_field("last_old", &self.last_old())?;
        data.serialize_field("last_missing", &self.last_missing())?;
        data.serialize_field("https", &self.https)?;
        data.serialize_field("gap", &self.gap)?;
        data.end()
    }
}
