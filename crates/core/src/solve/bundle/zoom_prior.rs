//! What holds the focal lengths of a zoom together: its speed changes slowly.

/// Change of the speed of a zoom that is usual, logarithm of the focal length per frame^2.
const ZOOM_UNREST: f64 = 1.5e-3;

/// One term of the prior on a zoom: the second difference of three logarithms, with Cauchy's loss.
pub struct ZoomTerm {
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

/// The terms of a zoom, three neighbours each. `zoom` holds logarithms of focal lengths, `times` are in frames; what is
/// usual weighs as much as an observation that misses by `against_px`.
pub fn zoom_terms(zoom: &[f64], times: &[f64], against_px: f64) -> Vec<ZoomTerm> {
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

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_zoom_of_even_speed_costs_nothing_however_frames_are_spaced(
            gaps in prop::collection::vec(0.5f64..6.0, 2..20), start in -0.5f64..0.5, velocity in -0.05f64..0.05,
        ) {
            let times: Vec<f64> = std::iter::once(0.0).chain(gaps.iter().scan(0.0, |t, g| { *t += g; Some(*t) }))
                .collect();
            let zoom: Vec<f64> = times.iter().map(|t| start + velocity * t).collect();
            let terms = zoom_terms(&zoom, &times, 0.1);
            prop_assert_eq!(terms.len(), times.len() - 2);
            for term in &terms {
                prop_assert!(term.unrest.abs() < 1e-9 && term.cost() < 1e-6, "{} {}", term.unrest, term.cost());
            }
        }

        #[test]
        fn an_even_change_of_speed_is_read_off_as_such(acceleration in -0.01f64..0.01, step in 0.5f64..4.0) {
            let times: Vec<f64> = (0..9).map(|i| f64::from(i) * step).collect();
            let zoom: Vec<f64> = times.iter().map(|t| 0.5 * acceleration * t * t).collect();
            for term in zoom_terms(&zoom, &times, 0.1) {
                prop_assert!((term.unrest - acceleration).abs() < 1e-9, "{} for {acceleration}", term.unrest);
            }
        }
    }

    #[test]
    fn a_sudden_stop_weighs_less_than_its_square() {
        let times: Vec<f64> = (0..3).map(f64::from).collect();
        let (slight, sudden) = (zoom_terms(&[0.0, 0.0, 0.001], &times, 0.1), zoom_terms(&[0.0, 0.0, 0.1], &times, 0.1));
        assert!(sudden[0].cost() > slight[0].cost());
        assert!(sudden[0].cost() < 1e-2 * 1e4 * slight[0].cost(), "{} {}", sudden[0].cost(), slight[0].cost());
        assert!(sudden[0].weight() < 1e-2 * slight[0].weight());
    }
}
