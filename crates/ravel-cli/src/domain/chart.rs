//! What visitors see while records change, for the terminal: a strip a host, then the moments.

use std::io::{self, Write};

use anstyle::Style;
use ravel_dns::{
    Destinations, Gap, HostTimeline, Issuance, Moment, Step, StepKind, Timeline, Window,
};

use super::stages::{self, Stage, they_are};
use super::table::{Cell, columns, duration, signed};
use crate::diagnostic::{width, write_folded};
use crate::style::{BAD, FAINT, GOOD, NOTE, STRONG, in_style};

/// How wide a strip is at most and at least, in characters; between them, as the terminal has room.
const WIDTHS: (usize, usize) = (20, 64);

/// Marks on the axis, at most.
const MAX_MARKS: i64 = 6;

pub(super) fn print(
    (at_once, in_order): (&Timeline, &Timeline),
    stages: &[Stage],
    now: Moment,
    out: &mut dyn Write,
) -> io::Result<()> {
    writeln!(out, "\n{}  everything at {}\n", in_style(STRONG, "at once"), at_once.moment())?;
    timeline(at_once, out)?;
    writeln!(
        out,
        "\n{}  step by step, with the cut-over at the same moment\n",
        in_style(STRONG, "in order")
    )?;
    stages::print(stages, out)?;
    timeline(in_order, out)?;
    if let Some(first) =
        in_order.steps().first().filter(|first| first.at() < now && in_order.moment() > now)
    {
        let earliest = now.plus(in_order.moment().since(first.at()));
        let text = format!(
            "the first step should have been at {}; begun now, the cut-over can be at {}",
            first.at(),
            earliest
        );
        write_folded(&in_style(NOTE, text), "", "  ", out)?;
    }
    writeln!(out)
}

fn timeline(timeline: &Timeline, out: &mut dyn Write) -> io::Result<()> {
    strips(timeline, out)?;
    writeln!(out)?;
    moments(timeline, out)?;
    for words in gaps_in_words(timeline) {
        write_folded(&in_style(BAD, words), "", "  ", out)?;
    }
    Ok(())
}

/// When some get no HTTPS from the new site, and why.
pub(super) fn gaps_in_words(timeline: &Timeline) -> Vec<String> {
    match timeline.certificate() {
        Issuance::Forbidden => {
            vec!["no certificate can be issued while CAA forbids it; the new site stays without HTTPS".to_owned()]
        }
        _ => {
            let gaps =
                timeline.hosts().iter().filter_map(|host| Some(gap_in_words(host, host.gap()?)));
            let hint =
                "with `issue verification`, if the hosting can do that, there is no such time";
            gaps.chain(timeline.needs_no_gap().then(|| hint.to_owned())).collect()
        }
    }
}

fn gap_in_words(host: &HostTimeline, gap: Gap) -> String {
    let name = &host.host();
    match gap.until() {
        None => format!("{name}: without HTTPS from {} on", gap.from()),
        Some(until) => format!(
            "{name}: without HTTPS for {}, from {} to {}",
            duration(until.since(gap.from())),
            gap.from(),
            until
        ),
    }
}

/// Start and end of what is drawn: a little more than what happens.
pub(super) fn extent(timeline: &Timeline) -> (Moment, Moment) {
    let (from, until) = timeline.extent();
    let margin = (until.since(from) / 12).max(5 * 60);
    (from.plus(-margin), until.plus(margin))
}

/// Round distances from the cut-over, in seconds, that are marked on the axis.
pub(super) fn marks(timeline: &Timeline, most: i64) -> Vec<i64> {
    const STEPS: [i64; 14] = [
        60, 300, 900, 1_800, 3_600, 10_800, 21_600, 43_200, 86_400, 172_800, 604_800, 1_209_600,
        2_419_200, 31_536_000,
    ];
    let (from, until) = extent(timeline);
    let (from, until) = (from.since(timeline.moment()), until.since(timeline.moment()));
    let step = STEPS
        .into_iter()
        .find(|step| (until - from) / step < most)
        .unwrap_or((until - from) / most.max(1) + 1);
    (from.div_euclid(step) + 1..=until.div_euclid(step)).map(|number| number * step).collect()
}

fn strips(timeline: &Timeline, out: &mut dyn Write) -> io::Result<()> {
    let (from, until) = extent(timeline);
    let length = until.since(from).max(1);
    let names = timeline.hosts().iter().map(|host| host.host().chars().count()).max().unwrap_or(0);
    let room = width().saturating_sub(names + 2).clamp(WIDTHS.0, WIDTHS.1) as i64;
    let at = |column: i64| from.plus(length * column / room);
    let mut labels = String::new();
    let mut ruler: Vec<char> = vec!['─'; room as usize];
    for mark in marks(timeline, (room / 10).min(MAX_MARKS)) {
        let column = timeline.moment().plus(mark).since(from) * room / length;
        let column = column.clamp(0, room - 1) as usize;
        ruler[column] = if mark == 0 { '┼' } else { '┬' };
        if labels.chars().count() <= column {
            labels.push_str(&" ".repeat(column - labels.chars().count()));
            labels.push_str(&signed(mark));
            labels.push(' ');
        }
    }
    writeln!(out, "{:names$}  {}", "", in_style(FAINT, labels.trim_end()))?;
    writeln!(out, "{:names$}  {}", "", in_style(FAINT, ruler.iter().collect::<String>()))?;
    for host in timeline.hosts() {
        let mut strip = String::new();
        for column in 0..room {
            let (style, mark) = glyph(within(host, at(column), at(column + 1)));
            strip.push_str(&in_style(style, mark));
        }
        writeln!(out, "{:names$}  {strip}", host.host())?;
    }
    let shown: Vec<Destinations> = timeline
        .hosts()
        .iter()
        .flat_map(|host| host.spans().iter().map(|span| span.ends()))
        .collect();
    let legend = LEGEND
        .iter()
        .filter(|(ends, _)| shown.iter().any(|shown| glyph(*shown).1 == glyph(*ends).1));
    let legend = legend.map(|(ends, words)| {
        let (style, mark) = glyph(*ends);
        format!("{} {words}", in_style(style, mark))
    });
    let below = " ".repeat(names + 2);
    write_folded(&legend.collect::<Vec<_>>().join("   "), &below, &below, out)
}

const LEGEND: [(Destinations, &str); 5] = [
    (Destinations::new(true, false, false), "not the new site"),
    (Destinations::new(true, true, false), "either"),
    (Destinations::new(false, true, true), "the new site, or not found"),
    (Destinations::new(false, false, true), "not found"),
    (Destinations::new(false, true, false), "the new site"),
];

/// What can be reached in a stretch of time, put together, so that nothing short is lost.
fn within(host: &HostTimeline, from: Moment, until: Moment) -> Destinations {
    let mut all = Destinations::default();
    let inside = host.spans().iter().filter(|span| {
        span.from().is_none_or(|start| start < until) && span.until().is_none_or(|end| end > from)
    });
    for span in inside {
        all.add(span.ends());
    }
    all
}

fn glyph(ends: Destinations) -> (Style, &'static str) {
    match (ends.is_old(), ends.is_missing(), ends.is_new()) {
        (_, false, false) => (FAINT, "░"),
        (_, true, false) => (BAD, "·"),
        (_, true, true) => (BAD, "∶"),
        (true, false, true) => (NOTE, "▒"),
        (false, false, true) => (GOOD, "█"),
    }
}

fn moments(timeline: &Timeline, out: &mut dyn Write) -> io::Result<()> {
    let from_switch = |at: Option<Moment>, otherwise: &str| match at {
        Some(at) => relative(timeline.moment(), at),
        None => otherwise.to_owned(),
    };
    let plain = Style::new();
    let rows: Vec<Vec<Cell>> = timeline
        .hosts()
        .iter()
        .map(|host| {
            let same = host.spans().len() == 1;
            let cell = |at, otherwise| {
                (plain, if same { "as now".to_owned() } else { from_switch(at, otherwise) })
            };
            let gone = host.last_old().max(host.last_missing());
            vec![
                (STRONG, host.host().to_owned()),
                cell(
                    host.spans()
                        .iter()
                        .find(|span| span.ends().is_new())
                        .and_then(|span| span.from()),
                    "now already",
                ),
                cell(host.all_new(), "never"),
                cell(gone, "–"),
                (
                    if host.https().is_some() { plain } else { BAD },
                    from_switch(
                        host.https().filter(|_| !same),
                        if host.https().is_some() { "as now" } else { "never" },
                    ),
                ),
            ]
        })
        .collect();
    columns(
        &["host", "new for some", "new for all", "old or missing until", "HTTPS for all"],
        &rows,
        out,
    )?;
    for host in timeline.unseen() {
        let text = format!("{host}: the zone does not show what it gets");
        write_folded(&in_style(FAINT, text), "", "  ", out)?;
    }
    let window = |what: &str, window: Window| {
        let [best, worst] =
            [window.best(), window.worst()].map(|at| relative(timeline.moment(), at));
        format!("{what}: at best {best}, at worst {worst}")
    };
    if let Some(verification) = timeline.verification() {
        write_folded(&window("ownership can be verified", verification), "", "  ", out)?;
    }
    if let Issuance::In(issued) = timeline.certificate() {
        write_folded(&window("a certificate is issued", issued), "", "  ", out)?;
    }
    if let Some(servers) = timeline.name_servers() {
        let stop = timeline.steps().iter().find(|step| matches!(step.kind(), StepKind::Stop(_)));
        let until = stop.map_or(timeline.moment(), Step::at);
        let still = duration(until.since(timeline.moment()));
        let text = format!("{} asked for up to {still}", they_are(servers.from()));
        write_folded(&text, "", "  ", out)?;
        if servers.is_assumed() {
            let ttl = duration(i64::from(servers.parent_ttl()));
            let text = format!(
                "a TTL of {ttl} is assumed for the delegation; `ravel domain ask` shows it, and `parent-ttl` below `domain` states it"
            );
            write_folded(&in_style(FAINT, text), "", "  ", out)?;
        }
    }
    Ok(())
}

fn relative(switch: Moment, at: Moment) -> String {
    match at.since(switch) {
        0 => "at the cut-over".to_owned(),
        seconds if seconds > 0 => format!("{} later", duration(seconds)),
        seconds => format!("{} before", duration(seconds)),
    }
}
