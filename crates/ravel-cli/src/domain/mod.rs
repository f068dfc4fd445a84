//! `ravel domain`: the records that a domain needs beside those it has, and what visitors see while
//! they change.

mod asked;
mod chart;
mod data;
mod svg;
mod table;

use std::io::Write;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use ravel::finding::Finding;
use ravel::rules::{Code, Domain, NamedFile, Severity};
use ravel_dns::{Action, Certificate, Moment, Plan, Requirement, Timeline, Zone};
use ravel_serve::{NameServer, ServerReport};

use crate::load::{LoadedSite, write_or_say};
use crate::style::{BAD, FAINT, GOOD, STRONG, count, in_style};
use crate::{ExitStatus, Failure, findings};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// Only this domain
    #[arg(value_name = "DOMAIN")]
    name: Option<String>,
    /// Take the zone from this file instead of the one that the rules name
    #[arg(long, value_name = "FILE")]
    pub(crate) zone: Option<PathBuf>,
    /// Write the zone as it must be
    #[arg(long, value_name = "FILE")]
    write: Option<PathBuf>,
    /// Show what visitors see when the records change at this moment (RFC 3339), and in which order
    /// nobody notices
    #[arg(long, value_name = "MOMENT")]
    switch: Option<Moment>,
    /// Write what `--switch` shows as a picture
    #[arg(long, value_name = "FILE", requires = "switch")]
    svg: Option<PathBuf>,
    /// Ask this name server instead of the zone file; several, to compare them
    #[arg(long, value_name = "ADDRESS[:PORT]", value_parser = server)]
    ask: Vec<SocketAddr>,
    /// Answer questions from the zone on this port of 127.0.0.1, over UDP and TCP; 0 picks a free
    /// one
    #[arg(long, value_name = "PORT", conflicts_with_all = ["ask", "switch", "write", "json"])]
    answer: Option<u16>,
    /// Print data for programs
    #[arg(long)]
    json: bool,
}

/// An address with a port, or without: then it is that of the DNS.
fn server(text: &str) -> Result<SocketAddr, String> {
    const DNS: u16 = 53;
    let bare = text.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')).unwrap_or(text);
    text.parse::<SocketAddr>()
        .or_else(|_| bare.parse::<IpAddr>().map(|ip| SocketAddr::new(ip, DNS)))
        .map_err(|_| "write an IP address, with a port if it is not 53, as in 192.0.2.53 or [2001:db8::53]:5353".to_owned())
}

/// All that is known of a domain.
struct View<'a> {
    domain: &'a Domain,
    plan: Option<Plan<'a>>,
    certificate: Option<&'a Certificate>,
    findings: Vec<Finding>,
    /// At once, and in order.
    courses: Option<(Timeline, Timeline)>,
    wanted: Vec<Requirement>,
    asked: Vec<ServerReport>,
}

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    let mut loaded = LoadedSite::read(rules)?;
    let mut domains = chosen(&loaded, arguments)?;
    if let Some(path) = &arguments.zone {
        for domain in &mut domains {
            let line = domain.zone().map_or(domain.line(), NamedFile::line);
            *domain = domain.clone().with_zone(NamedFile::new(path.to_string_lossy(), line));
        }
    }
    let read = |path: &str| match &arguments.zone {
        Some(zone) if zone.to_string_lossy() == path => std::fs::read(zone),
        _ => loaded.named(path),
    };
    let unreadable = |error: ravel_dns::NamedFileError| Failure::Message(error.to_string());
    let mut files: Vec<(Option<Zone>, Option<Certificate>)> = Vec::new();
    for domain in &domains {
        let zone = if arguments.ask.is_empty() {
            Zone::of_domain(domain, read).map_err(unreadable)?
        } else {
            None
        };
        files.push((zone, Certificate::of_domain(domain, read).map_err(unreadable)?));
    }
    if let (Some(path), [(Some(zone), _)]) = (&arguments.zone, files.as_slice()) {
        loaded.know(&path.to_string_lossy(), zone.text());
    }
    if let Some(port) = arguments.answer {
        return answer(&domains, files, port, out);
    }
    let asked = asked(&loaded, &domains, arguments)?;
    let now = Moment::from(SystemTime::now());
    let mut views = Vec::new();
    for ((domain, (zone, certificate)), (wanted, asked)) in domains.iter().zip(&files).zip(asked) {
        let plan = zone.as_ref().map(|zone| Plan::new(loaded.rules().site(), domain, zone));
        let mut findings = plan.as_ref().map(Plan::findings).unwrap_or_default();
        if let Some(certificate) = certificate {
            findings.extend(ravel_dns::certificate_findings(
                loaded.rules().site(),
                domain,
                certificate,
                now,
            ));
        }
        // The table says row by row what is to do.
        findings.retain(|finding| {
            finding.code() != Code::RecordsToDo && !finding.is_accepted(loaded.rules())
        });
        let courses = arguments.switch.zip(plan.as_ref()).map(|(moment, plan)| {
            (
                Timeline::at_once(plan, certificate.as_ref(), moment),
                Timeline::in_order(plan, certificate.as_ref(), moment),
            )
        });
        views.push(View {
            domain,
            plan,
            certificate: certificate.as_ref(),
            findings,
            courses,
            wanted,
            asked,
        });
    }
    let outside: Vec<String> = loaded
        .rules()
        .site()
        .hosts()
        .filter(|host| !loaded.rules().domains().iter().any(|domain| domain.holds(host)))
        .collect();
    match arguments.json {
        true => data::print(&loaded, &views, &outside, out)?,
        false => print(&loaded, &views, &outside, now, out)?,
    }
    write_files(arguments, &views, out)?;
    Ok(if views.iter().all(View::is_well) { ExitStatus::Well } else { ExitStatus::Found })
}

impl View<'_> {
    /// Whether there is nothing to do, and nothing wrong.
    fn is_well(&self) -> bool {
        let rows = self.plan.iter().flat_map(|plan| plan.rows()).any(|row| row.action().is_to_do());
        let wrong =
            self.findings.iter().any(|finding| finding.code().severity() == Severity::Problem);
        let answers = self.asked.iter().all(|asked| asked::is_met(asked, &self.wanted));
        !rows && !wrong && answers
    }
}

/// The domains that are meant.
fn chosen(loaded: &LoadedSite, arguments: &Arguments) -> Result<Vec<Domain>, Failure> {
    let all = loaded.rules().domains();
    let names =
        || all.iter().map(|domain| format!("`{}`", domain.name())).collect::<Vec<_>>().join(", ");
    let message = |text: String| Err(Failure::Message(text));
    if all.is_empty() {
        return message(
            "the rules have no `domain` statement; write one with `host`, `address` and `zone`"
                .to_owned(),
        );
    }
    let chosen: Vec<Domain> = match &arguments.name {
        Some(name) => all
            .iter()
            .filter(|domain| domain.name().as_str() == name.trim_end_matches('.'))
            .cloned()
            .collect(),
        None => all.to_vec(),
    };
    let one = [
        ("--zone", arguments.zone.is_some()),
        ("--write", arguments.write.is_some()),
        ("--svg", arguments.svg.is_some()),
        ("--answer", arguments.answer.is_some()),
    ];
    match (chosen.len(), one.iter().find(|(_, given)| *given)) {
        (0, _) => message(format!("the rules have no such domain; they have {}", names())),
        (1, _) | (_, None) => Ok(chosen),
        (_, Some((option, _))) => {
            message(format!("`{option}` is for one domain; name it: {}", names()))
        }
    }
}

/// Serves a zone until it is interrupted.
fn answer(
    domains: &[Domain],
    files: Vec<(Option<Zone>, Option<Certificate>)>,
    port: u16,
    out: &mut dyn Write,
) -> crate::Outcome {
    let Some((Some(zone), _)) = files.into_iter().next() else { return Err(no_zone(&domains[0])) };
    let origin = zone.origin().to_string();
    let runtime = tokio::runtime::Runtime::new()?;
    runtime.block_on(async {
        let server = NameServer::bind(zone, port).await.map_err(|error| {
            Failure::Message(format!(
                "port {port} of 127.0.0.1 cannot be had: {error}; name another, or 0"
            ))
        })?;
        let address = server.address();
        writeln!(out, "{} is answered on {address}, over UDP and TCP", in_style(STRONG, &origin))?;
        writeln!(
            out,
            "{}",
            in_style(FAINT, format_args!("ravel domain --ask {address}    (Ctrl-C ends it)"))
        )?;
        out.flush()?;
        server.run(crate::serve::interrupted()).await?;
        Ok(ExitStatus::Well)
    })
}

fn no_zone(domain: &Domain) -> Failure {
    Failure::Message(format!(
        "the zone of `{}` is not known; name its file with `zone FILE` below `domain`, or with `--zone FILE`",
        domain.name()
    ))
}

/// What is wanted of a domain's servers, and what each says.
type ServerReports = (Vec<Requirement>, Vec<ServerReport>);

/// Asks the servers about each domain.
fn asked(
    loaded: &LoadedSite,
    domains: &[Domain],
    arguments: &Arguments,
) -> Result<Vec<ServerReports>, Failure> {
    let wanted = domains.iter().map(|domain| Requirement::of(loaded.rules().site(), domain));
    if arguments.ask.is_empty() {
        return Ok(wanted.map(|wanted| (wanted, Vec::new())).collect());
    }
    let runtime = tokio::runtime::Runtime::new()?;
    let mut all = Vec::new();
    for wanted in wanted {
        let questions = arguments.ask.iter().map(|server| ravel_serve::ask(*server, &wanted));
        let asked = runtime.block_on(futures_util::future::join_all(questions));
        all.push((wanted, asked));
    }
    Ok(all)
}

fn write_files(
    arguments: &Arguments,
    views: &[View<'_>],
    out: &mut dyn Write,
) -> Result<(), Failure> {
    let [view] = views else { return Ok(()) };
    if let Some(path) = &arguments.write {
        let Some(plan) = &view.plan else { return Err(no_zone(view.domain)) };
        write_or_say(path, plan.zone().with(plan.changes()).as_bytes())?;
        if !arguments.json {
            let said = match plan.changes().is_empty() {
                true => "is the zone as it stands: nothing has to change".to_owned(),
                false => format!(
                    "is the zone as it must be, with serial {}",
                    plan.zone().serial().wrapping_add(1)
                ),
            };
            writeln!(out, "{} {said}", in_style(STRONG, path.display()))?;
        }
    }
    if let Some(path) = &arguments.svg {
        let Some((at_once, in_order)) = &view.courses else { return Err(no_zone(view.domain)) };
        let picture = svg::draw(view.domain.name().as_str(), at_once, in_order);
        write_or_say(path, picture.as_bytes())?;
        if !arguments.json {
            writeln!(out, "{} is the picture", in_style(STRONG, path.display()))?;
        }
    }
    Ok(())
}

fn print(
    loaded: &LoadedSite,
    views: &[View<'_>],
    outside: &[String],
    now: Moment,
    out: &mut dyn Write,
) -> Result<(), Failure> {
    for view in views {
        if !view.asked.is_empty() {
            asked::print(view.domain, &view.wanted, &view.asked, out)?;
            continue;
        }
        let plan = view.plan.as_ref().ok_or_else(|| no_zone(view.domain))?;
        table::print(plan, out)?;
        if let Some(certificate) = view.certificate {
            table::print_certificate(certificate, out)?;
        }
        writeln!(out)?;
        findings::print(loaded, &view.findings, out)?;
        summary(plan, &view.findings, out)?;
        if let Some((at_once, in_order)) = &view.courses {
            match plan.changes().is_empty() {
                true => {
                    writeln!(out, "\nnothing has to change, so there is nothing to wait for\n")?
                }
                false => chart::print(at_once, in_order, now, out)?,
            }
        }
    }
    if !outside.is_empty() {
        let hosts = outside.join(", ");
        writeln!(
            out,
            "{}",
            in_style(FAINT, format_args!("no `domain` statement speaks of {hosts}"))
        )?;
    }
    Ok(())
}

fn summary(plan: &Plan<'_>, findings: &[Finding], out: &mut dyn Write) -> std::io::Result<()> {
    let of = |action| plan.rows().iter().filter(|row| row.action() == action).count();
    let problems =
        findings.iter().filter(|finding| finding.code().severity() == Severity::Problem).count();
    let advice = findings.len() - problems;
    let rows = [
        (Action::Add, "to add"),
        (Action::Change, "to change"),
        (Action::Remove, "to remove"),
        (Action::Blocked, "blocked"),
        (Action::Keep, "as needed"),
    ];
    let rows: Vec<String> = rows
        .iter()
        .filter(|(action, _)| of(*action) > 0)
        .map(|(action, word)| format!("{} {word}", of(*action)))
        .collect();
    let to_do = plan.rows().iter().any(|row| row.action().is_to_do());
    let text = format!(
        "{}; {}, {}",
        rows.join(", "),
        count(problems, "problem", "problems"),
        count(advice, "piece of advice", "pieces of advice")
    );
    writeln!(out, "{}", in_style(if to_do || problems > 0 { BAD } else { GOOD }, text))
}
