//! Within what errors things agree, loosely while a camera is being found and tightly once its noise is known.

/// Ratio of the median of a 2D normal error's length to its deviation on one axis.
pub const MEDIAN_OF_RAYLEIGH: f64 = 1.1774;
/// A loose limit in medians of the reprojection errors, and at least and at most, px of a picture 1280 wide.
const LOOSE: f64 = 9.0;
const LOOSE_PX: (f64, f64) = (1.0, 3.0);
/// The loss that goes with it, as a part of it.
const LOOSE_LOSS: f64 = 0.35;
/// The loss and the limit that go with a noise, in deviations of it, and at least, px of a picture 1280 wide.
const TIGHT_LOSS: f64 = 2.5;
const TIGHT: f64 = 6.0;
const TIGHT_LOSS_PX: f64 = 0.08;
const TIGHT_PX: (f64, f64) = (0.3, 1.2);
/// Noise that is always reckoned with, px of a picture 1280 wide.
const LEAST_NOISE_PX: f64 = 0.02;

/// Within what error a point agrees, px.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct InlierGate {
    /// Where an observation's weight has fallen to a half.
    pub loss_px: f64,
    /// Beyond which it is not used.
    pub most_px: f64,
}

impl InlierGate {
    /// Things that move on their own come back in within loose limits, and the median reprojection error says how loose
    /// they need be. `scale` is the width of the picture over 1280.
    pub fn loose(median_px: f64, scale: f64) -> Self {
        let most_px = (LOOSE * median_px).clamp(LOOSE_PX.0 * scale, LOOSE_PX.1 * scale);
        Self { loss_px: LOOSE_LOSS * most_px, most_px }
    }

    /// The limits that fit a noise of `sigma_px` on one axis.
    pub fn tight(sigma_px: f64, scale: f64) -> Self {
        let sigma = sigma_px.max(LEAST_NOISE_PX * scale);
        Self {
            loss_px: (TIGHT_LOSS * sigma).max(TIGHT_LOSS_PX * scale),
            most_px: (TIGHT * sigma).clamp(TIGHT_PX.0 * scale, TIGHT_PX.1 * scale),
        }
    }

    /// No wider than others.
    pub fn within(self, other: Self) -> Self {
        Self { loss_px: self.loss_px.min(other.loss_px), most_px: self.most_px.min(other.most_px) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limits_follow_the_noise_and_the_size_of_the_picture() {
        for scale in [0.5, 1.0, 3.0] {
            let (calm, usual, wild) = (
                InlierGate::loose(0.0, scale),
                InlierGate::loose(0.2 * scale, scale),
                InlierGate::loose(50.0 * scale, scale),
            );
            assert!(calm.most_px < usual.most_px && usual.most_px < wild.most_px && wild.most_px <= 3.0 * scale);
            for sigma in [0.0, 0.05 * scale, 0.1 * scale, 9.0 * scale] {
                let tight = InlierGate::tight(sigma, scale);
                assert!(
                    tight.loss_px > 0.0 && tight.most_px >= 0.3 * scale && tight.most_px <= 1.2 * scale,
                    "{tight:?}"
                );
                assert_eq!(wild.within(tight).most_px, tight.most_px);
            }
        }
    }
}
