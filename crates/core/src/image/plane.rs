//! A single-channel picture.

use crate::wide::{Loop, wide};
use rayon::prelude::*;

/// Rows that one task filters at least.
const ROWS_AT_ONCE: usize = 16;

/// What can be wrong with the bytes of a picture.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PlaneError {
    /// The number of samples is not width times height.
    #[error("a picture of {width}x{height} needs {expected} samples, got {found}", expected = width * height)]
    Length {
        /// Pixels across.
        width: usize,
        /// Pixels down.
        height: usize,
        /// Samples that were handed in.
        found: usize,
    },
}

/// A picture of `width` x `height` samples in rows from the top; encoded (display) values 0 to 255.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Plane {
    width: usize,
    height: usize,
    data: Vec<f32>,
}

impl Plane {
    /// Takes over a buffer of `width * height` samples.
    ///
    /// # Errors
    /// [`PlaneError::Length`] when the buffer does not fit.
    pub fn new(width: usize, height: usize, data: Vec<f32>) -> Result<Self, PlaneError> {
        if data.len() != width * height {
            return Err(PlaneError::Length { width, height, found: data.len() });
        }
        Ok(Self { width, height, data })
    }

    /// Converts 8-bit samples, of which the first of `levels` is black and becomes 0, the second white and 255.
    ///
    /// # Errors
    /// [`PlaneError::Length`] when the buffer does not fit.
    pub fn from_bytes(width: usize, height: usize, bytes: &[u8], (black, white): (u8, u8)) -> Result<Self, PlaneError> {
        let gain = 255.0 / (f32::from(white) - f32::from(black));
        Self::new(width, height, bytes.iter().map(|&b| gain * (f32::from(b) - f32::from(black))).collect())
    }

    /// A picture whose sample at (x, y) is `value(x, y)`.
    pub fn from_fn(width: usize, height: usize, value: impl Fn(usize, usize) -> f32) -> Self {
        let data = (0..height).flat_map(|y| (0..width).map(move |x| (x, y))).map(|(x, y)| value(x, y)).collect();
        Self { width, height, data }
    }

    /// Pixels across.
    pub fn width(&self) -> usize {
        self.width
    }

    /// Pixels down.
    pub fn height(&self) -> usize {
        self.height
    }

    /// All samples, row by row.
    pub fn samples(&self) -> &[f32] {
        &self.data
    }

    /// The row at `y`.
    pub fn row(&self, y: usize) -> &[f32] {
        &self.data[y * self.width..(y + 1) * self.width]
    }

    /// The sample at whole coordinates.
    pub fn at(&self, x: usize, y: usize) -> f32 {
        self.data[y * self.width + x]
    }

    /// Standard deviation of the samples.
    pub fn deviation(&self) -> f32 {
        let n = self.data.len().max(1) as f64;
        let mean = self.data.iter().map(|v| f64::from(*v)).sum::<f64>() / n;
        (self.data.iter().map(|v| (f64::from(*v) - mean).powi(2)).sum::<f64>() / n).sqrt() as f32
    }

    /// Whether a square window of half size `half` round (x, y) can be sampled bilinearly.
    pub fn holds_window(&self, x: f64, y: f64, half: f64) -> bool {
        x - half >= 0.0 && y - half >= 0.0 && x + half < self.width as f64 - 1.0 && y + half < self.height as f64 - 1.0
    }

    /// Bilinear sample; coordinates outside are held at the border.
    pub fn bilinear(&self, x: f32, y: f32) -> f32 {
        let x = x.clamp(0.0, (self.width - 1) as f32);
        let y = y.clamp(0.0, (self.height - 1) as f32);
        let x0 = (x as usize).min(self.width.saturating_sub(2));
        let y0 = (y as usize).min(self.height.saturating_sub(2));
        let x1 = (x0 + 1).min(self.width - 1);
        let y1 = (y0 + 1).min(self.height - 1);
        let (fx, fy) = (x - x0 as f32, y - y0 as f32);
        let top = self.at(x0, y0) + fx * (self.at(x1, y0) - self.at(x0, y0));
        let bottom = self.at(x0, y1) + fx * (self.at(x1, y1) - self.at(x0, y1));
        top + fy * (bottom - top)
    }

    /// The picture after the separable filter `kernel` (odd length), with borders held.
    pub fn filtered(&self, kernel: &[f32]) -> Self {
        let mut out = Self::default();
        self.filter_into(kernel, &mut out);
        out
    }

    /// The same written over another picture, whose memory is used again.
    pub fn filter_into(&self, kernel: &[f32], out: &mut Self) {
        let w = self.width;
        out.reshape(w, self.height);
        out.data.par_chunks_mut(w.max(1)).enumerate().with_min_len(ROWS_AT_ONCE).for_each_init(
            || vec![0.0f32; w],
            |down, (y, out)| {
                wide(FilteredRow { picture: self, y, kernel, down, out });
            },
        );
    }

    fn reshape(&mut self, width: usize, height: usize) {
        (self.width, self.height) = (width, height);
        self.data.resize(width * height, 0.0);
    }

    /// The rows round `y` (borders held), each times its part of the kernel.
    #[inline(always)]
    fn sum_down(&self, y: usize, kernel: &[f32], out: &mut [f32]) {
        let half = kernel.len() / 2;
        out.fill(0.0);
        for (k, &weight) in kernel.iter().enumerate() {
            let source = (y + k).saturating_sub(half).min(self.height - 1);
            for (o, &v) in out.iter_mut().zip(self.row(source)) {
                *o += weight * v;
            }
        }
    }

    /// Half the size: a 5-tap binomial filter, then every second sample from (0, 0) on, so that
    /// a point at (x, y) is found at (x/2, y/2) (Burt & Adelson, "The Laplacian Pyramid", 1983).
    pub fn halved(&self) -> Self {
        let mut out = Self::default();
        self.halve_into(&mut out);
        out
    }

    /// The same written over another picture, whose memory is used again.
    pub fn halve_into(&self, out: &mut Self) {
        let kernel = [0.0625f32, 0.25, 0.375, 0.25, 0.0625];
        let w = self.width.div_ceil(2);
        out.reshape(w, self.height.div_ceil(2));
        out.data.par_chunks_mut(w.max(1)).enumerate().with_min_len(ROWS_AT_ONCE).for_each_init(
            || vec![0.0f32; self.width],
            |down, (y, out)| {
                wide(HalvedRow { picture: self, y, kernel: &kernel, down, out });
            },
        );
    }
}

/// One row of a filtered picture.
struct FilteredRow<'a> {
    picture: &'a Plane,
    y: usize,
    kernel: &'a [f32],
    down: &'a mut [f32],
    out: &'a mut [f32],
}

impl Loop for FilteredRow<'_> {
    type Output = ();

    #[inline(always)]
    fn call(self) {
        self.picture.sum_down(self.y, self.kernel, self.down);
        filter_row(self.down, self.kernel, self.out);
    }
}

/// One row of a picture of half the size.
struct HalvedRow<'a> {
    picture: &'a Plane,
    y: usize,
    kernel: &'a [f32; 5],
    down: &'a mut [f32],
    out: &'a mut [f32],
}

impl Loop for HalvedRow<'_> {
    type Output = ();

    #[inline(always)]
    fn call(self) {
        self.picture.sum_down(2 * self.y, self.kernel, self.down);
        halve_row(self.down, self.kernel, self.out);
    }
}

/// Every second sample of a filtered row; only what is kept is computed.
#[inline(always)]
fn halve_row(row: &[f32], kernel: &[f32; 5], out: &mut [f32]) {
    let last = row.len() - 1;
    let held =
        |x: usize| kernel.iter().enumerate().map(|(k, c)| c * row[(2 * x + k).saturating_sub(2).min(last)]).sum();
    let inside = 1..(row.len().saturating_sub(1) / 2).max(1);
    // Pairs of samples, so that no lane is skipped: of the pairs before, here and after, five are weighed.
    let pairs = row.as_chunks::<2>().0;
    if pairs.len() > 2 {
        for (o, near) in out[inside.clone()].iter_mut().zip(pairs.windows(3)) {
            let [[a, b], [c, d], [e, _]] = [near[0], near[1], near[2]];
            *o = kernel[0] * a + kernel[1] * b + kernel[2] * c + kernel[3] * d + kernel[4] * e;
        }
    }
    let done = if pairs.len() > 2 { 1..(pairs.len() - 1).min(inside.end) } else { 0..0 };
    for x in (0..out.len()).filter(|x| !done.contains(x)) {
        out[x] = held(x);
    }
}

#[inline(always)]
fn filter_row(row: &[f32], kernel: &[f32], out: &mut [f32]) {
    let (w, half) = (row.len(), kernel.len() / 2);
    if w <= 2 * half {
        for (x, o) in out.iter_mut().enumerate() {
            *o = kernel.iter().enumerate().map(|(k, &c)| c * row[(x + k).saturating_sub(half).min(w - 1)]).sum();
        }
        return;
    }
    if let [a, b, c] = *kernel {
        for (o, near) in out[1..w - 1].iter_mut().zip(row.windows(3)) {
            *o = a * near[0] + b * near[1] + c * near[2];
        }
    } else {
        out.fill(0.0);
        for (k, &weight) in kernel.iter().enumerate() {
            for (o, &v) in out[half..w - half].iter_mut().zip(&row[k..]) {
                *o += weight * v;
            }
        }
    }
    for x in (0..half).chain(w - half..w) {
        out[x] = kernel.iter().enumerate().map(|(k, &c)| c * row[(x + k).saturating_sub(half).min(w - 1)]).sum();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn half_the_size_is_every_second_sample_of_the_filtered_picture() {
        for (w, h) in [(1, 1), (2, 3), (7, 5), (40, 31)] {
            let data = (0..w * h).map(|i| ((i * 7919) % 255) as f32).collect();
            let plane = Plane { width: w, height: h, data };
            let smooth = plane.filtered(&[0.0625, 0.25, 0.375, 0.25, 0.0625]);
            let half = plane.halved();
            for y in 0..half.height() {
                for x in 0..half.width() {
                    assert_eq!(half.row(y)[x], smooth.row(2 * y)[2 * x], "{w}x{h} at {x}, {y}");
                }
            }
        }
    }

    #[test]
    fn the_deviation_is_that_of_all_samples() {
        let checks = Plane::from_fn(6, 4, |x, y| if (x + y) % 2 == 0 { 90.0 } else { 110.0 });
        assert!((checks.deviation() - 10.0).abs() < 1e-6);
        assert_eq!(Plane::default().deviation(), 0.0);
    }

    #[test]
    fn a_buffer_of_the_wrong_length_is_refused() {
        assert_eq!(
            Plane::from_bytes(3, 2, &[0; 5], (0, 255)),
            Err(PlaneError::Length { width: 3, height: 2, found: 5 })
        );
    }

    #[test]
    fn bytes_are_spread_from_black_to_white() {
        let plane = Plane::from_bytes(4, 1, &[16, 235, 0, 126], (16, 235)).unwrap();
        assert_eq!((plane.at(0, 0), plane.at(1, 0)), (0.0, 255.0));
        assert!(plane.at(2, 0) < -18.0, "blacker than black is kept");
        assert!((plane.at(3, 0) - 128.08).abs() < 0.01);
    }

    #[test]
    fn a_flat_picture_stays_flat_under_filters() {
        for (w, h) in [(1, 1), (2, 7), (16, 9)] {
            let flat = Plane::from_fn(w, h, |_, _| 40.0);
            assert_eq!(flat.deviation(), 0.0);
            for &v in flat.filtered(&[0.25, 0.5, 0.25]).samples().iter().chain(flat.halved().samples()) {
                assert!((v - 40.0).abs() < 1e-4, "{v} in {w}x{h}");
            }
        }
    }

    #[test]
    fn a_ramp_is_sampled_exactly_between_pixels_and_halved_in_place() {
        let ramp = Plane::from_fn(32, 16, |x, y| 3.0 * x as f32 + 2.0 * y as f32);
        assert!((ramp.bilinear(4.25, 7.5) - (12.75 + 15.0)).abs() < 1e-4);
        assert!((ramp.halved().at(5, 4) - ramp.at(10, 8)).abs() < 1e-3);
    }
}
