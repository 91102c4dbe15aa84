//! Two views of five points (Nister, "An Efficient Solution to the Five-Point Relative Pose Problem",
//! 2004), solved through the action matrix of Stewenius, Engels & Nister, "Recent Developments on
//! Direct Relative Orientation", 2006.

use super::{Pose, triangulate};
use nalgebra::{Matrix3, Rotation3, SMatrix, SVector, Vector2, Vector3};

type Row20 = [f64; 20];

/// How far the constraints may be off before an answer is polished, steps of that (near a double root each only halves
/// what is left), and how far they may be off after.
const EXACT: f64 = 1e-13;
const POLISHED: usize = 40;
const CLOSE: f64 = 1e-9;

/// Exponents of x, y, z of the 20 monomials up to degree three, in the order that makes the last ten
/// the quotient ring's basis.
const MONOMIALS: [[u8; 3]; 20] = [
    [3, 0, 0],
    [2, 1, 0],
    [1, 2, 0],
    [0, 3, 0],
    [2, 0, 1],
    [1, 1, 1],
    [0, 2, 1],
    [1, 0, 2],
    [0, 1, 2],
    [0, 0, 3],
    [2, 0, 0],
    [1, 1, 0],
    [0, 2, 0],
    [1, 0, 1],
    [0, 1, 1],
    [0, 0, 2],
    [1, 0, 0],
    [0, 1, 0],
    [0, 0, 1],
    [0, 0, 0],
];

/// A polynomial in x, y, z of degree three at most.
#[derive(Clone, Copy)]
struct Poly(Row20);

impl Poly {
    const ZERO: Self = Self([0.0; 20]);

    fn linear(x: f64, y: f64, z: f64, one: f64) -> Self {
        let mut p = Self::ZERO;
        p.0[16..20].copy_from_slice(&[x, y, z, one]);
        p
    }

    fn add_product(&mut self, a: &Self, b: &Self, scale: f64) {
        for (i, &p) in a.0.iter().enumerate().filter(|(_, p)| **p != 0.0) {
            for (j, &q) in b.0.iter().enumerate().filter(|(_, q)| **q != 0.0) {
                let (s, t) = (MONOMIALS[i], MONOMIALS[j]);
                let (x, y, z) = (s[0] + t[0], s[1] + t[1], s[2] + t[2]);
                self.0[index_of(x, y, z)] += scale * p * q;
            }
        }
    }
}

fn index_of(x: u8, y: u8, z: u8) -> usize {
    const TABLE: [u8; 64] = {
        let mut table = [0u8; 64];
        let mut i = 0;
        while i < 20 {
            let m = MONOMIALS[i];
            table[(m[0] * 16 + m[1] * 4 + m[2]) as usize] = i as u8;
            i += 1;
        }
        table
    };
    TABLE[(x * 16 + y * 4 + z) as usize] as usize
}

/// All essential matrices E (up to ten) with `b^T E a = 0` for five pairs of normalised points.
pub fn essential_from_five(a: &[Vector2<f64>; 5], b: &[Vector2<f64>; 5]) -> Vec<Matrix3<f64>> {
    let mut q = SMatrix::<f64, 9, 9>::zeros();
    for i in 0..5 {
        let (p, r) = ([a[i].x, a[i].y, 1.0], [b[i].x, b[i].y, 1.0]);
        for row in 0..3 {
            for column in 0..3 {
                q[(i, row * 3 + column)] = r[row] * p[column];
            }
        }
    }
    let Some(svd) = q.try_svd(false, true, 1e-15, 200) else { return Vec::new() };
    let Some(vt) = svd.v_t else { return Vec::new() };
    // nalgebra orders singular values from the largest; the last four rows span the null space.
    let basis: [SVector<f64, 9>; 4] = std::array::from_fn(|k| vt.row(5 + k).transpose());
    let e: [Poly; 9] = std::array::from_fn(|i| Poly::linear(basis[0][i], basis[1][i], basis[2][i], basis[3][i]));
    let Some(reduced) = reduce(constraints(&e)) else { return Vec::new() };

    let mut action = SMatrix::<f64, 10, 10>::zeros();
    for (row, source) in [(0, 0), (1, 1), (2, 2), (3, 4), (4, 5), (5, 7)] {
        for column in 0..10 {
            action[(row, column)] = -reduced[source][column];
        }
    }
    for (row, column) in [(6, 0), (7, 1), (8, 3), (9, 6)] {
        action[(row, column)] = 1.0;
    }
    let Some(schur) = nalgebra::Schur::try_new(action, 1e-13, 300) else { return Vec::new() };
    let mut found = Vec::new();
    for value in schur.complex_eigenvalues().iter() {
        // Double roots split into a close complex pair; polishing brings the real part home.
        if value.im.abs() > 1e-2 * value.norm().max(1.0) || !value.re.is_finite() {
            continue;
        }
        // Inverse iteration; the shift is off by a hair so that the system stays solvable.
        let shift = value.re + 1e-9 * value.re.abs().max(1.0);
        let lu = (action - SMatrix::<f64, 10, 10>::identity() * shift).lu();
        let mut v = SVector::<f64, 10>::repeat(1.0);
        for _ in 0..2 {
            match lu.solve(&v).and_then(|s| s.try_normalize(1e-300)) {
                Some(next) => v = next,
                None => break,
            }
        }
        let Some(weights) = SVector::<f64, 4>::new(v[6], v[7], v[8], v[9]).try_normalize(1e-9) else { continue };
        found.extend(polished(weights, &basis));
    }
    found
}

/// The essential matrix near a mix of the null space, of norm 1; `None` where there is none. The weights (of norm 1) are
/// polished by the method of Gauss and Newton until the constraints hold: near a double root half of their digits are lost
/// on the way.
fn polished(mut weights: SVector<f64, 4>, basis: &[SVector<f64, 9>; 4]) -> Option<Matrix3<f64>> {
    let mixed = |w: &SVector<f64, 4>| {
        let e = basis[0] * w[0] + basis[1] * w[1] + basis[2] * w[2] + basis[3] * w[3];
        Matrix3::from_row_slice(e.as_slice())
    };
    let mut e = mixed(&weights);
    let mut off = off_by(&e);
    for _ in 0..POLISHED {
        if off.amax() <= EXACT {
            break;
        }
        // The last row keeps the norm.
        let mut slopes = SMatrix::<f64, 11, 4>::zeros();
        for (k, direction) in basis.iter().enumerate() {
            let along = Matrix3::from_row_slice(direction.as_slice());
            slopes.fixed_view_mut::<10, 1>(0, k).copy_from(&slope_along(&e, &along));
            slopes[(10, k)] = weights[k];
        }
        let right = SVector::<f64, 11>::from_fn(|k, _| if k < 10 { off[k] } else { 0.0 });
        let step = slopes.try_svd(true, true, 1e-15, 200)?.solve(&right, 1e-15).ok()?;
        let next = (weights - step).try_normalize(1e-9)?;
        let next_e = mixed(&next);
        let next_off = off_by(&next_e);
        if !(next_off.norm() < off.norm()) {
            break;
        }
        (weights, e, off) = (next, next_e, next_off);
    }
    (off.amax() < CLOSE).then_some(e)
}

/// By how much an essential matrix is none: 2 E E^T E - tr(E E^T) E, row by row, and det E.
fn off_by(e: &Matrix3<f64>) -> SVector<f64, 10> {
    let square = e * e.transpose();
    let cubic = square * e * 2.0 - e * square.trace();
    SVector::from_fn(|k, _| if k < 9 { cubic[(k / 3, k % 3)] } else { e.determinant() })
}

/// What becomes of [`off_by`] where the matrix changes along another.
fn slope_along(e: &Matrix3<f64>, d: &Matrix3<f64>) -> SVector<f64, 10> {
    let (square, mixed) = (e * e.transpose(), d * e.transpose() + e * d.transpose());
    let cubic = (mixed * e + square * d) * 2.0 - d * square.trace() - e * mixed.trace();
    let row = |m: &Matrix3<f64>, i: usize| m.row(i).transpose();
    let (a, b, c) = (row(e, 0), row(e, 1), row(e, 2));
    let det = row(d, 0).dot(&b.cross(&c)) + row(d, 1).dot(&c.cross(&a)) + row(d, 2).dot(&a.cross(&b));
    SVector::from_fn(|k, _| if k < 9 { cubic[(k / 3, k % 3)] } else { det })
}

/// det E = 0 and 2 E E^T E - tr(E E^T) E = 0, as rows over the monomials.
fn constraints(e: &[Poly; 9]) -> [Row20; 10] {
    let mut rows = [[0.0; 20]; 10];
    let mut det = Poly::ZERO;
    for (i, j, k) in [(0, 1, 2), (1, 2, 0), (2, 0, 1)] {
        let mut minor = Poly::ZERO;
        minor.add_product(&e[3 + j], &e[6 + k], 1.0);
        minor.add_product(&e[3 + k], &e[6 + j], -1.0);
        det.add_product(&e[i], &minor, 1.0);
    }
    rows[0] = det.0;
    let mut square = [Poly::ZERO; 9];
    for i in 0..3 {
        for j in 0..3 {
            for k in 0..3 {
                square[3 * i + j].add_product(&e[3 * i + k], &e[3 * j + k], 1.0);
            }
        }
    }
    let mut half_trace = Poly::ZERO;
    for m in 0..20 {
        half_trace.0[m] = 0.5 * (square[0].0[m] + square[4].0[m] + square[8].0[m]);
    }
    for i in 0..3 {
        for m in 0..20 {
            square[4 * i].0[m] -= half_trace.0[m];
        }
    }
    for i in 0..3 {
        for j in 0..3 {
            let mut p = Poly::ZERO;
            for k in 0..3 {
                p.add_product(&square[3 * i + k], &e[3 * k + j], 1.0);
            }
            rows[1 + 3 * i + j] = p.0;
        }
    }
    rows
}

/// Gauss-Jordan on the first ten columns; hands back the last ten of each row.
fn reduce(mut rows: [Row20; 10]) -> Option<[[f64; 10]; 10]> {
    for k in 0..10 {
        let pivot = (k..10).max_by(|&a, &b| rows[a][k].abs().total_cmp(&rows[b][k].abs()))?;
        rows.swap(k, pivot);
        let value = rows[k][k];
        if value.abs() < 1e-14 || !value.is_finite() {
            return None;
        }
        rows[k].iter_mut().for_each(|v| *v /= value);
        let head = rows[k];
        for (i, row) in rows.iter_mut().enumerate() {
            if i != k {
                let factor = row[k];
                row.iter_mut().zip(&head).for_each(|(v, h)| *v -= factor * h);
            }
        }
    }
    Some(std::array::from_fn(|i| std::array::from_fn(|j| rows[i][10 + j])))
}

/// Squared first-order distance of a pair from the epipolar geometry, in normalised units (Sampson
/// 1982; Hartley & Zisserman, equation 11.9).
pub fn sampson_squared(e: &Matrix3<f64>, a: &Vector2<f64>, b: &Vector2<f64>) -> f64 {
    let (p, q) = (Vector3::new(a.x, a.y, 1.0), Vector3::new(b.x, b.y, 1.0));
    let (ep, etq) = (e * p, e.transpose() * q);
    let residual = q.dot(&ep);
    residual * residual / (ep.x * ep.x + ep.y * ep.y + etq.x * etq.x + etq.y * etq.y).max(1e-300)
}

/// The pose of the second camera (the first is the identity, the baseline has length 1) that puts the
/// most of the pairs in front of both, and how many those are.
pub fn decompose_essential(e: &Matrix3<f64>, pairs: &[(Vector2<f64>, Vector2<f64>)]) -> Option<(Pose, usize)> {
    let svd = e.try_svd(true, true, 1e-15, 200)?;
    let (mut u, mut vt) = (svd.u?, svd.v_t?);
    if u.determinant() < 0.0 {
        u = -u;
    }
    if vt.determinant() < 0.0 {
        vt = -vt;
    }
    let w = Matrix3::new(0.0, -1.0, 0.0, 1.0, 0.0, 0.0, 0.0, 0.0, 1.0);
    let t = u.column(2).into_owned();
    let mut best: Option<(Pose, usize)> = None;
    for r in [u * w * vt, u * w.transpose() * vt] {
        for translation in [t, -t] {
            let pose = Pose { rotation: Rotation3::from_matrix_unchecked(r), translation };
            let front =
                pairs.iter().filter(|(a, b)| triangulate(&[(Pose::identity(), *a), (pose, *b)]).is_some()).count();
            if best.is_none_or(|(_, most)| front > most) {
                best = Some((pose, front));
            }
        }
    }
    best
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn scene(flat: bool, seed: u64) -> Vec<Vector3<f64>> {
        let mut random = crate::random::SplitMix64::new(seed);
        let mut unit = || random.below(100_000) as f64 / 50_000.0 - 1.0;
        (0..30).map(|_| Vector3::new(2.0 * unit(), 1.5 * unit(), if flat { 6.0 } else { 6.0 + 2.0 * unit() })).collect()
    }

    fn project(pose: &Pose, p: &Vector3<f64>) -> Vector2<f64> {
        let c = pose.to_camera(*p);
        Vector2::new(c.x / c.z, c.y / c.z)
    }

    fn check(flat: bool, seed: u64, w: Vector3<f64>, t: Vector3<f64>) -> Result<(), TestCaseError> {
        let points = scene(flat, seed);
        let pose = Pose { rotation: Rotation3::new(w), translation: t };
        let a: Vec<_> = points.iter().map(|p| project(&Pose::identity(), p)).collect();
        let b: Vec<_> = points.iter().map(|p| project(&pose, p)).collect();
        let five = |v: &[Vector2<f64>]| -> [Vector2<f64>; 5] { std::array::from_fn(|i| v[i]) };
        let best = essential_from_five(&five(&a), &five(&b))
            .into_iter()
            .map(|e| (a.iter().zip(&b).map(|(p, q)| sampson_squared(&e, p, q)).sum::<f64>(), e))
            .min_by(|x, y| x.0.total_cmp(&y.0));
        let Some((cost, e)) = best else { return Err(TestCaseError::fail("no solution")) };
        prop_assert!(cost < 1e-10, "cost {cost}");
        if !flat {
            let pairs: Vec<_> = a.into_iter().zip(b).collect();
            let (found, front) = decompose_essential(&e, &pairs).unwrap();
            prop_assert_eq!(front, 30);
            let turn = (found.rotation.matrix() - pose.rotation.matrix()).norm();
            prop_assert!(turn < 1e-4, "turned by {turn}");
            prop_assert!((found.translation - t.normalize()).norm() < 1e-3);
        }
        Ok(())
    }

    proptest! {
        #[test]
        fn five_pairs_give_the_motion(seed in 0u64..1000, wx in -0.3f64..0.3, wy in -0.3f64..0.3, tx in 0.3f64..1.0,
            tz in -0.5f64..0.5, flat in any::<bool>()) {
            check(flat, seed, Vector3::new(wx, wy, 0.1), Vector3::new(tx, -0.2, tz))?;
        }
    }

    #[test]
    fn motions_near_a_double_root_are_found() {
        for (flat, seed, wx, wy, tx, tz) in [
            (false, 64_966, 0.226, -0.091, 0.316, -0.125),
            (false, 70_475, 0.158, 0.148, 0.46, 0.083),
            (true, 89_521, -0.149, 0.143, 0.373, -0.14),
        ] {
            check(flat, seed, Vector3::new(wx, wy, 0.1), Vector3::new(tx, -0.2, tz)).unwrap();
        }
    }

    #[test]
    fn five_times_the_same_pair_does_not_panic() {
        let p = [Vector2::new(0.1, 0.2); 5];
        for e in essential_from_five(&p, &p) {
            assert!(e.iter().all(|v| v.is_finite()));
        }
    }
}
