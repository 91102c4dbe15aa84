//! glTF 2.0 binary: the animated camera, the points and meshes of a scene (Khronos Group, "glTF 2.0
//! Specification", 2021).

use fennik_core::camera::CameraPath;
use fennik_core::geometry::Pose;
use nalgebra::{Matrix3, Rotation3, UnitQuaternion, Vector3};
use serde_json::{Value, json};

/// A mesh in the world of the datum.
pub struct SceneMesh {
    /// Its name.
    pub name: String,
    /// Corners, metres.
    pub positions: Vec<[f32; 3]>,
    /// Three per triangle.
    pub indices: Vec<u32>,
    /// Linear colour, 0 to 1.
    pub colour: [f32; 3],
}

/// Bytes with the views into them.
#[derive(Default)]
struct Buffer {
    bytes: Vec<u8>,
    views: Vec<Value>,
    accessors: Vec<Value>,
}

const FLOAT: u32 = 5126;
const UNSIGNED_INT: u32 = 5125;

impl Buffer {
    /// Adds floats of `width` to an element, with their bounds; returns the accessor.
    fn floats(&mut self, values: &[f32], width: usize, kind: &str, target: Option<u32>) -> usize {
        let bound = |start: f32, pick: fn(f32, f32) -> f32| -> Vec<f32> {
            (0..width).map(|k| values.iter().skip(k).step_by(width).copied().fold(start, pick)).collect()
        };
        let (low, high) = (bound(f32::INFINITY, f32::min), bound(f32::NEG_INFINITY, f32::max));
        let view = self.view(values.iter().flat_map(|v| v.to_le_bytes()), target);
        self.accessors.push(json!({
            "bufferView": view, "componentType": FLOAT, "count": values.len() / width, "type": kind, "min": low,
                "max": high
        }));
        self.accessors.len() - 1
    }

    fn indices(&mut self, values: &[u32]) -> usize {
        let view = self.view(values.iter().flat_map(|v| v.to_le_bytes()), Some(34963));
        self.accessors.push(
            json!({ "bufferView": view, "componentType": UNSIGNED_INT, "count": values.len(), "type": "SCALAR" }),
        );
        self.accessors.len() - 1
    }

    fn view(&mut self, bytes: impl Iterator<Item = u8>, target: Option<u32>) -> usize {
        let offset = self.bytes.len();
        self.bytes.extend(bytes);
        let mut view = json!({ "buffer": 0, "byteOffset": offset, "byteLength": self.bytes.len() - offset });
        if let Some(target) = target {
            view["target"] = json!(target);
        }
        self.views.push(view);
        self.views.len() - 1
    }
}

/// A glTF camera looks along -z with y up; ours along +z with y down.
fn node_transform(pose: &Pose) -> (Vector3<f64>, UnitQuaternion<f64>) {
    let flip = Rotation3::from_matrix_unchecked(Matrix3::from_diagonal(&Vector3::new(1.0, -1.0, -1.0)));
    (pose.centre(), UnitQuaternion::from_rotation_matrix(&(pose.rotation.inverse() * flip)))
}

/// The binary file: a camera animated over the solved frames (time 0 is frame 0), the points of the
/// solve, and the meshes. Lens distortion has no place in glTF and is left out.
pub fn glb(path: &CameraPath, frames_per_second: f64, meshes: &[SceneMesh]) -> Vec<u8> {
    let solution = path.solution();
    let mut buffer = Buffer::default();
    let mut nodes = Vec::new();
    let mut gltf_meshes = Vec::new();
    let mut materials = Vec::new();
    let mut document = json!({
        "asset": { "version": "2.0", "generator": "Fennik" },
        "scene": 0,
    });
    if let Some(first) = solution.frames.first() {
        let mut times = Vec::new();
        let (mut shifts, mut turns) = (Vec::new(), Vec::new());
        let mut before: Option<UnitQuaternion<f64>> = None;
        for camera in path.cameras() {
            let (at, mut turn) = node_transform(&camera.pose());
            // Two quaternions mean one turn; neighbours must take the short way.
            if before.is_some_and(|b| b.coords.dot(&turn.coords) < 0.0) {
                turn = UnitQuaternion::new_unchecked(-turn.into_inner());
            }
            before = Some(turn);
            times.push((f64::from(camera.frame) / frames_per_second) as f32);
            shifts.extend(at.iter().map(|v| *v as f32));
            turns.extend(turn.coords.cast::<f32>().normalize().iter());
        }
        let aspect = f64::from(solution.width) / f64::from(solution.height);
        let yfov = 2.0 * (f64::from(solution.height) / (2.0 * first.lens.focal_px)).atan();
        document["cameras"] = json!([{ "type": "perspective", "name": "camera",
            "perspective": { "aspectRatio": aspect, "yfov": yfov, "znear": 0.01 } }]);
        nodes.push(json!({ "name": "camera", "camera": 0, "translation": shifts[..3].to_vec(),
            "rotation": turns[..4].to_vec() }));
        let input = buffer.floats(&times, 1, "SCALAR", None);
        let shift = buffer.floats(&shifts, 3, "VEC3", None);
        let turn = buffer.floats(&turns, 4, "VEC4", None);
        document["animations"] = json!([{ "name": "camera move",
            "samplers": [ { "input": input, "output": shift, "interpolation": "LINEAR" },
                { "input": input, "output": turn, "interpolation": "LINEAR" } ],
            "channels": [ { "sampler": 0, "target": { "node": 0, "path": "translation" } },
                { "sampler": 1, "target": { "node": 0, "path": "rotation" } } ] }]);
    }
    if !solution.points.is_empty() {
        let positions: Vec<f32> = solution
            .points
            .iter()
            .flat_map(|p| {
                let w = path.point(p.position);
                [w.x as f32, w.y as f32, w.z as f32]
            })
            .collect();
        let accessor = buffer.floats(&positions, 3, "VEC3", Some(34962));
        nodes.push(json!({ "name": "points", "mesh": gltf_meshes.len() }));
        gltf_meshes
            .push(json!({ "name": "points", "primitives": [ { "attributes": { "POSITION": accessor }, "mode": 0 } ] }));
    }
    for mesh in meshes.iter().filter(|m| !m.indices.is_empty()) {
        let positions = buffer.floats(mesh.positions.as_flattened(), 3, "VEC3", Some(34962));
        let indices = buffer.indices(&mesh.indices);
        materials.push(json!({ "name": mesh.name, "doubleSided": false,
            "pbrMetallicRoughness": { "baseColorFactor": [mesh.colour[0], mesh.colour[1], mesh.colour[2], 1.0],
                "metallicFactor": 0.0, "roughnessFactor": 0.9 } }));
        nodes.push(json!({ "name": mesh.name, "mesh": gltf_meshes.len() }));
        gltf_meshes.push(json!({ "name": mesh.name, "primitives": [
            { "attributes": { "POSITION": positions }, "indices": indices, "material": materials.len() - 1,
                "mode": 4 } ] }));
    }
    document["scenes"] = json!([{ "nodes": (0..nodes.len()).collect::<Vec<_>>() }]);
    for (name, values) in [("nodes", nodes), ("meshes", gltf_meshes), ("materials", materials)] {
        if !values.is_empty() {
            document[name] = Value::Array(values);
        }
    }
    if !buffer.bytes.is_empty() {
        document["buffers"] = json!([{ "byteLength": buffer.bytes.len() }]);
        document["bufferViews"] = Value::Array(buffer.views);
        document["accessors"] = Value::Array(buffer.accessors);
    }
    container(document.to_string().into_bytes(), buffer.bytes)
}

fn container(mut json: Vec<u8>, mut binary: Vec<u8>) -> Vec<u8> {
    json.resize(json.len().next_multiple_of(4), b' ');
    binary.resize(binary.len().next_multiple_of(4), 0);
    let mut out = b"glTF".to_vec();
    let put = |v: usize, out: &mut Vec<u8>| out.extend_from_slice(&(v as u32).to_le_bytes());
    put(2, &mut out);
    put(12 + 8 + json.len() + if binary.is_empty() { 0 } else { 8 + binary.len() }, &mut out);
    put(json.len(), &mut out);
    out.extend_from_slice(b"JSON");
    out.extend_from_slice(&json);
    if !binary.is_empty() {
        put(binary.len(), &mut out);
        out.extend_from_slice(b"BIN\0");
        out.extend_from_slice(&binary);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_camera_node_looks_along_minus_z_with_y_up() {
        let pose = Pose::look_at(Vector3::new(0.0, 2.0, 9.0), Vector3::new(0.0, 2.0, 0.0), Vector3::y()).unwrap();
        let (at, turn) = node_transform(&pose);
        assert!((at - Vector3::new(0.0, 2.0, 9.0)).norm() < 1e-12);
        assert!(
            (turn * -Vector3::z() + Vector3::z()).norm() < 1e-9 && (turn * Vector3::y() - Vector3::y()).norm() < 1e-9
        );
    }
}
