//! What a server is told: the rules, the ports, the local authority's folder.

use std::net::{IpAddr, Ipv4Addr};
use std::path::{Path, PathBuf};

use crate::{Forwards, OldEdition};

/// What to serve, and where.
#[derive(Debug)]
pub struct Options {
    pub(crate) rules: PathBuf,
    pub(crate) listen: IpAddr,
    pub(crate) http: u16,
    pub(crate) https: u16,
    pub(crate) inspect: u16,
    pub(crate) data: PathBuf,
    pub(crate) forwards: Forwards,
    pub(crate) old: Option<OldEdition>,
}

impl Options {
    /// The rules file, and the folder with the local authority. It listens on loopback, on ports
    /// that are free.
    pub fn new(rules: impl Into<PathBuf>, data: impl Into<PathBuf>) -> Options {
        Options {
            rules: rules.into(),
            listen: Ipv4Addr::LOCALHOST.into(),
            http: 0,
            https: 0,
            inspect: 0,
            data: data.into(),
            forwards: Forwards::default(),
            old: None,
        }
    }

    /// The rules file.
    pub fn rules(&self) -> &Path {
        &self.rules
    }

    /// The address to listen on.
    pub fn listen(&self) -> IpAddr {
        self.listen
    }

    /// With an address to listen on; the inspector stays on loopback.
    #[must_use]
    pub fn with_listen(mut self, address: IpAddr) -> Options {
        self.listen = address;
        self
    }

    /// With local servers for what answers elsewhere.
    #[must_use]
    pub fn with_forwards(mut self, forwards: Forwards) -> Options {
        self.forwards = forwards;
        self
    }

    /// With the edition that is published until now, with which each answer is compared.
    #[must_use]
    pub fn with_old_edition(mut self, old: OldEdition) -> Options {
        self.old = Some(old);
        self
    }

    /// With the ports of plain HTTP, of HTTPS and of the inspector; 0 is any that is free.
    #[must_use]
    pub fn with_ports(mut self, http: u16, https: u16, inspect: u16) -> Options {
        (self.http, self.https, self.inspect) = (http, https, inspect);
        self
    }
}
