//! What `--json` prints.

use std::io::{self, Write};

use ravel::rules::NamedFile;
use ravel_dns::{Entry, Plan};
use ravel_serve::{ServerAnswer, ServerReport};
use serde_json::{Value, json};

use super::View;
use super::answers::{DomainAnswers, meets};
use crate::load::LoadedSite;

pub(super) fn print(
    loaded: &LoadedSite,
    views: &[View<'_>],
    outside: &[String],
    out: &mut dyn Write,
) -> io::Result<()> {
    let domains: Vec<Value> = views.iter().map(|view| domain(loaded, view)).collect();
    serde_json::to_writer_pretty(&mut *out, &json!({ "domains": domains, "outside": outside }))?;
    writeln!(out)
}

fn domain(loaded: &LoadedSite, view: &View<'_>) -> Value {
    let mut value = json!({
        "name": view.domain.name().as_str(),
        "zone": view.plan.as_ref().map(zone),
        "rows": view.plan.as_ref().map(Plan::rows),
        "entries": Entry::of(loaded.rules().site(), view.domain),
        "certificate": view.certificate,
        "findings": loaded.rules().data(&*view.findings),
    });
    if let Some(asked) = &view.asked {
        value["servers"] = asked.reports.iter().map(|report| server(asked, report)).collect();
        let faults = asked
            .faults
            .iter()
            .map(|fault| json!({ "message": fault.message(), "is_fatal": fault.is_fatal() }));
        value["delegation"] = json!(asked.delegation.as_ref().map(|found| json!({
            "parent": found.parent().to_string(),
            "ttl": found.ttl(),
            "servers": found.servers().iter().map(|server| server.name().to_string()).collect::<Vec<_>>(),
            "faults": faults.collect::<Vec<_>>(),
        })));
    }
    if let Some((at_once, in_order)) = &view.timelines {
        value["cut_over"] = json!({ "at_once": at_once, "in_order": in_order });
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

fn server(asked: &DomainAnswers, server: &ServerReport) -> Value {
    let answers = server.said().as_ref().ok().map(|said| {
        let answers = asked.wanted.iter().zip(said).map(|(wanted, said)| {
            let (records, error) = match said {
                ServerAnswer::Records(records) => (records.as_slice(), None),
                ServerAnswer::NoName => (&[][..], Some("no such name")),
                ServerAnswer::Refused(why) => (&[][..], Some(why.as_str())),
            };
            let records: Vec<Value> = records
                .iter()
                .map(|(data, ttl)| json!({ "type": data.record_type(), "data": data, "ttl": ttl }))
                .collect();
            json!({
                "host": wanted.host(),
                "type": wanted.kind(),
                "needed": wanted.data(),
                "records": records,
                "error": error,
                "as_needed": meets(wanted, said),
            })
        });
        answers.collect::<Vec<_>>()
    });
    json!({ "server": server.server().to_string(), "name": server.name(), "error": server.said().as_ref().err(), "answers": answers })
}
