//! What the tracker sees of a picture: a picture of its own, never the one that is delivered.

use super::Plane;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

/// Half side of the neighbourhood of local contrast, px of a picture 1280 wide.
const NEIGHBOURHOOD_PX: f64 = 24.0;
/// Deviation that local contrast aims at, grey levels.
const AIM: f32 = 45.0;
/// Deviation below which a neighbourhood holds noise only, grey levels.
const NOISE: f32 = 3.0;
/// Deviation of the neighbourhoods' means below which the whole picture shows nothing, grey levels.
const BLANK: f32 = 1.0;
/// Radius of the blur that sharpening takes the difference from, px.
const SHARPEN_PX: f64 = 1.6;

/// Which part of the colours the tracker sees.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Channel {
    /// All of them, weighed as the eye does.
    #[default]
    Brightness,
    /// Red alone.
    Red,
    /// Green alone.
    Green,
    /// Blue alone.
    Blue,
}

impl Channel {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Brightness => "brightness",
            Self::Red => "red",
            Self::Green => "green",
            Self::Blue => "blue",
        }
    }
}

/// How a picture is prepared for the tracker.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct PictureSettings {
    /// Which channel.
    pub channel: Channel,
    /// Radius of the edge-keeping blur that takes noise away, px; 0 is none.
    pub denoise_px: f64,
    /// How far contrast is evened out over the picture, 0 to 1.
    pub local_contrast: f64,
    /// Strength of the sharpening, 0 to 3.
    pub sharpen: f64,
}

impl PictureSettings {
    /// Whether it leaves the picture as it is.
    pub fn is_plain(&self) -> bool {
        self.denoise_px <= 0.0 && self.local_contrast <= 0.0 && self.sharpen <= 0.0
    }
}

/// The chosen channel of rows of red, green and blue bytes; `None` when their number does not fit.
pub fn channel_of(width: usize, height: usize, rgb: &[u8], channel: Channel) -> Option<Plane> {
    if rgb.len() != 3 * width * height {
        return None;
    }
    let value = |p: &[u8]| match channel {
        // ITU-R BT.709.
        Channel::Brightness => 0.2126 * f32::from(p[0]) + 0.7152 * f32::from(p[1]) + 0.0722 * f32::from(p[2]),
        Channel::Red => f32::from(p[0]),
        Channel::Green => f32::from(p[1]),
        Channel::Blue => f32::from(p[2]),
    };
    Plane::new(width, height, rgb.chunks_exact(3).map(value).collect()).ok()
}

/// The picture that the tracker sees: noise taken away, then contrast evened out, then sharpened.
pub fn prepare(picture: &Plane, settings: &PictureSettings) -> Plane {
    let mut now = picture.clone();
    if settings.denoise_px > 0.0 {
        now = denoised(&now, settings.denoise_px);
    }
    if settings.local_contrast > 0.0 {
        now = evened(&now, settings.local_contrast as f32);
    }
    if settings.sharpen > 0.0 {
        let soft = now.filtered(&gaussian(SHARPEN_PX));
        now = combined(&now, &soft, |v, s| v + settings.sharpen as f32 * (v - s));
    }
    now
}

/// A blur that keeps edges: the guided filter of a picture by itself (He, Sun & Tang, "Guided Image Filtering", 2013,
/// equations 5 to 8), with the noise told from the picture.
fn denoised(picture: &Plane, radius_px: f64) -> Plane {
    let kernel = gaussian(radius_px);
    let square = combined(picture, picture, |a, b| a * b);
    let (mean, mean_square) = (picture.filtered(&kernel), square.filtered(&kernel));
    let variance = combined(&mean, &mean_square, |m, s| (s - m * m).max(0.0));
    let mut sorted: Vec<f32> = variance.samples().iter().copied().step_by(17).collect();
    sorted.sort_by(f32::total_cmp);
    // What the calmer part of the picture shows is noise.
    let noise = 2.0 * sorted.get(sorted.len() / 4).copied().unwrap_or(1.0).max(0.5);
    let gain = combined(&variance, &variance, |v, _| v / (v + noise));
    let offset = combined(&gain, &mean, |g, m| (1.0 - g) * m);
    let (gain, offset) = (gain.filtered(&kernel), offset.filtered(&kernel));
    combined(&combined(&gain, picture, |g, v| g * v), &offset, |a, b| a + b)
}

/// Each pixel against the mean and deviation of its neighbourhood. A picture that shows nothing stays as it is: its
/// noise would pass for something.
fn evened(picture: &Plane, strength: f32) -> Plane {
    let radius = (NEIGHBOURHOOD_PX * picture.width() as f64 / 1280.0).max(4.0);
    let kernel = gaussian(radius / 2.0);
    let square = combined(picture, picture, |a, b| a * b);
    let (mean, mean_square) = (picture.filtered(&kernel), square.filtered(&kernel));
    if mean.deviation() < BLANK {
        return picture.clone();
    }
    let deviation = combined(&mean, &mean_square, |m, s| (s - m * m).max(0.0).sqrt());
    let plain = combined(picture, &mean, |v, m| v - m);
    let level = combined(&plain, &deviation, |d, s| 128.0 + d * AIM / (s + NOISE));
    combined(picture, &level, |v, l| v + strength * (l - v))
}

fn combined(a: &Plane, b: &Plane, by: impl Fn(f32, f32) -> f32 + Sync) -> Plane {
    let data = a.samples().par_iter().zip(b.samples()).with_min_len(1 << 14).map(|(x, y)| by(*x, *y)).collect();
    // Both are of one size, and so is what comes of them.
    Plane::new(a.width(), a.height(), data).unwrap_or_else(|_| a.clone())
}

/// A normalised Gaussian of deviation `sigma` px, cut off at three deviations.
pub(super) fn gaussian(sigma: f64) -> Vec<f32> {
    let half = (3.0 * sigma).ceil().max(1.0) as i32;
    let weights: Vec<f64> = (-half..=half).map(|i| (-0.5 * (f64::from(i) / sigma).powi(2)).exp()).collect();
    let sum: f64 = weights.iter().sum();
    weights.iter().map(|w| (w / sum) as f32).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::SplitMix64;

    fn deviation(values: impl Iterator<Item = f32> + Clone) -> f32 {
        let n = values.clone().count() as f32;
        let mean = values.clone().sum::<f32>() / n;
        (values.map(|v| (v - mean) * (v - mean)).sum::<f32>() / n).sqrt()
    }

    #[test]
    fn nothing_asked_for_changes_nothing() {
        let picture = Plane::from_fn(30, 20, |x, y| (x * y) as f32);
        assert!(PictureSettings::default().is_plain());
        assert_eq!(prepare(&picture, &PictureSettings::default()), picture);
    }

    #[test]
    fn noise_goes_and_the_edge_stays() {
        let mut random = SplitMix64::new(3);
        let noisy: Vec<f32> =
            (0..120 * 80).map(|i| if i % 120 < 60 { 60.0 } else { 160.0 } + 6.0 * random.normal() as f32).collect();
        let picture = Plane::new(120, 80, noisy).unwrap();
        let calm = prepare(&picture, &PictureSettings { denoise_px: 2.0, ..PictureSettings::default() });
        let flat = |p: &Plane| {
            deviation(
                (10..45)
                    .flat_map(|x| (10..70).map(move |y| (x, y)))
                    .map(|(x, y)| p.at(x, y))
                    .collect::<Vec<_>>()
                    .into_iter(),
            )
        };
        assert!(flat(&calm) < 0.5 * flat(&picture), "{} {}", flat(&calm), flat(&picture));
        let step = (20..60).map(|y| calm.at(62, y) - calm.at(57, y)).sum::<f32>() / 40.0;
        assert!(step > 80.0, "the edge is still {step} levels high");
    }

    #[test]
    fn a_dull_corner_gets_the_contrast_of_the_rest() {
        let picture = Plane::from_fn(200, 120, |x, y| {
            100.0 + if x < 100 { 3.0 } else { 50.0 } * ((x as f32 * 0.6).sin() * (y as f32 * 0.5).cos())
        });
        let even = prepare(&picture, &PictureSettings { local_contrast: 1.0, ..PictureSettings::default() });
        let part = |p: &Plane, from: usize| {
            deviation(
                (from..from + 60)
                    .flat_map(|x| (20..100).map(move |y| (x, y)))
                    .map(|(x, y)| p.at(x, y))
                    .collect::<Vec<_>>()
                    .into_iter(),
            )
        };
        let (before, after) = (part(&picture, 120) / part(&picture, 20), part(&even, 120) / part(&even, 20));
        assert!(before > 10.0 && after < 4.0, "{before} {after}");
    }

    #[test]
    fn a_picture_that_shows_nothing_gets_no_contrast() {
        let mut random = SplitMix64::new(5);
        let black: Vec<f32> = (0..200 * 120).map(|_| 16.0 + 4.0 * random.normal() as f32).collect();
        let black = Plane::new(200, 120, black).unwrap();
        let even = PictureSettings { local_contrast: 1.0, ..PictureSettings::default() };
        assert_eq!(prepare(&black, &even), black);
        // The same noise over something faint is evened out with it.
        let faint = Plane::from_fn(200, 120, |x, y| black.at(x, y) + 0.05 * x as f32);
        assert!(prepare(&faint, &even).deviation() > 2.0 * faint.deviation());
    }

    #[test]
    fn sharpening_steepens_an_edge_and_channels_are_told_apart() {
        let soft = Plane::from_fn(60, 10, |x, _| 100.0 + 50.0 * (((x as f32) - 30.0) / 4.0).tanh());
        let sharp = prepare(&soft, &PictureSettings { sharpen: 2.0, ..PictureSettings::default() });
        let slope = |p: &Plane| p.at(31, 5) - p.at(29, 5);
        assert!(slope(&sharp) > 1.1 * slope(&soft));
        let rgb = [10u8, 20, 30, 40, 50, 60];
        let of = |c| channel_of(2, 1, &rgb, c).unwrap().samples().to_vec();
        assert_eq!(
            (of(Channel::Red), of(Channel::Green), of(Channel::Blue)),
            (vec![10.0, 40.0], vec![20.0, 50.0], vec![30.0, 60.0])
        );
        assert!((of(Channel::Brightness)[0] - 18.596).abs() < 1e-3);
        assert!(channel_of(2, 2, &rgb, Channel::Red).is_none());
    }
}
