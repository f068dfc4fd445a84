//! `ravel domain`: the records that a domain has and needs, and what visitors get while they change.

mod answers;
mod arguments;
mod asked;
mod asking;
mod chart;
mod data;
mod entries;
mod page;
mod stages;
mod svg;
mod table;
mod written;

use std::io::Write;
use std::path::Path;
use std::time::SystemTime;

use answers::DomainAnswers;
pub(crate) use arguments::Arguments;
use arguments::{Ask, CertificateArguments, ReportForm, Task};
use ravel::finding::Finding;
use ravel::rules::{Code, Domain, NamedFile, Severity};
use ravel_dns::{
    Action, Certificate, CertificateCheck, Entry, Moment, Plan, Requirement, Roots, Timeline, Zone,
    ZoneStep,
};

use crate::load::LoadedSite;
use crate::report::write_all;
use crate::style::{BAD, FAINT, GOOD, count, in_style};
use crate::{ExitStatus, Failure, findings};

/// All that is known of a domain.
struct View<'a> {
    domain: &'a Domain,
    plan: Option<Plan<'a>>,
    certificate: Option<&'a Certificate>,
    findings: Vec<Finding>,
    /// At once, and in order.
    timelines: Option<(Timeline, Timeline)>,
    asked: Option<DomainAnswers>,
}

pub(crate) fn run(rules: &Path, arguments: &Arguments, out: &mut dyn Write) -> crate::Outcome {
    let show = arguments.show();
    let reports = match &arguments.task {
        Some(Task::Plan(plan)) => plan.reports.of_forms::<ReportForm>()?,
        _ => Vec::new(),
    };
    let mut loaded = LoadedSite::read_rules(rules)?;
    let domains = chosen(&loaded, arguments)?;
    if let Some(format) = arguments.format() {
        let site = loaded.rules().site();
        let all: Vec<_> = domains.iter().map(|domain| (domain, Entry::of(site, domain))).collect();
        entries::write(&all, format, out)?;
        return Ok(ExitStatus::Well);
    }
    let files = files(&loaded, &domains, arguments)?;
    if let (Some(path), [(Some(zone), _)]) = (&show.zone, files.as_slice()) {
        loaded.know(&path.to_string_lossy(), zone.text());
    }
    let asked = match arguments.asks() {
        Some(ask) => {
            let wanted = wanted(&loaded, &domains, &files, ask)?;
            asking::ask(&wanted, ask, out)?.into_iter().map(Some).collect()
        }
        None => domains.iter().map(|_| None).collect(),
    };
    let views = views(&loaded, &domains, &files, asked, arguments)?;
    if let Some(Task::Plan(_)) = &arguments.task
        && let Some(view) = views.iter().find(|view| view.plan.is_none())
    {
        return Err(no_zone(view.domain));
    }
    if let Some(Task::Write(task)) = &arguments.task {
        return written::write(task, &views[0], out);
    }
    let outside: Vec<String> = loaded
        .rules()
        .site()
        .hosts()
        .filter(|host| !loaded.rules().domains().iter().any(|domain| domain.holds(host)))
        .collect();
    match show.json {
        true => data::print(&loaded, &views, &outside, out)?,
        false => print(&loaded, &views, &outside, out)?,
    }
    write_all(&reports, |form| match views.as_slice() {
        [View { domain, plan: Some(plan), timelines: Some((at_once, in_order)), .. }] => {
            let (name, stages) = (domain.name().as_str(), stages::of(plan, in_order));
            Ok(match form {
                ReportForm::Svg => svg::draw(name, (at_once, in_order), &stages),
                ReportForm::Html => page::of(name, (at_once, in_order), &stages),
            })
        }
        views => Err(no_zone(views[0].domain)),
    })?;
    Ok(if views.iter().all(View::is_well) { ExitStatus::Well } else { ExitStatus::Found })
}

/// The zone and the certificate of each domain; no zone where its servers are asked.
type DomainFiles = (Option<Zone>, Option<Certificate>);

fn files(
    loaded: &LoadedSite,
    domains: &[Domain],
    arguments: &Arguments,
) -> Result<Vec<DomainFiles>, Failure> {
    let given = arguments.show().zone.as_deref();
    // What a zone includes is in its folder.
    let read = |path: &str| match given {
        Some(zone) if zone.parent() == Path::new(path).parent() => std::fs::read(path),
        _ => loaded.named(path),
    };
    let unreadable = |error: ravel_dns::NamedFileError| Failure::Message(error.to_string());
    let mut files = Vec::new();
    for domain in domains {
        let zone = match arguments.asks() {
            Some(Ask { step: None, .. }) => None,
            _ => Zone::of_domain(domain, read).map_err(unreadable)?,
        };
        files.push((zone, Certificate::of_domain(domain, read).map_err(unreadable)?));
    }
    Ok(files)
}

/// What name servers are asked for: all that the site needs, or what one step changes.
fn wanted<'d>(
    loaded: &LoadedSite,
    domains: &'d [Domain],
    files: &[DomainFiles],
    ask: &Ask,
) -> Result<Vec<(&'d Domain, Vec<Requirement>)>, Failure> {
    let site = loaded.rules().site();
    let mut wanted = Vec::new();
    for (domain, (zone, certificate)) in domains.iter().zip(files) {
        let Some(step) = ask.step.map(usize::from) else {
            wanted.push((domain, Requirement::of(site, domain)));
            continue;
        };
        let zone = zone.as_ref().ok_or_else(|| no_zone(domain))?;
        let plan = Plan::new(site, domain, zone);
        let now = Moment::from(SystemTime::now());
        let timeline = Timeline::in_order(&plan, certificate.as_ref(), now);
        let steps = ZoneStep::of(&timeline, zone);
        let step = steps.get(step - 1).ok_or_else(|| {
            let name = domain.name();
            Failure::Message(match steps.len() {
                0 => format!("nothing has to change in the zone of `{name}`, so it has no steps"),
                many => format!("the zone of `{name}` changes in {}", count(many, "step", "steps")),
            })
        })?;
        wanted.push((domain, Requirement::of_step(step)));
    }
    Ok(wanted)
}

/// All that is known of each domain.
fn views<'a>(
    loaded: &'a LoadedSite,
    domains: &'a [Domain],
    files: &'a [DomainFiles],
    asked: Vec<Option<DomainAnswers>>,
    arguments: &Arguments,
) -> Result<Vec<View<'a>>, Failure> {
    let moment = match &arguments.task {
        Some(Task::Plan(plan)) => Some(plan.moment),
        _ => None,
    };
    let site = loaded.rules().site();
    let now = Moment::from(SystemTime::now());
    let (mut views, mut roots) = (Vec::new(), None);
    for ((domain, (zone, certificate)), asked) in domains.iter().zip(files).zip(asked) {
        // Servers are asked, not the file.
        let zone = zone.as_ref().filter(|_| asked.is_none());
        let plan = zone.map(|zone| Plan::new(site, domain, zone));
        let mut findings = plan.as_ref().map(Plan::findings).unwrap_or_default();
        if let (Some(certificate), Some(how)) = (certificate, arguments.certificate()) {
            let roots = match &roots {
                Some(known) => known,
                None => roots.insert(roots_of(how)?),
            };
            let check = CertificateCheck::at(now)
                .with_warn_before(i64::from(how.warn_before) * 86_400)
                .with_roots(roots);
            findings.extend(ravel_dns::certificate_findings(site, domain, certificate, &check));
        }
        // The table says row by row what is to do.
        findings.retain(|finding| {
            finding.code() != Code::PendingRecords && !finding.is_accepted(loaded.rules())
        });
        let certificate = certificate.as_ref();
        let timelines = moment.zip(plan.as_ref()).map(|(moment, plan)| {
            let at_once = Timeline::at_once(plan, certificate, moment);
            (at_once, Timeline::in_order(plan, certificate, moment))
        });
        views.push(View { domain, plan, certificate, findings, timelines, asked });
    }
    Ok(views)
}

/// The certificate authorities that are trusted: those of a file, or those of this machine.
fn roots_of(how: &CertificateArguments) -> Result<Roots, Failure> {
    let Some(path) = &how.ca else {
        return Ok(Roots::from_der(ravel_serve::machine_authorities()));
    };
    let unreadable = |why: String| Failure::Message(format!("`{}`: {why}", path.display()));
    let pem =
        std::fs::read(path).map_err(|error| unreadable(format!("cannot read it: {error}")))?;
    Roots::read(&pem).map_err(|error| unreadable(error.to_string()))
}

impl View<'_> {
    /// Whether there is nothing to do, and nothing wrong.
    fn is_well(&self) -> bool {
        let rows = self.plan.iter().flat_map(|plan| plan.rows()).any(|row| row.action().is_to_do());
        let wrong =
            self.findings.iter().any(|finding| finding.code().severity() == Severity::Error);
        let answers = self.asked.as_ref().is_none_or(DomainAnswers::is_met);
        !rows && !wrong && answers
    }
}

/// The domains that are meant, with the zone file that is named instead of theirs.
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
    let show = arguments.show();
    let is_meant = |domain: &&Domain| match &show.domain {
        Some(name) => domain.name().as_str() == name.trim_end_matches('.'),
        None => true,
    };
    let mut chosen: Vec<Domain> = all.iter().filter(is_meant).cloned().collect();
    let of_one = match &arguments.task {
        Some(Task::Write(_)) => Some("write"),
        Some(Task::Ask(Ask { step: Some(_), .. })) => Some("--step"),
        Some(Task::Plan(plan)) if plan.reports.are_wanted() => Some("--report"),
        _ => show.zone.as_ref().map(|_| "--zone"),
    };
    match (chosen.len(), of_one) {
        (0, _) => return message(format!("unknown domain; the rules have {}", names())),
        (1, _) | (_, None) => {}
        (_, Some(option)) => {
            return message(format!(
                "`{option}` is for one domain; add `--domain` with {}",
                names()
            ));
        }
    }
    let has_roots = arguments.certificate().is_some_and(|how| how.ca.is_some());
    if has_roots && chosen.iter().all(|domain| domain.certificate().is_none()) {
        return message(
            "`--ca` is for a domain whose certificate is known; name its file with `certificate FILE` \
             below `domain`"
                .to_owned(),
        );
    }
    if let Some(path) = &show.zone {
        for domain in &mut chosen {
            let line = domain.zone().map_or(domain.line(), NamedFile::line);
            *domain = domain.clone().with_zone(NamedFile::new(path.to_string_lossy(), line));
        }
    }
    Ok(chosen)
}

pub(crate) fn no_zone(domain: &Domain) -> Failure {
    Failure::Message(format!(
        "the zone of `{}` is unknown; name its file with `zone FILE` below `domain`, or with `--zone FILE`",
        domain.name()
    ))
}

fn print(
    loaded: &LoadedSite,
    views: &[View<'_>],
    outside: &[String],
    out: &mut dyn Write,
) -> Result<(), Failure> {
    for view in views {
        if let Some(asked) = &view.asked {
            asked::print(view.domain, asked, out)?;
            continue;
        }
        match &view.plan {
            Some(plan) => table::print(plan, out)?,
            None => {
                entries::print(view.domain, &Entry::of(loaded.rules().site(), view.domain), out)?
            }
        }
        if let Some(certificate) = view.certificate {
            table::print_certificate(certificate, out)?;
        }
        writeln!(out)?;
        let shown: Vec<&Finding> = view.findings.iter().collect();
        findings::print(loaded, &shown, true, out)?;
        let Some(plan) = &view.plan else { continue };
        summary(plan, &view.findings, out)?;
        if let Some((at_once, in_order)) = &view.timelines {
            match plan.changes().is_empty() {
                true => writeln!(out, "\nnothing has to change, so there is nothing to plan\n")?,
                false => {
                    let stages = stages::of(plan, in_order);
                    let now = Moment::from(SystemTime::now());
                    chart::print((at_once, in_order), &stages, now, out)?;
                }
            }
        }
    }
    if !outside.is_empty() {
        let hosts = outside.join(", ");
        writeln!(out, "{}", in_style(FAINT, format_args!("no `domain` statement covers {hosts}")))?;
    }
    Ok(())
}

fn summary(plan: &Plan<'_>, findings: &[Finding], out: &mut dyn Write) -> std::io::Result<()> {
    let of = |action| plan.rows().iter().filter(|row| row.action() == action).count();
    let errors =
        findings.iter().filter(|finding| finding.code().severity() == Severity::Error).count();
    let warnings = findings.len() - errors;
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
        count(errors, "error", "errors"),
        count(warnings, "warning", "warnings")
    );
    writeln!(out, "{}", in_style(if to_do || errors > 0 { BAD } else { GOOD }, text))
}
