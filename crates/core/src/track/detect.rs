//! Corners worth tracking (Shi & Tomasi, "Good Features to Track", 1994).

use crate::image::Plane;
use crate::wide::{Loop, wide};

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
pub fn min_eigenvalues(picture: &Plane, from: (usize, usize), to: (usize, usize)) -> Vec<f32> {
    let mut strengths = vec![0.0f32; (to.0 - from.0 + 1) * (to.1 - from.1 + 1)];
    wide(MinEigenvalues { picture, from, to, out: &mut strengths });
    strengths
}

/// The loop of [`min_eigenvalues`]: the products of the gradients, their running sums down the columns, and the sums of
/// those along each row, each over whole rows.
struct MinEigenvalues<'a> {
    picture: &'a Plane,
    from: (usize, usize),
    to: (usize, usize),
    out: &'a mut [f32],
}

impl Loop for MinEigenvalues<'_> {
    type Output = ();

    #[inline(always)]
    fn call(self) {
        let Self { picture, from: (x0, y0), to: (x1, y1), out } = self;
        let (width, height) = (x1 - x0 + 1, y1 - y0 + 1);
        let (padded, rows) = (width + 2 * GATHER, 2 * GATHER + 1);
        let left = x0 - GATHER - 1;
        let mut products = vec![0.0f32; 3 * padded * rows];
        let mut down = vec![0.0f32; 3 * padded];
        let mut sums = vec![0.0f32; 3 * width];
        let (mut pairs, mut fours) = (vec![0.0f32; padded], vec![0.0f32; padded]);
        let area = (rows * rows) as f32;
        for row in 0..height + 2 * GATHER {
            let y = y0 + row - GATHER;
            let line = |y: usize| &picture.row(y)[left..left + padded + 2];
            let slot = &mut products[(row % rows) * 3 * padded..][..3 * padded];
            // What was there is the row that leaves the sum.
            for (sum, gone) in down.iter_mut().zip(slot.iter()) {
                *sum -= gone;
            }
            gradient_products(line(y - 1), line(y), line(y + 1), slot);
            for (sum, new) in down.iter_mut().zip(slot.iter()) {
                *sum += new;
            }
            let Some(row) = row.checked_sub(2 * GATHER) else { continue };
            for (sums, down) in sums.chunks_exact_mut(width).zip(down.chunks_exact(padded)) {
                // Nine in a row are four and four, each made of pairs, and one.
                let (two, four) = (&mut pairs[..padded - 1], &mut fours[..padded - 3]);
                two.iter_mut().zip(down).zip(&down[1..]).for_each(|((sum, a), b)| *sum = a + b);
                four.iter_mut().zip(two.iter()).zip(&two[2..]).for_each(|((sum, a), b)| *sum = a + b);
                let eight = four.iter().zip(&four[4..]);
                sums.iter_mut().zip(eight).zip(&down[8..]).for_each(|((sum, (a, b)), last)| *sum = a + b + last);
            }
            let (xx, rest) = sums.split_at(width);
            let (xy, yy) = rest.split_at(width);
            for (((o, a), b), c) in out[row * width..(row + 1) * width].iter_mut().zip(xx).zip(xy).zip(yy) {
                let smaller = 0.5 * (a + c - ((a - c) * (a - c) + 4.0 * b * b).sqrt());
                *o = (smaller / area).max(0.0);
            }
        }
    }
}

/// Products of the gradients across and down over a row: all of xx, then of xy, then of yy. The rows have a sample more
/// on each side.
#[inline(always)]
fn gradient_products(up: &[f32], here: &[f32], down: &[f32], out: &mut [f32]) {
    let n = out.len() / 3;
    let (xx, rest) = out.split_at_mut(n);
    let (xy, yy) = rest.split_at_mut(n);
    let (up, down, here) = (&up[1..=n], &down[1..=n], &here[..n + 2]);
    for i in 0..n {
        let gx = 0.5 * (here[i + 2] - here[i]);
        let gy = 0.5 * (down[i] - up[i]);
        (xx[i], xy[i], yy[i]) = (gx * gx, gx * gy, gy * gy);
    }
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
    let (x1, y1) =
        (to.0.min(picture.width().checked_sub(margin + 1)?), to.1.min(picture.height().checked_sub(margin + 1)?));
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
