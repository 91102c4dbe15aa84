//! Triangles.

use nalgebra::{Rotation3, Vector3};

/// Flat-shaded triangles in one frame of reference; counter-clockwise seen from outside.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Mesh {
    /// Corners.
    pub positions: Vec<Vector3<f32>>,
    /// Three per triangle.
    pub indices: Vec<[u32; 3]>,
}

impl Mesh {
    /// The mesh scaled, turned and shifted.
    pub fn placed(&self, scale: f64, rotation: &Rotation3<f64>, origin: Vector3<f64>) -> Self {
        let place = |p: &Vector3<f32>| (rotation * (p.cast::<f64>() * scale) + origin).cast::<f32>();
        Self { positions: self.positions.iter().map(place).collect(), indices: self.indices.clone() }
    }

    /// The corners of triangle `i`.
    pub fn triangle(&self, i: usize) -> [Vector3<f32>; 3] {
        self.indices[i].map(|k| self.positions[k as usize])
    }

    /// Least and greatest corner; `None` without any.
    pub fn bounds(&self) -> Option<(Vector3<f32>, Vector3<f32>)> {
        let first = *self.positions.first()?;
        Some(self.positions.iter().fold((first, first), |(low, high), p| (low.inf(p), high.sup(p))))
    }
}
