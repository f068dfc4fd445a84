//! Hostile notations, read as BIND's `named-compilezone` reads them: values in wire form, and TTLs.

use std::collections::BTreeSet;
use std::fs;
use std::process::Command;

use crate::hostile::{BASE, NOTATIONS, PARTS};
use ravel_dns::Zone;

/// A zone, with what it includes.
fn zone(text: &str) -> Result<Zone, String> {
    let read = |name: &str| {
        let part = PARTS.iter().find(|(part, _)| *part == name);
        part.map(|(_, text)| text.as_bytes().to_vec()).ok_or("no such file")
    };
    Zone::parse_with("harbour.example", text, "", read).map_err(|error| error.to_string())
}

/// The records of a zone in wire form; what has a notation that is not known is left out.
fn records(text: &str) -> Result<BTreeSet<String>, String> {
    let zone = zone(text)?;
    // A name server passes over what is not in the zone.
    let line = |record: &ravel_dns::zone::Record| {
        zone.origin().holds(record.name()).then_some(())?;
        let data = record.data()?.to_wire();
        let name = record.name().to_master().to_lowercase();
        Some(format!("{name} {} {} {data:02x?}", record.ttl(), record.kind()))
    };
    Ok(zone.records().filter_map(line).collect())
}

/// Zones that are written are read as what they were read from.
#[test]
fn names_and_data_outlive_being_written() {
    for notation in NOTATIONS {
        let Ok(zone) = zone(&format!("{BASE}{notation}\n")) else { continue };
        for record in zone.records() {
            let name = record.name().to_master();
            assert_eq!(name.parse().as_ref(), Ok(record.name()), "{notation}");
            let Some(data) = record.data() else { continue };
            let text = format!("{BASE}y {} {} {data}\n", record.ttl(), record.kind());
            if record.kind() == ravel_dns::zone::RecordType::SOA {
                continue;
            }
            let again = Zone::parse("harbour.example", &text)
                .unwrap_or_else(|error| panic!("{error}: {text}"));
            let last = again.records().last().unwrap();
            assert_eq!(last.data(), Some(data), "{notation}: {text}");
        }
    }
}

#[test]
#[ignore = "needs named-compilezone"]
fn notations_are_read_as_a_name_server_reads_them() {
    let folder = std::env::temp_dir().join(format!("ravel-notations-{}", std::process::id()));
    fs::create_dir_all(&folder).unwrap();
    for (name, text) in PARTS {
        fs::write(folder.join(name), text).unwrap();
    }
    let [file, compiled] = ["in.zone", "out.zone"].map(|name| folder.join(name));
    let (mut same, mut refused) = (0, 0);
    for notation in NOTATIONS {
        fs::write(&file, format!("{BASE}{notation}\n")).unwrap();
        let run = Command::new("named-compilezone")
            .current_dir(&folder)
            .args(["-i", "none", "-k", "ignore", "-f", "text", "-F", "text", "-s", "full", "-o"])
            .args([&compiled])
            .arg("harbour.example")
            .arg(&file)
            .output()
            .expect("named-compilezone runs");
        let ours = records(&format!("{BASE}{notation}\n"));
        if !run.status.success() {
            assert!(
                ours.is_err(),
                "{notation} is refused: {}",
                String::from_utf8_lossy(&run.stdout)
            );
            refused += 1;
            continue;
        }
        let theirs = records(&fs::read_to_string(&compiled).unwrap());
        assert_eq!(ours, theirs, "{notation}");
        same += 1;
    }
    fs::remove_dir_all(&folder).unwrap();
    println!("{same} read alike, {refused} refused alike");
    assert!(same >= 100);
}

/// What a directive stands for is written as the directive until one of its records changes, and
/// then as records; all others stay as they are.
#[test]
fn directives_are_written_out_where_their_records_change() {
    use ravel_dns::zone::{Change, Changes, NewRecord, Record, RecordType};

    let text = format!(
        "{BASE}one A 192.0.2.4\n$GENERATE 1-2 g$ 60 A 192.0.2.$ ; berths\n TXT still-one\n$INCLUDE part.zone sub\n\
         $INCLUDE ttl.zone own\nmore A 192.0.2.5\n\
         last LOC 1 0 0 N 2 0 0 E 0m\n"
    );
    let zone = zone(&text).unwrap();
    let key = |record: &Record| {
        (record.name().to_string(), record.kind(), record.ttl(), record.data().cloned())
    };
    let records: Vec<_> = zone.records().map(key).collect();
    let added = [9, 3_600, 7_200].map(|ttl| {
        let name = format!("new{ttl}.harbour.example").parse().unwrap();
        NewRecord::new(name, ttl, RecordType::A, "192.0.2.99")
    });
    for number in 0..records.len() {
        if records[number].1 == RecordType::SOA {
            continue;
        }
        for change in [Change::Remove, Change::Set { ttl: Some(7), data: None }] {
            let mut changes = Changes::default();
            changes.change(number as u32, change.clone());
            added.iter().cloned().for_each(|record| changes.add(record));
            let written = zone.with(&changes);
            let mut wanted = records.clone();
            match change {
                Change::Remove => drop(wanted.remove(number)),
                Change::Set { .. } => wanted[number].2 = 7,
            }
            wanted.retain(|record| record.1 != RecordType::SOA);
            let again = zone.changed(&changes);
            let mut found: Vec<_> = again.records().map(key).collect();
            found.retain(|record| record.1 != RecordType::SOA && !record.0.starts_with("new"));
            for record in &added {
                let there = again.set(record.name(), record.kind()).next().unwrap();
                assert_eq!(there.ttl(), record.ttl(), "{written}");
            }
            assert_eq!(found, wanted, "{number} {change:?}: {written}");
            assert_eq!((again.records().len(), again.serial()), (wanted.len() + 4, 2), "{written}");
            let is_in = |name: &str| records[number].0.starts_with(name);
            assert_eq!(written.contains("\n$GENERATE"), !is_in("g"), "{written}");
            assert_eq!(
                written.contains("\n$INCLUDE part"),
                !records[number].0.contains("sub.harbour"),
                "{written}"
            );
        }
    }
    assert_eq!(zone.with(&Changes::default()), text);
}
