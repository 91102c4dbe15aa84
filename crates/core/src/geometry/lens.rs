//! The lens: a pinhole with two radial terms.

use nalgebra::{Matrix2, Vector2};
use serde::{Deserialize, Serialize};

/// Fixed-point rounds of [`Lens::unproject`]; enough for 1e-10 at the distortions that are accepted.
const UNDISTORT_STEPS: usize = 30;

/// Focal length, principal point and radial distortion.
///
/// `distorted = undistorted * (1 + k1 r^2 + k2 r^4)`, r of the undistorted normalised point; then
/// `pixel = focal_px * distorted + centre_px`. D. C. Brown, "Decentering Distortion of Lenses", 1966,
/// without its tangential terms.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Lens {
    /// Focal length, px.
    pub focal_px: f64,
    /// Principal point, px.
    pub centre_px: [f64; 2],
    /// Radial term of r^2.
    pub k1: f64,
    /// Radial term of r^4.
    pub k2: f64,
}

impl Lens {
    /// An undistorted lens with its axis through the middle of a `width` x `height` picture.
    pub fn centred(focal_px: f64, width: u32, height: u32) -> Self {
        let centre_px = [(f64::from(width) - 1.0) / 2.0, (f64::from(height) - 1.0) / 2.0];
        Self { focal_px, centre_px, k1: 0.0, k2: 0.0 }
    }

    /// Pixel of a normalised point.
    #[inline]
    pub fn project(&self, n: Vector2<f64>) -> Vector2<f64> {
        let r2 = n.norm_squared();
        let gain = 1.0 + r2 * (self.k1 + r2 * self.k2);
        n * (self.focal_px * gain) + Vector2::from(self.centre_px)
    }

    /// Pixel of a normalised point and its 2x2 derivative by that point.
    pub fn project_with_jacobian(&self, n: Vector2<f64>) -> (Vector2<f64>, Matrix2<f64>) {
        let r2 = n.norm_squared();
        let gain = 1.0 + r2 * (self.k1 + r2 * self.k2);
        let slope =
            (Matrix2::identity() * gain + n * n.transpose() * (2.0 * self.k1 + 4.0 * self.k2 * r2)) * self.focal_px;
        (n * (self.focal_px * gain) + Vector2::from(self.centre_px), slope)
    }

    /// The normalised point whose image is `pixel`, by fixed-point iteration with Newton's scale on
    /// the radius. Where the model folds over (far outside the picture) the nearest radius is used.
    pub fn unproject(&self, pixel: Vector2<f64>) -> Vector2<f64> {
        let d = (pixel - Vector2::from(self.centre_px)) / self.focal_px;
        let rd = d.norm();
        if rd < 1e-12 || (self.k1 == 0.0 && self.k2 == 0.0) {
            return d;
        }
        let mut r = rd;
        for _ in 0..UNDISTORT_STEPS {
            let r2 = r * r;
            let value = r * (1.0 + r2 * (self.k1 + r2 * self.k2)) - rd;
            let slope = 1.0 + r2 * (3.0 * self.k1 + 5.0 * r2 * self.k2);
            if slope < 0.05 {
                break;
            }
            let step = value / slope;
            r -= step;
            if step.abs() < 1e-14 {
                break;
            }
        }
        d * (r / rd)
    }

    /// Horizontal field of view in degrees for a picture `width` px wide, distortion left aside.
    pub fn field_of_view_deg(&self, width: u32) -> f64 {
        2.0 * (f64::from(width) / (2.0 * self.focal_px)).atan().to_degrees()
    }

    /// The lens of the same view in a picture `scale` times as large.
    pub fn scaled(&self, scale: f64) -> Self {
        // Pixel centres: (0, 0) is the centre of a pixel, so its outer corner is at -0.5.
        let shift = |c: f64| (c + 0.5) * scale - 0.5;
        Self { focal_px: self.focal_px * scale, centre_px: self.centre_px.map(shift), ..*self }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn normalise_undoes_pixel(x in -0.8f64..0.8, y in -0.5f64..0.5, f in 300f64..3000.0, k1 in -0.12f64..0.1,
            k2 in -0.02f64..0.04) {
            let lens = Lens { focal_px: f, centre_px: [640.0, 359.5], k1, k2 };
            let n = Vector2::new(x, y);
            let gap = (lens.unproject(lens.project(n)) - n).norm();
            prop_assert!(gap < 1e-9, "moved by {gap}");
        }

        #[test]
        fn the_slope_is_that_of_central_differences(x in -0.8f64..0.8, y in -0.5f64..0.5, k1 in -0.1f64..0.1,
            k2 in -0.02f64..0.04) {
            let lens = Lens { focal_px: 900.0, centre_px: [640.0, 359.5], k1, k2 };
            let n = Vector2::new(x, y);
            let (_, slope) = lens.project_with_jacobian(n);
            for axis in 0..2 {
                let mut h = Vector2::zeros();
                h[axis] = 1e-6;
                let numeric = (lens.project(n + h) - lens.project(n - h)) / 2e-6;
                prop_assert!((numeric - slope.column(axis)).norm() < 1e-4);
            }
        }
    }

    #[test]
    fn a_lens_of_half_the_size_sees_the_same() {
        let lens = Lens { k1: -0.05, ..Lens::centred(1000.0, 1280, 720) };
        let half = lens.scaled(0.5);
        assert!((half.centre_px[0] - 319.5).abs() < 1e-12);
        let n = Vector2::new(0.3, -0.2);
        assert!(
            ((half.project(n) + Vector2::repeat(0.5)) * 2.0 - lens.project(n) - Vector2::repeat(0.5)).norm() < 1e-9
        );
    }
}
