//! Pictures: told by what they are, not by their names.

/// What kind of picture some bytes are, as its media type; `None` where they are none that pages show.
pub fn picture_kind(bytes: &[u8]) -> Option<&'static str> {
    const KNOWN: [&str; 3] = ["image/png", "image/jpeg", "image/webp"];
    if let Some(kind) = infer::get(bytes) {
        let known = KNOWN.into_iter().find(|known| *known == kind.mime_type());
        if known.is_some() {
            return known;
        }
    }
    let text = std::str::from_utf8(bytes).ok()?;
    let document = roxmltree::Document::parse(text).ok()?;
    let root = document.root_element();
    (root.tag_name().name() == "svg" && root.tag_name().namespace() == Some("http://www.w3.org/2000/svg"))
        .then_some("image/svg+xml")
}

#[cfg(test)]
mod tests {
    use super::picture_kind;

    #[test]
    fn a_picture_is_told_by_what_it_is() {
        assert_eq!(picture_kind(b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR"), Some("image/png"));
        let svg =
            br#"<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 1 1"><script>alert(1)</script></svg>"#;
        assert_eq!(picture_kind(svg), Some("image/svg+xml"));
        for other in [&b"GIF89a"[..], b"<html></html>", b"", b"<svg></svg>"] {
            assert_eq!(picture_kind(other), None);
        }
    }
}
