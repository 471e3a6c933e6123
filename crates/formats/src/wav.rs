//! WAV with a `smpl` chunk (Multimedia Programming Interface and Data Specifications 1.0; `smpl`: MMA).

use crate::riff::{chunk, find, list};
use program::{Loop, LoopRuns};
use signal::Audio;
use std::io::Write;

/// What a `smpl` chunk says.
#[derive(Debug, Clone, PartialEq)]
pub struct Sampler {
    /// The key at which it sounds as recorded.
    pub root_key: u8,
    /// How far the recording lies above it. The chunk counts upward only: a flat recording has the key below and a fraction.
    pub recording_cents: f64,
    /// Forward loops only.
    pub looped: Option<Loop>,
    /// What is said of it inside the file.
    pub remarks: Remarks,
}

/// What is said of a recording inside its file: the chunks of `LIST` `INFO`, or the comments of FLAC.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Remarks {
    /// `ICMT`; `None` for nothing.
    pub mark: Option<String>,
    /// Who made it (`IART`); empty for nothing.
    pub credits: String,
    /// What may be done with it (`ICOP`); empty for nothing.
    pub licence: String,
}

impl Remarks {
    /// Those that say something, by the names of their chunks and of FLAC's comments (RFC 9639, section 8.6).
    pub(crate) fn said(&self) -> impl Iterator<Item = (&'static [u8; 4], &'static str, &str)> {
        let all: [(&[u8; 4], &str, &str); 3] = [
            (b"IART", "ARTIST", &self.credits),
            (b"ICMT", "DESCRIPTION", self.mark.as_deref().unwrap_or_default()),
            (b"ICOP", "LICENSE", &self.licence),
        ];
        all.into_iter().filter(|(.., text)| !text.is_empty())
    }
}

const EXTENSIBLE: u16 = 0xFFFE;
/// Last fourteen bytes of the sub-format's GUID.
const GUID_TAIL: [u8; 14] = [0, 0, 0, 0, 0x10, 0, 0x80, 0, 0, 0xAA, 0, 0x38, 0x9B, 0x71];

/// What stands before the samples of a WAV file, `bits` 16, 24 or 32 (float). 24 and 32 bits are written as
/// `WAVE_FORMAT_EXTENSIBLE`.
#[derive(Debug, Clone, PartialEq)]
pub struct WavLayout {
    /// Frames per second.
    pub rate_hz: u32,
    /// Interleaved in every frame.
    pub channels: u16,
    /// 16, 24 or 32 (float).
    pub bits: u16,
    /// Length.
    pub frames: u64,
    /// Root and loop, written before the samples.
    pub sampler: Option<Sampler>,
}

impl WavLayout {
    /// Bytes of all samples.
    pub fn sample_bytes(&self) -> u64 {
        self.frames * u64::from(self.channels) * u64::from(self.bits / 8)
    }

    /// Everything before the first sample. A length of 4 GiB or more is written as the largest that the field holds.
    pub fn header(&self) -> Vec<u8> {
        let block = self.channels.saturating_mul(self.bits / 8);
        let mut format = Vec::with_capacity(40);
        let tag = if self.bits == 16 { 1 } else { EXTENSIBLE };
        format.extend(tag.to_le_bytes());
        format.extend(self.channels.to_le_bytes());
        format.extend(self.rate_hz.to_le_bytes());
        format.extend(self.rate_hz.saturating_mul(u32::from(block)).to_le_bytes());
        format.extend(block.to_le_bytes());
        format.extend(self.bits.to_le_bytes());
        if tag == EXTENSIBLE {
            format.extend(22u16.to_le_bytes());
            format.extend(self.bits.to_le_bytes());
            let speakers: u32 = match self.channels {
                1 => 0x4,
                2 => 0x3,
                _ => 0,
            };
            format.extend(speakers.to_le_bytes());
            format.extend(if self.bits == 32 { 3u16 } else { 1 }.to_le_bytes());
            format.extend(GUID_TAIL);
        }
        let mut chunks = b"WAVE".to_vec();
        chunk(&mut chunks, b"fmt ", &format);
        if self.bits == 32 {
            chunk(&mut chunks, b"fact", &(self.frames as u32).to_le_bytes());
        }
        if let Some(sampler) = &self.sampler {
            chunk(&mut chunks, b"smpl", &smpl(self.rate_hz, sampler));
            let mut info = Vec::new();
            for (id, _, text) in sampler.remarks.said() {
                chunk(&mut info, id, &[text.as_bytes(), &[0]].concat());
            }
            if !info.is_empty() {
                list(&mut chunks, b"INFO", &info);
            }
        }
        let samples = self.sample_bytes();
        let length = |bytes: u64| u32::try_from(bytes).unwrap_or(u32::MAX).to_le_bytes();
        let mut header = b"RIFF".to_vec();
        header.extend(length(chunks.len() as u64 + 8 + samples + samples % 2));
        header.extend(chunks);
        header.extend(b"data");
        header.extend(length(samples));
        header
    }
}

/// Appends samples as they stand in a WAV file of so many bits.
pub fn encode_samples(bits: u16, samples: &[f32], out: &mut Vec<u8>) {
    for &sample in samples {
        match bits {
            16 => out.extend(
                ((f64::from(sample) * 32_768.0).round().clamp(-32_768.0, 32_767.0) as i16).to_le_bytes(),
            ),
            24 => out.extend(&to_24(sample).to_le_bytes()[..3]),
            _ => out.extend(sample.to_le_bytes()),
        }
    }
}

/// Reads samples as they stand in a WAV file of so many bits; an incomplete last one is dropped.
pub fn decode_samples(bits: u16, bytes: &[u8]) -> Vec<f32> {
    let whole = |b: &[u8]| f32::from(i16::from_le_bytes([b[0], b[1]])) / 32_768.0;
    let wide = |b: &[u8]| (i32::from_le_bytes([0, b[0], b[1], b[2]]) >> 8) as f32 / 8_388_608.0;
    let float = |b: &[u8]| f32::from_le_bytes([b[0], b[1], b[2], b[3]]);
    match bits {
        16 => bytes.chunks_exact(2).map(whole).collect(),
        24 => bytes.chunks_exact(3).map(wide).collect(),
        _ => bytes.chunks_exact(4).map(float).collect(),
    }
}

/// Writes a whole file, `bits` 16, 24 or 32 (float).
///
/// # Errors
/// Those of `out`.
pub fn write_wav(
    out: &mut impl Write,
    audio: &Audio,
    bits: u16,
    sampler: Option<&Sampler>,
) -> std::io::Result<()> {
    let layout = WavLayout {
        rate_hz: audio.rate_hz,
        channels: audio.channels.len() as u16,
        bits,
        frames: audio.frames() as u64,
        sampler: sampler.cloned(),
    };
    out.write_all(&layout.header())?;
    let mut bytes = Vec::with_capacity(layout.sample_bytes() as usize + 1);
    encode_samples(bits, &audio.interleaved(), &mut bytes);
    bytes.resize(bytes.len() + bytes.len() % 2, 0);
    out.write_all(&bytes)
}

/// The same in memory.
pub fn wav_bytes(audio: &Audio, bits: u16, sampler: Option<&Sampler>) -> Vec<u8> {
    let mut file = Vec::new();
    // Writing to memory does not fail.
    let _ = write_wav(&mut file, audio, bits, sampler);
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
                likeness_percent: 100,
                way: program::LoopWay::Forward,
                runs,
            })
        })
        .flatten();
    let recording_cents = ((exact - root) * 100.0 * 1e6).round() / 1e6;
    Some(Sampler {
        root_key: root as u8,
        recording_cents,
        looped,
        remarks: Remarks {
            mark: read_mark(file),
            credits: read_remark(file, b"IART").unwrap_or_default(),
            licence: read_remark(file, b"ICOP").unwrap_or_default(),
        },
    })
}

/// Reads the mark inside a file, if it has one.
pub fn read_mark(file: &[u8]) -> Option<String> {
    read_remark(file, b"ICMT")
}

fn read_remark(file: &[u8], id: &[u8; 4]) -> Option<String> {
    let body = find(file, b"LIST").filter(|body| body.starts_with(b"INFO"))?;
    // A list is laid out as a file is, less its first eight bytes.
    let inside = find(&[&[0; 8], body].concat(), id)?.to_vec();
    let text = String::from_utf8(inside).ok()?;
    Some(text.trim_end_matches('\0').to_owned())
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
                start_frame: start, end_frame: start + length, crossfade_frames: 0,
                likeness_percent: 100, way: program::LoopWay::Forward, runs: LoopRuns::ThroughRelease,
            });
            let remarks = Remarks {
                mark: (key % 2 == 0).then(|| format!("mark {key}")),
                credits: if key % 3 == 0 { "Fernhollow, René".to_owned() } else { String::new() },
                licence: if key % 5 == 0 { "as you like".to_owned() } else { String::new() },
            };
            let sampler = Sampler { root_key: key, recording_cents: cents, looped, remarks };
            let file = wav_bytes(&audio, bits, Some(&sampler));
            let read = read_sampler(&file).unwrap();
            prop_assert_eq!(read.root_key, key);
            prop_assert!((read.recording_cents - cents).abs() < 1e-4);
            prop_assert_eq!(read.looped, looped);
            prop_assert_eq!(read.remarks, sampler.remarks);
            // `symphonia` is the independent reader.
            prop_assert_eq!(crate::decode(file, Some("wav")).unwrap(), audio);
        }
    }

    #[test]
    fn samples_begin_after_the_header_and_are_read_back_in_every_width() {
        let samples = [0.5, -0.25, 0.125, -1.0];
        for bits in [16, 24, 32] {
            let (layout, file) = (
                WavLayout {
                    rate_hz: 48_000,
                    channels: 2,
                    bits,
                    frames: 2,
                    sampler: None,
                },
                wav_bytes(&Audio::from_interleaved(48_000, 2, &samples), bits, None),
            );
            let header = layout.header();
            assert_eq!(file[..header.len()], header);
            assert_eq!(decode_samples(bits, &file[header.len()..]), samples);
        }
    }

    /// MMA: 0x80000000 is 50 cents.
    #[test]
    fn a_flat_take_has_the_key_below_and_a_fraction() {
        let sampler = Sampler {
            root_key: 60,
            recording_cents: -50.0,
            looped: None,
            remarks: Remarks::default(),
        };
        let bytes = smpl(48_000, &sampler);
        assert_eq!(bytes[12..20], [59, 0, 0, 0, 0, 0, 0, 0x80]);
    }
}
