//! Files whose headers our decoder does not understand, read as if they had the headers that it does: sizes that stand elsewhere, or nowhere, and names
//! of the same thing in capitals.

use std::io::{Read, Result, Seek, SeekFrom};
use symphonia::core::io::MediaSource;

/// Headers are looked for so far into a file.
const HEAD: u64 = 1 << 16;
/// A size that stands elsewhere, or was not known when the header was written.
const ELSEWHERE: u32 = u32::MAX;

/// A file some of whose first bytes are read as others.
struct Plain {
    inner: Box<dyn MediaSource>,
    at: u64,
    patches: Vec<(u64, [u8; 4])>,
}

impl Read for Plain {
    fn read(&mut self, buffer: &mut [u8]) -> Result<usize> {
        let read = self.inner.read(buffer)?;
        for (place, bytes) in &self.patches {
            for (byte, at) in bytes.iter().zip(*place..) {
                if let Some(n) = at.checked_sub(self.at).filter(|n| *n < read as u64) {
                    buffer[n as usize] = *byte;
                }
            }
        }
        self.at += read as u64;
        Ok(read)
    }
}

impl Seek for Plain {
    fn seek(&mut self, to: SeekFrom) -> Result<u64> {
        self.at = self.inner.seek(to)?;
        Ok(self.at)
    }
}

impl MediaSource for Plain {
    fn is_seekable(&self) -> bool {
        self.inner.is_seekable()
    }

    fn byte_len(&self) -> Option<u64> {
        self.inner.byte_len()
    }
}

/// The same file, as our decoder understands it.
///
/// # Errors
/// Those of the source.
pub(crate) fn plain(mut source: Box<dyn MediaSource>) -> Result<Box<dyn MediaSource>> {
    let length = source.seek(SeekFrom::End(0))?;
    source.seek(SeekFrom::Start(0))?;
    let mut head = Vec::new();
    source.by_ref().take(HEAD).read_to_end(&mut head)?;
    source.seek(SeekFrom::Start(0))?;
    let patches = match head.get(..4) {
        Some(b"RF64" | b"RIFF") => sizes_of_wav(&head, length),
        Some(b"FORM") => kind_of_aifc(&head),
        _ => Vec::new(),
    };
    if patches.is_empty() {
        return Ok(source);
    }
    Ok(Box::new(Plain {
        inner: source,
        at: 0,
        patches,
    }))
}

/// Where the sound of an `RF64` file is longer than `data` can say, `ds64` says it (EBU Tech 3306); a program that wrote into a pipe did not know it.
fn sizes_of_wav(head: &[u8], length: u64) -> Vec<(u64, [u8; 4])> {
    let mut told = None;
    for (id, at, size) in chunks(head, u32::from_le_bytes) {
        if id == *b"ds64" {
            told = head.get(at + 16..at + 24).and_then(|bytes| bytes.try_into().ok());
        } else if id == *b"data" {
            let there = length.saturating_sub(at as u64 + 8);
            let long = (size == ELSEWHERE).then(|| told.map_or(there, u64::from_le_bytes));
            let mut patches = vec![(0, *b"RIFF")];
            // What does not fit stays as it is, and is refused as what it is.
            if let Some(Ok(long)) = long.map(u32::try_from) {
                patches.push((at as u64 + 4, long.to_le_bytes()));
                patches.push((4, u32::try_from(length - 8).unwrap_or(ELSEWHERE).to_le_bytes()));
            }
            return patches;
        }
    }
    Vec::new()
}

/// Floats in AIFF-C have names in small letters (Apple, *AIFF-C*, draft of 1991), and in many files in capitals.
fn kind_of_aifc(head: &[u8]) -> Vec<(u64, [u8; 4])> {
    let common = chunks(head, u32::from_be_bytes).find(|(id, ..)| *id == *b"COMM");
    let place = common.map(|(_, at, _)| at + 8 + 18);
    let kind = place.and_then(|at| head.get(at..at + 4));
    match (place, kind) {
        (Some(at), Some(b"FL32")) => vec![(at as u64, *b"fl32")],
        (Some(at), Some(b"FL64")) => vec![(at as u64, *b"fl64")],
        _ => Vec::new(),
    }
}

/// Name, place and size of each chunk whose header lies in the first bytes of a file.
fn chunks(head: &[u8], number: fn([u8; 4]) -> u32) -> impl Iterator<Item = ([u8; 4], usize, u32)> {
    let mut at = 12usize;
    std::iter::from_fn(move || {
        let id: [u8; 4] = head.get(at..at + 4)?.try_into().ok()?;
        let size = number(head.get(at + 4..at + 8)?.try_into().ok()?);
        let found = (id, at, size);
        at = at.checked_add(8 + size as usize + size as usize % 2)?;
        Some(found)
    })
}

/// What a file is that is never read, where its first bytes tell.
pub(crate) fn foreign(head: &[u8]) -> Option<&'static str> {
    let begins = |bytes: &[u8]| head.starts_with(bytes);
    let holds = |bytes: &[u8]| head.windows(bytes.len()).take(64).any(|part| part == bytes);
    match () {
        () if begins(b"OggS") && holds(b"OpusHead") => Some("Ogg Opus"),
        () if begins(b"wvpk") => Some("WavPack"),
        () if begins(b"caff") => Some("CAF"),
        () if begins(b"riff\x2e\x91\xcf\x11") => Some("Wave64"),
        () if head.get(4..8) == Some(b"ftyp") => Some("MPEG-4 audio"),
        () if begins(b"\x30\x26\xb2\x75") => Some("ASF"),
        () => None,
    }
}

/// What a file is whose code is not read, though its kind is.
pub(crate) fn in_another_code(head: &[u8]) -> Option<&'static str> {
    match head.get(..4)? {
        b"RIFF" => Some("a WAV file in a code of its own (ADPCM or the like)"),
        b"FORM" => Some("an AIFF-C file in a code of its own"),
        b"OggS" => Some("Ogg with something else in it than Vorbis"),
        _ => None,
    }
}
