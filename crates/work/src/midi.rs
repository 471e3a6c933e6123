//! A plan as a Standard MIDI File, and the times at which its notes stand.

use instrument::{Cell, Plan};
use midly::num::{u4, u7, u15, u24, u28};
use midly::{Format, Header, MetaMessage, MidiMessage, Smf, Timing, Track, TrackEvent, TrackEventKind};
use program::SoundsOn;

/// Two seconds of silence before the first note, for the noise floor.
const LEAD_MS: u64 = 2_000;
/// One tick is a millisecond: 500 ticks a quarter note, 500 ms long.
const TICKS_PER_QUARTER: u16 = 500;
const QUARTER_US: u32 = 500_000;

/// One note of the plan's file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PlanNote {
    /// Its cell.
    pub cell: Cell,
    /// When its key goes down, from the start of the file.
    pub on_ms: u64,
    /// When it comes up.
    pub off_ms: u64,
    /// When the next may begin.
    pub end_ms: u64,
    /// Strike.
    pub velocity: u8,
}

impl PlanNote {
    /// When its sound begins: for key-up sounds, when the key comes up.
    pub fn sounds_ms(&self, plan: &Plan) -> u64 {
        match plan.pass(self.cell.pass).map(|pass| pass.sounds_on) {
            Some(SoundsOn::KeyUp) => self.off_ms,
            _ => self.on_ms,
        }
    }
}

/// The notes, one a cell, a chord by its rung, one after another, each given its hold and its longest tail.
pub fn plan_notes(plan: &Plan) -> Vec<PlanNote> {
    let mut at = LEAD_MS;
    plan.cells()
        .into_iter()
        .filter_map(|cell| {
            let (pass, layer) = plan.layer_of(cell)?;
            let off_ms = at + u64::from(pass.hold_ms_at(cell.key));
            let note = PlanNote {
                cell,
                on_ms: at,
                off_ms,
                end_ms: off_ms + u64::from(pass.tail_ms),
                velocity: layer.strike_velocity,
            };
            at = note.end_ms;
            Some(note)
        })
        .collect()
}

/// The plan as a file of format 0 (Standard MIDI File 1.0): program, controllers, and one note, or one chord, a cell.
pub fn plan_as_midi(plan: &Plan) -> Vec<u8> {
    let channel = u4::from(plan.source.channel.saturating_sub(1) & 15);
    let midi = |message| TrackEventKind::Midi { channel, message };
    let controller = |number: u8, value: u8| {
        midi(MidiMessage::Controller {
            controller: u7::from(number & 127),
            value: u7::from(value & 127),
        })
    };
    let mut events: Vec<(u64, TrackEventKind)> =
        vec![(0, TrackEventKind::Meta(MetaMessage::Tempo(u24::from(QUARTER_US))))];
    if let Some(bank) = plan.source.bank {
        events.push((0, controller(0, (bank >> 7) as u8)));
        events.push((0, controller(32, bank as u8)));
    }
    let program = u7::from(plan.source.program.saturating_sub(1) & 127);
    events.push((0, midi(MidiMessage::ProgramChange { program })));
    let mut pass = None;
    let mut holding: Option<instrument::Controller> = None;
    for note in plan_notes(plan) {
        if pass != Some(note.cell.pass) {
            pass = Some(note.cell.pass);
            let held = plan.pass(note.cell.pass).and_then(|pass| pass.controller);
            let at = note.on_ms - LEAD_MS / 2;
            // What an earlier pass held is let go, where this one does not hold it too.
            let before = holding.filter(|before| held.is_none_or(|held| held.number != before.number));
            events.extend(before.map(|before| (at, controller(before.number, 0))));
            events.extend(held.map(|c| (at, controller(c.number, c.value))));
            holding = held;
        }
        let keys: Vec<u7> = plan
            .pass(note.cell.pass)
            .map_or_else(Vec::new, |pass| pass.keys_at(note.cell.key))
            .into_iter()
            .map(|key| u7::from(key & 127))
            .collect();
        let vel = u7::from(note.velocity & 127);
        let on = keys
            .iter()
            .map(|&key| (note.on_ms, midi(MidiMessage::NoteOn { key, vel })));
        events.extend(on);
        let vel = u7::from(64);
        let off = keys
            .iter()
            .map(|&key| (note.off_ms, midi(MidiMessage::NoteOff { key, vel })));
        events.extend(off);
    }
    let end = plan_notes(plan).last().map_or(0, |note| note.end_ms);
    events.push((end, TrackEventKind::Meta(MetaMessage::EndOfTrack)));
    let mut track = Track::new();
    let mut before = 0;
    for (at, kind) in events {
        let delta = u28::from(
            u32::try_from(at.saturating_sub(before))
                .unwrap_or(0)
                .min(0x0FFF_FFFF),
        );
        before = before.max(at);
        track.push(TrackEvent { delta, kind });
    }
    let smf = Smf {
        header: Header::new(
            Format::SingleTrack,
            Timing::Metrical(u15::from(TICKS_PER_QUARTER)),
        ),
        tracks: vec![track],
    };
    let mut bytes = Vec::new();
    // Writing to memory does not fail.
    let _ = smf.write_std(&mut bytes);
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;
    use instrument::{Controller, How, Kind, first_plan};

    /// Read by the byte, against Standard MIDI File 1.0 (MIDI Association): header, one track, delta times as variable-length
    /// quantities, running status allowed.
    fn notes_of(file: &[u8]) -> Vec<(u64, u8, u8)> {
        assert_eq!(&file[..14], b"MThd\0\0\0\x06\0\0\0\x01\x01\xf4");
        assert_eq!(&file[14..18], b"MTrk");
        let length = u32::from_be_bytes(file[18..22].try_into().unwrap()) as usize;
        assert_eq!(file.len(), 22 + length);
        let (mut at, mut now, mut status, mut notes) = (22, 0u64, 0u8, Vec::new());
        while at < file.len() {
            let mut delta = 0u64;
            loop {
                let byte = file[at];
                at += 1;
                delta = delta << 7 | u64::from(byte & 127);
                if byte < 128 {
                    break;
                }
            }
            now += delta;
            if file[at] >= 128 {
                status = file[at];
                at += 1;
            }
            match status >> 4 {
                0x9 => {
                    notes.push((now, file[at], file[at + 1]));
                    at += 2;
                }
                0x8 | 0xB => at += 2,
                0xC => at += 1,
                _ => at += 2 + usize::from(file[at + 1]),
            }
        }
        notes
    }

    #[test]
    fn the_file_has_one_note_a_cell_at_its_time() {
        let mut plan = first_plan(Kind::Struck, How::LongTake, "page").plan;
        plan.source.bank = Some(300);
        plan.passes[0].controller = Some(Controller { number: 1, value: 64 });
        let file = plan_as_midi(&plan);
        let expected: Vec<(u64, u8, u8)> = plan_notes(&plan)
            .iter()
            .map(|note| (note.on_ms, note.cell.key, note.velocity))
            .collect();
        assert_eq!(notes_of(&file), expected);
        let read = Smf::parse(&file).unwrap();
        let mut now = 0;
        let mut of_midly = Vec::new();
        for event in &read.tracks[0] {
            now += u64::from(event.delta.as_int());
            if let TrackEventKind::Midi {
                message: MidiMessage::NoteOn { key, vel },
                ..
            } = event.kind
            {
                of_midly.push((now, key.as_int(), vel.as_int()));
            }
        }
        assert_eq!(of_midly, expected);
        assert_eq!(expected.len(), plan.cells().len());
        assert_eq!(expected[1].0 - expected[0].0, 15_000);
    }
}
