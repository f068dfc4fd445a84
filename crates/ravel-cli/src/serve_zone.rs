//! The zone that `ravel serve --dns` answers from, as its files are.

use std::cell::RefCell;
use std::net::Ipv4Addr;
use std::path::Path;
use std::time::{Duration, SystemTime};

use ravel::rules::Domain;
use ravel_dns::Zone;
use ravel_serve::{NameServer, ServedZone};

use crate::Failure;
use crate::load::LoadedSite;
use crate::style::{self, in_style};

/// How often it is looked whether the zone's files have changed.
const ZONE_PAUSE: Duration = Duration::from_millis(500);
/// Where a zone is read from.
pub(crate) struct ZoneFiles {
    loaded: LoadedSite,
    domain: Domain,
    /// The zone's file, and those that it includes, each as it was just before it was read.
    read: Vec<(String, Option<Stamp>)>,
}

/// What tells a file from an earlier one of its name.
type Stamp = (u64, SystemTime);

fn stamp(name: &str) -> Option<Stamp> {
    let data = std::fs::metadata(name).ok()?;
    Some((data.len(), data.modified().ok()?))
}

impl ZoneFiles {
    fn read(&mut self) -> Result<Zone, String> {
        let files = RefCell::new(Vec::new());
        let read = |path: &str| {
            files.borrow_mut().push((path.to_owned(), stamp(path)));
            self.loaded.named(path)
        };
        let zone = Zone::of_domain(&self.domain, read);
        self.read = files.into_inner();
        let zone = zone.map_err(|error| error.to_string())?;
        zone.ok_or_else(|| "there is no zone".to_owned())
    }

    fn have_changed(&self) -> bool {
        self.read.iter().any(|(name, before)| stamp(name) != *before)
    }
}

/// Serves the zone as its files are now; while they cannot be read, as they were.
pub(crate) async fn follow(mut files: ZoneFiles, served: ServedZone) {
    loop {
        tokio::time::sleep(ZONE_PAUSE).await;
        if !files.have_changed() {
            continue;
        }
        match files.read() {
            Ok(zone) => served.replace(zone),
            Err(why) => anstream::eprintln!(
                "{}: the zone is served as it was: {why}",
                in_style(style::NOTE, "warning")
            ),
        }
    }
}

/// A name server for the zone that the rules name, and where that is read from.
pub(crate) async fn name_server(
    rules: &Path,
    port: u16,
) -> Result<(NameServer, ZoneFiles), Failure> {
    let loaded = LoadedSite::read(rules)?;
    let named: Vec<&Domain> =
        loaded.rules().domains().iter().filter(|domain| domain.zone().is_some()).collect();
    let domain = match named.as_slice() {
        [domain] => *domain,
        [] => {
            let message = "`--dns` needs a `domain` statement with a `zone`";
            return Err(Failure::Message(message.to_owned()));
        }
        _ => {
            let message = "`--dns` serves one zone, and the rules name several";
            return Err(Failure::Message(message.to_owned()));
        }
    };
    let domain = domain.clone();
    let mut files = ZoneFiles { loaded, domain, read: Vec::new() };
    let zone = files.read().map_err(Failure::Message)?;
    let bound = NameServer::bind(zone, (Ipv4Addr::LOCALHOST, port).into()).await;
    let server = bound.map_err(|error| {
        Failure::Message(format!("cannot listen on port {port} of 127.0.0.1: {error}"))
    })?;
    Ok((server, files))
}
