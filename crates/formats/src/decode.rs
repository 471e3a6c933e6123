//! Audio files to samples: WAV, AIFF, FLAC, Ogg Vorbis and MP3, through `symphonia`.

use crate::FormatError;
use crate::honesty::{RATES_HZ, lie_of};
use crate::plain::{foreign, in_another_code, plain};
use crate::unharmed::unharmed;
use signal::Audio;
use std::io::{Cursor, Read, Seek};
use symphonia::core::audio::SampleBuffer;
use symphonia::core::codecs::{Decoder, DecoderOptions};
use symphonia::core::errors::Error;
use symphonia::core::formats::{FormatOptions, FormatReader};
use symphonia::core::io::{MediaSource, MediaSourceStream};
use symphonia::core::meta::MetadataOptions;
use symphonia::core::probe::Hint;

/// Longer than this is refused: eight hours at 48 kHz.
const MOST_FRAMES: u64 = 8 * 3600 * 48_000;
/// A sample beyond this is a broken one: 60 dB over full scale.
const LOUDEST: f32 = 1_000.0;
/// So many frames may be missing at the end of a file that was packed with loss, whose length is told in packets.
const MISSING_OF_PACKED: u64 = 4_096;
/// And so few at the end of any other: eight bytes of an AIFF's sound chunk are counted as frames by the decoder.
const MISSING_OF_WHOLE: u64 = 8;
/// More channels than this are no recording.
const MOST_CHANNELS: usize = 32;

const NO_AUDIO: &str = "This is not audio that can be read";

fn unreadable(why: &str) -> FormatError {
    FormatError::Unreadable(format!("{NO_AUDIO}: {why}."))
}

/// What is read, for one who brought something else.
fn not_read(what: &str) -> FormatError {
    FormatError::Unreadable(format!(
        "{NO_AUDIO}: it is {what}. WAV, AIFF, FLAC, Ogg Vorbis and MP3 are read."
    ))
}

/// Why a file that begins so is not read, in a sentence.
fn why(error: &Error, head: &[u8]) -> FormatError {
    match (error, in_another_code(head)) {
        (Error::Unsupported(_), Some(what)) => not_read(what),
        (Error::Unsupported(_), None) => not_read("of no kind that is known here"),
        (Error::IoError(_), _) => unreadable("it ends before any sound begins"),
        (error, _) => unreadable(&error.to_string()),
    }
}

/// Reads an audio file piece by piece.
pub struct AudioReader {
    format: Box<dyn FormatReader>,
    decoder: Box<dyn Decoder>,
    track: u32,
    bits: u16,
    first: Option<Vec<f32>>,
    rate_hz: u32,
    channels: usize,
    frames: u64,
    /// As many as the file says that it has, less what may be missing.
    promised: u64,
}

impl AudioReader {
    /// Opens a file. `extension` is a hint only; the bytes decide.
    ///
    /// # Errors
    /// With a sentence, where the bytes are no audio, hold none, or are cut short before the first frame.
    pub fn open(source: Box<dyn MediaSource>, extension: Option<&str>) -> Result<Self, FormatError> {
        unharmed(NO_AUDIO, || Self::opened(source, extension))
    }

    fn opened(source: Box<dyn MediaSource>, extension: Option<&str>) -> Result<Self, FormatError> {
        if source.byte_len() == Some(0) {
            return Err(unreadable("the file is empty"));
        }
        let mut source = plain(source)?;
        let mut head = [0; 128];
        let told = source.read(&mut head)?;
        source.rewind()?;
        if let Some(what) = foreign(&head[..told]) {
            return Err(not_read(what));
        }
        let refused = |error: Error| why(&error, &head[..told]);
        if let Some(lie) = lie_of(&mut source)? {
            return Err(unreadable(&lie));
        }
        let mut hint = Hint::new();
        if let Some(extension) = extension {
            hint.with_extension(extension);
        }
        let stream = MediaSourceStream::new(source, Default::default());
        let options = FormatOptions {
            enable_gapless: true,
            ..FormatOptions::default()
        };
        let format = symphonia::default::get_probe()
            .format(&hint, stream, &options, &MetadataOptions::default())
            .map_err(refused)?
            .format;
        let track = format
            .default_track()
            .ok_or_else(|| unreadable("it has no track"))?;
        let decoder = symphonia::default::get_codecs()
            .make(&track.codec_params, &DecoderOptions::default())
            .map_err(refused)?;
        // What is 24 bits or less is kept in 24, the rest as floats.
        let bits = match track.codec_params.bits_per_sample {
            Some(bits) if bits <= 24 => 24,
            _ => 32,
        };
        let packed = track.codec_params.bits_per_sample.is_none();
        let promised = track.codec_params.n_frames.unwrap_or(0);
        let mut reader = Self {
            promised: promised.saturating_sub(if packed {
                MISSING_OF_PACKED
            } else {
                MISSING_OF_WHOLE
            }),
            track: track.id,
            format,
            decoder,
            bits,
            first: None,
            rate_hz: 0,
            channels: 0,
            frames: 0,
        };
        // A rate that is told and cannot be is refused before anything is worked out from it.
        let told = reader
            .format
            .default_track()
            .and_then(|track| track.codec_params.sample_rate);
        if let Some(rate) = told.filter(|rate| !RATES_HZ.contains(rate)) {
            return Err(unreadable(&format!(
                "its rate is {rate} Hz, and only rates from 1,000 to 384,000 Hz can be"
            )));
        }
        // Rate and channels are sure only once something was decoded.
        reader.first = reader.piece()?;
        if reader.channels == 0 || reader.first.is_none() {
            return Err(unreadable("it holds no audio"));
        }
        if !RATES_HZ.contains(&reader.rate_hz) {
            return Err(unreadable(&format!(
                "its rate is {} Hz, and only rates from 1,000 to 384,000 Hz can be",
                reader.rate_hz
            )));
        }
        if reader.channels > MOST_CHANNELS {
            return Err(unreadable("it has more than 32 channels"));
        }
        Ok(reader)
    }

    /// Frames per second.
    pub fn rate_hz(&self) -> u32 {
        self.rate_hz
    }

    /// Channels.
    pub fn channels(&self) -> usize {
        self.channels
    }

    /// The width that holds its samples: 24, or 32 for floats and what was packed with loss.
    pub fn bits(&self) -> u16 {
        self.bits
    }

    /// The next piece, interleaved; `None` at the end.
    ///
    /// # Errors
    /// With a sentence, where the file is longer than eight hours, changes in its middle, is cut short or holds what is no sound.
    pub fn next_piece(&mut self) -> Result<Option<Vec<f32>>, FormatError> {
        let piece = match self.first.take() {
            Some(first) => Some(first),
            None => unharmed(NO_AUDIO, || self.piece())?,
        };
        self.frames += piece.as_ref().map_or(0, |p| (p.len() / self.channels) as u64);
        if self.frames > MOST_FRAMES {
            return Err(unreadable("it is longer than eight hours"));
        }
        match &piece {
            Some(samples) if samples.iter().any(|x| !x.is_finite() || x.abs() > LOUDEST) => Err(unreadable(
                "some of its samples are no numbers, or far beyond full scale",
            )),
            None if self.frames < self.promised => Err(unreadable(&format!(
                "it is cut short or damaged: {} of the {} frames that it says it has can be read",
                self.frames, self.promised
            ))),
            _ => Ok(piece),
        }
    }

    fn piece(&mut self) -> Result<Option<Vec<f32>>, FormatError> {
        loop {
            let packet = match self.format.next_packet() {
                Ok(packet) => packet,
                Err(Error::IoError(_)) => return Ok(None),
                // Another stream follows in the same file (RFC 3533, "chained"): it goes on as the same sound.
                Err(Error::ResetRequired) => {
                    let Some(track) = self.format.default_track() else {
                        return Ok(None);
                    };
                    self.track = track.id;
                    self.decoder = symphonia::default::get_codecs()
                        .make(&track.codec_params, &DecoderOptions::default())
                        .map_err(|error| unreadable(&error.to_string()))?;
                    continue;
                }
                Err(error) => return Err(unreadable(&error.to_string())),
            };
            if packet.track_id() != self.track {
                continue;
            }
            match self.decoder.decode(&packet) {
                Ok(buffer) => {
                    let spec = *buffer.spec();
                    if self.rate_hz != 0
                        && (spec.rate, spec.channels.count()) != (self.rate_hz, self.channels)
                    {
                        return Err(unreadable("its rate or channels change in the middle"));
                    }
                    (self.rate_hz, self.channels) = (spec.rate, spec.channels.count());
                    let mut interleaved = SampleBuffer::<f32>::new(buffer.capacity() as u64, spec);
                    interleaved.copy_interleaved_ref(buffer);
                    return Ok(Some(interleaved.samples().to_vec()));
                }
                // A damaged packet is passed over: the rest may be sound.
                Err(Error::DecodeError(_)) => {}
                Err(Error::IoError(_)) => return Ok(None),
                Err(error) => return Err(unreadable(&error.to_string())),
            }
        }
    }
}

/// Decodes a whole file. `extension` is a hint only; the bytes decide.
///
/// # Errors
/// See [`AudioReader`].
pub fn decode(bytes: Vec<u8>, extension: Option<&str>) -> Result<Audio, FormatError> {
    let mut reader = AudioReader::open(Box::new(Cursor::new(bytes)), extension)?;
    let mut samples = Vec::new();
    while let Some(piece) = reader.next_piece()? {
        samples.extend(piece);
    }
    Ok(Audio::from_interleaved(reader.rate_hz, reader.channels, &samples))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_audio_is_refused_with_a_sentence() {
        for bytes in [
            vec![],
            vec![0; 10],
            b"RIFF\xff\xff\xff\xffWAVEfmt ".to_vec(),
            b"hello, this is text".repeat(50),
        ] {
            let error = decode(bytes, Some("wav")).unwrap_err().to_string();
            assert!(error.starts_with("This is not audio"), "{error}");
        }
    }

    fn wav(seconds: f32, channels: usize) -> Vec<u8> {
        let side: Vec<f32> = (0..(48_000.0 * seconds) as usize)
            .map(|n| (n as f32 * 0.05).sin() * 0.4)
            .collect();
        let audio = Audio {
            rate_hz: 48_000,
            channels: vec![side; channels],
        };
        crate::wav_bytes(&audio, 16, None)
    }

    fn refused(bytes: Vec<u8>) -> String {
        match decode(bytes, Some("wav")) {
            Ok(audio) => format!("read: {} frames", audio.frames()),
            Err(error) => error.to_string(),
        }
    }

    #[test]
    fn a_file_that_is_not_what_it_says_is_refused_with_a_sentence() {
        let whole = wav(1.0, 2);
        let with = |at: usize, bytes: &[u8]| {
            let mut file = whole.clone();
            file[at..at + bytes.len()].copy_from_slice(bytes);
            file
        };
        for (file, says) in [
            (whole[..whole.len() / 3].to_vec(), "cut short"),
            (whole[..whole.len() - 1].to_vec(), "cut short"),
            (with(40, &0x7fff_ffffu32.to_le_bytes()), "cut short"),
            (with(40, &0xffff_fffeu32.to_le_bytes()), "cut short"),
            (with(22, &[0, 0]), "no channels"),
            (with(24, &0u32.to_le_bytes()), "rate is 0 Hz"),
            (with(24, &u32::MAX.to_le_bytes()), "rate is 4294967295 Hz"),
            (with(24, &768_000u32.to_le_bytes()), "rate is 768000 Hz"),
            (with(32, &[1, 0]), "contradicts itself"),
        ] {
            let sentence = refused(file);
            assert!(
                sentence.starts_with("This is not audio") && sentence.contains(says),
                "{sentence}"
            );
        }
        let float = |x: f32| crate::wav_bytes(&Audio::mono(48_000, vec![x; 480]), 32, None);
        for x in [f32::NAN, f32::INFINITY, 3e38] {
            assert!(refused(float(x)).contains("no numbers"), "{x}");
        }
        assert_eq!(refused(float(1.5)), "read: 480 frames");
        assert_eq!(refused(whole), "read: 48000 frames");
    }
}
