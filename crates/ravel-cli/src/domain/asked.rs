//! What name servers say, one column a server.

use std::io::{self, Write};

use anstyle::Style;
use ravel::rules::Domain;
use ravel_dns::Requirement;
use ravel_dns::zone::RecordData;
use ravel_serve::{ServerAnswer, ServerReport};

use super::answers::{DomainAnswers, meets, ttls};
use super::table::{Cell, columns, cut, duration};
use crate::style::{BAD, FAINT, GOOD, NOTE, STRONG, count, in_style};

pub(super) fn print(domain: &Domain, all: &DomainAnswers, out: &mut dyn Write) -> io::Result<()> {
    let (wanted, asked) = (&all.wanted, &all.reports);
    let servers = count(asked.len(), "server says", "servers say");
    writeln!(out, "{}  as {servers}", in_style(STRONG, domain.name()))?;
    if let Some(found) = &all.delegation {
        let names: Vec<String> =
            found.servers().iter().map(|server| server.name().to_string()).collect();
        let (ttl, parent) = (duration(i64::from(found.ttl())), found.parent());
        let text = format!("{parent} delegates it to {}, for {ttl}", names.join(", "));
        writeln!(out, "{}", in_style(FAINT, text))?;
    }
    writeln!(out)?;
    let titles: Vec<String> = asked.iter().map(title).collect();
    let mut head = vec!["host", "type", "needed"];
    head.extend(titles.iter().map(String::as_str));
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    let mut last = "";
    for (number, wanted) in wanted.iter().enumerate() {
        let host = if wanted.host() == last { String::new() } else { wanted.host().to_owned() };
        last = wanted.host();
        // Several records of one name stand below each other.
        let mut cells = vec![
            vec![(STRONG, host)],
            vec![(Style::new(), wanted.kind().to_string())],
            needed(wanted),
        ];
        cells.extend(asked.iter().map(|asked| match asked.said() {
            Err(_) => vec![(FAINT, "?".to_owned())],
            Ok(said) => said.get(number).map_or_else(Vec::new, |said| answer(wanted, said)),
        }));
        let height = cells.iter().map(Vec::len).max().unwrap_or(1);
        rows.extend((0..height).map(|line| {
            cells.iter().map(|cell| cell.get(line).cloned().unwrap_or_default()).collect()
        }));
    }
    columns(&head, &rows, out)?;
    writeln!(out)?;
    for asked in asked {
        let (style, text) = match asked.said() {
            Err(why) => (BAD, format!("does not answer: {why}")),
            Ok(said) => {
                let unmet =
                    wanted.iter().zip(said).filter(|(wanted, said)| !meets(wanted, said)).count();
                match unmet {
                    0 => (GOOD, "says what is needed".to_owned()),
                    _ => {
                        let unmet_rows =
                            wanted.iter().zip(said).filter(|(wanted, said)| !meets(wanted, said));
                        let keeps = unmet_rows.flat_map(|(_, said)| ttls(said)).max().unwrap_or(0);
                        let rows = count(unmet, "row", "rows");
                        let kept = match asked.name() {
                            Some("resolver") if keeps > 0 => {
                                format!(", which it keeps for up to {}", duration(i64::from(keeps)))
                            }
                            _ => String::new(),
                        };
                        (BAD, format!("says something else in {rows}{kept}"))
                    }
                }
            }
        };
        writeln!(out, "{}  {}", title(asked), in_style(style, text))?;
    }
    for fault in &all.faults {
        let style = if fault.is_fatal() { BAD } else { NOTE };
        writeln!(out, "{}", in_style(style, fault.message()))?;
    }
    Ok(())
}

/// A server as people name it.
fn title(asked: &ServerReport) -> String {
    match asked.name() {
        Some(name) => format!("{name} {}", asked.server()),
        None => asked.server().to_string(),
    }
}

fn needed(wanted: &Requirement) -> Vec<Cell> {
    if wanted.data().is_empty() {
        return vec![(FAINT, "–".to_owned())];
    }
    wanted.data().iter().map(|data| (Style::new(), cut(&data.to_string()))).collect()
}

fn answer(wanted: &Requirement, said: &ServerAnswer) -> Vec<Cell> {
    let style = if meets(wanted, said) { GOOD } else { BAD };
    match said {
        ServerAnswer::Records(records) if records.is_empty() => vec![(style, "–".to_owned())],
        ServerAnswer::Records(records) => {
            records.iter().map(|record| (style, shown(wanted, record))).collect()
        }
        ServerAnswer::NoName => vec![(style, "no such name".to_owned())],
        ServerAnswer::Refused(why) => vec![(style, why.clone())],
    }
}

fn shown(wanted: &Requirement, (data, ttl): &(RecordData, u32)) -> String {
    let kind = if data.record_type() == wanted.kind() {
        String::new()
    } else {
        format!("{} ", data.record_type())
    };
    format!("{kind}{}  {}", cut(&data.to_string()), duration(i64::from(*ttl)))
}
