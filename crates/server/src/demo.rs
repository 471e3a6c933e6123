//! The demo: the Parlour reed organ of the Fernhollow workshop, recorded on first start by the same path as any other.

use crate::App;
use instrument::{Kind, Layer, Pass, Plan, Source};
use program::SoundsOn;

/// Makes and records the demo, unless there are instruments already.
pub async fn fill_demo(app: &App) -> anyhow::Result<()> {
    if !app.store.instruments().await?.is_empty() {
        return Ok(());
    }
    let layer = |name: &str, strike_velocity| Layer {
        name: name.into(),
        strike_velocity,
    };
    let plan = Plan {
        kind: Kind::Sustained,
        source: Source {
            rig: "reed-organ".into(),
            channel: 1,
            program: 1,
        },
        rate_hz: 48_000,
        bits: 24,
        channels: 2,
        passes: vec![Pass {
            name: "Both ranks".into(),
            sounds_on: SoundsOn::KeyDown,
            rungs: (36..=84).step_by(4).collect(),
            layers: vec![layer("soft", 50), layer("loud", 110)],
            round_robins: 1,
            hold_ms: 6_000,
            tail_ms: 2_000,
        }],
    };
    let id = app.store.create_instrument("Parlour reed organ", &plan).await?;
    app.recorder
        .begin(id, "full")
        .await?
        .map_err(|sentence| anyhow::anyhow!(sentence))
}
