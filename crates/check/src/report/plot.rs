//! A value along the keys, drawn.

use instrument::{MiddleC, key_name};
use maud::{Markup, html};

const WIDTH: f64 = 900.0;
const HEIGHT: f64 = 150.0;
const LEFT: f64 = 48.0;
const BELOW: f64 = 20.0;
/// Lines across, at round values.
const LINES: f64 = 4.0;

/// Points along the keys, broken where there is none.
pub(super) struct Line {
    class: &'static str,
    points: Vec<(u8, Option<f64>)>,
}

impl Line {
    pub(super) fn new(class: &'static str, points: impl Iterator<Item = (u8, Option<f64>)>) -> Self {
        let mut points: Vec<_> = points.collect();
        points.sort_by_key(|(key, _)| *key);
        Self { class, points }
    }

    fn path(&self, x: impl Fn(u8) -> f64, y: impl Fn(f64) -> f64) -> String {
        let mut path = String::new();
        let mut begun = false;
        for (key, value) in &self.points {
            if let Some(value) = value {
                let step = if begun { 'L' } else { 'M' };
                path.push_str(&format!("{step}{:.1} {:.1}", x(*key), y(*value)));
            }
            begun = value.is_some();
        }
        path
    }
}

/// One of 1, 2, 5, 10 …, so that not more than some lines lie across a span.
fn step_of(span: f64) -> f64 {
    let least = span / LINES;
    let ten = 10f64.powf(least.log10().floor());
    [1.0, 2.0, 5.0, 10.0]
        .map(|of| of * ten)
        .into_iter()
        .find(|step| *step >= least)
        .unwrap_or(ten * 10.0)
}

/// Some lines over each other, over `span` units at least; `None` where there is nothing to draw.
pub(super) fn plot((title, unit, span): (&str, &str, f64), lines: &[Line]) -> Option<Markup> {
    let points = || {
        lines
            .iter()
            .flat_map(|line| &line.points)
            .filter_map(|(key, value)| Some((*key, (*value)?)))
    };
    let first = points().map(|(key, _)| key).min()?;
    let last = points().map(|(key, _)| key).max()?;
    let least = points().map(|(_, value)| value).fold(f64::INFINITY, f64::min);
    let most = points().map(|(_, value)| value).fold(f64::NEG_INFINITY, f64::max);
    let step = step_of((most - least).max(span));
    let (middle, half) = ((least + most) / 2.0, (most - least).max(span) / 2.0);
    let (low, high) = (
        ((middle - half) / step).floor() * step,
        ((middle + half) / step).floor() * step + step,
    );
    let keys = f64::from(last - first).max(1.0);
    let x = |key: u8| LEFT + f64::from(key - first) / keys * (WIDTH - LEFT - 8.0);
    let y = |value: f64| 6.0 + (high - value) / (high - low) * (HEIGHT - BELOW - 6.0);
    let across = (0..=((high - low) / step).round() as usize).map(|n| low + n as f64 * step);
    Some(html! { figure {
        figcaption { (title) ", " (unit) }
        svg viewBox={ "0 0 " (WIDTH) " " (HEIGHT) } role="img" aria-label={ (title) " along the keys" } {
            @for value in across {
                line x1=(LEFT) x2=(WIDTH - 8.0) y1=(format!("{:.1}", y(value))) y2=(format!("{:.1}", y(value))) {}
                text x="4" y=(format!("{:.1}", y(value) + 4.0)) { (format!("{value:.0}").replace('-', "−")) }
            }
            @for key in (first..=last).filter(|key| key % 12 == 0) {
                text x=(format!("{:.1}", x(key) - 8.0)) y=(HEIGHT - 4.0) { (key_name(key, MiddleC::C4)) }
            }
            @for line in lines { path class=(line.class) d=(line.path(x, y)) {} }
        }
    } })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_across_lie_at_round_values_and_are_few() {
        for (span, step) in [(1.0, 0.5), (7.0, 2.0), (20.0, 5.0), (41.0, 20.0), (0.3, 0.1)] {
            assert!((step_of(span) - step).abs() < 1e-9, "{span}: {}", step_of(span));
        }
    }

    #[test]
    fn a_line_is_broken_where_nothing_is_known() {
        let points = [(60, Some(1.0)), (62, Some(3.0)), (61, None), (63, Some(2.0))];
        let line = Line::new("soft", points.into_iter());
        let path = line.path(|key| f64::from(key - 60), |value| value);
        assert_eq!(path, "M0.0 1.0M2.0 3.0L3.0 2.0");
        assert!(
            plot(
                ("Level", "dBFS", 12.0),
                &[Line::new("soft", [(60, None)].into_iter())]
            )
            .is_none()
        );
    }
}
