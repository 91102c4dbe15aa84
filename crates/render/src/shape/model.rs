//! Models on their foot.

use crate::Mesh;
use fennik_core::scene::{ModelUp, Prop};
use nalgebra::Vector3;

/// A model in metres, upright, the middle of its foot at the origin.
pub fn on_foot(mesh: &Mesh, prop: &Prop) -> Mesh {
    let turned = |v: &Vector3<f32>| match prop.up {
        ModelUp::Y => *v,
        ModelUp::Z => Vector3::new(v.x, v.z, -v.y),
    };
    let mut made = mesh.clone();
    made.positions.iter_mut().for_each(|p| *p = turned(p) * prop.unit_m as f32);
    made.normals.iter_mut().for_each(|n| *n = turned(n));
    if let Some((low, high)) = made.bounds() {
        let foot = Vector3::new(0.5 * (low.x + high.x), low.y, 0.5 * (low.z + high.z));
        made.positions.iter_mut().for_each(|p| *p -= foot);
    }
    made
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
            let (low, high) = on_foot(&mesh, &Prop { asset: asset.clone(), unit_m: 0.01, up }).bounds().unwrap();
            assert!(low.y.abs() < 1e-6 && (low.x + high.x).abs() < 1e-6 && (low.z + high.z).abs() < 1e-6);
            high - low
        };
        assert!((size(ModelUp::Y) - Vector3::new(0.04, 0.02, 0.06)).norm() < 1e-6);
        assert!((size(ModelUp::Z) - Vector3::new(0.04, 0.06, 0.02)).norm() < 1e-6);
    }
}
