//! Audio files to samples: WAV, AIFF, FLAC, Ogg Vorbis and MP3, through `symphonia`.

use crate::FormatError;
use signal::Audio;
use std::io::Cursor;
use symphonia::core::audio::SampleBuffer;
use symphonia::core::codecs::{Decoder, DecoderOptions};
use symphonia::core::errors::Error;
use symphonia::core::formats::{FormatOptions, FormatReader};
use symphonia::core::io::{MediaSource, MediaSourceStream};
use symphonia::core::meta::MetadataOptions;
use symphonia::core::probe::Hint;

/// Longer than this is refused: eight hours at 48 kHz.
const MOST_FRAMES: u64 = 8 * 3600 * 48_000;
/// More channels than this are no recording.
const MOST_CHANNELS: usize = 32;

fn unreadable(why: &str) -> FormatError {
    FormatError::Unreadable(format!("This is not audio that can be read: {why}."))
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
}

impl AudioReader {
    /// Opens a file. `extension` is a hint only; the bytes decide.
    ///
    /// # Errors
    /// With a sentence, where the bytes are no audio, hold none, or are cut short before the first frame.
    pub fn open(source: Box<dyn MediaSource>, extension: Option<&str>) -> Result<Self, FormatError> {
        if source.byte_len() == Some(0) {
            return Err(unreadable("the file is empty"));
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
            .map_err(|error| match error {
                Error::IoError(_) => unreadable("it ends before any sound begins"),
                error => unreadable(&error.to_string()),
            })?
            .format;
        let track = format
            .default_track()
            .ok_or_else(|| unreadable("it has no track"))?;
        let decoder = symphonia::default::get_codecs()
            .make(&track.codec_params, &DecoderOptions::default())
            .map_err(|error| unreadable(&error.to_string()))?;
        // What is 24 bits or less is kept in 24, the rest as floats.
        let bits = match track.codec_params.bits_per_sample {
            Some(bits) if bits <= 24 => 24,
            _ => 32,
        };
        let mut reader = Self {
            track: track.id,
            format,
            decoder,
            bits,
            first: None,
            rate_hz: 0,
            channels: 0,
            frames: 0,
        };
        // Rate and channels are sure only once something was decoded.
        reader.first = reader.piece()?;
        if reader.rate_hz == 0 || reader.channels == 0 {
            return Err(unreadable("it holds no audio"));
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
    /// With a sentence, where the file is longer than eight hours or changes in its middle.
    pub fn next_piece(&mut self) -> Result<Option<Vec<f32>>, FormatError> {
        let piece = match self.first.take() {
            Some(first) => Some(first),
            None => self.piece()?,
        };
        self.frames += piece.as_ref().map_or(0, |p| (p.len() / self.channels) as u64);
        if self.frames > MOST_FRAMES {
            return Err(unreadable("it is longer than eight hours"));
        }
        Ok(piece)
    }

    fn piece(&mut self) -> Result<Option<Vec<f32>>, FormatError> {
        loop {
            let packet = match self.format.next_packet() {
                Ok(packet) => packet,
                Err(Error::IoError(_) | Error::ResetRequired) => return Ok(None),
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
}
