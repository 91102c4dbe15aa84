//! Fonts: TrueType, OpenType, WOFF and WOFF2.

use super::{AssetFileError, bytes_of};
use std::path::Path;

/// Largest font, bytes, packed or not.
const MOST_BYTES: usize = 48 * 1024 * 1024;
/// Parts that one glyph may be put together from.
const MOST_PARTS: u32 = 2000;
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
        parts_end(&face).map_err(|why| unreadable(&why))?;
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

/// How far the parts of a glyph were counted.
#[derive(Clone, Copy, PartialEq)]
enum Count {
    Unknown,
    /// It is being counted: coming by it again is a circle.
    Begun,
    Parts(u32),
}

/// Whether glyphs that are put together from others come to an end, and soon (OpenType, `glyf`).
fn parts_end(face: &ttf_parser::Face) -> Result<(), String> {
    let raw = face.raw_face();
    let table = |tag: &[u8; 4]| raw.table(ttf_parser::Tag::from_bytes(tag));
    let (Some(glyf), Some(loca)) = (table(b"glyf"), table(b"loca")) else { return Ok(()) };
    let long = table(b"head").and_then(|h| h.get(50..52)).is_some_and(|v| v != [0, 0]);
    let start = |id: usize| -> Option<usize> {
        Some(if long {
            u32::from_be_bytes(loca.get(4 * id..4 * id + 4)?.try_into().ok()?) as usize
        } else {
            2 * usize::from(u16::from_be_bytes(loca.get(2 * id..2 * id + 2)?.try_into().ok()?))
        })
    };
    let count = usize::from(face.number_of_glyphs());
    let mut known = vec![Count::Unknown; count];
    for id in 0..count {
        // The next part to be come by of each glyph that was begun.
        let mut line: Vec<(usize, Vec<usize>, u32)> = vec![(id, components(glyf, start(id), start(id + 1)), 1)];
        if known[id] != Count::Unknown {
            continue;
        }
        known[id] = Count::Begun;
        while let Some((of, left, parts)) = line.last_mut() {
            let of = *of;
            let Some(next) = left.pop() else {
                let parts = *parts;
                known[of] = Count::Parts(parts);
                line.pop();
                if let Some((_, _, sum)) = line.last_mut() {
                    *sum = sum.saturating_add(parts);
                }
                continue;
            };
            match known.get(next) {
                None => {}
                Some(Count::Begun) => return Err(format!("its glyph {next} is a part of itself")),
                Some(Count::Parts(more)) => *parts = parts.saturating_add(*more),
                Some(Count::Unknown) => {
                    known[next] = Count::Begun;
                    line.push((next, components(glyf, start(next), start(next + 1)), 1));
                }
            }
            if line.last().is_some_and(|l| l.2 > MOST_PARTS) {
                return Err(format!("its glyph {id} is put together from more than {MOST_PARTS} parts"));
            }
        }
    }
    Ok(())
}

/// The glyphs that a glyph is put together from.
fn components(glyf: &[u8], from: Option<usize>, to: Option<usize>) -> Vec<usize> {
    let Some(data) = from.zip(to).and_then(|(a, b)| glyf.get(a..b)) else { return Vec::new() };
    let word = |at: usize| data.get(at..at + 2).and_then(|b| b.try_into().ok()).map(u16::from_be_bytes);
    let mut found = Vec::new();
    if word(0).is_none_or(|contours| (contours as i16) >= 0) {
        return found;
    }
    let mut at = 10;
    while let (Some(flags), Some(glyph)) = (word(at), word(at + 2)) {
        found.push(usize::from(glyph));
        let bit = |b: u16| flags & b != 0;
        let placed = if bit(1) { 4 } else { 2 };
        let scaled = if bit(8) {
            2
        } else if bit(0x40) {
            4
        } else if bit(0x80) {
            8
        } else {
            0
        };
        at += 4 + placed + scaled;
        if !bit(0x20) {
            break;
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    const LATO: &[u8] = include_bytes!("../../../render/fonts/Lato-Black.ttf");

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

    /// A font whose glyph refers to others: by turning a glyph of two parts on itself.
    #[test]
    fn glyphs_that_are_parts_of_themselves_are_refused() {
        let face = ttf_parser::Face::parse(LATO, 0).unwrap();
        let raw = face.raw_face();
        let at = |tag: &[u8; 4]| {
            let table = raw.table(ttf_parser::Tag::from_bytes(tag)).unwrap();
            (table.as_ptr() as usize - LATO.as_ptr() as usize, table)
        };
        let ((glyf_at, glyf), (_, loca)) = (at(b"glyf"), at(b"loca"));
        let long = at(b"head").1[50..52] != [0, 0];
        let start = |id: usize| {
            if long {
                u32::from_be_bytes(loca[4 * id..4 * id + 4].try_into().unwrap()) as usize
            } else {
                2 * usize::from(u16::from_be_bytes(loca[2 * id..2 * id + 2].try_into().unwrap()))
            }
        };
        let made_of = |id: usize| components(glyf, Some(start(id)), Some(start(id + 1)));
        let composite = (0..usize::from(face.number_of_glyphs())).find(|id| !made_of(*id).is_empty()).unwrap();
        let mut looped = LATO.to_vec();
        let place = glyf_at + start(composite) + 12;
        looped[place..place + 2].copy_from_slice(&(composite as u16).to_be_bytes());
        let why = FontFile::read(&looped, "loop.ttf").unwrap_err().to_string();
        assert!(why.contains("part of itself"), "{why}");
    }
}
