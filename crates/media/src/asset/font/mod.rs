//! Fonts: TrueType, OpenType, WOFF and WOFF2.

mod charstring;
mod parts;

use super::{AssetFileError, bytes_of};
use std::path::Path;

/// Largest font, bytes, packed or not.
const MOST_BYTES: usize = 48 * 1024 * 1024;
/// Corners of one glyph's outline.
const MOST_CORNERS: usize = 100_000;

/// A font, unpacked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FontFile {
    /// TrueType or OpenType.
    pub bytes: Vec<u8>,
    /// What it calls itself.
    pub family: String,
    /// How many glyphs it has.
    pub glyphs: u16,
}

impl FontFile {
    /// Reads a file; `name` is what it is called.
    ///
    /// # Errors
    /// [`AssetFileError`] when it is no font, too large, or built to take for ever.
    pub fn open(path: &Path, name: &str) -> Result<Self, AssetFileError> {
        Self::read(&bytes_of(path, name)?, name)
    }

    /// Reads the bytes of a file.
    ///
    /// # Errors
    /// As [`FontFile::open`].
    pub fn read(bytes: &[u8], name: &str) -> Result<Self, AssetFileError> {
        let unreadable = |why: &dyn std::fmt::Display| AssetFileError::unreadable(name, why);
        let too_large = |size: usize| AssetFileError::TooLarge {
            name: name.to_owned(),
            what: format!("a font of {} MB of at most {}", size >> 20, MOST_BYTES >> 20),
        };
        let packed = matches!(bytes.get(..4), Some(b"wOFF" | b"wOF2"));
        // Both headers say at the same place how large it is unpacked.
        let claimed = bytes.get(16..20).and_then(|b| b.try_into().ok()).map_or(0, u32::from_be_bytes) as usize;
        let size = if packed { claimed.max(bytes.len()) } else { bytes.len() };
        if size > MOST_BYTES {
            return Err(too_large(size));
        }
        let bytes = match bytes.get(..4) {
            Some(b"wOF2") => wuff::decompress_woff2(bytes).map_err(|e| unreadable(&format!("{e:?}")))?,
            Some(b"wOFF") => wuff::decompress_woff1(bytes).map_err(|e| unreadable(&format!("{e:?}")))?,
            _ => bytes.to_vec(),
        };
        if bytes.len() > MOST_BYTES {
            return Err(too_large(bytes.len()));
        }
        if bytes.starts_with(b"ttcf") {
            let what = "to be taken apart: it is a collection of fonts".to_owned();
            return Err(AssetFileError::Unsupported { name: name.to_owned(), what });
        }
        let face = ttf_parser::Face::parse(&bytes, 0).map_err(|e| unreadable(&e))?;
        let glyphs = face.number_of_glyphs();
        parts::end(&face).map_err(|why| unreadable(&why))?;
        charstring::end(&face).map_err(|why| unreadable(&why))?;
        let mut seen = false;
        for id in 0..glyphs {
            let mut corners = Corners(0);
            let _ = face.outline_glyph(ttf_parser::GlyphId(id), &mut corners);
            if corners.0 > MOST_CORNERS {
                return Err(unreadable(&format!("its glyph {id} has {} corners", corners.0)));
            }
            seen |= corners.0 > 0;
        }
        if !seen {
            return Err(AssetFileError::Empty { name: name.to_owned() });
        }
        let is_family = |n: &ttf_parser::name::Name| n.name_id == ttf_parser::name_id::FULL_NAME;
        let family = face.names().into_iter().filter(is_family).find_map(|n| n.to_string());
        let family: String = family.unwrap_or_default().chars().filter(|c| !c.is_control()).take(60).collect();
        Ok(Self { family, glyphs, bytes })
    }
}

struct Corners(usize);

impl ttf_parser::OutlineBuilder for Corners {
    fn move_to(&mut self, _: f32, _: f32) {
        self.0 += 1;
    }
    fn line_to(&mut self, _: f32, _: f32) {
        self.0 += 1;
    }
    fn quad_to(&mut self, _: f32, _: f32, _: f32, _: f32) {
        self.0 += 1;
    }
    fn curve_to(&mut self, _: f32, _: f32, _: f32, _: f32, _: f32, _: f32) {
        self.0 += 1;
    }
    fn close(&mut self) {}
}

#[cfg(test)]
mod tests {
    use super::*;

    const LATO: &[u8] = include_bytes!("../../../../fonts/files/Lato-Black.ttf");

    #[test]
    fn fonts_are_read_and_what_is_none_is_told() {
        let font = FontFile::read(LATO, "lato.ttf").unwrap();
        assert_eq!((font.family.as_str(), font.bytes.len()), ("Lato Black", LATO.len()));
        assert!(font.glyphs > 1000);
        for hostile in [&b""[..], b"wOF2", b"wOFF\0\x01\0\0", &LATO[..600], b"OTTO no font at all"] {
            let why = FontFile::read(hostile, "bad.woff2").unwrap_err().to_string();
            assert!(why.contains("bad.woff2"), "{why}");
        }
        // Fault: found by fuzzing, a header of a collection whose count runs over.
        let collection = [b"ttcfet".to_vec(), vec![0xFF; 100]].concat();
        assert!(FontFile::read(&collection, "many.ttc").unwrap_err().to_string().contains("collection"));
        let mut bomb = b"wOF2\0\x01\0\0\0\0\0\x40\0\x01\0\0".to_vec();
        bomb.extend(u32::MAX.to_be_bytes());
        bomb.resize(64, 0);
        assert!(FontFile::read(&bomb, "bomb.woff2").unwrap_err().to_string().contains("too large"));
    }
}
