//! What is done to display bytes, looked up: quick, and good to a few steps.

use crate::colour::{byte_of, linear_of};
use fennik_core::colour::ColourTable;

/// Entries along a side of a cube: five bytes lie from one to the next.
const ENTRIES: usize = 52;
const STEP: i32 = 5;
/// Of entries to a display byte.
const FINE: i32 = 64;

/// A law from display values to display values, 0 to 1, in a cube between whose entries bytes are looked up (tetrahedral:
/// Kasson, Nin, Plouffe and Hafner 1995).
#[derive(Debug)]
pub struct ByteCube {
    /// Red goes first. A fourth value, which is none, keeps each within eight bytes.
    entries: Vec<[i16; 4]>,
}

impl ByteCube {
    /// Of a law.
    pub fn of(law: impl Fn([f32; 3]) -> [f32; 3] + Sync) -> Self {
        let whole = |[r, g, b]: [f32; 3]| {
            let [r, g, b] = [r, g, b].map(|v| (v.clamp(0.0, 1.0) * 255.0 * FINE as f32).round() as i16);
            [r, g, b, 0]
        };
        Self { entries: ColourTable::cube_of(ENTRIES, law).entries().iter().copied().map(whole).collect() }
    }

    /// What it makes of a colour.
    pub fn look(&self, colour: [u8; 3]) -> [u8; 3] {
        let cell = colour.map(|v| (v / STEP as u8).min(ENTRIES as u8 - 2));
        let [r, g, b] = std::array::from_fn(|k| i32::from(colour[k]) - STEP * i32::from(cell[k]));
        let mut at = usize::from(cell[0]) + ENTRIES * (usize::from(cell[1]) + ENTRIES * usize::from(cell[2]));
        let steps = [(r, 1), (g, ENTRIES), (b, ENTRIES * ENTRIES)];
        // First along the axis on which the place is farthest.
        let sort = |p: (i32, usize), q: (i32, usize)| if p.0 < q.0 { (q, p) } else { (p, q) };
        let (p, q) = sort(steps[0], steps[1]);
        let (q, s) = sort(q, steps[2]);
        let (p, q) = sort(p, q);
        let mut sum = [FINE * STEP / 2; 4];
        let mut add = |entry: &[i16; 4], part: i32| (0..4).for_each(|k| sum[k] += i32::from(entry[k]) * part);
        add(&self.entries[at], STEP - p.0);
        at += p.1;
        add(&self.entries[at], p.0 - q.0);
        at += q.1;
        add(&self.entries[at], q.0 - s.0);
        at += s.1;
        add(&self.entries[at], s.0);
        [0, 1, 2].map(|k| (sum[k] / (FINE * STEP)) as u8)
    }
}

/// Steps of how much light is left, of all of it, twice as many in all; and of how far off a place is.
const WHOLE: usize = 255;
const AWAY: usize = 2048;

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

    /// What becomes of bytes so far off, squared.
    pub fn at(&self, squared: f32) -> &[u8; 256] {
        let left = self.left[((squared * AWAY as f32 + 0.5) as usize).min(AWAY)];
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
        assert!((0..=255).all(|b| dimmed.at(0.0)[b] == b as u8));
        assert_eq!(dimmed.at(1.0)[255], byte_of(0.5));
        assert!(dimmed.at(0.25)[200].abs_diff(byte_of(linear_of(200) * 0.75)) <= 1);
        assert_eq!(dimmed.at(9.0), dimmed.at(1.0));
        let brighter = Dimmed::of(|away| 1.0 + away);
        assert_eq!(brighter.at(1.0)[100], byte_of(2.0 * linear_of(100)));
    }
}
