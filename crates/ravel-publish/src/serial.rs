//! What becomes of rules on a host that only serves files, as data for other programs (feature `serde`).

use ravel::Rules;
use ravel::serial::SerializeBeside;
use serde::{Serialize, Serializer};

use crate::LineSupport;

#[derive(Serialize)]
struct LineData<'a> {
    source: &'a str,
    line: u32,
    what: &'a str,
    done: &'a str,
    how: &'a str,
}

impl SerializeBeside for LineSupport {
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        LineData {
            source: rules.source(self.line),
            line: self.line.number(),
            what: &self.what,
            done: self.support.as_str(),
            how: &self.how,
        }
        .serialize(serializer)
    }
}
