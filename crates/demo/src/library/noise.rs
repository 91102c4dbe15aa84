//! Noise that meets itself at the rim.

/// A number from 0 to 1 of a place on a grid.
pub fn dot(x: i64, y: i64, seed: u32) -> f32 {
    let mut h = (x as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ (y as u64).wrapping_mul(0xc2b2_ae3d_27d4_eb4f);
    h ^= u64::from(seed).wrapping_mul(0x1656_67b1_9e37_79f9);
    h = (h ^ (h >> 31)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    h = (h ^ (h >> 29)).wrapping_mul(0x94d0_49bb_1331_11eb);
    ((h ^ (h >> 32)) & 0xFF_FFFF) as f32 / 16_777_216.0
}

/// Smooth noise, 0 to 1, of places from 0 to 1; `cells` lie across and down, and it meets itself at the rim.
pub fn tiled(u: f32, v: f32, cells: [i64; 2], seed: u32) -> f32 {
    let (x, y) = (u * cells[0] as f32, v * cells[1] as f32);
    let (x0, y0) = (x.floor(), y.floor());
    let ease = |t: f32| t * t * (3.0 - 2.0 * t);
    let (fx, fy) = (ease(x - x0), ease(y - y0));
    let at = |dx: i64, dy: i64| dot((x0 as i64 + dx).rem_euclid(cells[0]), (y0 as i64 + dy).rem_euclid(cells[1]), seed);
    let top = at(0, 0) + fx * (at(1, 0) - at(0, 0));
    let bottom = at(0, 1) + fx * (at(1, 1) - at(0, 1));
    top + fy * (bottom - top)
}

/// Several layers of it, each finer and weaker.
pub fn layers(u: f32, v: f32, cells: [i64; 2], count: u32, seed: u32) -> f32 {
    let (mut sum, mut weight) = (0.0, 0.0);
    for k in 0..count {
        let w = 0.5f32.powi(k as i32);
        sum += w * tiled(u, v, cells.map(|c| c << k), seed + k);
        weight += w;
    }
    sum / weight
}

/// A number from 0 to 1 as a byte.
pub fn byte(v: f32) -> u8 {
    (v.clamp(0.0, 1.0) * 255.0 + 0.5) as u8
}

/// Between two colours.
pub fn mix(a: [f32; 3], b: [f32; 3], t: f32) -> [f32; 3] {
    std::array::from_fn(|k| a[k] + t.clamp(0.0, 1.0) * (b[k] - a[k]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_meets_itself_at_the_rim() {
        for k in 0..20 {
            let v = k as f32 / 20.0;
            assert!((layers(0.0, v, [4, 8], 4, 3) - layers(0.999_99, v, [4, 8], 4, 3)).abs() < 0.01);
            assert!((0.0..=1.0).contains(&layers(v, 0.3, [4, 8], 4, 3)));
        }
    }
}
