//! One recording played as a strand plays it, alone: through its shape and the rows of effects that it is heard through.

use program::{
    BusId, Cut, On, ParamId, Program, Region, RegionKey, RegionOf, Sample, SampleId, Shape, ShapeId, Strand,
    StrandId, Voices, When,
};
use signal::Audio;

/// A sample that is some audio.
pub(crate) fn sample_of(audio: &Audio) -> Sample {
    let channels = audio.channels.len() as u16;
    Sample {
        id: SampleId(1),
        name: String::new(),
        source: String::new(),
        rate_hz: audio.rate_hz,
        first_channel: 0,
        source_channels: channels,
        channels,
        frames: audio.frames() as u64,
    }
}

/// A program of one region, as a strand plays it whenever its key goes down, with the rows that `hears` names; `None` where the strand is gone. `shaped`
/// says of its shape what stays. Levels, places and tuning of the strand are left out.
pub(crate) fn alone(
    program: &Program,
    strand: StrandId,
    (audio, region): (&Audio, Region),
    shaped: impl FnOnce(Shape) -> Shape,
    hears: impl Fn(BusId) -> bool,
) -> Option<Program> {
    let strand = program.strand(strand)?;
    let known = program.shape_of(strand).cloned().unwrap_or_default();
    let shape = Shape {
        id: ShapeId(0),
        ..shaped(known)
    };
    let alone = Strand {
        on: On::KEY_DOWN,
        when: When::ALWAYS,
        regions_of: None,
        gain_db: 0.0,
        pan: 0.0,
        muted: false,
        transpose_keys: 0,
        tune_cents: 0.0,
        shape: shape.id,
        cut: Cut::default(),
        sends: (strand.sends.iter().copied())
            .filter(|send| hears(send.bus))
            .collect(),
        voices: Voices::default(),
        ..strand.clone()
    };
    Some(Program {
        samples: vec![sample_of(audio)],
        regions: vec![Region {
            key: RegionKey {
                strand: alone.id,
                of: RegionOf::Own(0),
            },
            ..region
        }],
        strands: vec![alone],
        shapes: vec![shape],
        curves: program.curves.clone(),
        buses: (program.buses.iter())
            .filter(|bus| hears(bus.id))
            .cloned()
            .collect(),
        routes: (program.routes.iter().copied())
            .filter(|route| matches!(route.to, ParamId::Effect(..)))
            .collect(),
        controls: program.controls.clone(),
        controllers_at_first: program.controllers_at_first.clone(),
        seed: program.seed,
        ..Program::default()
    })
}
