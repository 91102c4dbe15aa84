//! Glyphs put together from others (OpenType, `glyf`).

/// Parts that one glyph may be put together from.
const MOST_PARTS: u32 = 2000;

/// How far the parts of a glyph were counted.
#[derive(Clone, Copy, PartialEq)]
enum Count {
    Unknown,
    /// It is being counted: coming by it again is a circle.
    Begun,
    Parts(u32),
}

/// Whether glyphs that are put together from others come to an end, and soon.
///
/// # Errors
/// Which glyph does not, and why.
pub fn end(face: &ttf_parser::Face) -> Result<(), String> {
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
    use super::super::FontFile;
    use super::*;

    const LATO: &[u8] = include_bytes!("../../../../fonts/files/Lato-Black.ttf");

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
