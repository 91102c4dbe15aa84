//! Taking the points out of the normal equations (Schur complement), and the way back to them.

use crate::solve::bundle::jacobian::{Row, SHARED};
use crate::solve::bundle::skyline::Profile;
use crate::wide::Loop;
use nalgebra::{Matrix3, SMatrix, Vector3};

/// The equations of cameras and lens, without the points.
pub struct Normal {
    pub matrix: Profile,
    pub right: Vec<f64>,
}

/// The points of a part that were taken out, with what leads back to them.
pub struct Eliminated<const C: usize> {
    pub points: Vec<EliminatedPoint>,
    /// The camera of each observation, point after point.
    cameras: Vec<usize>,
    /// The three columns of W (C x 3) of all observations, one after the other, so that the innermost loop runs along a
    /// row of the system over all cameras that follow one another.
    w: [Vec<f64>; 3],
    /// Where among the observations of the point at hand each run of cameras without a gap begins.
    runs: Vec<usize>,
}

/// A point that was taken out.
pub struct EliminatedPoint {
    /// Its number in the bundle.
    pub point: usize,
    /// The damped inverse of its 3x3 block.
    pub inverse: Matrix3<f64>,
    /// Its gradient, its cameras being held.
    pub gradient: Vector3<f64>,
    /// What ties it to the shared unknowns.
    shared: [[f64; 3]; SHARED],
    /// Its observations among those of the part.
    seen: std::ops::Range<usize>,
}

impl<const C: usize> Eliminated<C> {
    /// None yet, with room for so many points and observations.
    pub fn with_capacity(points: usize, observations: usize) -> Self {
        Self {
            points: Vec::with_capacity(points),
            cameras: Vec::with_capacity(observations),
            w: std::array::from_fn(|_| Vec::with_capacity(observations * C)),
            runs: Vec::new(),
        }
    }

    /// How far a point moves where its cameras and the shared unknowns move by `x`, and its own gradient is `gradient`.
    pub fn back(&self, point: &EliminatedPoint, gradient: &Vector3<f64>, x: &[f64]) -> Vector3<f64> {
        let mut left: [f64; 3] = (*gradient).into();
        for i in point.seen.clone() {
            let moved = &x[self.cameras[i] * C..][..C];
            for (left, column) in left.iter_mut().zip(&self.w) {
                *left -= column[i * C..(i + 1) * C].iter().zip(moved).map(|(w, x)| w * x).sum::<f64>();
            }
        }
        for (s, x) in point.shared.iter().zip(&x[x.len() - SHARED..]) {
            for k in 0..3 {
                left[k] -= s[k] * x;
            }
        }
        point.inverse * Vector3::from(left)
    }
}

/// Takes one point out, and adds its part to the reduced system.
pub struct Eliminate<'a, const C: usize> {
    pub point: usize,
    pub rows: &'a [(usize, Row<C>)],
    /// The damped inverse of its 3x3 block.
    pub inverse: Matrix3<f64>,
    /// Where the shared unknowns begin.
    pub border: usize,
    /// How many of them there may be anything about: the first ones.
    pub shared: usize,
    pub out: &'a mut Eliminated<C>,
    pub normal: &'a mut Normal,
    pub diagonal: &'a mut [f64],
}

impl<const C: usize> Loop for Eliminate<'_, C> {
    type Output = ();

    #[inline(always)]
    fn call(self) {
        let Self { point, rows, inverse: of_point, border, shared, out, normal, diagonal } = self;
        let Eliminated { points, cameras, w: columns, runs } = out;
        let inverse: [[f64; 3]; 3] = of_point.transpose().into();
        // The point's own gradient, and what ties it to the shared unknowns.
        let mut g = [0.0; 3];
        let mut shared_point = [[0.0; 3]; SHARED];
        for (_, row) in rows.iter() {
            let [p, q] = halves(&row.point);
            let [s, t] = halves(&row.shared);
            for k in 0..3 {
                g[k] += p[k] * row.residual.x + q[k] * row.residual.y;
                for a in 0..shared {
                    shared_point[a][k] += s[a] * p[k] + t[a] * q[k];
                }
            }
        }
        let mut shared_y = [[0.0; 3]; SHARED];
        for a in 0..shared {
            shared_y[a] = times(&shared_point[a], &inverse);
        }
        let before = cameras.len();
        runs.clear();
        for (i, (camera, row)) in rows.iter().enumerate() {
            let at = camera * C;
            let [p, q] = halves(&row.point);
            let [c, d] = halves(&row.camera);
            let [s, t] = halves(&row.shared);
            let w: [[f64; C]; 3] = std::array::from_fn(|k| std::array::from_fn(|a| c[a] * p[k] + d[a] * q[k]));
            let y: [[f64; 3]; C] = std::array::from_fn(|a| times(&[w[0][a], w[1][a], w[2][a]], &inverse));
            for (r, &from) in runs.iter().enumerate() {
                let to = runs.get(r + 1).copied().unwrap_or(i);
                let w = columns.each_ref().map(|column| &column[(before + from) * C..(before + to) * C]);
                for (a, y) in y.iter().enumerate() {
                    take_away(normal.matrix.span_mut(at + a, rows[from].0 * C, w[0].len()), y, w);
                }
            }
            columns.iter_mut().zip(&w).for_each(|(column, w)| column.extend_from_slice(w));
            cameras.push(*camera);
            if i == 0 || rows[i - 1].0 + 1 != *camera {
                runs.push(i);
            }
            let [x, z] = [row.residual.x, row.residual.y];
            for a in 0..C {
                diagonal[at + a] += c[a] * c[a] + d[a] * d[a];
                normal.right[at + a] += c[a] * x + d[a] * z - dot(&y[a], &g);
                let own: [f64; C] = std::array::from_fn(|b| c[a] * c[b] + d[a] * d[b] - row_times(&y[a], &w, b));
                normal.matrix.span_mut(at + a, at, a + 1).iter_mut().zip(own).for_each(|(value, own)| *value += own);
            }
            for a in 0..shared {
                let cross: [f64; C] =
                    std::array::from_fn(|b| s[a] * c[b] + t[a] * d[b] - row_times(&shared_y[a], &w, b));
                normal
                    .matrix
                    .span_mut(border + a, at, C)
                    .iter_mut()
                    .zip(cross)
                    .for_each(|(value, cross)| *value += cross);
                diagonal[border + a] += s[a] * s[a] + t[a] * t[a];
                normal.right[border + a] += s[a] * x + t[a] * z;
                let own = normal.matrix.span_mut(border + a, border, a + 1);
                own.iter_mut().enumerate().for_each(|(b, value)| *value += s[a] * s[b] + t[a] * t[b]);
            }
        }
        for a in 0..shared {
            normal.right[border + a] -= dot(&shared_y[a], &g);
            let own = normal.matrix.span_mut(border + a, border, a + 1);
            own.iter_mut().zip(&shared_point).for_each(|(value, s)| *value -= dot(&shared_y[a], s));
        }
        let seen = before..cameras.len();
        points.push(EliminatedPoint { point, inverse: of_point, gradient: g.into(), shared: shared_point, seen });
    }
}

/// The two rows of a matrix.
#[inline(always)]
fn halves<const N: usize>(m: &SMatrix<f64, 2, N>) -> [[f64; N]; 2] {
    std::array::from_fn(|i| std::array::from_fn(|k| m[(i, k)]))
}

/// A row of three times a matrix, whose rows are given.
#[inline(always)]
fn times(row: &[f64; 3], matrix: &[[f64; 3]; 3]) -> [f64; 3] {
    std::array::from_fn(|k| row_times(row, matrix, k))
}

#[inline(always)]
fn row_times<const N: usize>(row: &[f64; 3], matrix: &[[f64; N]; 3], column: usize) -> f64 {
    dot(row, &[matrix[0][column], matrix[1][column], matrix[2][column]])
}

#[inline(always)]
fn dot(a: &[f64; 3], b: &[f64; 3]) -> f64 {
    a[0] * b[0] + a[1] * b[1] + a[2] * b[2]
}

/// Takes the product of a row of Y with W off a row of the system, over cameras that follow one another.
#[inline(always)]
fn take_away(span: &mut [f64], y: &[f64; 3], w: [&[f64]; 3]) {
    let n = span.len();
    let [w0, w1, w2] = w.map(|column| &column[..n]);
    for b in 0..n {
        span[b] -= dot(y, &[w0[b], w1[b], w2[b]]);
    }
}
