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
    /// Linear light and alpha of each corner, times those of its material; empty where all are white.
    pub colours: Vec<[f32; 4]>,
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
            colours: self.colours.clone(),
            parts: self.parts.clone(),
        }
    }

    /// The mesh mirrored about its middle, across and from top to bottom.
    pub fn mirrored(&self, [across, down]: [bool; 2]) -> Self {
        let mut made = self.clone();
        let Some((low, high)) = self.bounds() else { return made };
        for (k, _) in [across, down].iter().enumerate().filter(|(_, yes)| **yes) {
            made.positions.iter_mut().for_each(|p| p[k] = low[k] + high[k] - p[k]);
            made.normals.iter_mut().for_each(|n| n[k] = -n[k]);
            made.indices.iter_mut().for_each(|t| t.swap(1, 2));
        }
        made
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
            + 16 * self.colours.len()
            + 2 * self.parts.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_mirrored_keeps_its_box_and_its_outside() {
        let corners = [[0.0, 0.0, 0.0], [4.0, 0.0, 0.0], [0.0, 2.0, 0.0f32]];
        let mesh = Mesh { positions: corners.map(Vector3::from).into(), indices: vec![[0, 1, 2]], ..Mesh::default() };
        let facing = |m: &Mesh| {
            let [a, b, c] = m.triangle(0);
            (b - a).cross(&(c - a)).z
        };
        for which in [[true, false], [false, true], [true, true]] {
            let made = mesh.mirrored(which);
            assert_eq!(made.bounds(), mesh.bounds());
            assert!(facing(&made) > 0.0 && made != mesh, "{which:?}");
        }
        assert_eq!(mesh.mirrored([true, false]).positions[0].x, 4.0);
    }
}
