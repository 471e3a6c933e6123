//! The demo: three instruments of the Fernhollow workshop, recorded on first start by the same paths as any other.

use crate::App;
use crate::recording::RunSettings;
use instrument::{How, Kind, even_layers, even_rungs, first_plan};

/// Makes and records the demo, unless there are instruments already: the *Parlour reed organ*, sustained and looped; the *Slate chimes*,
/// struck by a player who slips now and then; the *Night ferry*, a synthesiser's slow sound.
///
/// # Errors
/// Those of the database and the disk.
pub async fn fill_demo(app: &App) -> anyhow::Result<()> {
    if !app.store.instruments().await?.is_empty() {
        return Ok(());
    }
    let mut organ = first_plan(Kind::Sustained, How::OverMidi, "reed-organ").plan;
    let ranks = &mut organ.passes[0];
    ranks.name = "Both ranks".into();
    ranks.hold_ms = 6_000;
    for (layer, strike) in ranks.layers.iter_mut().zip([50, 110]) {
        layer.strike_velocity = strike;
    }
    let mut chimes = first_plan(Kind::Struck, How::ByHand, "slate-chimes").plan;
    let bars = &mut chimes.passes[0];
    bars.name = "Bars".into();
    (bars.rungs, bars.layers) = (even_rungs(48, 84, 6), even_layers(3));
    let mut ferry = first_plan(Kind::Pad, How::OverMidi, "night-ferry").plan;
    ferry.passes[0].name = "Harbour lamps".into();

    let organ = app.store.create_instrument("Parlour reed organ", &organ).await?;
    let chimes = app.store.create_instrument("Slate chimes", &chimes).await?;
    let ferry = app.store.create_instrument("Night ferry", &ferry).await?;
    let unattended = RunSettings {
        then: vec![ferry],
        ..RunSettings::default()
    };
    let hands_free = RunSettings {
        hands_free: true,
        ..RunSettings::default()
    };
    for (instrument, settings) in [(organ, unattended), (chimes, hands_free)] {
        app.recorder
            .begin(instrument, settings)
            .await?
            .map_err(|sentence| anyhow::anyhow!(sentence))?;
    }
    Ok(())
}
