//! A symmetric matrix of which each row is kept from its first entry to the diagonal, and its
//! Cholesky factor in place (George & Liu, "Computer Solution of Large Sparse Positive Definite
//! Systems", 1981, chapter 4). The cameras of a clip in the order of time, each sharing points with
//! its neighbours in time only, fill just a band of it, so that a long clip costs linearly.

/// Lower triangle by rows, each from `first[i]` to `i`.
#[derive(Debug, Clone)]
pub(super) struct Profile {
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
        for i in 0..self.len() {
            let fi = self.first[i];
            let (above, rest) = self.values.split_at_mut(self.start[i]);
            let row = &mut rest[..i + 1 - fi];
            for j in fi..i {
                let fj = self.first[j];
                let from = fi.max(fj);
                let other = &above[self.start[j]..self.start[j] + j + 1 - fj];
                let sum = dot(&row[from - fi..j - fi], &other[from - fj..j - fj]);
                row[j - fi] = (row[j - fi] - sum) / other[j - fj];
            }
            let square = dot(&row[..i - fi], &row[..i - fi]);
            let pivot = row[i - fi] - square;
            if !(pivot > 0.0 && pivot.is_finite()) {
                return false;
            }
            row[i - fi] = pivot.sqrt();
        }
        true
    }

    /// Solves with the factor in place; `right` becomes the solution.
    pub fn solve(&self, right: &mut [f64]) {
        for i in 0..self.len() {
            let row = self.row(i);
            let fi = self.first[i];
            let sum = dot(&row[..i - fi], &right[fi..i]);
            right[i] = (right[i] - sum) / row[i - fi];
        }
        self.solve_transposed(right);
    }

    /// Solves with the transposed factor alone: normal numbers become draws whose covariance is the inverse of the
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

fn dot(a: &[f64], b: &[f64]) -> f64 {
    let mut lanes = [0.0f64; 8];
    let (ca, cb) = (a.chunks_exact(8), b.chunks_exact(8));
    let tail: f64 = ca.remainder().iter().zip(cb.remainder()).map(|(p, q)| p * q).sum();
    for (p, q) in ca.zip(cb) {
        for k in 0..8 {
            lanes[k] += p[k] * q[k];
        }
    }
    lanes.iter().sum::<f64>() + tail
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
    fn an_indefinite_matrix_is_refused() {
        let mut m = Profile::zeros(vec![0, 0]);
        m.span_mut(0, 0, 1)[0] = 1.0;
        m.span_mut(1, 0, 2).copy_from_slice(&[2.0, 1.0]);
        assert!(!m.factor());
    }
}
