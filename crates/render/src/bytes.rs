//! What is done to display bytes, looked up: quick, and good to a few steps.

use crate::colour::{byte_of, linear_of};
use fennik_core::colour::ColourTable;

/// Entries along a side of a cube: so many bytes lie from one to the next.
const ENTRIES: usize = 52;
const STEP: usize = 5;
/// Values within a cell of the cube, its far side included.
const WITHIN: usize = STEP + 1;
/// Of an entry's fractions of a byte, in bits, and how far apart its channels lie: the weighted sum of four fills them.
const FINE_BITS: u32 = 12;
const CHANNEL_BITS: u32 = 21;
/// Half a byte in every channel.
const HALF: u64 = (1 << (FINE_BITS - 1)) * (1 | 1 << CHANNEL_BITS | 1 << (2 * CHANNEL_BITS));

/// A law from display values to display values, 0 to 1, in a cube between whose entries bytes are looked up (tetrahedral:
/// Kasson, Nin, Plouffe and Hafner 1995).
#[derive(Debug)]
pub struct ByteCube {
    /// Three channels in one number, each a `STEP`th of its value; red goes first.
    entries: Vec<u64>,
    /// Of each channel's bytes, the entry of the cell shifted by eight bits, and the number of its way.
    axes: [[u32; 256]; 3],
    ways: [Way; 256],
}

/// How a place within a cell is mixed of the entries along the edges of its tetrahedron.
#[derive(Debug, Clone, Copy, Default)]
struct Way {
    /// Each counted from the entry of the cell.
    entries: [u16; 4],
    /// `STEP` in all.
    parts: [u8; 4],
}

impl Way {
    /// Of a place, 0 to `STEP` along each axis: first along the one on which it is farthest.
    fn of(place: [usize; 3]) -> Self {
        let mut steps = [(place[0], 1), (place[1], ENTRIES), (place[2], ENTRIES * ENTRIES)];
        steps.sort_by_key(|s| std::cmp::Reverse(s.0));
        let [(p, a), (q, b), (s, c)] = steps;
        Self {
            entries: [0, a, a + b, a + b + c].map(|v| v as u16),
            parts: [STEP - p, p - q, q - s, s].map(|v| v as u8),
        }
    }
}

impl ByteCube {
    /// Of a law.
    pub fn of(law: impl Fn([f32; 3]) -> [f32; 3] + Sync) -> Self {
        let unit = 255.0 * (1 << FINE_BITS) as f32 / STEP as f32;
        let packed = |shown: &[f32; 3]| {
            let [r, g, b] = shown.map(|v| (v.clamp(0.0, 1.0) * unit).round() as u64);
            r | g << CHANNEL_BITS | b << (2 * CHANNEL_BITS)
        };
        let entries = ColourTable::cube_of(ENTRIES, law).entries().iter().map(packed).collect();
        let axes = std::array::from_fn(|k| {
            std::array::from_fn(|byte| {
                let cell = (byte / STEP).min(ENTRIES - 2);
                let entry = cell * ENTRIES.pow(k as u32);
                let way = (byte - STEP * cell) * WITHIN.pow(k as u32);
                (entry << 8) as u32 + way as u32
            })
        });
        let mut ways = [Way::default(); 256];
        for (i, way) in ways.iter_mut().enumerate().take(WITHIN.pow(3)) {
            *way = Way::of([i % WITHIN, i / WITHIN % WITHIN, i / (WITHIN * WITHIN)]);
        }
        Self { entries, axes, ways }
    }

    /// What it makes of a colour.
    #[inline]
    pub fn look(&self, [r, g, b]: [u8; 3]) -> [u8; 3] {
        let [red, green, blue] = &self.axes;
        let at = red[usize::from(r)] + green[usize::from(g)] + blue[usize::from(b)];
        let way = &self.ways[at as usize & 255];
        let cell = &self.entries[at as usize >> 8..];
        let mixed = |k: usize| cell[usize::from(way.entries[k])] * u64::from(way.parts[k]);
        let sum = HALF + mixed(0) + mixed(1) + mixed(2) + mixed(3);
        [0, 1, 2].map(|k| (sum >> (k * CHANNEL_BITS + FINE_BITS)) as u8)
    }
}

/// Steps of how much light is left, of all of it, twice as many in all; and of how far off a place is, with the bits of
/// their fractions.
const WHOLE: usize = 255;
const AWAY: usize = 2048;
const AWAY_BITS: u32 = 12;

/// Light that becomes less, or more, towards the corners of a picture.
#[derive(Debug)]
pub struct Dimmed {
    /// Of what is so far off, squared, and 1 in the corners: which of the parts is left.
    left: Vec<u16>,
    /// Bytes of each part.
    bytes: Vec<[u8; 256]>,
}

impl Dimmed {
    /// `left` tells how much light is left at a place so far off its middle, 1 in the corners; twice as much at most.
    pub fn of(left: impl Fn(f32) -> f32) -> Self {
        let part = |i: usize| (left((i as f32 / AWAY as f32).sqrt()).clamp(0.0, 2.0) * WHOLE as f32).round() as u16;
        let byte = |part: usize, b: usize| byte_of(linear_of(b as u8) * part as f32 / WHOLE as f32);
        Self {
            left: (0..=AWAY).map(part).collect(),
            bytes: (0..=2 * WHOLE).map(|part| std::array::from_fn(|b| byte(part, b))).collect(),
        }
    }

    /// How far a column of so many is off their middle, or a row, squared: what both are together is [`Dimmed::at`]'s.
    pub fn off(i: usize, all: usize) -> u32 {
        let square = ((2 * i + 1) as f64 / all as f64 - 1.0).powi(2);
        (0.5 * square * f64::from((AWAY as u32) << AWAY_BITS)).round() as u32
    }

    /// What becomes of bytes so far off.
    #[inline]
    pub fn at(&self, off: u32) -> &[u8; 256] {
        let left = self.left[(((off + (1 << (AWAY_BITS - 1))) >> AWAY_BITS) as usize).min(AWAY)];
        &self.bytes[usize::from(left)]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn what_is_straight_is_looked_up_to_the_byte(
            colour in prop::array::uniform3(0u8..=255), parts in prop::array::uniform3(0f32..0.33), at in 0f32..0.2,
        ) {
            let law = |[r, g, b]: [f32; 3]| {
                let v = at * 0.05 + parts[0] * r + parts[1] * g + parts[2] * b;
                [v, 1.0 - v, r]
            };
            let wanted = law(colour.map(|v| f32::from(v) / 255.0)).map(|v| v.clamp(0.0, 1.0) * 255.0);
            let found = ByteCube::of(law).look(colour);
            for k in 0..3 {
                prop_assert!((f32::from(found[k]) - wanted[k]).abs() <= 0.52, "{found:?} {wanted:?}");
            }
        }
    }

    #[test]
    fn light_is_dimmed_by_how_far_off_it_is() {
        let dimmed = Dimmed::of(|away| 1.0 - 0.5 * away);
        let away = |squared: f64| (squared * f64::from((AWAY as u32) << AWAY_BITS)) as u32;
        assert!((0..=255).all(|b| dimmed.at(away(0.0))[b] == b as u8));
        assert_eq!(dimmed.at(away(1.0))[255], byte_of(0.5));
        assert!(dimmed.at(away(0.25))[200].abs_diff(byte_of(linear_of(200) * 0.75)) <= 1);
        assert_eq!(dimmed.at(away(9.0)), dimmed.at(away(1.0)));
        let brighter = Dimmed::of(|away| 1.0 + away);
        assert_eq!(brighter.at(away(1.0))[100], byte_of(2.0 * linear_of(100)));
        let both = |i: usize, all: usize| 2 * Dimmed::off(i, all);
        assert_eq!([both(4, 9), both(2, 10), both(7, 10)], [0.0, 0.25, 0.25].map(away));
    }
}
