//! Models on their foot.

use crate::Mesh;
use fennik_core::scene::{ModelFoot, ModelUp, Prop};
use nalgebra::Vector3;

/// What is this low touches the ground, of the height.
const TOUCHES: f32 = 0.02;

fn bounds<'a>(mut of: impl Iterator<Item = &'a Vector3<f32>>) -> Option<(Vector3<f32>, Vector3<f32>)> {
    let first = *of.next()?;
    Some(of.fold((first, first), |(low, high), p| (low.inf(p), high.sup(p))))
}

/// From a model's own frame to metres, upright, the middle of its foot at the origin.
#[derive(Debug, Clone, Copy)]
pub struct OnFoot {
    up: ModelUp,
    unit_m: f32,
    foot: Vector3<f32>,
}

impl OnFoot {
    /// Of a model as it stands when nothing moves.
    pub fn of(mesh: &Mesh, prop: &Prop) -> Self {
        let mut made = Self { up: prop.up, unit_m: prop.unit_m as f32, foot: Vector3::zeros() };
        let placed: Vec<Vector3<f32>> = mesh.positions.iter().map(|p| made.place(p)).collect();
        let Some((low, high)) = bounds(placed.iter()) else { return made };
        let top = match prop.foot {
            ModelFoot::Whole => high.y,
            ModelFoot::Ground => low.y + TOUCHES * (high.y - low.y),
        };
        if let Some((a, b)) = bounds(placed.iter().filter(|p| p.y <= top)) {
            made.foot = Vector3::new(0.5 * (a.x + b.x), low.y, 0.5 * (a.z + b.z));
        }
        made
    }

    fn turned(&self, v: &Vector3<f32>) -> Vector3<f32> {
        match self.up {
            ModelUp::Y => *v,
            ModelUp::Z => Vector3::new(v.x, v.z, -v.y),
        }
    }

    fn place(&self, p: &Vector3<f32>) -> Vector3<f32> {
        self.turned(p) * self.unit_m - self.foot
    }

    /// Puts a mesh of that model there.
    pub fn put(&self, mut mesh: Mesh) -> Mesh {
        mesh.positions.iter_mut().for_each(|p| *p = self.place(p));
        mesh.normals.iter_mut().for_each(|n| *n = self.turned(n));
        mesh
    }
}

/// A model in metres, upright, the middle of its foot at the origin.
pub fn on_foot(mesh: &Mesh, prop: &Prop) -> Mesh {
    OnFoot::of(mesh, prop).put(mesh.clone())
}

#[cfg(test)]
mod tests {
    use super::*;
    use fennik_core::scene::{Asset, AssetName};

    #[test]
    fn a_model_stands_on_its_foot_in_metres_whichever_axis_points_up() {
        let corners = [[1.0, 2.0, 3.0], [5.0, 2.0, 3.0], [1.0, 4.0, 9.0f32]];
        let mesh = Mesh { positions: corners.map(Vector3::from).into(), indices: vec![[0, 1, 2]], ..Mesh::default() };
        let asset = Asset { name: AssetName::of_digest(&[3; 32]), file: "crate.glb".into() };
        let size = |up| {
            let prop = Prop { foot: ModelFoot::Whole, ..Prop::new(asset.clone(), 0.01, up) };
            let (low, high) = on_foot(&mesh, &prop).bounds().unwrap();
            assert!(low.y.abs() < 1e-6 && (low.x + high.x).abs() < 1e-6 && (low.z + high.z).abs() < 1e-6);
            high - low
        };
        assert!((size(ModelUp::Y) - Vector3::new(0.04, 0.02, 0.06)).norm() < 1e-6);
        assert!((size(ModelUp::Z) - Vector3::new(0.04, 0.06, 0.02)).norm() < 1e-6);
    }

    /// Fault: a mast landed with the middle of pole and flag under the pointer.
    #[test]
    fn a_mast_stands_on_its_pole() {
        let pole = [[-0.1, 0.0, -0.1], [0.1, 0.0, 0.1], [0.1, 5.0, 0.1], [-0.1, 5.0, -0.1]];
        let flag = [[0.1, 4.0, 0.0], [2.5, 4.5, 0.0], [0.1, 5.0, 0.0f32]];
        let positions = pole.into_iter().chain(flag).map(Vector3::from).collect();
        let mesh = Mesh { positions, indices: vec![[0, 1, 2], [0, 2, 3], [4, 5, 6]], ..Mesh::default() };
        let asset = Asset { name: AssetName::of_digest(&[4; 32]), file: "mast.glb".into() };
        let prop = Prop::new(asset, 1.0, ModelUp::Y);
        let left = |foot| on_foot(&mesh, &Prop { foot, ..prop.clone() }).positions[0].x;
        assert!((left(ModelFoot::Ground) + 0.1).abs() < 1e-6 && (left(ModelFoot::Whole) + 1.3).abs() < 1e-6);
    }
}
