//! What holds the focal lengths of a zoom together: its speed changes slowly.

/// Change of the speed of a zoom that is usual, logarithm of the focal length per frame^2.
const ZOOM_UNREST: f64 = 1.5e-3;

/// One term of the prior on a zoom: the second difference of three logarithms, with Cauchy's loss.
pub(super) struct ZoomTerm {
    pub first: usize,
    pub slopes: [f64; 3],
    pub unrest: f64,
    pub strength: f64,
}

impl ZoomTerm {
    /// Robust cost, px^2.
    pub fn cost(&self) -> f64 {
        self.strength * ZOOM_UNREST * ZOOM_UNREST * (self.unrest / ZOOM_UNREST).powi(2).ln_1p()
    }

    /// Weight of the squared unrest in the normal equations.
    pub fn weight(&self) -> f64 {
        self.strength / (1.0 + (self.unrest / ZOOM_UNREST).powi(2))
    }
}

/// The terms of a zoom, three neighbours each. `zoom` holds logarithms of focal lengths, `times` are in frames; what is usual
/// weighs as much as an observation that misses by `against_px`.
pub(super) fn zoom_terms(zoom: &[f64], times: &[f64], against_px: f64) -> Vec<ZoomTerm> {
    (2..zoom.len())
        .map(|c| {
            let (d1, d2) = (times[c - 1] - times[c - 2], times[c] - times[c - 1]);
            let span = 0.5 * (d1 + d2).max(1e-9);
            let slopes = [1.0 / (d1 * span), -(1.0 / d1 + 1.0 / d2) / span, 1.0 / (d2 * span)];
            let unrest = (0..3).map(|k| slopes[k] * zoom[c - 2 + k]).sum();
            ZoomTerm { first: c - 2, slopes, unrest, strength: span * (against_px / ZOOM_UNREST).powi(2) }
        })
        .collect()
}
