//! What stands in a file beside its audio: its small chunks, read without its sound.

use std::io::{Read, Seek, SeekFrom};

/// A chunk that is longer than this is no root, loop or remark.
const LONGEST: u32 = 1 << 18;
/// A file with more chunks than this is made to be walked for ever.
const MOST_CHUNKS: usize = 10_000;

/// A `RIFF` or `FORM` file with its small chunks alone, for readers of what stands in them; empty where it is neither.
///
/// # Errors
/// Those of the source.
pub fn small_chunks(source: &mut (impl Read + Seek)) -> std::io::Result<Vec<u8>> {
    let length = source.seek(SeekFrom::End(0))?;
    source.seek(SeekFrom::Start(0))?;
    let mut file = vec![0; 12];
    if length < 12 {
        return Ok(Vec::new());
    }
    source.read_exact(&mut file)?;
    let big_endian = match &file[..4] {
        b"RIFF" | b"RF64" => false,
        b"FORM" => true,
        _ => return Ok(Vec::new()),
    };
    let (mut at, mut sound) = (12u64, None);
    for _ in 0..MOST_CHUNKS {
        if at + 8 > length {
            break;
        }
        let mut head = [0; 8];
        source.seek(SeekFrom::Start(at))?;
        source.read_exact(&mut head)?;
        let size = [head[4], head[5], head[6], head[7]];
        let size = if big_endian {
            u32::from_be_bytes(size)
        } else {
            u32::from_le_bytes(size)
        };
        if size <= LONGEST && at + 8 + u64::from(size) <= length {
            let mut body = vec![0; size as usize];
            source.read_exact(&mut body)?;
            if head.starts_with(b"ds64") {
                sound = body.get(8..16).and_then(|bytes| bytes.try_into().ok());
            }
            file.extend(head);
            file.extend(body);
            file.resize(file.len() + size as usize % 2, 0);
        }
        // The sound of an RF64 file is as long as `ds64` says (EBU Tech 3306).
        let size = match sound.map(u64::from_le_bytes) {
            Some(long) if size == u32::MAX && head.starts_with(b"data") => long,
            _ => u64::from(size),
        };
        at = at.saturating_add(8 + size + size % 2);
    }
    Ok(file)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Sampler, read_sampler, wav_bytes};
    use signal::Audio;
    use std::io::Cursor;

    #[test]
    fn what_stands_beside_the_sound_is_read_without_it() {
        let sampler = Sampler {
            root_key: 61,
            recording_cents: 0.0,
            looped: None,
            remarks: crate::Remarks {
                mark: Some("a mark".into()),
                ..crate::Remarks::default()
            },
        };
        let audio = Audio::mono(48_000, vec![0.25; 200_000]);
        let file = wav_bytes(&audio, 24, Some(&sampler));
        let small = small_chunks(&mut Cursor::new(&file)).unwrap();
        assert!(small.len() < 500 && file.len() > 600_000);
        assert_eq!(read_sampler(&small), Some(sampler));
        for odd in [
            &b""[..],
            b"RIFF",
            b"RIFF\xff\xff\xff\xffWAVEsmpl\xff\xff\xff\xffabc",
            b"hello, workshop",
        ] {
            assert_eq!(read_sampler(&small_chunks(&mut Cursor::new(odd)).unwrap()), None);
        }
    }
}
