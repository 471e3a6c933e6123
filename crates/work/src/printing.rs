//! Effects, and a filter, put into a take: what the engine plays of it at its own pitch, with what is heard after it.

use crate::alone::alone;
use engine::{Event, EventKind, render_offline};
use instrument::Printing;
use program::{Loudness, ParamId, Program, Region, Shape};
use signal::Audio;

/// What is heard after a take is followed so long.
const LONGEST_TAIL_S: f64 = 20.0;
/// It ends where it stays so far under its peak, in dB.
const ENDS_DB: f64 = -80.0;
/// And fades there over so long.
const FADES_MS: f64 = 20.0;

/// A program of one region that plays some audio as it is at a key, through what is to be printed.
fn program_for(program: &Program, printing: Printing, audio: &Audio, key: u8) -> Option<Program> {
    let of_filter = |to: ParamId| matches!(to, ParamId::Cutoff | ParamId::Resonance);
    let shaped = |shape: Shape| Shape {
        loudness: Loudness {
            attack_ms: 0.0,
            sustain_db: 0.0,
            velocity_to_level: 0.0,
            ..Loudness::default()
        },
        filter: shape.filter.filter(|_| printing.with_filter),
        routes: (shape.routes.iter().copied())
            .filter(|route| printing.with_filter && of_filter(route.to))
            .collect(),
        ..shape
    };
    let region = Region {
        to_end: true,
        ..Region::whole(0, key, audio.frames() as u64)
    };
    alone(program, printing.strand, (audio, region), shaped, |bus| {
        bus == printing.bus
    })
}

/// Some audio of a take at a key, its sides one after another for each of its mics, with what is printed into it; `None` where the strand is gone.
pub(crate) fn printed(
    audio: &Audio,
    sides: usize,
    (program, printing): (&Program, Printing),
    key: u8,
) -> Option<Audio> {
    let rate = f64::from(audio.rate_hz);
    let strike = EventKind::NoteOn {
        key,
        velocity: printing.strike,
    };
    let events = [Event {
        frame: 0,
        kind: strike,
    }];
    let frames = audio.frames() + (LONGEST_TAIL_S * rate) as usize;
    let mut channels = Vec::new();
    for mic in audio.channels.chunks(sides.clamp(1, 2)) {
        let mic = Audio {
            rate_hz: audio.rate_hz,
            channels: mic.to_vec(),
        };
        let of = program_for(program, printing, &mic, key)?;
        let (left, right) = render_offline(&of, vec![mic.channels.clone()], rate, &events, frames);
        if mic.channels.len() > 1 {
            channels.extend([left, right]);
        } else {
            // A take of one side stays one: it is played 3 dB down on both, and will be again.
            let one = |(l, r): (&f32, &f32)| (l + r) * std::f32::consts::FRAC_1_SQRT_2;
            channels.push(left.iter().zip(&right).map(one).collect());
        }
    }
    let mut printed = Audio {
        rate_hz: audio.rate_hz,
        channels,
    };
    end_where_it_is_silent(&mut printed, audio.frames());
    Some(printed)
}

/// Ends it where nothing more is heard, and not before so many frames.
fn end_where_it_is_silent(audio: &mut Audio, least: usize) {
    let all = || audio.channels.iter().flatten();
    let peak = all().fold(0.0f32, |most, x| most.max(x.abs()));
    let under = f64::from(peak) * 10f64.powf(ENDS_DB / 20.0);
    let last = (audio.channels.iter())
        .filter_map(|channel| channel.iter().rposition(|x| f64::from(x.abs()) > under))
        .max()
        .unwrap_or(0);
    let end = (last + 1).max(least).min(audio.frames());
    let fade = signal::frames_of_ms(audio.rate_hz, FADES_MS).min(end);
    for channel in &mut audio.channels {
        channel.truncate(end);
        if end > least {
            for (n, x) in channel[end - fade..].iter_mut().enumerate() {
                *x *= 1.0 - (n + 1) as f32 / fade as f32;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use program::{Bus, BusId, Effect, EffectId, EffectKind, Filter, Passes, Send, StrandId};

    const RATE: u32 = 48_000;

    fn tone(sides: usize) -> Audio {
        let frame = |n: i32| 0.3 * (std::f32::consts::TAU * 440.0 * n as f32 / RATE as f32).sin();
        let side: Vec<f32> = (0..24_000).map(frame).collect();
        Audio {
            rate_hz: RATE,
            channels: vec![side; sides],
        }
    }

    fn program(bus: BusId, effects: Vec<Effect>) -> Program {
        let mut program = Program::plain("Organ", Vec::new(), Vec::new());
        program.strands[0].gain_db = -7.0;
        program.strands[0].sends = vec![Send {
            bus: BusId(2),
            gain_db: 0.0,
        }];
        program.buses = vec![Bus {
            id: bus,
            name: "Row".into(),
            gain_db: 0.0,
            effects,
        }];
        program
    }

    fn printing(bus: BusId, with_filter: bool) -> Printing {
        Printing {
            strand: StrandId(0),
            bus,
            with_filter,
            strike: 100,
        }
    }

    #[test]
    fn nothing_in_the_row_leaves_the_take_as_it_is() {
        let own = BusId::of_strand(StrandId(0));
        for sides in [1, 2] {
            let of = tone(sides);
            let made = printed(&of, sides, (&program(own, Vec::new()), printing(own, false)), 57);
            let made = made.expect("a take");
            assert_eq!((made.frames(), made.channels.len()), (of.frames(), sides));
            // But for the hairs in which a voice begins, and in which it reads over the end.
            let apart = |n: usize| (made.channels[0][n] - of.channels[0][n]).abs();
            let worst = (200..23_980).map(apart).fold(0.0f32, f32::max);
            assert!(worst < 2e-5, "{sides} sides: {worst}");
        }
        let gone = Printing {
            strand: StrandId(9),
            ..printing(own, false)
        };
        assert!(printed(&tone(1), 1, (&program(own, Vec::new()), gone), 57).is_none());
    }

    #[test]
    fn an_echo_is_in_it_and_after_it_to_the_frame() {
        let mut echo = Effect::new(EffectId(1), EffectKind::Delay);
        echo.settings = vec![1_000.0, 0.0, 0.0, 0.0, 20_000.0, 100.0];
        // Sent beside: the take itself is there as it was.
        let room = BusId(2);
        let made = printed(
            &tone(2),
            2,
            (&program(room, vec![echo]), printing(room, false)),
            57,
        );
        let made = made.expect("a take").channels[0].clone();
        let of = tone(1).channels[0].clone();
        assert!((200..23_980).all(|n| (made[n] - of[n]).abs() < 2e-5));
        assert!(made[24_100..47_900].iter().all(|x| x.abs() < 1e-5));
        assert!((72_000..72_100).contains(&made.len()), "{}", made.len());
        let peak = made[48_500..71_000]
            .iter()
            .fold(0.0f32, |most, x| most.max(x.abs()));
        assert!((peak - 0.3).abs() < 0.01, "{peak}");
    }

    #[test]
    fn a_filter_is_in_it_only_where_that_is_asked() {
        let own = BusId::of_strand(StrandId(0));
        let mut with = program(own, Vec::new());
        with.shapes[0].filter = Some(Filter {
            passes: Passes::Low,
            poles: 4,
            cutoff_hz: 110.0,
            key_follow: 0.0,
            resonance_db: 0.0,
            makes_up: false,
        });
        let peak = |with_filter: bool| {
            let made = printed(&tone(1), 1, (&with, printing(own, with_filter)), 57).expect("a take");
            made.channels[0][12_000..23_000]
                .iter()
                .fold(0.0f32, |most, x| most.max(x.abs()))
        };
        assert!((peak(false) - 0.3).abs() < 1e-4);
        // Two octaves over a cutoff of four poles: 48 dB down.
        assert!((20.0 * (f64::from(peak(true)) / 0.3).log10() + 48.0).abs() < 1.0);
    }
}
