//! A decoder of FLAC (RFC 9639) for a Worker of a browser, by the crate `symphonia`: its own decoders resample, and loops would move.
//!
//! The caller asks for room ([`room`]), writes a file into it and calls [`decode`]; then [`samples`] is where its frames lie, all channels of one after another, as 32-bit
//! floats: 24 bits fit in one without loss.

use std::cell::RefCell;
use std::io::Cursor;
use symphonia_bundle_flac::{FlacDecoder, FlacReader};
use symphonia_core::audio::{AudioBufferRef, Signal};
use symphonia_core::codecs::{Decoder, DecoderOptions};
use symphonia_core::errors::Error;
use symphonia_core::formats::{FormatOptions, FormatReader};
use symphonia_core::io::MediaSourceStream;

/// What is over full scale of symphonia's 32 bits, in which every width lies at the upper end.
const FULL_SCALE: f64 = 2_147_483_648.0;

#[derive(Default)]
struct Instance {
    file: Vec<u8>,
    samples: Vec<f32>,
    channels: u32,
}

thread_local! {
    static INSTANCE: RefCell<Instance> = RefCell::default();
}

/// Where a file of so many bytes is to be written.
#[unsafe(no_mangle)]
pub extern "C" fn room(bytes: usize) -> *mut u8 {
    INSTANCE.with_borrow_mut(|of| {
        of.file = vec![0; bytes];
        of.file.as_mut_ptr()
    })
}

/// Decodes it: how many frames it has; −1 where it is none.
#[unsafe(no_mangle)]
pub extern "C" fn decode() -> i32 {
    INSTANCE.with_borrow_mut(|of| {
        let file = std::mem::take(&mut of.file);
        of.samples.clear();
        match decoded(file, &mut of.samples) {
            Ok(channels) => {
                of.channels = channels as u32;
                (of.samples.len() / channels.max(1)) as i32
            }
            Err(_) => -1,
        }
    })
}

/// Where its frames lie.
#[unsafe(no_mangle)]
pub extern "C" fn samples() -> *const f32 {
    INSTANCE.with_borrow(|of| of.samples.as_ptr())
}

/// How many channels it has.
#[unsafe(no_mangle)]
pub extern "C" fn channels() -> u32 {
    INSTANCE.with_borrow(|of| of.channels)
}

/// Writes all frames into `samples`; gives the number of channels.
fn decoded(file: Vec<u8>, samples: &mut Vec<f32>) -> Result<usize, Error> {
    let stream = MediaSourceStream::new(Box::new(Cursor::new(file)), Default::default());
    let mut reader = FlacReader::try_new(stream, &FormatOptions::default())?;
    let track = reader.default_track().ok_or(Error::DecodeError("no track"))?;
    let mut decoder = FlacDecoder::try_new(&track.codec_params, &DecoderOptions::default())?;
    let mut channels = 0;
    loop {
        let packet = match reader.next_packet() {
            Ok(packet) => packet,
            // The end of the file.
            Err(Error::IoError(_)) => return Ok(channels),
            Err(error) => return Err(error),
        };
        let AudioBufferRef::S32(buffer) = decoder.decode(&packet)? else {
            return Err(Error::DecodeError("not of 32 bits"));
        };
        let planes = buffer.planes();
        let planes = planes.planes();
        channels = planes.len();
        for n in 0..buffer.frames() {
            for plane in planes {
                samples.push((f64::from(plane[n]) / FULL_SCALE) as f32);
            }
        }
    }
}
