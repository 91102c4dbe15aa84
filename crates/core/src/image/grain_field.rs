//! Grain that is made: numbers by chance that hang together as far as it is told.

/// Grain of deviation 1 that hangs together as it is told, for a frame: three numbers a pixel, row by row; the same
/// `seed` gives the same.
pub fn grain_field(width: usize, height: usize, blur_px: [f64; 2], seed: u64) -> Vec<[f32; 3]> {
    use rayon::prelude::*;
    let mut field: Vec<[f32; 3]> =
        (0..width * height).into_par_iter().map(|i| [0, 1, 2].map(|k| normal(seed, (3 * i + k) as u64))).collect();
    for (axis, radius) in blur_px.into_iter().enumerate() {
        let kernel = kernel(radius);
        let reach = kernel.len() / 2;
        if reach == 0 {
            continue;
        }
        let before = field;
        let blurred = |i: usize| {
            let (x, y) = (i % width, i / width);
            let mut sum = [0.0; 3];
            for (j, weight) in kernel.iter().enumerate() {
                // Beyond the rim it goes on from the other side: grain has no rim.
                let at = if axis == 0 {
                    y * width + (x + j + width * reach - reach) % width
                } else {
                    (y + j + height * reach - reach) % height * width + x
                };
                (0..3).for_each(|k| sum[k] += weight * before[at][k]);
            }
            sum
        };
        field = (0..width * height).into_par_iter().map(blurred).collect();
    }
    field
}

/// A blur that leaves grain as strong as it was: its squares sum to 1.
pub(super) fn kernel(radius: f64) -> Vec<f32> {
    if radius < 0.15 {
        return vec![1.0];
    }
    let reach = (3.0 * radius).ceil() as i32;
    let all: Vec<f64> = (-reach..=reach).map(|d| (-0.5 * f64::from(d * d) / (radius * radius)).exp()).collect();
    let norm = all.iter().map(|w| w * w).sum::<f64>().sqrt();
    all.into_iter().map(|w| (w / norm) as f32).collect()
}

/// A number that is distributed normally, the same for the same place and seed (SplitMix64, Steele et al. 2014; Box and
/// Muller 1958).
fn normal(seed: u64, place: u64) -> f32 {
    let mut z = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15).wrapping_add(place.wrapping_mul(0xD1B5_4A32_D192_ED03));
    z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    z ^= z >> 31;
    let (a, b) = ((z >> 32) as f32 / 4_294_967_296.0, (z & 0xFFFF_FFFF) as f32 / 4_294_967_296.0);
    (-2.0 * (1.0 - a).max(1e-7).ln()).sqrt() * (std::f32::consts::TAU * b).cos()
}
