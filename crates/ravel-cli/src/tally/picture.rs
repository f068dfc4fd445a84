//! Requests over time by how they end, as a picture.

use std::collections::BTreeMap;

use maud::{Markup, html};
use ravel_traffic::{Day, Ending, TallyReport};

use super::words::grouped;

/// Sizes, in pixels.
const WIDTH: f64 = 900.0;
const HEIGHT: f64 = 220.0;
const LEFT: f64 = 64.0;
const BOTTOM: f64 = 28.0;
const TOP: f64 = 12.0;
/// The most bars that can be told apart.
const MAX_BARS: usize = 120;

/// Endings in the order in which they are drawn, from the bottom, each with its class: colours differ
/// in lightness, too.
const LAYERS: [(Ending, &str); 9] = [
    (Ending::Missing, "missing"),
    (Ending::Loop, "loop"),
    (Ending::Outside, "outside"),
    (Ending::Refused, "refused"),
    (Ending::Gone, "gone"),
    (Ending::Depends, "depends"),
    (Ending::Redirect, "redirect"),
    (Ending::Elsewhere, "elsewhere"),
    (Ending::File, "file"),
];

pub(super) const STYLE: &str = ".missing{fill:var(--bad)}.loop{fill:#5b1023}.outside{fill:#c4707c}.refused{fill:#8c5a62}.gone{fill:#9a8d78}.depends{fill:#6d7fb3}\
.redirect{fill:#e0a526}.elsewhere{fill:#7fb3a6}.file{fill:#2c7a5e}svg text{font:12px sans-serif;fill:var(--soft)}svg .axis{stroke:var(--rule)}";

/// A bar: some days, and their requests.
struct Bar {
    first: Day,
    requests: BTreeMap<Ending, u64>,
}

/// Nothing where there are no times.
pub(super) fn of(report: &TallyReport) -> Option<Markup> {
    let (bars, days) = bars(report)?;
    let total = |bar: &Bar| bar.requests.values().sum::<u64>();
    let most = bars.iter().map(total).max().unwrap_or(0).max(1);
    let step = (WIDTH - LEFT) / bars.len() as f64;
    let tall = |count: u64| count as f64 / most as f64 * (HEIGHT - TOP - BOTTOM);
    let mut parts: Vec<Markup> = Vec::new();
    for (number, bar) in bars.iter().enumerate() {
        let x = LEFT + number as f64 * step;
        let mut y = HEIGHT - BOTTOM;
        for (ending, class) in LAYERS {
            let count = bar.requests.get(&ending).copied().unwrap_or(0);
            if count == 0 {
                continue;
            }
            let height = tall(count);
            y -= height;
            let said = format!("{}: {} {class}", bar.first, grouped(count));
            parts.push(html! {
                rect class=(class) x=(px(x)) y=(px(y)) width=(px((step - 1.0).max(1.0))) height=(px(height)) { title { (said) } }
            });
        }
    }
    let labels = labels(&bars);
    let per = match days {
        1 => "a day".to_owned(),
        7 => "a week".to_owned(),
        days => format!("in {days} days each"),
    };
    let there: Vec<(Ending, &str)> = LAYERS
        .into_iter()
        .rev()
        .filter(|(ending, _)| bars.iter().any(|bar| bar.requests.contains_key(ending)))
        .collect();
    Some(html! {
        figure {
            svg viewBox=(format!("0 0 {WIDTH} {HEIGHT}")) role="img" aria-label="Requests over time by how they end" {
                @for share in [0, 1, 2] {
                    @let y = HEIGHT - BOTTOM - f64::from(share) / 2.0 * (HEIGHT - TOP - BOTTOM);
                    line class="axis" x1=(px(LEFT)) x2=(px(WIDTH)) y1=(px(y)) y2=(px(y)) {}
                    text x=(px(LEFT - 6.0)) y=(px(y + 4.0)) text-anchor="end" { (grouped(most * share as u64 / 2)) }
                }
                @for part in &parts { (part) }
                @for (number, label) in labels {
                    text x=(px(LEFT + number as f64 * step)) y=(px(HEIGHT - 8.0)) { (label) }
                }
            }
            figcaption {
                "Requests " (per) ": "
                @for (ending, class) in there {
                    span.key { svg width="12" height="12" { rect class=(class) width="12" height="12" {} } " " (ending.as_str()) }
                    " "
                }
            }
        }
    })
}

/// As many days in each bar as it takes to tell bars apart.
fn bars(report: &TallyReport) -> Option<(Vec<Bar>, usize)> {
    let (first, _) = report.days().first_key_value()?;
    let (last, _) = report.days().last_key_value()?;
    let all = usize::try_from(last.number() - first.number()).ok()? + 1;
    let days = [1, 7, 30, 91, 365].into_iter().find(|days| all.div_ceil(*days) <= MAX_BARS)?;
    let mut bars: Vec<Bar> = Vec::new();
    for number in (0..all).step_by(days) {
        let from = first.number() + number as i32;
        let range = Day::from_number(from)?..Day::from_number(from + days as i32)?;
        let mut requests = BTreeMap::new();
        for counts in report.days().range(range.clone()).map(|(_, counts)| counts) {
            for (ending, count) in counts {
                *requests.entry(*ending).or_default() += count;
            }
        }
        bars.push(Bar { first: range.start, requests });
    }
    Some((bars, days))
}

/// Where a month, or a year, begins among bars, so few that they stand beside each other.
fn labels(bars: &[Bar]) -> Vec<(usize, String)> {
    let month = |bar: &Bar| (bar.first.date().0, bar.first.date().1);
    let mut labels: Vec<(usize, String)> = Vec::new();
    for (number, bar) in bars.iter().enumerate() {
        let begins = number == 0 || month(&bars[number - 1]) != month(bar);
        if begins {
            let (year, month) = month(bar);
            labels.push((number, format!("{year}-{month:02}")));
        }
    }
    let most = 12;
    let every = labels.len().div_ceil(most).max(1);
    labels.into_iter().step_by(every).collect()
}

fn px(number: f64) -> String {
    format!("{number:.1}")
}
