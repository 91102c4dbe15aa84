//! Noise textures that fade where they are finer than what a pixel sees.

const BY_X: u64 = 0x9E37_79B9_7F4A_7C15;
const BY_Y: u64 = 0xC2B2_AE3D_27D4_EB4F;

/// A fixed scramble of lattice coordinates to [0, 1).
fn lattice(x: i64, y: i64, seed: u64) -> f32 {
    scrambled(seed ^ (x as u64).wrapping_mul(BY_X) ^ (y as u64).wrapping_mul(BY_Y))
}

fn scrambled(mut h: u64) -> f32 {
    h ^= h >> 29;
    h = h.wrapping_mul(0xBF58_476D_1CE4_E5B9);
    h ^= h >> 32;
    (h & 0xFF_FFFF) as f32 / 16_777_216.0
}

/// A number from 0 to 1 for a place of the raster that `x` and `y` name.
pub(crate) fn chance(x: f64, y: f64, seed: u64) -> f32 {
    let h = seed.wrapping_mul(0x1656_67B1_9E37_79F9) ^ (below(x) as u64).wrapping_mul(BY_X);
    let h = (h ^ (h >> 31)).wrapping_mul(0x94D0_49BB_1331_11EB);
    scrambled(h ^ (below(y) as u64).wrapping_mul(BY_Y))
}

/// The whole number below: rays ask for it so often that a call for each would tell.
fn below(x: f64) -> i64 {
    let whole = x as i64;
    whole - i64::from(x < whole as f64)
}

/// Value noise of cell size 1, 0 to 1 (Perlin's quintic ease, 2002).
pub fn value(x: f64, y: f64, seed: u64) -> f32 {
    let (xi, yi) = (below(x), below(y));
    let ease = |t: f32| t * t * t * (t * (t * 6.0 - 15.0) + 10.0);
    let (u, v) = (ease((x - xi as f64) as f32), ease((y - yi as f64) as f32));
    let (left, high) = ((xi as u64).wrapping_mul(BY_X), seed ^ (yi as u64).wrapping_mul(BY_Y));
    let (right, low) = (left.wrapping_add(BY_X), seed ^ (yi as u64).wrapping_add(1).wrapping_mul(BY_Y));
    let top = scrambled(high ^ left) * (1.0 - u) + scrambled(high ^ right) * u;
    let bottom = scrambled(low ^ left) * (1.0 - u) + scrambled(low ^ right) * u;
    top * (1.0 - v) + bottom * v
}

/// Octaves of value noise between cell sizes `coarse_m` and `fine_m`, about 0 with a deviation near
/// 1; octaves finer than `footprint_m` fade out.
pub fn fractal(x: f64, y: f64, coarse_m: f64, fine_m: f64, footprint_m: f64, seed: u64) -> f32 {
    let (mut size, mut sum, mut octave) = (coarse_m, 0.0f32, 0);
    while size >= fine_m {
        let fade = ((size / footprint_m.max(1e-6) - 1.0) / 2.0).clamp(0.0, 1.0) as f32;
        if fade <= 0.0 {
            break;
        }
        sum += fade * (value(x / size, y / size, seed + octave) - 0.5) * 2.4;
        size *= 0.47;
        octave += 1;
    }
    sum
}

/// A line pattern of period `period_m`: how far inside a board (1) or in the gap between two (0).
pub fn boards(across: f64, period_m: f64, gap_m: f64, footprint_m: f64) -> f32 {
    let t = (across / period_m).fract().abs() * period_m;
    let distance = t.min(period_m - t);
    let soft = gap_m.max(footprint_m);
    let depth = (gap_m / soft).min(1.0) as f32;
    1.0 - depth * (1.0 - (distance / soft).clamp(0.0, 1.0) as f32)
}

/// Which board a place is on.
pub fn board_tone(across: f64, along: f64, period_m: f64, length_m: f64, seed: u64) -> f32 {
    let board = (across / period_m).floor() as i64;
    let shift = f64::from(lattice(board, 7, seed)) * length_m;
    lattice(board, ((along + shift) / length_m).floor() as i64, seed + 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn noise_is_smooth_and_fades_under_a_large_footprint() {
        for i in 0..100 {
            let x = f64::from(i) * 0.37;
            assert!((value(x, 1.5, 3) - value(x + 1e-4, 1.5, 3)).abs() < 1e-3);
        }
        assert!(fractal(0.3, 0.7, 1.0, 0.01, 10.0, 1).abs() < 1e-6);
        assert!((0..50).any(|i| fractal(f64::from(i), 0.7, 1.0, 0.01, 0.01, 1).abs() > 0.3));
    }
}
