//! The only laws between display values and linear light (IEC 61966-2-1, sRGB).
//!
//! Light is added up linear; bytes are display values.

use std::sync::LazyLock;

/// Entries of the table that guesses a byte.
const GUESSES: usize = 1024;

/// Linear light of every display byte.
static LINEAR: LazyLock<[f32; 256]> = LazyLock::new(|| std::array::from_fn(|b| decode(b as f32 / 255.0)));

/// The light from which on a byte is rounded up to the next one.
static ROUNDED_UP: LazyLock<[f32; 256]> =
    LazyLock::new(|| std::array::from_fn(|b| if b < 255 { decode((b as f32 + 0.5) / 255.0) } else { f32::INFINITY }));

/// A byte that is not above the right one, by the square root of the light, whose steps are nearly even.
static GUESS: LazyLock<[u8; GUESSES + 1]> = LazyLock::new(|| {
    std::array::from_fn(|i| {
        let least = (i as f32 / GUESSES as f32).powi(2);
        ROUNDED_UP.partition_point(|t| *t <= least) as u8
    })
});

/// Display value to linear light, both 0 to 1.
pub fn decode(v: f32) -> f32 {
    if v <= 0.040_45 { v / 12.92 } else { ((v + 0.055) / 1.055).powf(2.4) }
}

/// Linear light to display value, both 0 to 1.
pub fn encode(v: f32) -> f32 {
    if v <= 0.003_130_8 { 12.92 * v } else { 1.055 * v.powf(1.0 / 2.4) - 0.055 }
}

/// Linear light of a display byte.
pub fn linear_of(byte: u8) -> f32 {
    LINEAR[usize::from(byte)]
}

/// Linear light of a colour as encoded for display, 0 to 255.
pub(crate) fn linear_colour(colour: [f64; 3]) -> nalgebra::Vector3<f32> {
    colour.map(|v| decode((v / 255.0) as f32)).into()
}

/// How bright linear light is seen (ITU-R BT.709).
pub(crate) fn luminance(light: [f32; 3]) -> f32 {
    0.2126 * light[0] + 0.7152 * light[1] + 0.0722 * light[2]
}

/// Linear light of every display byte, for those who look many up.
pub(crate) fn linear_table() -> &'static [f32; 256] {
    &LINEAR
}

/// The display byte nearest to some light; light beyond white is white.
pub fn byte_of(light: f32) -> u8 {
    let light = light.clamp(0.0, 1.0);
    // The guess is right, or one too low.
    let byte = GUESS[(light.sqrt() * GUESSES as f32) as usize];
    byte + u8::from(ROUNDED_UP[usize::from(byte)] <= light)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn bytes_are_the_nearest_display_values(light in 0f32..1.0) {
            let value = encode(light) * 255.0;
            // A light on the border between two bytes may fall to either in f32.
            prop_assert!((f32::from(byte_of(light)) - value).abs() < 0.5 + 1e-3, "{} for {value}", byte_of(light));
        }

        #[test]
        fn encoding_undoes_decoding(v in 0f32..1.0) {
            prop_assert!((encode(decode(v)) - v).abs() < 1e-5);
        }
    }

    #[test]
    fn every_byte_comes_back_and_what_is_no_light_is_black() {
        assert!((0..=255).all(|b| byte_of(linear_of(b)) == b));
        assert_eq!((byte_of(-3.0), byte_of(7.0), byte_of(f32::NAN)), (0, 255, 0));
        assert!((linear_of(188) - 0.5029).abs() < 1e-3, "the standard's middle grey");
    }
}
