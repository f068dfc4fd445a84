//! What files cannot say of rules, as data for other programs (feature `serde`).

use ravel::Rules;
use ravel::serial::SerializeBeside;
use serde::{Serialize, Serializer};

use crate::Limit;

#[derive(Serialize)]
struct LimitData<'a> {
    source: &'a str,
    line: u32,
    what: &'a str,
    done: &'a str,
    how: &'a str,
}

impl SerializeBeside for Limit {
    fn serialize_beside<S: Serializer>(
        &self,
        rules: &Rules,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        LimitData {
            source: rules.source(self.line),
            line: self.line.number(),
            what: &self.what,
            done: self.exactness.name(),
            how: &self.how,
        }
        .serialize(serializer)
    }
}
