//! Six hues, between which every other lies.

/// The six hues that can be changed apart.
pub const HUES: [&str; 6] = ["red", "yellow", "green", "cyan", "blue", "magenta"];

/// Where they lie in OKLab, degrees: those of the primaries of sRGB and of their sums, by rising angle.
const ANGLES: [f32; 6] = [29.23, 109.77, 142.5, 194.77, 264.05, 328.36];

/// How much a hue, degrees in OKLab, is of each of the six; together they are 1.
pub fn hue_weights(angle: f32) -> [f32; 6] {
    let mut weights = [0.0; 6];
    let from_first = (angle - ANGLES[0]).rem_euclid(360.0);
    let step = |k: usize| (ANGLES[(k + 1) % 6] - ANGLES[k]).rem_euclid(360.0);
    let mut begins = 0.0;
    for k in 0..6 {
        let part = (from_first - begins) / step(k);
        if part < 1.0 || k == 5 {
            let part = part.clamp(0.0, 1.0);
            let smooth = part * part * (3.0 - 2.0 * part);
            weights[k] += 1.0 - smooth;
            weights[(k + 1) % 6] += smooth;
            break;
        }
        begins += step(k);
    }
    weights
}

#[cfg(test)]
mod tests {
    use super::super::oklab_of;
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_six_are_those_of_the_primaries_and_their_sums() {
        let colours =
            [[1.0, 0.0, 0.0], [1.0, 1.0, 0.0], [0.0, 1.0, 0.0], [0.0, 1.0, 1.0], [0.0, 0.0, 1.0], [1.0, 0.0, 1.0]];
        for (k, colour) in colours.into_iter().enumerate() {
            let [_, a, b] = oklab_of(colour);
            let weights = hue_weights(b.atan2(a).to_degrees());
            assert!(weights[k] > 0.999, "{} {weights:?}", HUES[k]);
        }
    }

    proptest! {
        #[test]
        fn every_hue_lies_between_two(angle in -720f32..720.0) {
            let weights = hue_weights(angle);
            prop_assert!((weights.iter().sum::<f32>() - 1.0).abs() < 1e-5);
            prop_assert!(weights.iter().filter(|w| **w > 0.0).count() <= 2);
        }
    }
}
