//! Whether a file is what it says: its own headers, read beside the decoder, which believes them or passes over what does not fit.

use std::io::{Read, Seek, SeekFrom};

/// Rates outside of this are no recording's.
pub(crate) const RATES_HZ: std::ops::RangeInclusive<u32> = 1_000..=384_000;

/// What is wrong with a file before it is decoded, as the end of a sentence; `None` where nothing is seen.
pub(crate) fn lie_of(mut source: impl Read + Seek) -> std::io::Result<Option<String>> {
    let length = source.seek(SeekFrom::End(0))?;
    source.seek(SeekFrom::Start(0))?;
    let mut head = Vec::new();
    source.by_ref().take(1 << 16).read_to_end(&mut head)?;
    let lie = match head.get(..4) {
        Some(b"RIFF") => lie_of_wav(&head, length),
        Some(b"OggS") => {
            let tail = length.min(1 << 17);
            source.seek(SeekFrom::Start(length - tail))?;
            let mut end = Vec::new();
            source.read_to_end(&mut end)?;
            lie_of_ogg(&end)
        }
        _ => None,
    };
    source.seek(SeekFrom::Start(0))?;
    Ok(lie)
}

fn word(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

fn half(bytes: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_le_bytes(bytes.get(at..at + 2)?.try_into().ok()?))
}

/// Multimedia Programming Interface and Data Specifications 1.0: a block is a sample of each channel, and `data` is as long as it says.
fn lie_of_wav(head: &[u8], length: u64) -> Option<String> {
    const PCM: u16 = 1;
    const FLOAT: u16 = 3;
    let mut at = 12;
    while let (Some(id), Some(size)) = (head.get(at..at + 4), word(head, at + 4)) {
        if id == b"fmt " {
            let (tag, channels) = (half(head, at + 8)?, half(head, at + 10)?);
            let (block, bits) = (half(head, at + 20)?, half(head, at + 22)?);
            let whole = u32::from(channels) * u32::from(bits.div_ceil(8));
            let rate = word(head, at + 12)?;
            if !RATES_HZ.contains(&rate) {
                return Some(format!(
                    "its rate is {rate} Hz, and only rates from 1,000 to 384,000 Hz can be"
                ));
            }
            if channels == 0 {
                return Some("it says that it has no channels".into());
            }
            if (tag == PCM || tag == FLOAT) && bits > 0 && u32::from(block) != whole {
                return Some(format!(
                    "its header contradicts itself ({channels} channels of {bits} bits in blocks of {block} bytes)"
                ));
            }
        }
        if id == b"data" {
            let there = length.saturating_sub(at as u64 + 8);
            if u64::from(size) > there {
                return Some(format!(
                    "it is cut short: {there} of the {size} bytes of sound that it says it has are there"
                ));
            }
            return None;
        }
        at = at.checked_add(8 + size as usize + size as usize % 2)?;
    }
    None
}

/// RFC 3533: the last page of a stream is marked (4), and is as long as its segments say.
fn lie_of_ogg(end: &[u8]) -> Option<String> {
    const END_OF_STREAM: u8 = 4;
    let cut = || Some("it is cut short: its end is missing".to_owned());
    let Some(at) = end.windows(4).rposition(|four| four == b"OggS") else {
        return cut();
    };
    let page = &end[at..];
    let segments = usize::from(*page.get(26).unwrap_or(&0));
    let body: usize = page.get(27..27 + segments).map_or(usize::MAX, |sizes| {
        sizes.iter().map(|size| usize::from(*size)).sum()
    });
    let whole = body
        .checked_add(27 + segments)
        .is_some_and(|whole| whole <= page.len());
    let is_last = page.get(5).is_some_and(|kind| kind & END_OF_STREAM != 0);
    if whole && is_last { None } else { cut() }
}
