//! How firmly the focal length is known.

use crate::solve::bundle::jacobian::by_unknowns;
use crate::solve::bundle::options::BundleOptions;
use crate::solve::bundle::state::{Bundle, Move};
use crate::solve::uncertainty::cluster_robust::ClusterRobust;

/// Standard deviation of the focal length (relative: 0.01 is 1 %) that follows from the residuals after an adjustment;
/// with a zoom that of the camera in the middle. `None` when the focal length was held or the equations do not
/// determine it.
pub fn focal_deviation(bundle: &Bundle, options: &BundleOptions) -> Option<f64> {
    by_unknowns!(options, focal_variance(bundle, options)).map(f64::sqrt)
}

fn focal_variance<const C: usize>(bundle: &Bundle, options: &BundleOptions) -> Option<f64> {
    let cluster_robust = ClusterRobust::<C>::of(bundle, options)?;
    cluster_robust.focal_variance(bundle, cluster_robust.samples().noise_px)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::solve::bundle::synthetic::truth;

    #[test]
    fn the_stated_deviation_of_the_focal_length_covers_its_error() {
        let mut bundle = truth(12, 120, 0.2);
        let options = BundleOptions { max_steps: 40, tolerance: 1e-10, ..BundleOptions::default() };
        bundle.adjust(&options, |_| true);
        let deviation = focal_deviation(&bundle, &options).unwrap();
        let error = (bundle.lens.focal_px / 950.0).ln().abs();
        assert!(error < 4.0 * deviation && deviation < 0.01, "{error} {deviation}");
    }

    #[test]
    fn what_is_held_has_no_deviation_and_what_zooms_has_that_of_the_middle() {
        let adjusted = |options: &BundleOptions| {
            let mut bundle = truth(10, 60, 0.3);
            bundle.adjust(options, |_| true);
            focal_deviation(&bundle, options)
        };
        assert!(adjusted(&BundleOptions { focal: false, ..BundleOptions::default() }).is_none());
        let zooming = BundleOptions { focal: false, zoom: true, max_steps: 40, ..BundleOptions::default() };
        assert!(adjusted(&zooming).is_some_and(|d| d > 0.0 && d < 0.1));
    }
}
