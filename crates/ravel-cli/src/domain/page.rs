//! A cut-over as a page, for the person who does the work: the picture, and the stages with their
//! records.

use maud::{PreEscaped, html};
use ravel_dns::Timeline;

use super::chart::gaps_in_words;
use super::stages::{Stage, line};
use super::svg;
use super::table::signed;
use crate::page;

/// The page, which needs nothing beside it.
pub(super) fn of(domain: &str, timelines: (&Timeline, &Timeline), stages: &[Stage]) -> String {
    let title = format!("The cut-over of {domain}");
    let gaps = gaps_in_words(timelines.1);
    let body = html! {
        p { "At " (timelines.1.moment()) ". What comes after a step moves with it." }
        @for gap in &gaps { p.gap { (gap) } }
        main {
            figure { (PreEscaped(svg::draw(domain, timelines, &[]))) }
            ol {
                @for stage in stages {
                    li {
                        h2 { (stage.at) " " small { (signed(stage.from_switch)) } }
                        @for what in &stage.what { p { (what) } }
                        @if let Some((number, zone)) = &stage.zone {
                            details open[zone.removed().len() + zone.added().len() <= MAX_SHOWN_RECORDS] {
                                summary { "step " (number) ": the zone with serial " (zone.zone().serial()) }
                                pre {
                                    @for record in zone.removed() { del { "− " (line(record)) } "\n" }
                                    @for record in zone.added() { ins { "+ " (line(record)) } "\n" }
                                }
                            }
                        }
                    }
                }
            }
        }
    };
    page::whole(&title, STYLE, &body)
}

/// Records that are shown without being asked for, at most.
const MAX_SHOWN_RECORDS: usize = 12;

const STYLE: &str = "body{max-width:72rem}h1{margin:0}h2{font-size:1rem;margin:1.2rem 0 .2rem}small{font-weight:400;color:var(--soft)}.gap{color:var(--bad)}\
ol{list-style:none;margin:0;padding:0}li{border-left:3px solid var(--rule);padding-left:.9rem}pre{overflow-x:auto;font-size:.85rem;line-height:1.45;margin:.3rem 0}\
summary{cursor:pointer;color:var(--soft)}del{color:var(--bad);text-decoration:none}ins{color:var(--good);text-decoration:none}\
figure{margin:1.5rem 0 0}svg{width:100%;height:auto}@media print{li{break-inside:avoid}}";
