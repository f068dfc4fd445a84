//! What `--json` prints.

use std::io::{self, Write};

use ravel::rules::NamedFile;
use ravel_dns::{
    Certificate, Course, Gap, Held, HostCourse, Issued, Moment, Plan, Row, Step, StepKind, Window,
};
use ravel_serve::{Asked, Said};
use serde_json::{Value, json};

use super::{View, asked};
use crate::findings::finding_data;
use crate::load::Loaded;

pub(super) fn print(
    loaded: &Loaded,
    views: &[View<'_>],
    outside: &[String],
    out: &mut dyn Write,
) -> io::Result<()> {
    let domains: Vec<Value> = views.iter().map(|view| domain(loaded, view)).collect();
    serde_json::to_writer_pretty(&mut *out, &json!({ "domains": domains, "outside": outside }))?;
    writeln!(out)
}

fn domain(loaded: &Loaded, view: &View<'_>) -> Value {
    let findings: Vec<Value> =
        view.findings.iter().map(|finding| json!(finding_data(loaded, finding))).collect();
    let mut value = json!({
        "name": view.domain.name().as_str(),
        "zone": view.plan.as_ref().map(zone),
        "rows": view.plan.as_ref().map(|plan| plan.rows().iter().map(row).collect::<Vec<_>>()),
        "certificate": view.certificate.map(certificate),
        "findings": findings,
    });
    if !view.asked.is_empty() {
        value["servers"] = view.asked.iter().map(|asked| server(view, asked)).collect();
    }
    if let Some((at_once, in_order)) = &view.courses {
        value["switch"] = json!({ "at_once": course(at_once), "in_order": course(in_order) });
    }
    value
}

fn zone(plan: &Plan<'_>) -> Value {
    json!({
        "file": plan.domain().zone().map(NamedFile::path),
        "serial": plan.zone().serial(),
        "negative_ttl": plan.zone().negative_ttl(),
    })
}

fn row(row: &Row) -> Value {
    let held = |held: &Held| json!({ "data": held.data(), "ttl": held.ttl() });
    json!({
        "host": row.host(),
        "type": row.kind().to_string(),
        "there": row.there().map(held),
        "needed": row.needed().map(held),
        "action": row.action().name(),
        "note": row.note(),
    })
}

fn certificate(certificate: &Certificate) -> Value {
    let (from, until) = certificate.validity();
    json!({ "hosts": certificate.hosts(), "from": from.to_string(), "until": until.to_string(), "issuer": certificate.issuer() })
}

fn server(view: &View<'_>, server: &Asked) -> Value {
    let answers = server.said().as_ref().ok().map(|said| {
        let answers = view.wanted.iter().zip(said).map(|(wanted, said)| {
            let (records, error) = match said {
                Said::Records(records) => (records.as_slice(), None),
                Said::NoName => (&[][..], Some("no such name")),
                Said::Refused(why) => (&[][..], Some(why.as_str())),
            };
            let records: Vec<Value> = records
                .iter()
                .map(|(data, ttl)| json!({ "type": data.record_type().to_string(), "data": data.to_string(), "ttl": ttl }))
                .collect();
            json!({
                "host": wanted.host(),
                "type": wanted.kind().to_string(),
                "needed": wanted.data().iter().map(ToString::to_string).collect::<Vec<_>>(),
                "records": records,
                "error": error,
                "as_needed": asked::meets(wanted, said),
            })
        });
        answers.collect::<Vec<_>>()
    });
    json!({ "server": server.server().to_string(), "error": server.said().as_ref().err(), "answers": answers })
}

fn course(course: &Course) -> Value {
    json!({
        "moment": course.moment().to_string(),
        "steps": course.steps().iter().map(step).collect::<Vec<_>>(),
        "hosts": course.hosts().iter().map(host).collect::<Vec<_>>(),
        "unseen": course.unseen(),
        "proof": course.proof().map(window),
        "certificate": match course.certificate() {
            Issued::There => json!("there"),
            Issued::Forbidden => json!("forbidden"),
            Issued::In(times) => window(times),
        },
    })
}

fn step(step: &Step) -> Value {
    let name = match step.kind() {
        StepKind::Lower(..) => "lower",
        StepKind::Prove => "prove",
        StepKind::Allow => "allow",
        StepKind::Issue => "issue",
        StepKind::Switch => "switch",
        StepKind::Raise => "raise",
    };
    let mut value = json!({ "at": step.at().to_string(), "step": name });
    if let StepKind::Lower(sets, ttl) = &step.kind() {
        value["ttl"] = json!(ttl);
        value["records"] = sets
            .iter()
            .map(|(name, kind, ttl)| json!({ "name": name, "type": kind.to_string(), "ttl": ttl }))
            .collect();
    }
    value
}

fn window(window: Window) -> Value {
    json!({ "best": window.best().to_string(), "worst": window.worst().to_string() })
}

fn host(host: &HostCourse) -> Value {
    let at = |at: Option<Moment>| at.map(|at| at.to_string());
    let gap = |gap: Gap| json!({ "from": gap.from().to_string(), "until": at(gap.until()) });
    let spans: Vec<Value> = host
        .spans()
        .iter()
        .map(|span| {
            let ends = span.ends();
            json!({ "from": at(span.from()), "until": at(span.until()), "old": ends.is_old(), "new": ends.is_new(), "missing": ends.is_missing() })
        })
        .collect();
    json!({
        "host": host.host(),
        "spans": spans,
        "all_new": at(host.all_new()),
        "last_old": at(host.last_old()),
        "last_missing": at(host.last_missing()),
        "https": at(host.https()),
        "gap": host.gap().map(gap),
    })
}
