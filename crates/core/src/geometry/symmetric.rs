//! Symmetric matrices by their own axes.

use nalgebra::{Matrix3, Vector3};

/// Eigenvalues in rising order, each with its unit eigenvector; `None` where the iteration does not settle.
pub fn ascending_eigen(matrix: Matrix3<f64>) -> Option<[(f64, Vector3<f64>); 3]> {
    let eigen = matrix.try_symmetric_eigen(1e-14, 200)?;
    let mut all = [0, 1, 2].map(|i| (eigen.eigenvalues[i], eigen.eigenvectors.column(i).into_owned()));
    all.sort_by(|a, b| a.0.total_cmp(&b.0));
    Some(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_least_comes_first_with_its_axis() {
        let [least, middle, most] = ascending_eigen(Matrix3::from_diagonal(&Vector3::new(2.0, 5.0, 1.0))).unwrap();
        assert_eq!([least.0, middle.0, most.0], [1.0, 2.0, 5.0]);
        assert!(least.1.z.abs() > 1.0 - 1e-12 && most.1.y.abs() > 1.0 - 1e-12);
    }
}
