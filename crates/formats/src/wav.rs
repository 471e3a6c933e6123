//! WAV with a `smpl` chunk (Multimedia Programming Interface and Data Specifications 1.0; `smpl`: MMA).

use crate::riff::{chunk, find};
use program::{Loop, LoopRuns};
use signal::Audio;

/// What a `smpl` chunk says.
#[derive(Debug, Clone, PartialEq)]
pub struct Sampler {
    /// The key at which it sounds as recorded.
    pub root_key: u8,
    /// How far the recording lies above it. The chunk counts upward only: a flat recording has the key below and a fraction.
    pub recording_cents: f64,
    /// Forward loops only.
    pub looped: Option<Loop>,
}

const EXTENSIBLE: u16 = 0xFFFE;
/// Last fourteen bytes of the sub-format's GUID.
const GUID_TAIL: [u8; 14] = [0, 0, 0, 0, 0x10, 0, 0x80, 0, 0, 0xAA, 0, 0x38, 0x9B, 0x71];

/// Writes a whole file, `bits` 16, 24 or 32 (float). 24 and 32 bits are written as `WAVE_FORMAT_EXTENSIBLE`.
pub fn write_wav(audio: &Audio, bits: u16, sampler: Option<&Sampler>) -> Vec<u8> {
    let channels = audio.channels.len() as u16;
    let block = channels * (bits / 8);
    let mut format = Vec::with_capacity(40);
    let tag = if bits == 16 { 1 } else { EXTENSIBLE };
    format.extend(tag.to_le_bytes());
    format.extend(channels.to_le_bytes());
    format.extend(audio.rate_hz.to_le_bytes());
    format.extend((audio.rate_hz * u32::from(block)).to_le_bytes());
    format.extend(block.to_le_bytes());
    format.extend(bits.to_le_bytes());
    if tag == EXTENSIBLE {
        format.extend(22u16.to_le_bytes());
        format.extend(bits.to_le_bytes());
        let speakers: u32 = match channels {
            1 => 0x4,
            2 => 0x3,
            _ => 0,
        };
        format.extend(speakers.to_le_bytes());
        format.extend(if bits == 32 { 3u16 } else { 1 }.to_le_bytes());
        format.extend(GUID_TAIL);
    }
    let mut data = Vec::with_capacity(audio.frames() * usize::from(block));
    for sample in audio.interleaved() {
        match bits {
            16 => data.extend(
                ((f64::from(sample) * 32_768.0).round().clamp(-32_768.0, 32_767.0) as i16).to_le_bytes(),
            ),
            24 => data.extend(&to_24(sample).to_le_bytes()[..3]),
            _ => data.extend(sample.to_le_bytes()),
        }
    }
    let mut chunks = b"WAVE".to_vec();
    chunk(&mut chunks, b"fmt ", &format);
    if bits == 32 {
        chunk(&mut chunks, b"fact", &(audio.frames() as u32).to_le_bytes());
    }
    if let Some(sampler) = sampler {
        chunk(&mut chunks, b"smpl", &smpl(audio.rate_hz, sampler));
    }
    chunk(&mut chunks, b"data", &data);
    let mut file = Vec::with_capacity(chunks.len() + 8);
    chunk(&mut file, b"RIFF", &chunks);
    file
}

/// A sample as a 24-bit integer, rounded.
pub(crate) fn to_24(sample: f32) -> i32 {
    (f64::from(sample) * 8_388_608.0)
        .round()
        .clamp(-8_388_608.0, 8_388_607.0) as i32
}

fn smpl(rate_hz: u32, sampler: &Sampler) -> Vec<u8> {
    let cents = f64::from(sampler.root_key) * 100.0 + sampler.recording_cents;
    let key = (cents / 100.0).floor().clamp(0.0, 127.0);
    let fraction = ((cents / 100.0 - key) * 4_294_967_296.0)
        .round()
        .clamp(0.0, 4_294_967_295.0) as u32;
    let period_ns = 1_000_000_000 / rate_hz.max(1);
    let loops = u32::from(sampler.looped.is_some());
    let mut words = vec![0, 0, period_ns, key as u32, fraction, 0, 0, loops, 0];
    if let Some(looped) = sampler.looped {
        // `dwEnd` is the last frame of the loop.
        words.extend([0, 0, looped.start_frame as u32, looped.end_frame as u32 - 1, 0, 0]);
    }
    words.iter().flat_map(|word: &u32| word.to_le_bytes()).collect()
}

/// Reads a `smpl` chunk, if the file has one. The root is the key nearest to what it says.
pub fn read_sampler(file: &[u8]) -> Option<Sampler> {
    let body = find(file, b"smpl")?;
    let word = |n: usize| Some(u32::from_le_bytes(body.get(n * 4..n * 4 + 4)?.try_into().ok()?));
    let exact = f64::from(word(3)?) + f64::from(word(4)?) / 4_294_967_296.0;
    let root = exact.round().clamp(0.0, 127.0);
    let looped = (word(7)? > 0 && word(10)? == 0)
        .then(|| {
            let (start, last) = (u64::from(word(11)?), u64::from(word(12)?));
            let runs = LoopRuns::ThroughRelease;
            (last >= start).then_some(Loop {
                start_frame: start,
                end_frame: last + 1,
                crossfade_frames: 0,
                runs,
            })
        })
        .flatten();
    let recording_cents = ((exact - root) * 100.0 * 1e6).round() / 1e6;
    Some(Sampler {
        root_key: root as u8,
        recording_cents,
        looped,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn what_is_written_is_read_back(
            bits in prop::sample::select(vec![16u16, 24, 32]),
            channels in 1usize..4,
            frames in 1usize..300,
            key in 1u8..127,
            cents in -49.0f64..49.0,
            looped in proptest::option::of((0u64..100, 1u64..100)),
        ) {
            // Values that all three widths hold exactly.
            let channel = |c: usize| (0..frames).map(|n| ((n * 37 + c * 11) % 256) as f32 / 256.0 - 0.5).collect();
            let audio = Audio { rate_hz: 44_100, channels: (0..channels).map(channel).collect() };
            let looped = looped.map(|(start, length)| Loop {
                start_frame: start, end_frame: start + length, crossfade_frames: 0, runs: LoopRuns::ThroughRelease,
            });
            let sampler = Sampler { root_key: key, recording_cents: cents, looped };
            let file = write_wav(&audio, bits, Some(&sampler));
            let read = read_sampler(&file).unwrap();
            prop_assert_eq!(read.root_key, key);
            prop_assert!((read.recording_cents - cents).abs() < 1e-4);
            prop_assert_eq!(read.looped, looped);
            // `symphonia` is the independent reader.
            prop_assert_eq!(crate::decode(file, Some("wav")).unwrap(), audio);
        }
    }

    /// The store reads stretches of its recordings without parsing them: samples begin at byte 80.
    #[test]
    fn samples_of_a_float_file_begin_where_the_store_reads_them() {
        let file = write_wav(&Audio::mono(48_000, vec![0.5, -0.25]), 32, None);
        assert_eq!(file.len(), 88);
        assert_eq!(
            file[80..88],
            [0.5f32.to_le_bytes(), (-0.25f32).to_le_bytes()].concat()
        );
    }

    /// MMA: 0x80000000 is 50 cents.
    #[test]
    fn a_flat_take_has_the_key_below_and_a_fraction() {
        let sampler = Sampler {
            root_key: 60,
            recording_cents: -50.0,
            looped: None,
        };
        let bytes = smpl(48_000, &sampler);
        assert_eq!(bytes[12..20], [59, 0, 0, 0, 0, 0, 0, 0x80]);
    }
}
