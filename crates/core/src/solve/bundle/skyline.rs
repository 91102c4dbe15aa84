//! A symmetric matrix of which each row is kept from its first entry to the diagonal, and its
//! Cholesky factor in place (George & Liu, "Computer Solution of Large Sparse Positive Definite
//! Systems", 1981, chapter 4). The cameras of a clip in the order of time, each sharing points with
//! its neighbours in time only, fill just a band of it, so that a long clip costs linearly.

use crate::wide::{LaneLoop, Simd, cast, wide};

/// Lower triangle by rows, each from `first[i]` to `i`.
#[derive(Debug, Clone)]
pub struct Profile {
    first: Vec<usize>,
    start: Vec<usize>,
    values: Vec<f64>,
}

impl Profile {
    /// A zero matrix whose row `i` begins at column `first[i] <= i`.
    pub fn zeros(first: Vec<usize>) -> Self {
        let mut start = Vec::with_capacity(first.len());
        let mut total = 0;
        for (i, &f) in first.iter().enumerate() {
            start.push(total);
            total += i + 1 - f;
        }
        Self { first, start, values: vec![0.0; total] }
    }

    /// Number of rows.
    pub fn len(&self) -> usize {
        self.first.len()
    }

    /// Entries of row `row` from `column` on, `count` of them; all must lie within the row's span.
    pub fn span_mut(&mut self, row: usize, column: usize, count: usize) -> &mut [f64] {
        let at = self.start[row] + column - self.first[row];
        &mut self.values[at..at + count]
    }

    fn row(&self, row: usize) -> &[f64] {
        let at = self.start[row];
        &self.values[at..at + row + 1 - self.first[row]]
    }

    /// Adds another matrix of the same shape.
    pub fn add(&mut self, other: &Self) {
        for (a, b) in self.values.iter_mut().zip(&other.values) {
            *a += b;
        }
    }

    /// Replaces the matrix by its Cholesky factor. `false` when it is not positive definite.
    pub fn factor(&mut self) -> bool {
        wide(Factor(self))
    }

    /// Solves with the factor in place; `right` becomes the solution.
    pub fn solve(&self, right: &mut [f64]) {
        for i in 0..self.len() {
            let row = self.row(i);
            let fi = self.first[i];
            let sum = wide(Dot(&row[..i - fi], &right[fi..i]));
            right[i] = (right[i] - sum) / row[i - fi];
        }
        self.solve_transposed(right);
    }

    /// Solves with the transposed factor alone: normal numbers become samples whose covariance is the inverse of the
    /// matrix that was factored.
    pub fn solve_transposed(&self, right: &mut [f64]) {
        for i in (0..self.len()).rev() {
            let row = self.row(i);
            let fi = self.first[i];
            right[i] /= row[i - fi];
            let x = right[i];
            for (r, l) in right[fi..i].iter_mut().zip(row) {
                *r -= x * l;
            }
        }
    }
}

/// Rows that are reduced together, so that each row above them is read once for all of them.
const TOGETHER: usize = 4;

struct Factor<'a>(&'a mut Profile);

impl LaneLoop for Factor<'_> {
    type Output = bool;

    #[inline(always)]
    fn with_simd<S: Simd>(self, simd: S) -> bool {
        let Profile { first, start, values } = self.0;
        let mut from = 0;
        while from < first.len() {
            let count = first[from..].iter().take(TOGETHER).take_while(|f| **f == first[from]).count();
            let (above, rows) = values.split_at_mut(start[from]);
            let above = Above { first, start, values: above, from };
            let done = match count {
                1 => reduce::<S, 1>(simd, above, rows),
                2 => reduce::<S, 2>(simd, above, rows),
                3 => reduce::<S, 3>(simd, above, rows),
                _ => reduce::<S, TOGETHER>(simd, above, rows),
            };
            if !done {
                return false;
            }
            from += count;
        }
        true
    }
}

/// The rows that are factored already, above row `from`.
struct Above<'a> {
    first: &'a [usize],
    start: &'a [usize],
    values: &'a [f64],
    from: usize,
}

/// Factors the next `N` rows, which begin at the same column. `false` when the matrix is not positive definite.
#[inline(always)]
fn reduce<S: Simd, const N: usize>(simd: S, above: Above, values: &mut [f64]) -> bool {
    let Above { first, start, values: done, from } = above;
    let lead = first[from];
    let mut rest = values;
    let mut rows: [&mut [f64]; N] = std::array::from_fn(|k| {
        let (row, after) = std::mem::take(&mut rest).split_at_mut(from + k + 1 - lead);
        rest = after;
        row
    });
    for j in lead..from {
        let fj = first[j];
        let begin = lead.max(fj);
        let other = &done[start[j]..start[j] + j + 1 - fj];
        let sums = dots(simd, rows.each_ref().map(|row| &row[begin - lead..j - lead]), &other[begin - fj..j - fj]);
        for (row, sum) in rows.iter_mut().zip(sums) {
            row[j - lead] = (row[j - lead] - sum) / other[j - fj];
        }
    }
    for i in 0..N {
        let (before, own) = rows.split_at_mut(i);
        let row = &mut own[0];
        for (k, other) in before.iter().enumerate() {
            let at = from + k - lead;
            row[at] = (row[at] - dot(simd, &row[..at], &other[..at])) / other[at];
        }
        let at = from + i - lead;
        let pivot = row[at] - dot(simd, &row[..at], &row[..at]);
        if !(pivot > 0.0 && pivot.is_finite()) {
            return false;
        }
        row[at] = pivot.sqrt();
    }
    true
}

/// The scalar products of several rows with one, each summed over eight lanes.
#[inline(always)]
fn dots<S: Simd, const N: usize>(simd: S, rows: [&[f64]; N], other: &[f64]) -> [f64; N] {
    let (b, b_tail) = S::as_simd_f64s(other);
    let (b, b_last) = b.as_chunks::<2>();
    let rows = rows.map(|row| {
        let (a, tail) = S::as_simd_f64s(&row[..other.len()]);
        let (a, last) = a.as_chunks::<2>();
        (&a[..b.len()], last, tail)
    });
    let zero = simd.splat_f64s(0.0);
    let mut lanes = [[zero; 2]; N];
    for (i, b) in b.iter().enumerate() {
        for (lanes, (a, ..)) in lanes.iter_mut().zip(&rows) {
            for k in 0..2 {
                lanes[k] = simd.add_f64s(lanes[k], simd.mul_f64s(a[i][k], b[k]));
            }
        }
    }
    let mut sums = [0.0; N];
    for n in 0..N {
        let (_, last, tail) = rows[n];
        let mut half = lanes[n][0];
        for (a, b) in last.iter().zip(b_last) {
            half = simd.add_f64s(half, simd.mul_f64s(*a, *b));
        }
        let [p, q, r, s]: [f64; 4] = cast(simd.add_f64s(half, lanes[n][1]));
        sums[n] = (p + q) + (r + s);
        for (a, b) in tail.iter().zip(b_tail) {
            sums[n] += a * b;
        }
    }
    sums
}

/// The scalar product of two rows.
struct Dot<'a>(&'a [f64], &'a [f64]);

impl LaneLoop for Dot<'_> {
    type Output = f64;

    #[inline(always)]
    fn with_simd<S: Simd>(self, simd: S) -> f64 {
        dot(simd, self.0, self.1)
    }
}

#[inline(always)]
fn dot<S: Simd>(simd: S, a: &[f64], b: &[f64]) -> f64 {
    dots(simd, [a], b)[0]
}

#[cfg(test)]
mod tests {
    use super::*;
    use nalgebra::{DMatrix, DVector};

    #[test]
    fn the_solution_is_that_of_a_dense_solver() {
        let mut random = crate::random::SplitMix64::new(5);
        let n = 40;
        let first: Vec<usize> = (0..n).map(|i: usize| if i >= n - 2 { 0 } else { i.saturating_sub(6) }).collect();
        let mut sparse = Profile::zeros(first.clone());
        let mut dense = DMatrix::<f64>::zeros(n, n);
        for i in 0..n {
            for j in first[i]..=i {
                let v = random.below(1000) as f64 / 1000.0 + if i == j { 30.0 } else { 0.0 };
                sparse.span_mut(i, j, 1)[0] = v;
                dense[(i, j)] = v;
                dense[(j, i)] = v;
            }
        }
        let right = DVector::from_fn(n, |i, _| (i as f64).sin());
        let expected = dense.lu().solve(&right).unwrap();
        let mut x: Vec<f64> = right.iter().copied().collect();
        assert!(sparse.factor());
        sparse.solve(&mut x);
        for (a, b) in x.iter().zip(expected.iter()) {
            assert!((a - b).abs() < 1e-10);
        }
    }

    #[test]
    fn wide_registers_factor_to_the_bits_of_narrow_ones() {
        let mut random = crate::random::SplitMix64::new(9);
        let n = 61;
        let first: Vec<usize> =
            (0..n).map(|i: usize| if i >= n - 6 { 0 } else { (i / 6 * 6).saturating_sub(18) }).collect();
        let mut matrix = Profile::zeros(first.clone());
        for i in 0..n {
            for j in first[i]..=i {
                matrix.span_mut(i, j, 1)[0] = random.below(1000) as f64 / 1000.0 + if i == j { 40.0 } else { 0.0 };
            }
        }
        let mut narrow = matrix.clone();
        assert!(matrix.factor() && Simd::vectorize(pulp::Scalar256b, Factor(&mut narrow)));
        assert_eq!(matrix.values, narrow.values);
    }

    #[test]
    fn an_indefinite_matrix_is_refused() {
        let mut m = Profile::zeros(vec![0, 0]);
        m.span_mut(0, 0, 1)[0] = 1.0;
        m.span_mut(1, 0, 2).copy_from_slice(&[2.0, 1.0]);
        assert!(!m.factor());
    }
}
