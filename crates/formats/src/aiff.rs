//! Root and loop of an AIFF file (Audio Interchange File Format 1.3, Apple Computer, 1989: `INST` and `MARK` chunks).

use crate::Sampler;
use program::{Loop, LoopRuns};

/// The body of the first chunk of that name inside a `FORM`; sizes are big-endian.
fn find<'a>(file: &'a [u8], id: &[u8; 4]) -> Option<&'a [u8]> {
    if file.get(..4)? != b"FORM" {
        return None;
    }
    let mut rest = file.get(12..)?;
    while rest.len() >= 8 {
        let length = u32::from_be_bytes(rest[4..8].try_into().ok()?) as usize;
        if &rest[..4] == id {
            return rest.get(8..length.checked_add(8)?);
        }
        rest = rest.get(length.checked_add(8 + length % 2)?..)?;
    }
    None
}

/// Position of a marker by its id: marks lie between frames, so the number is that of the frame after.
fn marker(marks: &[u8], wanted: u16) -> Option<u64> {
    let count = u16::from_be_bytes(marks.get(..2)?.try_into().ok()?);
    let mut rest = marks.get(2..)?;
    for _ in 0..count {
        let id = u16::from_be_bytes(rest.get(..2)?.try_into().ok()?);
        let position = u32::from_be_bytes(rest.get(2..6)?.try_into().ok()?);
        if id == wanted {
            return Some(u64::from(position));
        }
        // A Pascal string, padded so that length byte and text are even together.
        let name = usize::from(*rest.get(6)?) + 1;
        rest = rest.get(6 + name + name % 2..)?;
    }
    None
}

/// Reads `INST` and `MARK`, if the file has them. `detune` is added on playing: the recording lies as far below.
pub fn read_aiff_sampler(file: &[u8]) -> Option<Sampler> {
    let inst = find(file, b"INST")?;
    let root_key = *inst.first().filter(|key| **key <= 127)?;
    let detune = f64::from(*inst.get(1)? as i8);
    let number = |at: usize| Some(u16::from_be_bytes(inst.get(at..at + 2)?.try_into().ok()?));
    // The sustain loop: play mode at byte 8, its two markers after it.
    let looped = (number(8)? == 1)
        .then(|| {
            let marks = find(file, b"MARK")?;
            let (start, end) = (marker(marks, number(10)?)?, marker(marks, number(12)?)?);
            (start < end).then_some(Loop {
                start_frame: start,
                end_frame: end,
                crossfade_frames: 0,
                likeness_percent: 100,
                way: program::LoopWay::Forward,
                runs: LoopRuns::ThroughRelease,
            })
        })
        .flatten();
    Some(Sampler {
        root_key,
        recording_cents: -detune,
        looped,
        remarks: crate::Remarks::default(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Laid out by hand after the specification.
    #[test]
    fn root_detune_and_sustain_loop_are_read() {
        let chunk = |id: &[u8], body: &[u8]| [id, &(body.len() as u32).to_be_bytes(), body].concat();
        let mark = |id: u16, at: u32, name: &[u8]| {
            let mut bytes = [
                &id.to_be_bytes()[..],
                &at.to_be_bytes(),
                &[name.len() as u8],
                name,
            ]
            .concat();
            if (name.len() + 1) % 2 == 1 {
                bytes.push(0);
            }
            bytes
        };
        let marks = [
            &2u16.to_be_bytes()[..],
            &mark(1, 1_000, b"beg loop"),
            &mark(2, 5_000, b"end"),
        ]
        .concat();
        let inst = [
            58u8,
            (-12i8) as u8,
            0,
            127,
            1,
            127,
            0,
            0,
            0,
            1,
            0,
            1,
            0,
            2,
            0,
            0,
            0,
            0,
            0,
            0,
        ];
        let body = [&b"AIFF"[..], &chunk(b"MARK", &marks), &chunk(b"INST", &inst)].concat();
        let read = read_aiff_sampler(&chunk(b"FORM", &body)).unwrap();
        assert_eq!((read.root_key, read.recording_cents), (58, 12.0));
        let looped = read.looped.unwrap();
        assert_eq!((looped.start_frame, looped.end_frame), (1_000, 5_000));
        assert_eq!(read_aiff_sampler(b"RIFF"), None);
        assert_eq!(read_aiff_sampler(b"FORM\0\0\0\x04AIFF"), None);
    }
}
