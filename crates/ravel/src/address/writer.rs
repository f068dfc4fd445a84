//! Writes an address piece by piece.

use super::{Address, Scheme};

/// Builds an [`Address`] in one allocation from parts that are normalized already.
pub(crate) struct AddressWriter {
    address: Address,
    query: bool,
    fragment: bool,
}

impl AddressWriter {
    pub(crate) fn new(scheme: Scheme, host: &str, port: Option<u16>, rest: usize) -> AddressWriter {
        let prefix = scheme.prefix();
        let mut text = String::with_capacity(prefix.len() + host.len() + rest + 1);
        text.push_str(prefix);
        text.push_str(host);
        let host_end = text.len() as u32;
        if let Some(port) = port {
            text.extend([":", &port.to_string()]);
        }
        let path_start = text.len() as u32;
        let address = Address {
            text,
            scheme,
            host_end,
            path_start,
            path_end: 0,
            query_end: 0,
            odd: true,
            path_hash: None,
        };
        AddressWriter { address, query: false, fragment: false }
    }

    /// Where the part that is being written goes: first the path.
    pub(crate) fn text(&mut self) -> &mut String {
        &mut self.address.text
    }

    pub(crate) fn begin_query(&mut self) {
        self.address.path_end = self.address.text.len() as u32;
        self.address.text.push('?');
        self.query = true;
    }

    pub(crate) fn begin_fragment(&mut self) {
        self.end_query();
        self.address.text.push('#');
        self.fragment = true;
    }

    pub(crate) fn finish(mut self) -> Address {
        if !self.fragment {
            self.end_query();
        }
        self.address
    }

    fn end_query(&mut self) {
        self.address.query_end = self.address.text.len() as u32;
        if !self.query {
            self.address.path_end = self.address.query_end;
        }
    }
}
