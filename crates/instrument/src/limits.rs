//! By what something is chosen, and how it comes and goes at the limits that were said.

use program::{Fade, Source, Span, Within};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A controller, or another source, that has to stand somewhere for a strand to be heard.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ByController {
    /// 0 to 119.
    pub controller: u8,
    /// Lowest, 0 to 127.
    pub low: u8,
    /// Highest.
    pub high: u8,
    /// Steps over which it comes and goes at each end that is not that of the controller.
    pub fade: u8,
    /// Another source in its place. One that goes both ways stands at 64 in its middle.
    #[serde(default)]
    pub source: Option<Source>,
}

impl ByController {
    /// Whether it can be chosen by: strikes and keys have limits of their own, chance has turns, and how fast a key comes up is known too late.
    pub(crate) fn is_possible(&self) -> bool {
        let kept = matches!(
            self.source,
            Some(Source::Strike | Source::Key | Source::KeyUpSpeed | Source::Random(_) | Source::Control(_))
        );
        !kept && self.controller < 120 && self.low <= self.high && self.high < 128 && self.fade < 128
    }
}

/// A key that chooses a strand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ByKey {
    /// Which.
    pub key: u8,
    /// While it is down, else until another is pressed.
    pub held: bool,
}

/// The same, as a program says it.
pub(crate) fn within(by: ByController) -> Within {
    Within {
        source: by.source.unwrap_or(Source::Controller(by.controller)),
        span: faded((by.low, by.high), by.fade, (0, 127)),
    }
}

/// A span that fades over so many steps around each border that is not the end of its axis: two that meet there cross, and keep their power.
pub(crate) fn faded((low, high): (u8, u8), width: u8, (first, last): (u8, u8)) -> Span {
    let (low, high) = (low.min(high), high.max(low));
    let mut span = Span::of(low, high);
    // Around a border, which is the lowest step of the upper one.
    let around = |border: u8| Fade {
        from: border.saturating_sub(width / 2).max(first),
        to: (u16::from(border) + u16::from(width.div_ceil(2))).min(u16::from(last)) as u8,
    };
    if width < 2 {
        return span;
    }
    if low > first {
        let fade = around(low);
        (span.low, span.fade_in) = (fade.from + 1, Some(fade));
    }
    if high < last {
        let fade = around(high + 1);
        (span.high, span.fade_out) = (fade.to.saturating_sub(1), Some(fade));
    }
    span
}
