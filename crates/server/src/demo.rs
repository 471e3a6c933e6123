//! The demo: the Parlour reed organ of the Fernhollow workshop, recorded on first start by the same path as any other.

use crate::App;
use crate::recording::RunSettings;
use instrument::{How, Kind, first_plan};

/// Makes and records the demo, unless there are instruments already.
pub async fn fill_demo(app: &App) -> anyhow::Result<()> {
    if !app.store.instruments().await?.is_empty() {
        return Ok(());
    }
    let mut plan = first_plan(Kind::Sustained, How::OverMidi, "reed-organ").plan;
    let pass = &mut plan.passes[0];
    pass.name = "Both ranks".into();
    pass.hold_ms = 6_000;
    for (layer, strike) in pass.layers.iter_mut().zip([50, 110]) {
        layer.strike_velocity = strike;
    }
    let id = app.store.create_instrument("Parlour reed organ", &plan).await?;
    app.recorder
        .begin(id, RunSettings::default())
        .await?
        .map_err(|sentence| anyhow::anyhow!(sentence))
}
