//! Corners worth tracking (Shi & Tomasi, "Good Features to Track", 1994).

use crate::image::Plane;

/// Half side, in px, of the window over which gradients are gathered.
const GATHER: usize = 4;

/// A place where the picture has structure in both directions.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Corner {
    /// Pixels.
    pub x: f64,
    /// Pixels.
    pub y: f64,
    /// Smaller eigenvalue of the mean gradient tensor, (grey levels per px)^2.
    pub strength: f32,
}

/// The smaller eigenvalue of the mean gradient tensor at each pixel of the box from (x0, y0) to
/// (x1, y1), both included, row by row. The box must lie 5 px or more inside the picture.
pub fn min_eigenvalues(picture: &Plane, (x0, y0): (usize, usize), (x1, y1): (usize, usize)) -> Vec<f32> {
    let (bw, bh) = (x1 - x0 + 1, y1 - y0 + 1);
    let (pw, ph) = (bw + 2 * GATHER, bh + 2 * GATHER);
    let mut across = vec![[0.0f32; 3]; bw * ph];
    let mut line = vec![[0.0f32; 3]; pw];
    for py in 0..ph {
        let y = y0 + py - GATHER;
        let (up, here, down) = (picture.row(y - 1), picture.row(y), picture.row(y + 1));
        for (px, tensor) in line.iter_mut().enumerate() {
            let x = x0 + px - GATHER;
            let gx = 0.5 * (here[x + 1] - here[x - 1]);
            let gy = 0.5 * (down[x] - up[x]);
            *tensor = [gx * gx, gx * gy, gy * gy];
        }
        let mut sum = [0.0f32; 3];
        for tensor in &line[..2 * GATHER] {
            (0..3).for_each(|k| sum[k] += tensor[k]);
        }
        for x in 0..bw {
            (0..3).for_each(|k| sum[k] += line[x + 2 * GATHER][k]);
            across[py * bw + x] = sum;
            (0..3).for_each(|k| sum[k] -= line[x][k]);
        }
    }
    let area = ((2 * GATHER + 1) * (2 * GATHER + 1)) as f32;
    let mut out = vec![0.0f32; bw * bh];
    for x in 0..bw {
        let mut sum = [0.0f32; 3];
        for y in 0..2 * GATHER {
            (0..3).for_each(|k| sum[k] += across[y * bw + x][k]);
        }
        for y in 0..bh {
            (0..3).for_each(|k| sum[k] += across[(y + 2 * GATHER) * bw + x][k]);
            let (a, b, c) = (sum[0], sum[1], sum[2]);
            let smaller = 0.5 * (a + c - ((a - c) * (a - c) + 4.0 * b * b).sqrt());
            out[y * bw + x] = (smaller / area).max(0.0);
            (0..3).for_each(|k| sum[k] -= across[y * bw + x][k]);
        }
    }
    out
}

/// The strongest corner of a box for which `allowed(x, y)` holds; the box is cut to the part of the
/// picture that lies `margin` px or more inside. `None` when nothing is left.
pub fn best_corner(
    picture: &Plane,
    from: (usize, usize),
    to: (usize, usize),
    margin: usize,
    allowed: impl Fn(f64, f64) -> bool,
) -> Option<Corner> {
    let margin = margin.max(GATHER + 1);
    let (x0, y0) = (from.0.max(margin), from.1.max(margin));
    let (x1, y1) = (to.0.min(picture.width().checked_sub(margin + 1)?), to.1.min(picture.height().checked_sub(margin + 1)?));
    if x0 > x1 || y0 > y1 {
        return None;
    }
    let strengths = min_eigenvalues(picture, (x0, y0), (x1, y1));
    let bw = x1 - x0 + 1;
    let mut best: Option<Corner> = None;
    for (i, &strength) in strengths.iter().enumerate() {
        if best.is_none_or(|b| strength > b.strength) {
            let (x, y) = ((x0 + i % bw) as f64, (y0 + i / bw) as f64);
            if strength > 0.0 && allowed(x, y) {
                best = Some(Corner { x, y, strength });
            }
        }
    }
    best
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_corner_of_a_square_is_stronger_than_its_edge() {
        let square = Plane::from_fn(80, 80, |x, y| if x >= 40 && y >= 30 { 200.0 } else { 20.0 });
        let corner = best_corner(&square, (0, 0), (79, 79), 6, |_, _| true).unwrap();
        assert!((corner.x - 40.0).abs() <= 4.0 && (corner.y - 30.0).abs() <= 4.0, "{corner:?}");
    }

    #[test]
    fn nothing_is_found_on_a_flat_picture_or_a_tiny_one() {
        assert_eq!(best_corner(&Plane::from_fn(80, 80, |_, _| 9.0), (0, 0), (79, 79), 6, |_, _| true), None);
        assert_eq!(best_corner(&Plane::from_fn(1, 500, |_, y| y as f32), (0, 0), (0, 499), 6, |_, _| true), None);
    }

    #[test]
    fn the_running_sums_agree_with_a_direct_sum() {
        let p = Plane::from_fn(40, 40, |x, y| ((x * 7 + y * 13) % 29) as f32);
        let fast = min_eigenvalues(&p, (10, 12), (20, 25));
        let (x, y) = (17usize, 20usize);
        let (mut a, mut b, mut c) = (0.0f32, 0.0, 0.0);
        for v in y - GATHER..=y + GATHER {
            for u in x - GATHER..=x + GATHER {
                let gx = 0.5 * (p.at(u + 1, v) - p.at(u - 1, v));
                let gy = 0.5 * (p.at(u, v + 1) - p.at(u, v - 1));
                a += gx * gx;
                b += gx * gy;
                c += gy * gy;
            }
        }
        let direct = 0.5 * (a + c - ((a - c) * (a - c) + 4.0 * b * b).sqrt()) / 81.0;
        let found = fast[(y - 12) * 11 + (x - 10)];
        assert!((found - direct).abs() < 1e-2 * direct.max(1.0), "{found} {direct}");
    }
}
