//! Asks name servers: those that are named, or a domain's own and the resolvers.

use std::fs;
use std::io::Write;
use std::net::{IpAddr, SocketAddr};
use std::pin::pin;
use std::time::{Duration, Instant};

use futures_util::future::join_all;
use ravel::rules::Domain;
use ravel_dns::Requirement;
use ravel_serve::Finder;

use super::answers::DomainAnswers;
use super::arguments::{Ask, FindArguments};
use super::table::duration;
use crate::Failure;
use crate::style::{FAINT, in_style};

/// How long it is waited before all are asked again: first, and at most.
const FIRST_PAUSE: Duration = Duration::from_secs(5);
const MAX_PAUSE: Duration = Duration::from_secs(60);

/// Asks about each domain; again and again, where it is to be waited for.
pub(super) fn ask(
    wanted: &[(&Domain, Vec<Requirement>)],
    ask: &Ask,
    out: &mut dyn Write,
) -> Result<Vec<DomainAnswers>, Failure> {
    let runtime = tokio::runtime::Runtime::new()?;
    let servers = match ask.servers.as_slice() {
        [] => Some(Servers::new(&ask.finding)?),
        _ => None,
    };
    let once = || once(wanted, ask, servers.as_ref());
    match ask.wait {
        true => runtime.block_on(waited_for(ask, once, out)),
        false => runtime.block_on(once()),
    }
}

/// Asks until everything needed is visible, the time is over, or somebody ends it.
async fn waited_for<F: Future<Output = Result<Vec<DomainAnswers>, Failure>>>(
    ask: &Ask,
    once: impl Fn() -> F,
    out: &mut dyn Write,
) -> Result<Vec<DomainAnswers>, Failure> {
    let end = ask.timeout.map(|seconds| Instant::now() + Duration::from_secs(seconds));
    let mut ended = pin!(tokio::signal::ctrl_c());
    let mut pause = FIRST_PAUSE;
    let mut last = None;
    loop {
        let all = tokio::select! {
            all = once() => all?,
            _ = &mut ended => {
                let nothing = || Failure::Message("ended before a server was asked".to_owned());
                return last.ok_or_else(nothing);
            }
        };
        let is_over = end.is_some_and(|end| Instant::now() >= end);
        if is_over || all.iter().all(DomainAnswers::is_met) {
            return Ok(all);
        }
        let left =
            end.map_or(pause, |end| end.saturating_duration_since(Instant::now()).min(pause));
        if !ask.show.json {
            writeln!(out, "{}", in_style(FAINT, progress(&all, left)))?;
            out.flush()?;
        }
        tokio::select! {
            () = tokio::time::sleep(left) => last = Some(all),
            _ = &mut ended => return Ok(all),
        }
        pause = (pause * 2).min(MAX_PAUSE);
    }
}

/// How far it is, and when all are asked again.
fn progress(all: &[DomainAnswers], left: Duration) -> String {
    let servers: usize = all.iter().map(|answers| answers.reports.len()).sum();
    let met: usize = all.iter().map(DomainAnswers::met).sum();
    let old = match all.iter().map(DomainAnswers::oldest).max() {
        None | Some(0) => String::new(),
        Some(ttl) => format!("; old records are kept for up to {}", duration(i64::from(ttl))),
    };
    let again = duration(left.as_secs().max(1) as i64);
    format!("{met} of {servers} servers say what is needed{old}; asked again in {again}")
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
    wanted: &[(&Domain, Vec<Requirement>)],
    ask: &Ask,
    servers: Option<&Servers>,
) -> Result<Vec<DomainAnswers>, Failure> {
    let mut all = Vec::new();
    for (domain, wanted) in wanted {
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
        let reports = places.into_iter().map(|(server, name)| async move {
            let report = ravel_serve::ask(server, wanted).await;
            match name {
                Some(name) => report.named(name),
                None => report,
            }
        });
        asked.reports = join_all(reports).await;
        asked.wanted = wanted.clone();
        all.push(asked);
    }
    Ok(all)
}
