//! What to enter at the DNS host, where nothing is known of the zone.

use std::io::{self, Write};

use anstyle::Style;
use ravel::rules::Domain;
use ravel_dns::Entry;
use ravel_dns::zone::RecordType;

use super::arguments::EntryFormat;
use super::table::{Cell, columns};
use crate::style::{FAINT, STRONG, in_style};

/// The type as forms have it.
fn kind(entry: &Entry) -> String {
    entry.kind().map_or("alias".to_owned(), |kind: RecordType| kind.to_string())
}

/// A table to enter row by row.
pub(super) fn print(domain: &Domain, entries: &[Entry], out: &mut dyn Write) -> io::Result<()> {
    writeln!(
        out,
        "{}  what to enter at its DNS host, in this order\n",
        in_style(STRONG, domain.name())
    )?;
    let plain = Style::new();
    let cells = |entry: &Entry| -> Vec<Cell> {
        vec![
            (STRONG, entry.relative().to_owned()),
            (plain, entry.name().to_master()),
            (plain, kind(entry)),
            (plain, entry.value().to_owned()),
            (plain, entry.ttl().to_string()),
        ]
    };
    let rows: Vec<Vec<Cell>> = entries.iter().map(cells).collect();
    columns(&["name", "or whole", "type", "value", "TTL (s)"], &rows, out)?;
    writeln!(out)?;
    for entry in entries {
        if let Some(note) = entry.note() {
            writeln!(out, "{}: {note}", entry.relative())?;
        }
    }
    let next =
        "`ravel domain ask` says where it is visible; name the zone with `zone FILE` to compare";
    writeln!(out, "{}", in_style(FAINT, next))
}

/// The same for programs.
pub(super) fn write(
    all: &[(&Domain, Vec<Entry>)],
    format: EntryFormat,
    out: &mut dyn Write,
) -> io::Result<()> {
    match format {
        EntryFormat::Zone => {
            for (domain, entries) in all {
                writeln!(out, "; {}", domain.name())?;
                for entry in entries {
                    writeln!(out, "{entry}")?;
                }
            }
        }
        EntryFormat::Csv => {
            let mut table = csv::Writer::from_writer(&mut *out);
            table.write_record(["domain", "name", "whole_name", "type", "value", "ttl"])?;
            for (domain, entries) in all {
                for entry in entries {
                    let (whole, ttl) = (entry.name().to_master(), entry.ttl().to_string());
                    let kind = kind(entry);
                    let row = [
                        domain.name().as_str(),
                        entry.relative(),
                        &whole,
                        &kind,
                        entry.value(),
                        &ttl,
                    ];
                    table.write_record(row)?;
                }
            }
            table.flush()?;
        }
        EntryFormat::Json => {
            let domains: Vec<_> = all
                .iter()
                .map(|(domain, entries)| {
                    serde_json::json!({ "name": domain.name().as_str(), "entries": entries })
                })
                .collect();
            serde_json::to_writer_pretty(&mut *out, &serde_json::json!({ "domains": domains }))?;
            writeln!(out)?;
        }
    }
    Ok(())
}
