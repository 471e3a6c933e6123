//! A report as a page.

use super::plot::{Line, plot};
use super::{Report, Reported};
use crate::Expected;
use maud::{DOCTYPE, Markup, PreEscaped, html};
use signal::KeySound;
use std::collections::BTreeSet;

const STYLE: &str = "
:root{color-scheme:light}
body{font:14px/1.45 system-ui,sans-serif;margin:0;color:#21272a;background:#f6f3ec}
main{max-width:960px;margin:24px auto;padding:24px 32px;background:#fff;border:1px solid #ddd6c8;border-radius:8px}
h1{font-size:24px;margin:0 0 2px}h2{font-size:16px;margin:26px 0 6px}p.sum{margin:0 0 14px;color:#4d565a}
table{border-collapse:collapse;width:100%}th,td{text-align:left;vertical-align:top;padding:4px 12px 4px 0;border-top:1px solid #ece6da}
th{font-weight:600;color:#4d565a}dl{display:grid;grid-template-columns:max-content 1fr;gap:3px 18px;margin:0}dt{color:#4d565a}dd{margin:0}
td.mark{white-space:nowrap;font-weight:600}.wrong{color:#a3301c}.look{color:#7a5600}.place{font-family:ui-monospace,monospace;white-space:nowrap}
figure{margin:14px 0 0}figcaption{font-weight:600}svg{width:100%;height:auto;display:block}
svg text{font:11px system-ui,sans-serif;fill:#4d565a}.soft{stroke:#74a69f}.hard{stroke:#1b5752}
.expected{stroke:#b9b1a1;stroke-dasharray:4 3}svg path{fill:none;stroke-width:1.6}svg line{stroke:#ece6da}
.key b{display:inline-block;width:18px;height:3px;margin:0 5px 3px 14px;vertical-align:middle}
@media print{body{background:#fff}main{border:0;margin:0;padding:0;max-width:none}tr,figure{break-inside:avoid}}
";

pub(super) fn html(report: &Report, more: &str) -> String {
    let open: Vec<&Reported> = report.open().collect();
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { (report.name) " – report" }
                style { (PreEscaped(STYLE)) }
            }
            body { main {
                h1 { (report.name) }
                p.sum { (report.sum()) }
                dl { dt { "kind" } dd { (report.kind) } @for figure in &report.figures { dt { (figure.what) } dd { (figure.is) } } }
                @if !open.is_empty() {
                    h2 { "Open" }
                    (open_ones(&open))
                }
                @if report.accepted().next().is_some() {
                    h2 { "Accepted" }
                    (accepted(report))
                }
                @if !report.mended.is_empty() {
                    h2 { "Mended" }
                    ul { @for what in &report.mended { li { (what) } } }
                }
                (as_heard(report))
                (PreEscaped(more))
            } }
        }
    };
    page.into_string() + "\n"
}

fn open_ones(open: &[&Reported]) -> Markup {
    html! { table {
        tr { th { "" } th { "found" } th { "where" } th { "what was heard" } th { "step" } }
        @for finding in open {
            @let (class, mark) = if finding.wrong { ("wrong", "wrong") } else { ("look", "to look at") };
            tr {
                td class={ "mark " (class) } { (mark) }
                td { (finding.title) }
                td.place { (finding.place) }
                td { (finding.says) }
                td { (format!("{:?}", finding.step)) }
            }
        }
    } }
}

fn accepted(report: &Report) -> Markup {
    html! { table {
        tr { th { "found" } th { "where" } th { "what was heard" } th { "why it is right" } }
        @for (finding, reason) in report.accepted() {
            tr { td { (finding.title) } td.place { (finding.place) } td { (finding.says) } td { (reason) } }
        }
    } }
}

fn as_heard(report: &Report) -> Markup {
    let strikes: BTreeSet<u8> = report.keys.iter().map(|sound| sound.strike).collect();
    let lines = |is: fn(&KeySound) -> Option<f64>, expected: fn(&Expected) -> Option<f64>| -> Vec<Line> {
        let of = |strike: u8| {
            let all = || {
                report
                    .keys
                    .iter()
                    .zip(&report.expected)
                    .filter(move |(sound, _)| sound.strike == strike)
            };
            let class = if strike < 64 { "soft" } else { "hard" };
            [
                Line::new("expected", all().map(|(sound, of)| (sound.key, expected(of)))),
                Line::new(class, all().map(|(sound, _)| (sound.key, is(sound)))),
            ]
        };
        strikes.iter().flat_map(|strike| of(*strike)).collect()
    };
    let level = lines(|sound| sound.level_dbfs, |of| of.level_dbfs);
    let pitch = lines(|sound| sound.cents, |of| of.cents);
    let brightness = lines(|sound| sound.brightness_key, |of| of.brightness_key);
    let drawn: Vec<Markup> = [
        plot(("Level", "dBFS", 12.0), &level),
        plot(("Pitch off its key", "cents", 20.0), &pitch),
        plot(("Brightness", "key", 12.0), &brightness),
    ]
    .into_iter()
    .flatten()
    .collect();
    html! { @if !drawn.is_empty() {
        h2 { "As it sounds, key by key" }
        p.key {
            "Every key was played and let go:"
            b style="background:#74a69f" {} "softly"
            b style="background:#1b5752" {} "hard"
            b style="background:#b9b1a1" {} "as its neighbours tell"
        }
        @for one in drawn { (one) }
    } }
}
