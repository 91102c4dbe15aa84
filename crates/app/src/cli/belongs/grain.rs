//! Grain that is known, measured.

use super::{Row, percentile};
use fennik_core::colour::{decode, encode, luminance};
use fennik_core::image::{GRAIN_BANDS, Grain, GrainSamples, grain_field};

/// Grain that is known over smoothed frames of the demo clip that follow one another, measured.
pub(super) fn rows(pairs: &[[Vec<[f32; 3]>; 2]], width: usize) -> Vec<Row> {
    let smooth: Vec<_> = pairs.iter().map(|pair| pair.each_ref().map(|frame| smoothed(frame, width))).collect();
    let (mut strengths, mut lengths) = (Vec::new(), Vec::new());
    for (k, (blur, strong)) in [(0.45, 1.0), (0.8, 1.0), (1.2, 1.0), (0.45, 0.5), (1.2, 0.5)].into_iter().enumerate() {
        let of_band = |b: usize| [0.014, 0.010, 0.018].map(|d| strong * d * (1.3 - 0.1 * b as f64));
        let truth =
            Grain { deviation: (0..GRAIN_BANDS).map(of_band).collect(), blur_px: [blur; 2], width: width as u32 };
        let mut samples = GrainSamples::default();
        for (n, [one, next]) in smooth.iter().enumerate() {
            let grainy = |light: &[[f32; 3]], m: usize| with_grain(light, width, &truth, (100 * k + 2 * n + m) as u64);
            samples.look_at_pair(&grainy(one, 0), &grainy(next, 1), width);
        }
        let Some(found) = samples.grain(width) else { continue };
        let seen = bands_of(&smooth[0][0]);
        for band in (0..GRAIN_BANDS).filter(|b| seen[*b] > smooth[0][0].len() / 50) {
            strengths.extend((0..3).map(|c| (found.deviation[band][c] / truth.deviation[band][c] - 1.0).abs()));
        }
        lengths.extend((0..2).map(|axis| (found.blur_px[axis] / blur - 1.0).abs()));
    }
    let told = |what: &str, asked: &str, all: &mut Vec<f64>| {
        let (middle, most) = (100.0 * percentile(all, 0.5), 100.0 * percentile(all, 1.0));
        [what.to_owned(), asked.to_owned(), format!("{middle:.1} % in the median, {most:.1} % at most")]
    };
    vec![
        told("grain: deviation by channel and brightness", "10 %", &mut strengths),
        told("grain: how far it hangs together", "15 %", &mut lengths),
    ]
}

/// How many pixels lie in each band of brightness.
fn bands_of(light: &[[f32; 3]]) -> Vec<usize> {
    let mut all = vec![0; GRAIN_BANDS];
    for c in light {
        let bright = encode(luminance(*c));
        all[((bright * GRAIN_BANDS as f32) as usize).min(GRAIN_BANDS - 1)] += 1;
    }
    all
}

fn with_grain(light: &[[f32; 3]], width: usize, grain: &Grain, seed: u64) -> Vec<[f32; 3]> {
    let field = grain_field(width, light.len() / width, grain.blur_px, seed);
    let one = |(c, g): (&[f32; 3], &[f32; 3])| {
        let bright = encode(luminance(*c));
        std::array::from_fn(|k| decode((encode(c[k]) + g[k] * grain.deviation_at(bright, k)).clamp(0.0, 1.0)))
    };
    light.iter().zip(&field).map(one).collect()
}

/// The mean of each pixel's neighbours within four: without the grain that it has.
fn smoothed(light: &[[f32; 3]], width: usize) -> Vec<[f32; 3]> {
    let height = light.len() / width;
    let along = |from: &[[f32; 3]], dx: usize, dy: usize| -> Vec<[f32; 3]> {
        let one = |i: usize| {
            let (x, y) = (i % width, i / width);
            let mut sum = [0.0; 3];
            for k in 0..9 {
                let at = |v: usize, d: usize, end: usize| (v + k * d).saturating_sub(4 * d).min(end - 1);
                let p = from[at(y, dy, height) * width + at(x, dx, width)];
                (0..3).for_each(|c| sum[c] += p[c] / 9.0);
            }
            sum
        };
        (0..from.len()).map(one).collect()
    };
    along(&along(light, 1, 0), 0, 1)
}
