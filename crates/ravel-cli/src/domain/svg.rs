//! What visitors see while records change, as a picture.

use maud::{Markup, PreEscaped, html};
use ravel_dns::{Destinations, Issuance, Moment, Timeline};

use super::chart::{extent, gaps_in_words, marks};
use super::stages::Stage;
use super::table::{duration, signed};

/// Sizes, in pixels.
const WIDTH: f64 = 1_080.0;
const MARGIN: f64 = 32.0;
const LINE: f64 = 22.0;
const STRIP: f64 = 24.0;
const ROW: f64 = 36.0;
/// The width of a character of the names, on average.
const CHARACTER: f64 = 7.6;

/// What can be reached, its colour and its words; colours differ in lightness, too.
const LEGEND: [(Destinations, &str, &str); 5] = [
    (Destinations::new(true, false, false), "#b9b3a6", "not the new site"),
    (Destinations::new(true, true, false), "#e0a526", "either"),
    (Destinations::new(false, true, true), "#d1495b", "the new site, or not found"),
    (Destinations::new(false, false, true), "#6d2232", "not found"),
    (Destinations::new(false, true, false), "#1d7a6b", "the new site"),
];

fn colour(ends: Destinations) -> &'static str {
    let key =
        Destinations::new(ends.is_old() && !ends.is_missing(), ends.is_new(), ends.is_missing());
    LEGEND.iter().find(|(other, ..)| *other == key).map_or("#b9b3a6", |(_, colour, _)| colour)
}

/// A stretch of time is drawn so wide at least, to be seen.
const LEAST: f64 = 6.0;

/// Both timelines below each other, with axes and a legend; above the second the stages in words.
pub(super) fn draw(
    domain: &str,
    (at_once, in_order): (&Timeline, &Timeline),
    stages: &[Stage],
) -> String {
    let names = at_once.hosts().iter().map(|host| host.host().chars().count()).max().unwrap_or(0);
    let left = MARGIN + CHARACTER * names as f64 + 16.0;
    let mut y = MARGIN + 20.0;
    let mut body: Vec<Markup> =
        vec![words(MARGIN, y, "title", &format!("{domain}: what visitors reach while it changes"))];
    y += LINE + 6.0;
    let mut x = MARGIN;
    let spans = [at_once, in_order].into_iter().flat_map(Timeline::hosts);
    let shown: Vec<&str> =
        spans.flat_map(|host| host.spans().iter().map(|span| colour(span.ends()))).collect();
    for (_, colour, text) in LEGEND.iter().filter(|(_, colour, _)| shown.contains(colour)) {
        body.push(
            html! { rect x=(px(x)) y=(px(y - 12.0)) width="16" height="14" fill=(colour) {} },
        );
        body.push(words(x + 22.0, y, "", text));
        x += 22.0 + CHARACTER * text.chars().count() as f64 + 22.0;
    }
    y += 2.0 * LINE;
    for (title, timeline, stages) in [("At once", at_once, &[][..]), ("In order", in_order, stages)]
    {
        y = panel(&mut body, title, (timeline, stages), left, y) + 1.4 * LINE;
    }
    let height = y;
    let svg = html! {
        svg xmlns="http://www.w3.org/2000/svg" width=(px(WIDTH)) height=(px(height)) viewBox=(format!("0 0 {} {}", px(WIDTH), px(height)))
            role="img" aria-label=(format!("What visitors of {domain} reach while its records change")) {
            style { (PreEscaped(STYLE)) }
            rect width="100%" height="100%" fill="#fffdf8" {}
            @for part in &body { (part) }
        }
    };
    format!("{}\n", svg.into_string())
}

const STYLE: &str = "text{font:14px sans-serif;fill:#26221c}.title{font:600 18px sans-serif}.head{font:600 15px sans-serif}\
.axis{font-size:12px;fill:#6b6355;text-anchor:middle}.note{font-size:13px;fill:#514a3e}.bad{font-size:13px;fill:#a3293d}";

fn panel(
    body: &mut Vec<Markup>,
    title: &str,
    (timeline, stages): (&Timeline, &[Stage]),
    left: f64,
    mut y: f64,
) -> f64 {
    body.push(words(MARGIN, y, "head", &format!("{title}: cut-over at {}", timeline.moment())));
    y += LINE;
    for stage in stages {
        for (number, line) in stage.what.iter().enumerate() {
            if number == 0 {
                body.push(words(MARGIN, y, "note", &signed(stage.from_switch)));
            }
            body.push(words(MARGIN + 90.0, y, "note", line));
            y += LINE * 0.85;
        }
    }
    if !stages.is_empty() {
        y += 6.0;
    }
    let (from, until) = extent(timeline);
    let right = WIDTH - MARGIN;
    let x = |at: Moment| {
        let share = at.since(from) as f64 / until.since(from).max(1) as f64;
        left + (right - left) * share.clamp(0.0, 1.0)
    };
    let top = y;
    let mut widened = false;
    for host in timeline.hosts() {
        body.push(words(MARGIN, y + STRIP * 0.7, "", host.host()));
        // What is drawn wider than it is lies above the others.
        let mut short = Vec::new();
        for span in host.spans() {
            let (start, end) = (x(span.from().unwrap_or(from)), x(span.until().unwrap_or(until)));
            let is_short = end - start < LEAST;
            let width = px((end - start).max(LEAST));
            let drawn = html! { rect x=(px(start)) y=(px(y)) width=(width) height=(px(STRIP)) fill=(colour(span.ends())) {} };
            if is_short { short.push(drawn) } else { body.push(drawn) }
        }
        widened |= !short.is_empty();
        body.extend(short);
        y += ROW;
    }
    for (label, window) in windows(timeline) {
        body.push(words(MARGIN, y + STRIP * 0.6, "", label));
        let (best, worst) = (x(window.0), x(window.1));
        let middle = px(y + STRIP * 0.45);
        body.push(html! {
            line x1=(px(best)) x2=(px(worst)) y1=(middle) y2=(middle) stroke="#3d5a80" stroke-width="4" {}
            circle cx=(px(best)) cy=(middle) r="5" fill="#fffdf8" stroke="#3d5a80" stroke-width="2" {}
            circle cx=(px(worst)) cy=(middle) r="5" fill="#3d5a80" {}
        });
        y += ROW * 0.8;
    }
    for mark in marks(timeline, 9) {
        let at = px(x(timeline.moment().plus(mark)));
        let dash = if mark == 0 { "none" } else { "2 4" };
        body.push(html! { line x1=(at) x2=(at) y1=(px(top - 4.0)) y2=(px(y)) stroke="#26221c" stroke-width="1" stroke-dasharray=(dash) {} });
        body.push(html! { text class="axis" x=(at) y=(px(y + 16.0)) { (signed(mark)) } });
    }
    y += 34.0;
    body.push(html! { text class="axis" x=(px((left + right) / 2.0)) y=(px(y)) { "time from the cut-over (open ring: best case, full: worst case)" } });
    if widened {
        let minutes = (LEAST / (right - left) * until.since(from) as f64 / 60.0).ceil();
        let shown = minutes as i64 * 60;
        let text = format!("what lasts less than {} is drawn wider than it is", duration(shown));
        y += LINE;
        body.push(words(MARGIN, y, "note", &text));
    }
    for text in gaps_in_words(timeline) {
        y += LINE;
        body.push(words(MARGIN, y, "bad", &text));
    }
    y + LINE
}

fn windows(timeline: &Timeline) -> Vec<(&'static str, (Moment, Moment))> {
    let mut windows = Vec::new();
    if let Some(verification) = timeline.verification() {
        windows.push(("verification visible", (verification.best(), verification.worst())));
    }
    if let Issuance::In(window) = timeline.certificate() {
        windows.push(("certificate", (window.best(), window.worst())));
    }
    windows
}

fn words(x: f64, y: f64, class: &str, text: &str) -> Markup {
    html! { text class=[(!class.is_empty()).then_some(class)] x=(px(x)) y=(px(y)) { (text) } }
}

/// A length without needless digits, so that the picture is the same everywhere.
fn px(length: f64) -> String {
    format!("{:.1}", length).trim_end_matches('0').trim_end_matches('.').to_owned()
}
