//! Audio files to samples: WAV, AIFF, FLAC, Ogg Vorbis and MP3, through `symphonia`.

use crate::FormatError;
use signal::Audio;
use std::io::Cursor;
use symphonia::core::audio::SampleBuffer;
use symphonia::core::codecs::DecoderOptions;
use symphonia::core::errors::Error;
use symphonia::core::formats::FormatOptions;
use symphonia::core::io::MediaSourceStream;
use symphonia::core::meta::MetadataOptions;
use symphonia::core::probe::Hint;

/// Longer than this is refused: eight hours at 48 kHz.
const MOST_FRAMES: usize = 8 * 3600 * 48_000;

/// Decodes a whole file. `extension` is a hint only; the bytes decide.
///
/// # Errors
/// With a sentence, where the bytes are no audio, hold none, or are cut short before the first frame.
pub fn decode(bytes: Vec<u8>, extension: Option<&str>) -> Result<Audio, FormatError> {
    let unreadable =
        |why: &str| FormatError::Unreadable(format!("This is not audio that can be read: {why}."));
    if bytes.is_empty() {
        return Err(unreadable("the file is empty"));
    }
    let mut hint = Hint::new();
    if let Some(extension) = extension {
        hint.with_extension(extension);
    }
    let stream = MediaSourceStream::new(Box::new(Cursor::new(bytes)), Default::default());
    let options = FormatOptions {
        enable_gapless: true,
        ..FormatOptions::default()
    };
    let mut probed = symphonia::default::get_probe()
        .format(&hint, stream, &options, &MetadataOptions::default())
        .map_err(|error| unreadable(&error.to_string()))?;
    let track = probed
        .format
        .default_track()
        .ok_or_else(|| unreadable("it has no track"))?;
    let (id, parameters) = (track.id, track.codec_params.clone());
    let mut decoder = symphonia::default::get_codecs()
        .make(&parameters, &DecoderOptions::default())
        .map_err(|error| unreadable(&error.to_string()))?;
    let (mut rate_hz, mut channels, mut samples) = (0, 0, Vec::new());
    loop {
        let packet = match probed.format.next_packet() {
            Ok(packet) => packet,
            Err(Error::IoError(_) | Error::ResetRequired) => break,
            Err(error) => return Err(unreadable(&error.to_string())),
        };
        if packet.track_id() != id {
            continue;
        }
        match decoder.decode(&packet) {
            Ok(buffer) => {
                let spec = *buffer.spec();
                rate_hz = spec.rate;
                channels = spec.channels.count();
                let mut interleaved = SampleBuffer::<f32>::new(buffer.capacity() as u64, spec);
                interleaved.copy_interleaved_ref(buffer);
                samples.extend_from_slice(interleaved.samples());
            }
            Err(Error::DecodeError(_)) => {}
            Err(Error::IoError(_)) => break,
            Err(error) => return Err(unreadable(&error.to_string())),
        }
        if samples.len() > MOST_FRAMES * channels.max(1) {
            return Err(unreadable("it is longer than eight hours"));
        }
    }
    if rate_hz == 0 || channels == 0 {
        return Err(unreadable("it holds no audio"));
    }
    Ok(Audio::from_interleaved(rate_hz, channels, &samples))
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
