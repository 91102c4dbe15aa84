//! Triangles.

use nalgebra::{Rotation3, Vector3};

/// Triangles in one frame of reference; counter-clockwise seen from outside.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Mesh {
    /// Corners.
    pub positions: Vec<Vector3<f32>>,
    /// Three per triangle.
    pub indices: Vec<[u32; 3]>,
    /// Unit normals, one per corner; empty where every triangle is flat.
    pub normals: Vec<Vector3<f32>>,
    /// Places in the pictures, one per corner, of their width and height from the top left; empty without pictures.
    pub uvs: Vec<[f32; 2]>,
    /// Which of the shape's materials each triangle is of; empty where all are of the first.
    pub parts: Vec<u16>,
}

impl Mesh {
    /// The mesh scaled, turned and shifted.
    pub fn placed(&self, scale: f64, rotation: &Rotation3<f64>, origin: Vector3<f64>) -> Self {
        let place = |p: &Vector3<f32>| (rotation * (p.cast::<f64>() * scale) + origin).cast::<f32>();
        let turn = rotation.cast::<f32>();
        Self {
            positions: self.positions.iter().map(place).collect(),
            normals: self.normals.iter().map(|n| turn * n).collect(),
            indices: self.indices.clone(),
            uvs: self.uvs.clone(),
            parts: self.parts.clone(),
        }
    }

    /// The corners of triangle `i`.
    pub fn triangle(&self, i: usize) -> [Vector3<f32>; 3] {
        self.indices[i].map(|k| self.positions[k as usize])
    }

    /// Which material triangle `i` is of.
    pub fn part(&self, i: usize) -> usize {
        self.parts.get(i).copied().unwrap_or(0).into()
    }

    /// Least and greatest corner; `None` without any.
    pub fn bounds(&self) -> Option<(Vector3<f32>, Vector3<f32>)> {
        let first = *self.positions.first()?;
        Some(self.positions.iter().fold((first, first), |(low, high), p| (low.inf(p), high.sup(p))))
    }

    /// Bytes that it takes.
    pub fn bytes(&self) -> usize {
        12 * (self.positions.len() + self.indices.len() + self.normals.len())
            + 8 * self.uvs.len()
            + 2 * self.parts.len()
    }
}
