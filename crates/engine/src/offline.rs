//! Rendering without a device.

use crate::Engine;
use crate::seam::seam_slabs;
use crate::slabs::{SLAB_BYTES, SLAB_FRAMES};
use program::{ControlId, Program};

/// What happens.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum EventKind {
    /// A key goes down.
    NoteOn {
        /// MIDI key.
        key: u8,
        /// 1 to 127.
        velocity: u8,
    },
    /// A key comes up.
    NoteOff {
        /// MIDI key.
        key: u8,
    },
    /// A controller is moved.
    Controller {
        /// 0 to 127.
        controller: u8,
        /// 0 to 127.
        value: u8,
    },
    /// The bend is moved.
    Bend {
        /// 0 to 16,383.
        value: u16,
    },
    /// All keys are pressed.
    Pressure {
        /// 0 to 127.
        value: u8,
    },
    /// A control of the panel is moved.
    Control {
        /// Which.
        id: ControlId,
        /// 0 to 1.
        value: f64,
    },
}

/// What happens when.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Event {
    /// Output frame.
    pub frame: usize,
    /// What.
    pub kind: EventKind,
}

/// Block length of the browser's audio thread; used here too, so that both render alike.
const BLOCK: usize = 128;

/// Renders `frames` frames, left and right. Events take effect at the start of the 128-frame block they fall into.
pub fn render_offline(
    program: &Program,
    samples: Vec<Vec<Vec<f32>>>,
    rate_hz: f64,
    events: &[Event],
    frames: usize,
) -> (Vec<f32>, Vec<f32>) {
    let slabs = |channel: &Vec<f32>| channel.len().div_ceil(SLAB_FRAMES);
    let seams = program.regions.iter().map(|region| seam_slabs(program, region));
    let needed = samples.iter().flatten().map(slabs).sum::<usize>() + seams.sum::<usize>();
    let mut engine = Engine::with_budget(rate_hz, 128, needed * SLAB_BYTES);
    engine.load(program.clone());
    for (sample, channels) in program.samples.iter().zip(&samples) {
        engine.set_audio(sample.id, channels);
    }
    let (mut left, mut right) = (vec![0.0; frames], vec![0.0; frames]);
    let mut sorted = events.to_vec();
    sorted.sort_by_key(|event| event.frame);
    let mut next = sorted.into_iter().peekable();
    for first in (0..frames).step_by(BLOCK) {
        let end = (first + BLOCK).min(frames);
        while let Some(event) = next.next_if(|event| event.frame < first + BLOCK) {
            match event.kind {
                EventKind::NoteOn { key, velocity } => engine.note_on(key, velocity),
                EventKind::NoteOff { key } => engine.note_off(key),
                EventKind::Controller { controller, value } => engine.controller(controller, value),
                EventKind::Bend { value } => engine.bend(value),
                EventKind::Pressure { value } => engine.pressure(value),
                EventKind::Control { id, value } => engine.control(id, value),
            }
        }
        engine.render(&mut left[first..end], &mut right[first..end]);
    }
    (left, right)
}
