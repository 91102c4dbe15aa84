//! Whether a still is whole: looked at from outside, without decoding it.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::Path;

/// Size of a still, px.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Still {
    pub(crate) width: u32,
    pub(crate) height: u32,
}

/// Largest header that is read of a JPEG or an EXR, bytes.
const MOST_HEADER: u64 = 4 * 1024 * 1024;
/// Bytes at the end of a JPEG in which its end mark must lie; cameras write their own data behind it.
const TAIL: u64 = 256 * 1024;

/// What is wrong with a picture.
#[derive(Debug, thiserror::Error)]
pub enum StillError {
    /// It ends too early.
    #[error("it is cut off")]
    CutOff,
    /// Its bytes are of another kind.
    #[error("it is no {0} picture")]
    Not(&'static str),
    /// A kind that cannot be decoded here.
    #[error("pictures of kind .{0} are not taken")]
    Kind(String),
    /// Bytes that were changed.
    #[error("its checksum does not hold")]
    Checksum,
    /// Nothing that says what it is.
    #[error("it has no header")]
    NoHeader,
    /// No picture at all.
    #[error("it has no size")]
    NoSize,
    /// What the disk says.
    #[error(transparent)]
    Io(#[from] std::io::Error),
}

/// Reads the size of a still and checks that nothing of it is missing, by its kind (an extension without the dot).
///
/// PNG: ISO/IEC 15948, every chunk with its checksum. JPEG: ITU-T T.81, annex B. TIFF: revision 6.0, where its strips
/// or tiles lie. EXR: "OpenEXR File Layout", its header and the table of its chunks.
///
/// # Errors
/// [`StillError`] says what is wrong with it.
pub(crate) fn look(path: &Path, kind: &str) -> Result<Still, StillError> {
    let mut file = File::open(path)?;
    let length = file.metadata()?.len();
    let still = match kind {
        "png" => png(&mut std::io::BufReader::new(file))?,
        "jpg" | "jpeg" => jpeg(&mut file, length)?,
        "tif" | "tiff" => tiff(&mut file, length).map_err(|_| StillError::CutOff)?.ok_or(StillError::Not("TIFF"))?,
        "exr" => exr(&mut file, length)?,
        other => return Err(StillError::Kind(other.to_owned())),
    };
    if still.width == 0 || still.height == 0 { Err(StillError::NoSize) } else { Ok(still) }
}

fn png(file: &mut impl Read) -> Result<Still, StillError> {
    let mut head = [0; 8];
    file.read_exact(&mut head).map_err(|_| StillError::CutOff)?;
    if head != *b"\x89PNG\r\n\x1a\n" {
        return Err(StillError::Not("PNG"));
    }
    let mut still = None;
    let mut block = vec![0; 64 * 1024];
    loop {
        file.read_exact(&mut head).map_err(|_| StillError::CutOff)?;
        let kind = [head[4], head[5], head[6], head[7]];
        let mut left = u32::from_be_bytes([head[0], head[1], head[2], head[3]]) as usize;
        let mut sum = crc32fast::Hasher::new();
        sum.update(&kind);
        while left > 0 {
            let n = left.min(block.len());
            file.read_exact(&mut block[..n]).map_err(|_| StillError::CutOff)?;
            if kind == *b"IHDR" && still.is_none() && n >= 8 {
                let word = |at: usize| u32::from_be_bytes([block[at], block[at + 1], block[at + 2], block[at + 3]]);
                still = Some(Still { width: word(0), height: word(4) });
            }
            sum.update(&block[..n]);
            left -= n;
        }
        let mut told = [0; 4];
        file.read_exact(&mut told).map_err(|_| StillError::CutOff)?;
        if u32::from_be_bytes(told) != sum.finalize() {
            return Err(StillError::Checksum);
        }
        if kind == *b"IEND" {
            return still.ok_or(StillError::NoHeader);
        }
    }
}

fn jpeg(file: &mut File, length: u64) -> Result<Still, StillError> {
    let mut head = Vec::new();
    let mut read = |from: u64, most: u64, into: &mut Vec<u8>| {
        into.clear();
        file.seek(SeekFrom::Start(from)).and_then(|_| file.take(most).read_to_end(into))
    };
    read(0, MOST_HEADER, &mut head)?;
    if !head.starts_with(&[0xff, 0xd8]) {
        return Err(StillError::Not("JPEG"));
    }
    let mut at = 2;
    let still = loop {
        let Some(&[0xff, marker, high, low]) = head.get(at..at + 4) else { return Err(StillError::CutOff) };
        if marker == 0xff {
            at += 1;
            continue;
        }
        // Start of frame, but for the three marks among them that mean other things.
        if (0xc0..=0xcf).contains(&marker) && ![0xc4, 0xc8, 0xcc].contains(&marker) {
            let Some(&[_, h1, h0, w1, w0]) = head.get(at + 4..at + 9) else { return Err(StillError::CutOff) };
            break Still {
                width: u32::from(u16::from_be_bytes([w1, w0])),
                height: u32::from(u16::from_be_bytes([h1, h0])),
            };
        }
        at += 2 + usize::from(u16::from_be_bytes([high, low]));
    };
    let mut tail = Vec::new();
    read(length.saturating_sub(TAIL), TAIL, &mut tail)?;
    if tail.windows(2).any(|w| w == [0xff, 0xd9]) { Ok(still) } else { Err(StillError::CutOff) }
}

/// Reads little- or big-endian numbers of a TIFF.
struct Words<'a> {
    file: &'a mut File,
    big: bool,
}

impl Words<'_> {
    fn number(&mut self, bytes: usize) -> std::io::Result<u64> {
        let mut raw = [0; 8];
        self.file.read_exact(&mut raw[..bytes])?;
        let value = raw[..bytes].iter();
        let grow = |sum: u64, byte: &u8| (sum << 8) | u64::from(*byte);
        Ok(if self.big { value.fold(0, grow) } else { value.rev().fold(0, grow) })
    }
}

/// `Ok(None)` for what is no TIFF of the usual size.
fn tiff(file: &mut File, length: u64) -> std::io::Result<Option<Still>> {
    let cut = || std::io::Error::from(std::io::ErrorKind::UnexpectedEof);
    let mut order = [0; 2];
    file.read_exact(&mut order)?;
    let mut words = Words { file, big: order == *b"MM" };
    if !(order == *b"MM" || order == *b"II") || words.number(2)? != 42 {
        return Ok(None);
    }
    let directory = words.number(4)?;
    words.file.seek(SeekFrom::Start(directory))?;
    let count = words.number(2)?;
    let (mut width, mut height, mut offsets, mut sizes) = (0, 0, Vec::new(), Vec::new());
    for entry in 0..count {
        words.file.seek(SeekFrom::Start(directory + 2 + 12 * entry))?;
        let (tag, kind, n) = (words.number(2)?, words.number(2)?, words.number(4)?);
        let size = match kind {
            3 => 2,
            4 => 4,
            _ => continue,
        };
        if !matches!(tag, 256 | 257 | 273 | 279 | 324 | 325) {
            continue;
        }
        if n * size as u64 > 4 {
            let at = words.number(4)?;
            if at + n * size as u64 > length {
                return Err(cut());
            }
            words.file.seek(SeekFrom::Start(at))?;
        }
        let values = (0..n).map(|_| words.number(size)).collect::<Result<Vec<u64>, _>>()?;
        match tag {
            256 => width = values.first().copied().unwrap_or(0),
            257 => height = values.first().copied().unwrap_or(0),
            273 | 324 => offsets = values,
            _ => sizes = values,
        }
    }
    if offsets.iter().zip(&sizes).any(|(at, size)| at + size > length) {
        return Err(cut());
    }
    Ok(Some(Still { width: u32::try_from(width).unwrap_or(0), height: u32::try_from(height).unwrap_or(0) }))
}

fn exr(file: &mut File, length: u64) -> Result<Still, StillError> {
    let cut = || StillError::CutOff;
    let mut head = Vec::new();
    file.take(MOST_HEADER).read_to_end(&mut head)?;
    let word = |at: usize| head.get(at..at + 4).map(|b| i32::from_le_bytes([b[0], b[1], b[2], b[3]]));
    if word(0) != Some(0x0131_2f76) {
        return Err(StillError::Not("EXR"));
    }
    let text = |at: usize| -> Option<(String, usize)> {
        let end = at + head.get(at..)?.iter().position(|b| *b == 0)?;
        Some((String::from_utf8_lossy(&head[at..end]).into_owned(), end + 1))
    };
    let (mut at, mut window, mut tiled) = (8, None, false);
    loop {
        let (name, next) = text(at).ok_or_else(cut)?;
        if name.is_empty() {
            at = next;
            break;
        }
        let (_, value) = text(next).ok_or_else(cut)?;
        let size = usize::try_from(word(value).ok_or_else(cut)?).map_err(|_| cut())?;
        let number = |i: usize| word(value + 4 + 4 * i).map(i64::from);
        match name.as_str() {
            "dataWindow" => window = number(0).zip(number(1)).zip(number(2).zip(number(3))),
            "tiles" => tiled = true,
            _ => {}
        }
        at = value + 4 + size;
    }
    let ((left, top), (right, bottom)) = window.ok_or(StillError::NoSize)?;
    let size = |a: i64, b: i64| u32::try_from(b - a + 1).unwrap_or(0);
    let still = Still { width: size(left, right), height: size(top, bottom) };
    // Parts and tiles order their tables in other ways; that they begin inside the file is all that is checked then.
    let entry = |i: usize| {
        head.get(at + 8 * i..at + 8 * i + 8).map(|b| b.iter().rev().fold(0u64, |sum, b| (sum << 8) | u64::from(*b)))
    };
    let first = entry(0).ok_or_else(cut)?;
    let table = (first.saturating_sub(at as u64) / 8) as usize;
    let inside = |o: u64| o > at as u64 && o < length;
    if tiled {
        return if inside(first) { Ok(still) } else { Err(cut()) };
    }
    let chunks: Vec<u64> = (0..table.min(still.height as usize)).map(entry).map_while(|o| o).collect();
    let last = chunks.iter().copied().max().filter(|_| chunks.iter().all(|o| inside(*o))).ok_or_else(cut)?;
    let mut size = [0; 4];
    let read = file.seek(SeekFrom::Start(last + 4)).and_then(|_| file.read_exact(&mut size));
    let whole = read.is_ok() && last + 8 + u64::from(u32::from_le_bytes(size)) <= length;
    if whole { Ok(still) } else { Err(cut()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn made(name: &str, bytes: &[u8]) -> (tempfile::TempDir, std::path::PathBuf) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join(name);
        std::fs::write(&path, bytes).unwrap();
        (folder, path)
    }

    /// One grey pixel, by the book.
    fn tiny_png() -> Vec<u8> {
        let mut out = b"\x89PNG\r\n\x1a\n".to_vec();
        let mut chunk = |kind: &[u8; 4], data: &[u8]| {
            out.extend((data.len() as u32).to_be_bytes());
            let both = [kind.as_slice(), data].concat();
            out.extend(&both);
            out.extend(crc32fast::hash(&both).to_be_bytes());
        };
        chunk(b"IHDR", &[0, 0, 0, 7, 0, 0, 0, 5, 8, 0, 0, 0, 0]);
        chunk(b"IDAT", &[1, 2, 3]);
        chunk(b"IEND", &[]);
        out
    }

    #[test]
    fn a_png_is_whole_or_says_what_it_lacks() {
        let whole = tiny_png();
        let see = |bytes: &[u8]| {
            let (_folder, path) = made("a.png", bytes);
            look(&path, "png")
        };
        assert_eq!(see(&whole).unwrap(), Still { width: 7, height: 5 });
        for n in 0..whole.len() {
            assert!(see(&whole[..n]).is_err(), "cut at {n}");
        }
        let mut flipped = whole.clone();
        flipped[42] ^= 1;
        assert!(see(&flipped).unwrap_err().to_string().contains("checksum"));
        assert!(see(b"these are notes").unwrap_err().to_string().contains("no PNG"));
    }
}
