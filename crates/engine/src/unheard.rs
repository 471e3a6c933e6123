//! How a strand would run if it were played now, without playing it.

use crate::Engine;
use crate::drive::{Around, Drive};
use crate::envelope::Envelope;
use program::{Loudness, StrandId};

/// Frames a second that are looked at: nothing of loudness that is drawn is faster.
const RATE_HZ: f64 = 1_000.0;
/// A firm strike.
const STRIKE: u8 = 100;
const SILENT_DB: f32 = -100.0;

impl Engine {
    /// How loud a sound of a strand is over time, in dB under full, a value each `step_ms` from the strike on: struck firmly on a middle key with everything
    /// as it stands now, let go after `held_ms`. What its recording does is not in it. Whether there is such a strand.
    pub fn loudness_course(
        &self,
        strand: StrandId,
        (held_ms, step_ms): (f64, f64),
        into: &mut [f32],
    ) -> bool {
        let program = &self.program;
        let Some(shape) = program.strand(strand).and_then(|strand| program.shape_of(strand)) else {
            return false;
        };
        let around = Around {
            program,
            standing: &self.standing,
            rate_hz: RATE_HZ,
            tempo: self.tempo,
            frame: 0,
        };
        let keys = || program.regions_of(strand).map(|region| region.root_key);
        let key = keys().nth(keys().count() / 2).unwrap_or(60);
        let (mut drive, _) = Drive::start(shape, &around, (key, STRIKE, 0), None);
        let shortest = |loudness: Loudness| Loudness {
            release_ms: loudness.release_ms.max(crate::voice::STOP_MS),
            ..loudness
        };
        let mut envelope = Envelope::start(&shortest(drive.loudness(shape.loudness)), RATE_HZ);
        let frames = ((step_ms / 1_000.0 * RATE_HZ) as usize).max(1);
        let mut at_ms = 0.0;
        for db in into {
            let is_let_go = at_ms >= held_ms;
            let lets_go = is_let_go && !drive.is_let_go();
            let driven = drive.step(shape, &around, frames, is_let_go);
            if lets_go {
                envelope.reshape(&shortest(drive.loudness(shape.loudness)), RATE_HZ);
                envelope.release();
            }
            let mut level = 0.0;
            for _ in 0..frames {
                let mut next = [0.0];
                envelope.fill(&mut next);
                [level] = next;
            }
            *db = (20.0 * libm::log10f(level) + driven.level_db as f32).max(SILENT_DB);
            at_ms += 1_000.0 * frames as f64 / RATE_HZ;
        }
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use program::{
        Control, ControlId, CourseId, CourseTime, ParamId, Program, Region, Route, RouteId, Sample, SampleId,
        Source,
    };

    const SECOND: u64 = 48_000;

    /// A strand whose recording is one steady value, and a control that makes its attack up to four times as long.
    fn steady() -> Program {
        let sample = Sample {
            id: SampleId(1),
            name: "steady".into(),
            source: "steady".into(),
            rate_hz: 48_000,
            first_channel: 0,
            source_channels: 1,
            channels: 1,
            frames: 4 * SECOND,
        };
        let mut program = Program::plain("x", vec![sample], vec![Region::whole(0, 60, 4 * SECOND)]);
        let shape = &mut program.shapes[0];
        shape.loudness = Loudness {
            attack_ms: 200.0,
            decay_ms: 3_000.0,
            sustain_db: -12.0,
            release_ms: 1_500.0,
            velocity_to_level: 0.0,
            ..Loudness::default()
        };
        shape.routes = vec![Route {
            id: RouteId(1),
            from: Source::Control(ControlId(7)),
            times: None,
            curve: None,
            to: ParamId::CourseTime(CourseId::LOUDNESS, CourseTime::Attack),
            amount: 2.0,
        }];
        program.controls = vec![Control {
            id: ControlId(7),
            name: "Attack".into(),
            at_first: 0.0,
            controller: None,
        }];
        program
    }

    /// What is told is what is heard: the same strand played on a recording of one steady value, its level read off the frames.
    #[test]
    fn it_runs_as_it_is_heard_wherever_a_control_stands() {
        const STEP_MS: f64 = 20.0;
        for stands in [0.0, 0.5, 1.0] {
            let mut engine = Engine::new(SECOND as f64, 8);
            engine.load(steady());
            engine.set_audio(SampleId(1), &[vec![0.5; 4 * SECOND as usize]]);
            engine.control(ControlId(7), stands);
            let strand = engine.program.strands[0].id;
            let mut told = [0.0; 120];
            assert!(engine.loudness_course(strand, (1_600.0, STEP_MS), &mut told));
            engine.note_on(60, STRIKE);
            let frames = (STEP_MS / 1_000.0 * SECOND as f64) as usize;
            let mut heard = Vec::new();
            for n in 0..told.len() {
                if n == 80 {
                    engine.note_off(60);
                }
                let (mut left, mut right) = (vec![0.0; frames], vec![0.0; frames]);
                engine.render(&mut left, &mut right);
                heard.push(20.0 * left[frames - 1].max(1e-9).log10());
            }
            let full = heard.iter().copied().fold(f32::MIN, f32::max);
            for (n, (told, heard)) in told.iter().zip(&heard).enumerate() {
                let apart = (told - (heard - full)).abs();
                assert!(
                    apart < 0.6 || *told < -70.0,
                    "{stands} at {n}: {told} {}",
                    heard - full
                );
            }
            // Where it stands says how long it rises: 200 ms, twice that, four times that.
            let rises = told.iter().position(|db| *db > -0.05).unwrap() as f64 * STEP_MS;
            let wanted = 200.0 * (2.0 * stands).exp2();
            assert!((rises - wanted).abs() <= 2.0 * STEP_MS, "{rises} {wanted}");
        }
    }

    #[test]
    fn there_is_none_of_a_strand_that_is_not_there() {
        let mut engine = Engine::new(48_000.0, 1);
        engine.load(steady());
        assert!(!engine.loudness_course(StrandId(99), (100.0, 10.0), &mut [0.0; 4]));
    }
}
