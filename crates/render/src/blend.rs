//! Mixing what is placed with what lies behind it (W3C, "Compositing and Blending Level 1").
//!
//! Covering mixes linear light. The other modes are laws between display values, as the standard and all who use them
//! have them; what they give is mixed in as light.

use crate::colour::{decode, encode};
use fennik_core::scene::Blend;

/// Light times alpha, and alpha.
pub(crate) type Rgba = [f32; 4];

/// `over` mixed with what lies behind it (section 5.1 with the mixing of section 10.1).
pub(crate) fn blend(over: Rgba, behind: Rgba, mode: Blend) -> Rgba {
    let [.., alpha] = over;
    let alpha_behind = behind[3];
    let out_alpha = alpha + alpha_behind - alpha * alpha_behind;
    match mode {
        Blend::Normal => std::array::from_fn(|k| over[k] + (1.0 - alpha) * behind[k]),
        Blend::PlusLighter => {
            let sum: Rgba = std::array::from_fn(|k| over[k] + behind[k]);
            [sum[0], sum[1], sum[2], sum[3].min(1.0)]
        }
        _ if alpha <= 0.0 => behind,
        _ => {
            let mut out = [0.0, 0.0, 0.0, out_alpha];
            for k in 0..3 {
                let source = encode((over[k] / alpha).clamp(0.0, 1.0));
                let back = if alpha_behind > 0.0 { encode((behind[k] / alpha_behind).clamp(0.0, 1.0)) } else { 0.0 };
                let mixed = decode(channel(mode, back, source).clamp(0.0, 1.0));
                out[k] = (1.0 - alpha_behind) * over[k] + alpha * alpha_behind * mixed + (1.0 - alpha) * behind[k];
            }
            out
        }
    }
}

/// The laws of separable modes, display values 0 to 1.
fn channel(mode: Blend, back: f32, source: f32) -> f32 {
    let multiply = |b: f32, s: f32| b * s;
    let screen = |b: f32, s: f32| b + s - b * s;
    let hard = |b: f32, s: f32| if s <= 0.5 { multiply(b, 2.0 * s) } else { screen(b, 2.0 * s - 1.0) };
    match mode {
        Blend::Normal | Blend::PlusLighter => source,
        Blend::Multiply => multiply(back, source),
        Blend::Screen => screen(back, source),
        Blend::Overlay => hard(source, back),
        Blend::Darken => back.min(source),
        Blend::Lighten => back.max(source),
        Blend::ColorDodge if back <= 0.0 => 0.0,
        Blend::ColorDodge if source >= 1.0 => 1.0,
        Blend::ColorDodge => (back / (1.0 - source)).min(1.0),
        Blend::ColorBurn if back >= 1.0 => 1.0,
        Blend::ColorBurn if source <= 0.0 => 0.0,
        Blend::ColorBurn => 1.0 - ((1.0 - back) / source).min(1.0),
        Blend::HardLight => hard(back, source),
        Blend::SoftLight if source <= 0.5 => back - (1.0 - 2.0 * source) * back * (1.0 - back),
        Blend::SoftLight => {
            let bright = if back <= 0.25 { ((16.0 * back - 12.0) * back + 4.0) * back } else { back.sqrt() };
            back + (2.0 * source - 1.0) * (bright - back)
        }
        Blend::Difference => (back - source).abs(),
        Blend::Exclusion => back + source - 2.0 * back * source,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// What is clear changes nothing, and nothing becomes brighter than white or darker than black.
        #[test]
        fn every_mode_stays_within_bounds(
            mode in 0..Blend::ALL.len(), source in 0f32..1.0, alpha in 0f32..1.0, back in 0f32..1.0, under in 0f32..1.0,
        ) {
            let mode = Blend::ALL[mode];
            let behind = [back * under, back * under, back * under, under];
            prop_assert_eq!(blend([0.0; 4], behind, mode), behind);
            let over = [source * alpha, source * alpha, source * alpha, alpha];
            let out = blend(over, behind, mode);
            let most = if mode == Blend::PlusLighter { 2.0 } else { out[3] };
            prop_assert!(out.iter().all(|v| (0.0..=1.0 + 1e-4).contains(v) || mode == Blend::PlusLighter), "{out:?}");
            prop_assert!(out[0] <= most + 1e-4, "{out:?}");
            // Over nothing every mode shows what it is.
            let alone = blend(over, [0.0; 4], mode);
            prop_assert!((0..4).all(|k| (alone[k] - over[k]).abs() < 1e-4), "{alone:?}");
        }
    }

    #[test]
    fn the_laws_are_those_of_the_standard() {
        // Display values 0.25 behind, 0.6 over.
        let of = |mode| channel(mode, 0.25, 0.6);
        let expected = [
            (Blend::Multiply, 0.15),
            (Blend::Screen, 0.7),
            (Blend::Overlay, 0.3),
            (Blend::Darken, 0.25),
            (Blend::Lighten, 0.6),
            (Blend::ColorDodge, 0.625),
            (Blend::ColorBurn, 0.0),
            (Blend::HardLight, 0.4),
            (Blend::SoftLight, 0.3),
            (Blend::Difference, 0.35),
            (Blend::Exclusion, 0.55),
        ];
        for (mode, value) in expected {
            assert!((of(mode) - value).abs() < 1e-5, "{}: {}", mode.word(), of(mode));
        }
        // What was shot on black leaves the plate as it is where it is black.
        let plate = [0.3, 0.2, 0.1, 1.0];
        let out = blend([0.0, 0.0, 0.0, 1.0], plate, Blend::Screen);
        assert!((0..3).all(|k| (out[k] - plate[k]).abs() < 1e-5), "{out:?}");
    }
}
