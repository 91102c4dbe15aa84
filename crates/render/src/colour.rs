//! Display values as bytes: the law of [`fennik_core::colour`] in tables.
//!
//! Light is added up linear; bytes are display values.

pub use fennik_core::colour::{decode, encode};
use rayon::prelude::*;
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

/// Linear light of a display byte.
pub fn linear_of(byte: u8) -> f32 {
    LINEAR[usize::from(byte)]
}

/// Linear light of a colour as encoded for display, 0 to 255.
pub fn linear_colour(colour: [f64; 3]) -> nalgebra::Vector3<f32> {
    colour.map(|v| decode((v / 255.0) as f32)).into()
}

pub(crate) use fennik_core::colour::luminance;

/// Linear light of every display byte, for those who look many up.
pub(crate) fn linear_table() -> &'static [f32; 256] {
    &LINEAR
}

/// A picture of display bytes, three a pixel, as linear light.
pub fn light_of(rgb: &[u8]) -> Vec<[f32; 3]> {
    rgb.par_chunks_exact(3)
        .map(|p| [LINEAR[usize::from(p[0])], LINEAR[usize::from(p[1])], LINEAR[usize::from(p[2])]])
        .collect()
}

/// Writes linear light as display bytes; light beyond white is white.
///
/// # Panics
/// When there are not three bytes for each pixel.
pub fn write_bytes(light: &[[f32; 3]], rgb: &mut [u8]) {
    assert_eq!(rgb.len(), 3 * light.len(), "three bytes a pixel");
    rgb.par_chunks_exact_mut(3).zip(light).for_each(|(bytes, light)| bytes.copy_from_slice(&light.map(byte_of)));
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
    }

    #[test]
    fn every_byte_comes_back_and_what_is_no_light_is_black() {
        assert!((0..=255).all(|b| byte_of(linear_of(b)) == b));
        assert_eq!((byte_of(-3.0), byte_of(7.0), byte_of(f32::NAN)), (0, 255, 0));
        assert!((linear_of(188) - 0.5029).abs() < 1e-3, "the standard's middle grey");
    }
}
