//! FLAC (RFC 9639), by the crate `flacenc`.

use crate::wav::to_24;
use crate::{FormatError, Remarks};
use flacenc::bitsink::ByteSink;
use flacenc::component::BitRepr;
use flacenc::error::Verify;
use flacenc::source::MemSource;
use signal::Audio;
use std::io::Write;

/// Writes a whole file, `bits` 16 or 24.
///
/// # Errors
/// Those of `out`; where it is no sound that FLAC holds (1 to 8 channels, rates below 1 MHz).
pub fn write_flac(
    out: &mut impl Write,
    audio: &Audio,
    bits: u16,
    remarks: &Remarks,
) -> Result<(), FormatError> {
    let held = |what: &dyn std::fmt::Debug| {
        FormatError::TooMuch(format!("FLAC does not hold this sound: {what:?}."))
    };
    let value = |sample: f32| match bits {
        16 => (f64::from(sample) * 32_768.0).round().clamp(-32_768.0, 32_767.0) as i32,
        _ => to_24(sample),
    };
    let samples: Vec<i32> = audio.interleaved().into_iter().map(value).collect();
    let config = flacenc::config::Encoder::default()
        .into_verified()
        .map_err(|(_, error)| held(&error))?;
    let source = MemSource::from_samples(
        &samples,
        audio.channels.len(),
        usize::from(bits),
        audio.rate_hz as usize,
    );
    let block = config.block_size;
    let stream =
        flacenc::encode_with_fixed_block_size(&config, source, block).map_err(|error| held(&error))?;
    let mut sink = ByteSink::new();
    stream.write(&mut sink).map_err(|error| held(&error))?;
    let mut bytes = sink.as_slice().to_vec();
    // The last block may be shorter than both of these say (RFC 9639, section 8.2): one of under 16 frames would be none.
    if let (Some(sizes), Ok(block)) = (bytes.get_mut(8..12), u16::try_from(block)) {
        sizes[..2].copy_from_slice(&block.to_be_bytes());
        sizes[2..].copy_from_slice(&block.to_be_bytes());
    }
    if remarks.said().next().is_some() {
        put_comments(&mut bytes, remarks);
    }
    Ok(out.write_all(&bytes)?)
}

/// Where the first block of what is known of the stream ends: it has 34 bytes behind the mark and its head (RFC 9639, sections 7 and 8.2).
const STREAM_INFO_END: usize = 4 + 4 + 34;
/// A block's kind (section 8.1), and that it is the last one.
const COMMENTS: u8 = 4;
const LAST: u8 = 0x80;

/// Comments behind the first block (section 8.6); lengths of strings are little-endian there.
fn put_comments(file: &mut Vec<u8>, remarks: &Remarks) {
    if file.len() < STREAM_INFO_END {
        return;
    }
    let string = |text: &str| [&(text.len() as u32).to_le_bytes()[..], text.as_bytes()].concat();
    let comments: Vec<Vec<u8>> = remarks
        .said()
        .map(|(_, name, text)| string(&format!("{name}={text}")))
        .collect();
    let mut body = string("Ladder");
    body.extend((comments.len() as u32).to_le_bytes());
    body.extend(comments.concat());
    let is_last = file[4] & LAST;
    file[4] &= !LAST;
    let mut block = vec![COMMENTS | is_last];
    block.extend(&(body.len() as u32).to_be_bytes()[1..]);
    block.extend(body);
    file.splice(STREAM_INFO_END..STREAM_INFO_END, block);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::decode;
    use symphonia::core::io::MediaSourceStream;
    use symphonia::core::probe::Hint;

    /// Against the decoder of the crate `symphonia`: not a bit is lost, in one channel and in two, however long.
    #[test]
    fn what_is_written_is_read_again_to_the_bit() {
        for (frames, sides, bits) in [(1, 1, 16), (5_000, 2, 24), (20_011, 1, 24), (4_096, 2, 16)] {
            let full = f64::from(1i32 << (bits - 1));
            let side = |n: usize| -> Vec<f32> {
                let tone = |x: usize| (x as f64 * 0.03 * (n + 1) as f64).sin() * 0.7;
                (0..frames)
                    .map(|x| ((tone(x) * full).round() / full) as f32)
                    .collect()
            };
            let audio = Audio {
                rate_hz: 44_100,
                channels: (0..sides).map(side).collect(),
            };
            let mut bytes = Vec::new();
            write_flac(&mut bytes, &audio, bits as u16, &Remarks::default()).unwrap();
            assert_eq!(&bytes[..4], b"fLaC");
            let read = decode(bytes, Some("flac")).unwrap();
            assert_eq!(read, audio, "{frames} frames, {sides} sides, {bits} bits");
        }
    }

    /// `symphonia` is the independent reader.
    #[test]
    fn what_is_said_of_it_stands_inside() {
        let audio = Audio::mono(48_000, (0..9_000).map(|n| (n % 7) as f32 / 8.0).collect());
        let remarks = Remarks {
            mark: None,
            credits: "Fernhollow, René".to_owned(),
            licence: "as you like".to_owned(),
        };
        let mut bytes = Vec::new();
        write_flac(&mut bytes, &audio, 16, &remarks).unwrap();
        assert_eq!(decode(bytes.clone(), Some("flac")).unwrap(), audio);
        let stream = MediaSourceStream::new(Box::new(std::io::Cursor::new(bytes)), Default::default());
        let probed = symphonia::default::get_probe().format(
            &Hint::new(),
            stream,
            &Default::default(),
            &Default::default(),
        );
        let mut format = probed.unwrap().format;
        let metadata = format.metadata();
        let tags = metadata.current().unwrap().tags();
        let said: Vec<(String, String)> = (tags.iter())
            .map(|tag| (tag.key.clone(), tag.value.to_string()))
            .collect();
        let expected = [("ARTIST", "Fernhollow, René"), ("LICENSE", "as you like")];
        assert_eq!(
            said,
            expected.map(|(key, value)| (key.to_owned(), value.to_owned()))
        );
    }
}
