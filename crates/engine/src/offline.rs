//! Rendering without a device.

use crate::{Engine, Samples};
use program::Program;

/// What happens.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
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
}

/// What happens when.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
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
    let mut engine = Engine::new(rate_hz, 128);
    engine.load(program.clone());
    let store: &mut Samples = engine.samples_mut();
    for (index, channels) in samples.into_iter().enumerate() {
        store.set(index, channels);
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
            }
        }
        engine.render(&mut left[first..end], &mut right[first..end]);
    }
    (left, right)
}
