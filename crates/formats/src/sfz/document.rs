//! An SFZ text as it stands, byte for byte, and what is said in it once its definitions and other files are put in their places.

use crate::FormatError;
use std::borrow::Cow;

/// Longer texts, with all that they include, are no instrument's.
const LONGEST_BYTES: usize = 32 << 20;
/// A text that includes more, or deeper, goes in a circle.
const MOST_INCLUDES: usize = 1_000;
const DEEPEST: usize = 16;

/// A text: what is read is kept as it came.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Document {
    source: Vec<u8>,
}

/// Something that is said.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Piece<'a> {
    /// `<region>`
    Header(&'a str),
    /// `volume=-6`
    Opcode(&'a str, &'a str),
    /// `#define $NAME value`
    Define(&'a str, &'a str),
    /// `#include "path"`
    Include(&'a str),
}

/// A header with what stands under it, in its order; words in small letters.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Section {
    /// Without its brackets.
    pub header: String,
    /// Words with their values.
    pub opcodes: Vec<(String, String)>,
}

impl Document {
    /// A text of any bytes.
    ///
    /// # Errors
    /// Where it is too long to be one.
    pub fn new(source: impl Into<Vec<u8>>) -> Result<Self, FormatError> {
        let source = source.into();
        if source.len() > LONGEST_BYTES {
            return Err(unreadable("it is too long to be a text"));
        }
        Ok(Self { source })
    }

    /// As it came.
    pub fn bytes(&self) -> &[u8] {
        &self.source
    }

    /// As text: UTF-8, else each byte a letter of Latin-1.
    pub fn text(&self) -> Cow<'_, str> {
        match std::str::from_utf8(&self.source) {
            Ok(text) => Cow::Borrowed(text.trim_start_matches('\u{feff}')),
            Err(_) => Cow::Owned(self.source.iter().map(|byte| char::from(*byte)).collect()),
        }
    }

    /// What is said, one header after another. `include` gives the bytes of another text by its path, with `/`.
    ///
    /// # Errors
    /// Where another text is not there, or they go in a circle, with a sentence.
    pub fn sections(
        &self,
        mut include: impl FnMut(&str) -> Option<Vec<u8>>,
    ) -> Result<Vec<Section>, FormatError> {
        let mut reading = Reading {
            sections: Vec::new(),
            defined: Vec::new(),
            includes: 0,
            bytes: self.source.len(),
            include: &mut include,
        };
        reading.read(&self.text(), 0)?;
        Ok(reading.sections)
    }
}

struct Reading<'a> {
    sections: Vec<Section>,
    /// Names with `$`, and what stands for them; longer ones first.
    defined: Vec<(String, String)>,
    includes: usize,
    bytes: usize,
    include: &'a mut dyn FnMut(&str) -> Option<Vec<u8>>,
}

impl Reading<'_> {
    fn read(&mut self, text: &str, deep: usize) -> Result<(), FormatError> {
        for piece in pieces(&without_comments(text)) {
            match piece {
                Piece::Header(header) => self.sections.push(Section {
                    header: header.trim().to_lowercase(),
                    opcodes: Vec::new(),
                }),
                Piece::Opcode(word, value) => {
                    let opcode = (
                        self.filled(word)?.to_lowercase(),
                        self.filled(value)?.into_owned(),
                    );
                    if let Some(section) = self.sections.last_mut() {
                        section.opcodes.push(opcode);
                    }
                }
                Piece::Define(name, value) => {
                    let value = self.filled(value)?.into_owned();
                    self.defined.retain(|(known, _)| known != name);
                    self.defined.push((name.to_owned(), value));
                    self.defined
                        .sort_by_key(|(name, _)| std::cmp::Reverse(name.len()));
                }
                Piece::Include(path) => {
                    let path = self.filled(path)?.replace('\\', "/");
                    self.includes += 1;
                    if self.includes > MOST_INCLUDES || deep >= DEEPEST {
                        return Err(unreadable("what it includes goes in a circle"));
                    }
                    let bytes = (self.include)(&path)
                        .ok_or_else(|| unreadable(&format!("«{path}», which it includes, is not there")))?;
                    self.bytes += bytes.len();
                    if self.bytes > LONGEST_BYTES {
                        return Err(unreadable("with all that it includes it is too long"));
                    }
                    let other = Document { source: bytes };
                    self.read(&other.text(), deep + 1)?;
                }
            }
        }
        Ok(())
    }

    /// With what stands for the names in it.
    fn filled<'t>(&mut self, text: &'t str) -> Result<Cow<'t, str>, FormatError> {
        if self.defined.is_empty() || !text.contains('$') {
            return Ok(Cow::Borrowed(text));
        }
        let mut out = String::new();
        let mut rest = text;
        while let Some(at) = rest.find('$') {
            out.push_str(&rest[..at]);
            rest = &rest[at..];
            match self
                .defined
                .iter()
                .find(|(name, _)| rest.starts_with(name.as_str()))
            {
                Some((name, value)) => {
                    out.push_str(value);
                    // Definitions of definitions grow without end.
                    self.bytes += value.len();
                    if self.bytes > LONGEST_BYTES {
                        return Err(unreadable("with all that it defines it is too long"));
                    }
                    rest = &rest[name.len()..];
                }
                None => {
                    out.push('$');
                    rest = &rest[1..];
                }
            }
        }
        out.push_str(rest);
        Ok(Cow::Owned(out))
    }
}

fn unreadable(why: &str) -> FormatError {
    FormatError::Unreadable(format!("This SFZ cannot be read: {why}."))
}

/// Lines end where a comment begins; one between `/*` and `*/` goes over lines.
fn without_comments(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find("/*") {
        let line = rest[..at].rsplit('\n').next().unwrap_or("");
        // Not inside another comment, nor in a path.
        let begins = !line.contains("//") && line.chars().next_back().is_none_or(char::is_whitespace);
        let Some(end) = rest[at..].find("*/").filter(|_| begins) else {
            out.push_str(&rest[..at + 2]);
            rest = &rest[at + 2..];
            continue;
        };
        out.push_str(&rest[..at]);
        rest = &rest[at + end + 2..];
    }
    out.push_str(rest);
    out
}

/// What is said in a text without long comments, in its order. A value may hold spaces, up to the next `word=`, the next header or the end of its line.
fn pieces(text: &str) -> Vec<Piece<'_>> {
    let mut all = Vec::new();
    for line in text.lines() {
        // A path with two separators in a row is none.
        let line = line.split("//").next().unwrap_or("");
        let plain = line.trim_start();
        if let Some(rest) = plain.strip_prefix("#define") {
            let mut words = rest.split_whitespace();
            if let (Some(name), value) = (words.next(), words.next().unwrap_or(""))
                && name.starts_with('$')
            {
                all.push(Piece::Define(name, value));
                // More may follow in its line.
                let after = rest.find(name).map_or("", |at| &rest[at + name.len()..]);
                let after = after.trim_start().strip_prefix(value).unwrap_or("");
                in_line(after, &mut all);
            }
        } else if let Some(rest) = plain.strip_prefix("#include") {
            let mut quoted = rest.split('"');
            if let (Some(_), Some(path)) = (quoted.next(), quoted.next()) {
                all.push(Piece::Include(path));
            }
        } else {
            in_line(plain, &mut all);
        }
    }
    all
}

fn in_line<'a>(mut rest: &'a str, all: &mut Vec<Piece<'a>>) {
    loop {
        rest = rest.trim_start();
        if let Some(after) = rest.strip_prefix('<') {
            let Some((header, tail)) = after.split_once('>') else {
                return;
            };
            all.push(Piece::Header(header));
            rest = tail;
        } else if let Some(word) = word_at(rest) {
            let value = &rest[word.len() + 1..];
            let end = end_of_value(value);
            all.push(Piece::Opcode(word, value[..end].trim()));
            rest = &value[end..];
        } else {
            // What is no word is passed over.
            let Some(at) = rest.find(char::is_whitespace) else {
                return;
            };
            rest = &rest[at..];
        }
    }
}

/// The word of an opcode that stands here, before its `=`.
fn word_at(text: &str) -> Option<&str> {
    let end = text.find(|c: char| !(c.is_ascii_alphanumeric() || "_$#".contains(c)))?;
    (end > 0 && text[end..].starts_with('=')).then(|| &text[..end])
}

fn end_of_value(value: &str) -> usize {
    let mut before = ' ';
    for (at, c) in value.char_indices() {
        if c == '<' || (before.is_whitespace() && at > 0 && word_at(&value[at..]).is_some()) {
            return at;
        }
        before = c;
    }
    value.len()
}

/// A path from a folder, both with `/` and from what was brought; `None` where it would leave that.
pub fn path_within(folder: &str, path: &str) -> Option<String> {
    let path = path.replace('\\', "/");
    let drive = path.as_bytes().get(1) == Some(&b':');
    if path.starts_with('/') || drive || path.contains('\0') {
        return None;
    }
    let mut parts: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).collect();
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." => {
                parts.pop()?;
            }
            part => parts.push(part),
        }
    }
    Some(parts.join("/"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn said(text: &str) -> Vec<Section> {
        Document::new(text).unwrap().sections(|_| None).unwrap()
    }

    fn section(header: &str, opcodes: &[(&str, &str)]) -> Section {
        let opcodes = opcodes
            .iter()
            .map(|(word, value)| ((*word).to_owned(), (*value).to_owned()));
        Section {
            header: header.to_owned(),
            opcodes: opcodes.collect(),
        }
    }

    #[test]
    fn headers_stand_anywhere_and_values_hold_spaces() {
        let text = "// what it is\n<Region> Sample=my samples\\low bar.wav lokey=c4\thikey=C#5 // end\n<region>sample=b.wav<group> key=60 /* all\nof it */ volume=-3";
        assert_eq!(
            said(text),
            [
                section(
                    "region",
                    &[
                        ("sample", "my samples\\low bar.wav"),
                        ("lokey", "c4"),
                        ("hikey", "C#5")
                    ]
                ),
                section("region", &[("sample", "b.wav")]),
                section("group", &[("key", "60"), ("volume", "-3")]),
            ]
        );
    }

    #[test]
    fn what_is_defined_and_included_stands_in_its_place() {
        let text = "#define $KEY 60\n#define $KEYS 7$KEY\n<region> key=$KEY cutoff_cc$KEYS=1\n#include \"more\\a.sfz\"\nvolume=$V";
        let document = Document::new(text).unwrap();
        let mut asked = Vec::new();
        let sections = document.sections(|path| {
            asked.push(path.to_owned());
            Some(b"#define $V -9\n<region> pan=$KEY ".to_vec())
        });
        assert_eq!(
            sections.unwrap(),
            [
                section("region", &[("key", "60"), ("cutoff_cc760", "1")]),
                section("region", &[("pan", "60"), ("volume", "-9")]),
            ]
        );
        assert_eq!(asked, ["more/a.sfz"]);
        let circle = Document::new("#include \"a.sfz\"").unwrap();
        let error = circle
            .sections(|_| Some(b"#include \"a.sfz\"".to_vec()))
            .unwrap_err();
        assert!(error.to_string().contains("circle"), "{error}");
        let missing = circle.sections(|_| None).unwrap_err();
        assert!(missing.to_string().contains("«a.sfz»"), "{missing}");
    }

    #[test]
    fn no_path_leaves_what_was_brought() {
        assert_eq!(path_within("a/b", "../c\\d.wav").as_deref(), Some("a/c/d.wav"));
        assert_eq!(path_within("", "./x//y.wav").as_deref(), Some("x/y.wav"));
        for path in [
            "../x",
            "/etc/passwd",
            "C:\\x.wav",
            "a/../../x",
            "\\\\host\\x",
            "x\0",
        ] {
            assert_eq!(path_within("", path), None, "{path}");
        }
    }

    proptest! {
        #[test]
        fn any_bytes_are_written_again_and_read_without_harm(bytes in proptest::collection::vec(any::<u8>(), 0..400), path in ".{0,40}") {
            let document = Document::new(bytes.clone()).unwrap();
            prop_assert_eq!(document.bytes(), &bytes[..]);
            let _ = document.sections(|_| None);
            if let Some(path) = path_within("a", &path) {
                prop_assert!(!path.split('/').any(|part| part == "..") && !path.starts_with('/'));
            }
        }

        #[test]
        fn texts_that_look_like_one_are_read_without_harm(text in "(<(region|group|x)>|[a-z_$#]{1,6}=[0-9a-z .$/]{0,6}| |\n|#define \\$[a-c] [0-9$a-c]{0,4}\n|//|/\\*|\\*/){0,60}") {
            let _ = Document::new(text).unwrap().sections(|_| None);
        }
    }
}
