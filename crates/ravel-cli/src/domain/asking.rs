//! Asks name servers: those that are named, or a domain's own and the resolvers.

use std::fs;
use std::io::Write;
use std::net::{IpAddr, SocketAddr};
use std::time::{Duration, Instant};

use futures_util::future::join_all;
use ravel::rules::Domain;
use ravel_dns::Requirement;
use ravel_serve::{Delegation, DelegationFault, Finder, ServerReport};

use super::arguments::{Ask, FindArguments};
use super::asked::{self, meets};
use super::table::duration;
use crate::Failure;
use crate::load::LoadedSite;
use crate::style::{FAINT, in_style};

/// How long it is waited before all are asked again: first, and at most.
const FIRST_PAUSE: Duration = Duration::from_secs(5);
const MAX_PAUSE: Duration = Duration::from_secs(60);

/// What was asked about a domain, and what each server says.
#[derive(Default)]
pub(super) struct DomainAnswers {
    pub(super) wanted: Vec<Requirement>,
    pub(super) reports: Vec<ServerReport>,
    pub(super) delegation: Option<Delegation>,
    pub(super) faults: Vec<DelegationFault>,
}

impl DomainAnswers {
    /// Whether every server says what is needed, and the parent leads there.
    pub(super) fn is_met(&self) -> bool {
        self.reports.iter().all(|report| asked::is_met(report, &self.wanted))
            && !self.faults.iter().any(DelegationFault::is_fatal)
    }

    /// For how long servers may say what is not needed, in seconds.
    fn oldest(&self) -> u32 {
        let said = self.reports.iter().filter_map(|report| report.said().as_ref().ok());
        let unmet = said.flat_map(|said| self.wanted.iter().zip(said));
        let ttls = unmet
            .filter(|(wanted, said)| !meets(wanted, said))
            .flat_map(|(_, said)| asked::ttls(said));
        ttls.max().unwrap_or(0)
    }
}

/// Asks about each domain; again and again, where it is to be waited for.
pub(super) fn ask(
    loaded: &LoadedSite,
    domains: &[Domain],
    ask: &Ask,
    out: &mut dyn Write,
) -> Result<Vec<DomainAnswers>, Failure> {
    let runtime = tokio::runtime::Runtime::new()?;
    let finder = match ask.servers.as_slice() {
        [] => Some(Servers::new(&ask.finding)?),
        _ => None,
    };
    let begin = Instant::now();
    let end = ask.timeout.map(|seconds| begin + Duration::from_secs(seconds));
    let mut pause = FIRST_PAUSE;
    loop {
        let all = runtime.block_on(once(loaded, domains, ask, finder.as_ref()))?;
        let is_over = end.is_some_and(|end| Instant::now() >= end);
        if !ask.wait || is_over || all.iter().all(DomainAnswers::is_met) {
            return Ok(all);
        }
        let left =
            end.map_or(pause, |end| end.saturating_duration_since(Instant::now()).min(pause));
        if !ask.show.json {
            let servers: usize = all.iter().map(|asked| asked.reports.len()).sum();
            let met = |asked: &DomainAnswers| {
                asked.reports.iter().filter(|report| asked::is_met(report, &asked.wanted)).count()
            };
            let met: usize = all.iter().map(met).sum();
            let old = match all.iter().map(DomainAnswers::oldest).max() {
                None | Some(0) => String::new(),
                Some(ttl) => {
                    format!("; old records are kept for up to {}", duration(i64::from(ttl)))
                }
            };
            let text = format!(
                "{met} of {servers} servers say what is needed{old}; asked again in {}",
                duration(left.as_secs().max(1) as i64)
            );
            writeln!(out, "{}", in_style(FAINT, text))?;
            out.flush()?;
        }
        let is_ended = runtime.block_on(async {
            tokio::select! {
                () = tokio::time::sleep(left) => false,
                _ = tokio::signal::ctrl_c() => true,
            }
        });
        if is_ended {
            return Ok(all);
        }
        pause = (pause * 2).min(MAX_PAUSE);
    }
}

/// Where servers are found.
struct Servers {
    finder: Finder,
    resolvers: Vec<SocketAddr>,
}

impl Servers {
    fn new(finding: &FindArguments) -> Result<Servers, Failure> {
        let roots = match &finding.root {
            None => Vec::new(),
            Some(path) => {
                let text = fs::read_to_string(path).map_err(|error| {
                    Failure::Message(format!("cannot read `{}`: {error}", path.display()))
                })?;
                let roots = addresses_in(&text);
                if roots.is_empty() {
                    let message = format!(
                        "`{}` has no address of a root server; write one a line, or a hints file",
                        path.display()
                    );
                    return Err(Failure::Message(message));
                }
                roots
            }
        };
        let mut resolvers = finding.resolver.clone();
        if resolvers.is_empty() && roots.is_empty() {
            resolvers.extend(system_resolver());
            if resolvers.is_empty() {
                let message = "no resolver is known; name one with `--resolver ADDRESS`, or the domain's \
                               servers themselves";
                return Err(Failure::Message(message.to_owned()));
            }
        }
        let finder = Finder::new(resolvers.first().copied(), roots, finding.dns_port);
        Ok(Servers { finder, resolvers })
    }
}

/// The first resolver of this machine.
fn system_resolver() -> Option<SocketAddr> {
    let text = fs::read_to_string("/etc/resolv.conf").ok()?;
    let mut lines = text.lines().filter_map(|line| line.trim().strip_prefix("nameserver"));
    lines.find_map(|rest| Some(SocketAddr::new(rest.trim().parse::<IpAddr>().ok()?, 53)))
}

/// The addresses of a hints file: the last word of each line that is one.
fn addresses_in(text: &str) -> Vec<IpAddr> {
    let words =
        text.lines().filter_map(|line| line.split(';').next()?.split_whitespace().next_back());
    words.filter_map(|word| word.parse().ok()).collect()
}

async fn once(
    loaded: &LoadedSite,
    domains: &[Domain],
    ask: &Ask,
    servers: Option<&Servers>,
) -> Result<Vec<DomainAnswers>, Failure> {
    let mut all = Vec::new();
    for domain in domains {
        let wanted = Requirement::of(loaded.rules().site(), domain);
        let mut asked = DomainAnswers::default();
        let mut places: Vec<(SocketAddr, Option<String>)> =
            ask.servers.iter().map(|server| (*server, None)).collect();
        if let Some(servers) = servers {
            let name =
                domain.name().as_str().parse().map_err(|error: ravel_dns::zone::NameError| {
                    Failure::Message(error.to_string())
                })?;
            let found = servers.finder.find(&name).await.map_err(|why| {
                Failure::Message(format!("cannot find the name servers of `{name}`: {why}"))
            })?;
            asked.faults = found.faults().await;
            for server in found.servers() {
                let named = |at: &SocketAddr| (*at, Some(server.name().to_string()));
                places.extend(server.addresses().iter().map(named));
            }
            places.extend(servers.resolvers.iter().map(|at| (*at, Some("resolver".to_owned()))));
            asked.delegation = Some(found);
        }
        let reports = places.into_iter().map(|(server, name)| {
            let wanted = &wanted;
            async move {
                let report = ravel_serve::ask(server, wanted).await;
                match name {
                    Some(name) => report.named(name),
                    None => report,
                }
            }
        });
        asked.reports = join_all(reports).await;
        asked.wanted = wanted;
        all.push(asked);
    }
    Ok(all)
}
