//! Zones that are written: as they must be, or step by step.

use std::fs;
use std::io::{self, Write};
use std::path::Path;

use ravel_dns::{Moment, Plan, Timeline, ZoneStep};
use serde_json::json;

use super::arguments::WriteTask;
use super::stages::{self, Stage, line};
use super::table::duration;
use super::{View, no_zone};
use crate::file::{unwritable, write_new, write_or_say};
use crate::style::{STRONG, count, in_style};
use crate::{ExitStatus, Failure};

pub(super) fn write(task: &WriteTask, view: &View<'_>, out: &mut dyn Write) -> crate::Outcome {
    let Some(plan) = &view.plan else { return Err(no_zone(view.domain)) };
    if let Some(record) = plan.signature().filter(|_| !task.unsigned && !plan.changes().is_empty())
    {
        return Err(Failure::Message(format!(
            "the zone is signed (line {}), and what changes would not be; add `--unsigned`, and sign it \
             again before it is published",
            record.line()
        )));
    }
    match (&task.file, &task.steps, task.at) {
        (Some(file), _, _) => write_zone(task, plan, file, out),
        (None, Some(folder), Some(moment)) => {
            let timeline = Timeline::in_order(plan, view.certificate, moment);
            write_steps(task, plan, &timeline, folder, out)
        }
        // What is not given is refused when the arguments are read.
        _ => Ok(ExitStatus::Well),
    }
}

fn write_zone(
    task: &WriteTask,
    plan: &Plan<'_>,
    file: &Path,
    out: &mut dyn Write,
) -> crate::Outcome {
    let zone = plan.zone().with(plan.changes());
    match task.replace {
        true => write_or_say(file, zone.as_bytes())?,
        false => write_new(file, zone.as_bytes()).map_err(|error| match error.kind() {
            io::ErrorKind::AlreadyExists => exists(file),
            _ => unwritable(file, &error),
        })?,
    }
    let (file, serial) = (file.display(), plan.zone().serial());
    let is_changed = !plan.changes().is_empty();
    if task.show.json {
        let serial = if is_changed { serial.wrapping_add(1) } else { serial };
        let data = json!({ "file": file.to_string(), "changed": is_changed, "serial": serial });
        writeln!(out, "{data:#}")?;
        return Ok(ExitStatus::Well);
    }
    let said = match is_changed {
        false => "is the zone unchanged: it has what the site needs".to_owned(),
        true => format!("is the zone as it must be, with serial {}", serial.wrapping_add(1)),
    };
    writeln!(out, "{} {said}", in_style(STRONG, file))?;
    Ok(ExitStatus::Well)
}

fn is_free(task: &WriteTask, file: &Path) -> Result<(), Failure> {
    if file.exists() && !task.replace { Err(exists(file)) } else { Ok(()) }
}

fn exists(file: &Path) -> Failure {
    let path = file.display();
    Failure::Message(format!("`{path}` exists; add `--replace` to overwrite it"))
}

fn write_steps(
    task: &WriteTask,
    plan: &Plan<'_>,
    timeline: &Timeline,
    folder: &Path,
    out: &mut dyn Write,
) -> crate::Outcome {
    let stages = stages::of(plan, timeline);
    let steps: Vec<&ZoneStep> =
        stages.iter().filter_map(|stage| stage.zone.as_ref()).map(|(_, zone)| zone).collect();
    let names: Vec<String> =
        (1..=steps.len()).map(|number| format!("step-{number}.zone")).collect();
    for name in names.iter().map(String::as_str).chain(["README.md"]) {
        is_free(task, &folder.join(name))?;
    }
    fs::create_dir_all(folder).map_err(|error| {
        Failure::Message(format!("cannot make the folder `{}`: {error}", folder.display()))
    })?;
    for (name, step) in names.iter().zip(&steps) {
        write_or_say(&folder.join(name), step.zone().text().as_bytes())?;
    }
    let readme = readme(plan, timeline, &stages);
    write_or_say(&folder.join("README.md"), readme.as_bytes())?;
    if task.show.json {
        let steps = names.iter().zip(&steps).map(|(name, step)| {
            json!({
                "file": folder.join(name).display().to_string(),
                "at": step.at().to_string(),
                "serial": step.zone().serial(),
                "removed": step.removed().iter().map(line).collect::<Vec<_>>(),
                "added": step.added().iter().map(line).collect::<Vec<_>>(),
            })
        });
        writeln!(out, "{:#}", json!({ "steps": steps.collect::<Vec<_>>() }))?;
        return Ok(ExitStatus::Well);
    }
    for (name, step) in names.iter().zip(&steps) {
        let (file, serial) = (folder.join(name), step.zone().serial());
        let file = in_style(STRONG, file.display());
        writeln!(out, "{file}  publish at {}, serial {serial}", step.at())?;
        for record in step.removed() {
            writeln!(out, "  − {}", line(record))?;
        }
        for record in step.added() {
            writeln!(out, "  + {}", line(record))?;
        }
    }
    let readme = folder.join("README.md");
    writeln!(out, "{} says what to do when", in_style(STRONG, readme.display()))?;
    Ok(ExitStatus::Well)
}

/// What to do when, with the file of each step.
fn readme(plan: &Plan<'_>, timeline: &Timeline, stages: &[Stage]) -> String {
    let steps = stages.iter().filter(|stage| stage.zone.is_some()).count();
    let mut text = format!(
        "# The zone of {}, {}\n\nThe cut-over is at {}. Publish each file at its moment or later, in this order; \
         what comes after one\nmoves with it.\n",
        plan.zone().origin(),
        count(steps, "step", "steps"),
        timeline.moment()
    );
    let mut before: Option<Moment> = None;
    for (number, stage) in (1..).zip(stages) {
        let wait = before.map_or(String::new(), |before| {
            format!(", {} later", duration(stage.at.since(before)))
        });
        text.push_str(&format!("\n## {number}. {}{wait}\n\n", stage.at));
        stage.what.iter().for_each(|what| text.push_str(&format!("- {what}\n")));
        before = Some(stage.at);
        let Some((step, zone)) = &stage.zone else { continue };
        let serial = zone.zone().serial();
        text.push_str(&format!("- publish `step-{step}.zone`, serial {serial}:\n\n```diff\n"));
        zone.removed().iter().for_each(|record| text.push_str(&format!("- {}\n", line(record))));
        zone.added().iter().for_each(|record| text.push_str(&format!("+ {}\n", line(record))));
        text.push_str("```\n");
    }
    text
}
