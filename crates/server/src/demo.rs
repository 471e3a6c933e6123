//! The demo: three instruments of the Fernhollow workshop, recorded on first start by the same paths as any other.

use crate::App;
use crate::recording::RunSettings;
use instrument::{
    Controller, Fact, FilterForm, How, Kind, Pass, PassId, Plan, RouteSaid, Said, Target, TurnOrder, Wish,
    even_layers, even_rungs, first_plan, offered_panel,
};
use program::{
    Glide, Movement, MovementId, On, ParamId, Passes, Rate, RegionOf, SUSTAIN, ShapeId, SoundsOn, Source,
    Span, StrandId, Wave, Within,
};
use serde_json::{Value, json};

/// MIDI 1.0.
const WHEEL: u8 = 1;
const EXPRESSION: u8 = 11;
/// The organ's stops, by their MIDI controller.
const STOPS: u8 = 20;
/// The chimes' felt lies under its bars: a strike on this key is one that damps them.
const FELT_KEY: u8 = 24;
const DAMPED_WITHIN_MS: u32 = 400;

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
    let damper = Pass {
        id: PassId(1),
        name: "Damper".into(),
        sounds_on: SoundsOn::KeyUp,
        rungs: vec![FELT_KEY],
        layers: even_layers(1),
        round_robins: 1,
        tail_ms: 1_000,
        ..bars.clone()
    };
    let struck = damped(&chimes, &damper);
    chimes.passes.push(damper);
    let mut ferry = first_plan(Kind::Pad, How::OverMidi, "night-ferry").plan;
    ferry.passes[0].name = "Harbour lamps".into();

    let organ = app.store.create_instrument("Parlour reed organ", &organ).await?;
    let chimes = app.store.create_instrument("Slate chimes", &chimes).await?;
    app.store
        .change(chimes, "bars that ring until they are damped", struck)
        .await?
        .map_err(|error| anyhow::anyhow!(error))?;
    let ferry = app.store.create_instrument("Night ferry", &ferry).await?;
    for (instrument, label, said) in [
        (organ, "ranks that swell with expression and pressure", swelling()),
        (chimes, "bars that brighten with the strike", brightening()),
        (ferry, "lamps that the wheel opens", opening()),
    ] {
        app.store
            .change(instrument, label, said)
            .await?
            .map_err(|error| anyhow::anyhow!(error))?;
    }
    let picture = crate::demo_panels::REEDS.as_bytes();
    let hash = blake3::hash(picture).to_hex().to_string();
    app.store
        .put_bytes(&format!("{}{hash}", work::PICTURES), picture.to_vec())
        .await?;
    let of_ferry = shown::seen(&app.store, ferry).await?;
    let offered = of_ferry.map_or_else(Vec::new, |seen| offered_panel(&seen.view.program));
    for (instrument, label, said) in [
        (
            organ,
            "a panel of ranks and room",
            crate::demo_panels::organ(&hash),
        ),
        (chimes, "a panel with a damper", crate::demo_panels::chimes()),
        (ferry, "lay out a first panel", offered),
    ] {
        app.store
            .change(instrument, label, said)
            .await?
            .map_err(|error| anyhow::anyhow!(error))?;
    }
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

fn follows(strand: u64, number: u64, from: Source, to: ParamId, amount: f64) -> (Target, Fact, Value) {
    let route = RouteSaid {
        from,
        times: None,
        curve: Vec::new(),
        to,
        amount,
    };
    (Target::Route(ShapeId(strand), number), Fact::Route, json!(route))
}

fn filtered(strand: u64, passes: Passes, poles: u8, cutoff_hz: u32) -> [(Target, Fact, Value); 2] {
    let target = Target::Strand(StrandId(strand));
    [
        (target, Fact::FilterForm, json!(FilterForm { passes, poles })),
        (target, Fact::FilterCutoffHz, json!(cutoff_hz)),
    ]
}

fn wishes(said: impl IntoIterator<Item = (Target, Fact, Value)>) -> Vec<Wish> {
    said.into_iter()
        .map(|(target, fact, value)| Wish::from((target, fact, Said::Value(value))))
        .collect()
}

/// Both ranks of the organ.
fn swelling() -> Vec<Wish> {
    wishes([0, 1].into_iter().flat_map(|rank| {
        [
            follows(rank, 11, Source::Controller(EXPRESSION), ParamId::Level, 24.0),
            follows(rank, 12, Source::Pressure, ParamId::Level, 4.0),
        ]
    }))
}

/// The bars of the chimes: softly dull, hard all that was recorded.
fn brightening() -> Vec<Wish> {
    let bars = filtered(0, Passes::Low, 1, 2_000);
    wishes(
        bars.into_iter()
            .chain([follows(0, 11, Source::Strike, ParamId::Cutoff, 4_200.0)]),
    )
}

/// The ferry's lamps: dull until the wheel opens them, one at a time, gliding; after a while they sway.
fn opening() -> Vec<Wish> {
    const SWAY: u64 = 21;
    let sway = Movement {
        id: MovementId(SWAY),
        wave: Wave::Sine,
        rate: Rate::Hz(0.8),
        phase: 0.0,
        delay_ms: 500.0,
        fade_in_ms: 2_500.0,
        per_voice: true,
        once: false,
    };
    let glide = Glide {
        ms: 250.0,
        per_octave: true,
        legato_only: true,
    };
    let lamps = filtered(0, Passes::Low, 2, 700);
    wishes(lamps.into_iter().chain([
        follows(0, 11, Source::Controller(WHEEL), ParamId::Cutoff, 5_400.0),
        (Target::Movement(ShapeId(0), SWAY), Fact::Movement, json!(sway)),
        follows(0, 12, Source::Movement(MovementId(SWAY)), ParamId::Pitch, 9.0),
        (Target::Strand(StrandId(0)), Fact::StrandGlide, json!(glide)),
    ]))
}

/// Bars ring whatever their keys do, one of their round robins at random; as the sustain pedal comes up the damper is heard and ends them.
fn damped(chimes: &Plan, damper: &Pass) -> Vec<Wish> {
    let damper = StrandId(damper.id.0);
    let comes_up = On::Enters(Within {
        source: Source::Controller(SUSTAIN),
        span: Span::of(0, 63),
    });
    let mut said = vec![
        (Target::Instrument, Fact::TurnOrder, json!(TurnOrder::Random)),
        (Target::Strand(damper), Fact::StrandOn, json!(comes_up)),
    ];
    for pass in &chimes.passes {
        let bars = Target::Strand(StrandId(pass.id.0));
        said.push((bars, Fact::StrandCutBy, json!(damper.0)));
        said.push((bars, Fact::StrandCutFadeMs, json!(DAMPED_WITHIN_MS)));
    }
    for cell in chimes.cells() {
        let region = RegionOf::Cell {
            pass: cell.pass.0,
            key: cell.key,
            layer: cell.layer.0,
            round_robin: cell.round_robin,
        };
        let region = Target::Region(StrandId(cell.pass.0), region.number());
        said.push((region, Fact::RegionToEnd, json!(true)));
    }
    wishes(said)
}
