//! What benches measure in a browser, and print.

use anyhow::Context;
use thirtyfour::extensions::cdp::ChromeDevTools;

/// Milliseconds of a page's main thread since it began, as Chromium counts them (after `Performance.enable`).
#[derive(Debug, Clone, Copy)]
pub struct Spent {
    /// In all: drawing, and composing the page, among it.
    pub all: f64,
    /// In scripts, drawing calls among them.
    pub scripts: f64,
    /// Finding styles and places.
    pub laying_out: f64,
}

impl Spent {
    /// Up to now.
    ///
    /// # Errors
    /// Where the browser does not answer.
    pub async fn now(tools: &ChromeDevTools) -> anyhow::Result<Self> {
        let answer = tools.execute_cdp("Performance.getMetrics").await?;
        let metrics = answer["metrics"].as_array().context("metrics")?;
        let of = |name: &str| -> f64 {
            let found = metrics.iter().find(|metric| metric["name"] == name);
            found.and_then(|metric| metric["value"].as_f64()).unwrap_or(0.0) * 1_000.0
        };
        Ok(Self {
            all: of("TaskDuration"),
            scripts: of("ScriptDuration"),
            laying_out: of("LayoutDuration") + of("RecalcStyleDuration"),
        })
    }

    /// Of it, what came since an earlier reading.
    pub fn since(self, before: Self) -> Self {
        Self {
            all: self.all - before.all,
            scripts: self.scripts - before.scripts,
            laying_out: self.laying_out - before.laying_out,
        }
    }
}

/// Median, 95 %, 99 % and worst of some times, in milliseconds.
pub fn say(what: &str, mut ms: Vec<f64>) {
    ms.sort_by(f64::total_cmp);
    let at = |share: f64| ms[((ms.len() - 1) as f64 * share) as usize];
    println!(
        "{what}: median {:.1}, 95 % {:.1}, 99 % {:.1}, worst {:.1} ms",
        at(0.5),
        at(0.95),
        at(0.99),
        at(1.0)
    );
}
