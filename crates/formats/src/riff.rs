//! RIFF chunks: four letters, a length, the bytes, padded to even length.

/// Adds a chunk.
pub(crate) fn chunk(out: &mut Vec<u8>, id: &[u8; 4], body: &[u8]) {
    out.extend_from_slice(id);
    out.extend_from_slice(&(body.len() as u32).to_le_bytes());
    out.extend_from_slice(body);
    if body.len() % 2 == 1 {
        out.push(0);
    }
}

/// A list chunk around other chunks.
pub(crate) fn list(out: &mut Vec<u8>, kind: &[u8; 4], chunks: &[u8]) {
    let mut body = kind.to_vec();
    body.extend_from_slice(chunks);
    chunk(out, b"LIST", &body);
}

/// The body of the first chunk of that name inside a `RIFF` file of any kind.
pub(crate) fn find<'a>(file: &'a [u8], id: &[u8; 4]) -> Option<&'a [u8]> {
    let mut rest = file.get(12..)?;
    while rest.len() >= 8 {
        let length = u32::from_le_bytes(rest[4..8].try_into().ok()?) as usize;
        if &rest[..4] == id {
            return rest.get(8..length.checked_add(8)?);
        }
        rest = rest.get(length.checked_add(8 + length % 2)?..)?;
    }
    None
}
