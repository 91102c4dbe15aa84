//! Models that inserts show: whatever the bytes are, a model whose faces have corners, or an error.
#![no_main]

use fennik_media::{Companions, ModelFile};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Some((kind, bytes)) = bytes.split_first() else { return };
    let kinds = ["glb", "gltf", "obj", "ply", "stl"];
    let name = format!("model.{}", kinds[usize::from(*kind) % kinds.len()]);
    if let Ok(model) = ModelFile::read(bytes, &name, &Companions::new()) {
        let n = model.positions.len();
        assert!(model.triangles.iter().flatten().all(|k| (*k as usize) < n));
        assert!(model.positions.iter().flatten().all(|v| v.is_finite()) && model.unit_m > 0.0);
        assert_eq!((model.normals.len(), model.uvs.len(), model.parts.len()), (n, n, model.triangles.len()));
        assert!(model.parts.iter().all(|p| usize::from(*p) < model.materials.len()));
    }
});
