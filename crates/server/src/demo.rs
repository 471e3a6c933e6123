//! The demo: three instruments of the Fernhollow workshop, recorded on first start by the same paths as any other.

use crate::App;
use crate::recording::RunSettings;
use instrument::{Controller, How, Kind, Pass, PassId, even_layers, even_rungs, first_plan};
use program::SoundsOn;

/// The organ's stops, by their MIDI controller.
const STOPS: u8 = 20;

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
    let mut ranks = organ.passes.remove(0);
    ranks.hold_ms = 6_000;
    for (layer, strike) in ranks.layers.iter_mut().zip([50, 110]) {
        layer.strike_velocity = strike;
    }
    let pass = |number: u64, name: &str, stops: u8| Pass {
        id: PassId(number),
        name: name.into(),
        controller: Some(Controller {
            number: STOPS,
            value: stops,
        }),
        ..ranks.clone()
    };
    // With no rank drawn the felts are heard alone, as the keys come up: their noise is alike on many keys.
    let felt = Pass {
        sounds_on: SoundsOn::KeyUp,
        rungs: even_rungs(36, 84, 12),
        layers: even_layers(1),
        hold_ms: 300,
        ..pass(2, "Felt", 112)
    };
    organ.passes = vec![pass(0, "Front rank", 48), pass(1, "Back rank", 80), felt];
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
