//! The law between display values and linear light (IEC 61966-2-1, sRGB).

/// Display value to linear light.
pub fn decode(v: f32) -> f32 {
    if v <= 0.040_45 { v / 12.92 } else { ((v + 0.055) / 1.055).powf(2.4) }
}

/// Linear light to display value.
pub fn encode(v: f32) -> f32 {
    if v <= 0.003_130_8 { 12.92 * v } else { 1.055 * v.powf(1.0 / 2.4) - 0.055 }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn encoding_undoes_decoding(v in 0f32..1.0) {
            prop_assert!((encode(decode(v)) - v).abs() < 1e-5);
        }
    }
}
