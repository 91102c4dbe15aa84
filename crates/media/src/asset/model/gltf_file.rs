//! glTF 2.0 and GLB. Buffers and pictures come from the file itself or from what came with it, never from a path.

use super::rig::{Between, Channel, Node, Path, Rig, RigPart, Skin};
use super::{Companions, ModelCover, ModelFile, ModelMap, ModelMaterial, Rim, too_many};
use crate::asset::{AssetFileError, Picture};
use gltf::mesh::Mode;
use nalgebra::{Matrix4, Point3, Vector3};
use std::collections::HashSet;

/// Deepest nesting of nodes.
const DEEPEST: usize = 64;
/// Nodes at most; one that many others share counts each time.
const MOST_NODES: usize = 100_000;
/// Extensions that are left out, with what is said of them.
const APPROXIMATED: [(&str, &str); 7] = [
    ("KHR_materials_clearcoat", "its clear coat is left out"),
    ("KHR_materials_transmission", "what shines through it is shown as alpha"),
    ("KHR_materials_sheen", "its sheen is left out"),
    ("KHR_materials_specular", "its highlights are those of plain glass"),
    ("KHR_materials_ior", "its highlights are those of plain glass"),
    ("KHR_materials_volume", "what lies within it is left out"),
    ("KHR_lights_punctual", "its lights are left out"),
];
/// Extensions that may be required.
const SUPPORTED: [&str; 3] = ["KHR_texture_transform", "KHR_materials_unlit", "KHR_materials_emissive_strength"];

struct Reader<'a> {
    name: &'a str,
    document: gltf::Document,
    buffers: Vec<Vec<u8>>,
    model: ModelFile,
    rig: Rig,
    /// Nodes that were come by.
    visits: usize,
}

fn read_sound(bytes: &[u8], name: &str, with: &Companions) -> Result<ModelFile, AssetFileError> {
    let unreadable = |why: &dyn std::fmt::Display| AssetFileError::unreadable(name, why);
    if bytes.starts_with(b"glTF") && !chunks_fit(bytes) {
        return Err(unreadable(&"it is cut off, or says that it is larger than it is"));
    }
    let gltf = gltf::Gltf::from_slice_without_validation(bytes).map_err(|e| unreadable(&e))?;
    if !accessors_are_there(gltf.document.as_json()) {
        return Err(unreadable(&"a part of it refers to numbers that are not there"));
    }
    let unknown = |e: &&str| !SUPPORTED.contains(e) && APPROXIMATED.iter().all(|(a, _)| a != e);
    if let Some(what) = gltf.extensions_required().find(unknown) {
        return Err(AssetFileError::Unsupported { name: name.to_owned(), what: format!("the extension {what}") });
    }
    // The same file is held to the standard only now, so that a required extension has its own words.
    let gltf = gltf::Gltf::from_slice(bytes)
        .or_else(|e| if gltf.extensions_required().next().is_some() { Ok(gltf) } else { Err(unreadable(&e)) })?;
    let mut missing = Vec::new();
    let mut buffers = Vec::new();
    for buffer in gltf.document.buffers() {
        let found = match buffer.source() {
            gltf::buffer::Source::Bin => gltf.blob.clone(),
            gltf::buffer::Source::Uri(uri) => resolved(uri, with, &mut missing),
        };
        let found = found.unwrap_or_default();
        if missing.is_empty() && found.len() < buffer.length() {
            return Err(unreadable(&"it is cut off"));
        }
        buffers.push(found);
    }
    if !missing.is_empty() {
        return Err(AssetFileError::Missing { name: name.to_owned(), files: missing });
    }
    let mut notes: Vec<String> = Vec::new();
    for (extension, what) in APPROXIMATED {
        if gltf.extensions_used().any(|e| e == extension) && !notes.iter().any(|n| n == what) {
            notes.push(what.to_owned());
        }
    }
    let model = ModelFile { unit_m: 1.0, notes, ..ModelFile::default() };
    let rig = Rig::default();
    let mut reader = Reader { name, document: gltf.document, buffers, model, rig, visits: 0 };
    reader.pictures(with)?;
    reader.materials();
    reader.motion();
    let document = reader.document.clone();
    let scene = document.default_scene().or_else(|| document.scenes().next());
    match scene {
        Some(scene) => scene.nodes().try_for_each(|node| reader.node(&node, &Matrix4::identity(), 0))?,
        None => {
            // Without a scene, what hangs on nothing else is shown.
            let children: HashSet<usize> =
                document.nodes().flat_map(|n| n.children().map(|c| c.index()).collect::<Vec<_>>()).collect();
            let mut roots = document.nodes().filter(|n| !children.contains(&n.index()));
            roots.try_for_each(|node| reader.node(&node, &Matrix4::identity(), 0))?;
        }
    }
    let Reader { mut model, rig, .. } = reader;
    if rig.matters() {
        // Skins are posed; everything else is where it was.
        (model.positions, model.normals) = rig.posed(None);
        model.rig = Some(rig);
    }
    // The standard's own material is none of the model's where nothing wears it.
    let own = model.materials.len() - 1;
    if own > 0 && model.parts.iter().all(|part| usize::from(*part) != own) {
        model.materials.pop();
    }
    Ok(model)
}

/// Whether the lengths that a GLB tells of itself and of its chunks fit what there is (glTF 2.0, section 4.4).
fn chunks_fit(bytes: &[u8]) -> bool {
    let word = |at: usize| bytes.get(at..at + 4).and_then(|b| b.try_into().ok()).map(u32::from_le_bytes);
    let Some(whole) = word(8).map(|v| v as usize).filter(|v| (20..=bytes.len()).contains(v)) else { return false };
    let mut at = 12;
    while at < whole {
        let Some(end) = word(at).and_then(|length| (at + 8).checked_add(length as usize)) else { return false };
        if end > whole {
            return false;
        }
        at = end;
    }
    true
}

/// Reads a file; where the library that takes it apart gives up on one that breaks the standard, that is an error like
/// any other.
pub fn read(bytes: &[u8], name: &str, with: &Companions) -> Result<ModelFile, AssetFileError> {
    std::panic::catch_unwind(|| read_sound(bytes, name, with))
        .unwrap_or_else(|_| Err(AssetFileError::unreadable(name, "its numbers are not of the kinds that they must be")))
}

/// Whether what primitives refer to is there: who holds the file to the standard takes that for granted.
fn accessors_are_there(root: &gltf::json::Root) -> bool {
    let count = root.accessors.len();
    root.meshes.iter().flat_map(|m| &m.primitives).all(|p| {
        let morphs = p.targets.iter().flatten().flat_map(|t| [&t.positions, &t.normals, &t.tangents]);
        let own = p.attributes.values().chain(&p.indices).chain(morphs.flatten());
        own.into_iter().all(|index| index.value() < count)
    })
}

/// The bytes behind a reference: what it holds itself, or a file that came with it.
fn resolved(uri: &str, with: &Companions, missing: &mut Vec<String>) -> Option<Vec<u8>> {
    if let Some(data) = uri.strip_prefix("data:") {
        let text = data.split_once(";base64,")?.1;
        return base64(text);
    }
    let plain = uri.replace("%20", " ");
    let last = plain.rsplit(['/', '\\']).next().unwrap_or(&plain);
    let found = with.get(last).cloned();
    if found.is_none() {
        missing.push(uri.chars().take(80).collect());
    }
    found
}

/// RFC 4648, section 4.
fn base64(text: &str) -> Option<Vec<u8>> {
    let value = |c: u8| {
        Some(match c {
            b'A'..=b'Z' => c - b'A',
            b'a'..=b'z' => c - b'a' + 26,
            b'0'..=b'9' => c - b'0' + 52,
            b'+' => 62,
            b'/' => 63,
            _ => return None,
        })
    };
    let mut out = Vec::with_capacity(text.len() / 4 * 3);
    let (mut bits, mut held) = (0u32, 0);
    for c in text.bytes().filter(|c| *c != b'=') {
        bits = bits << 6 | u32::from(value(c)?);
        held += 6;
        if held >= 8 {
            held -= 8;
            out.push((bits >> held) as u8);
        }
    }
    Some(out)
}

impl Reader<'_> {
    fn unreadable(&self, why: &dyn std::fmt::Display) -> AssetFileError {
        AssetFileError::unreadable(self.name, why)
    }

    fn pictures(&mut self, with: &Companions) -> Result<(), AssetFileError> {
        let mut missing = Vec::new();
        for image in self.document.images() {
            let bytes = match image.source() {
                gltf::image::Source::View { view, .. } => {
                    let end = view.offset().checked_add(view.length());
                    let buffer = self.buffers.get(view.buffer().index());
                    let slice = buffer.zip(end).and_then(|(b, end)| b.get(view.offset()..end));
                    slice.map(<[u8]>::to_vec)
                }
                gltf::image::Source::Uri { uri, .. } => resolved(uri, with, &mut missing),
            };
            // A model whose picture is missing is shown without it.
            let plain =
                || Picture { width: 1, height: 1, pixels: crate::asset::Pixels::Encoded(vec![190, 190, 190, 255]) };
            let picture = match bytes.map(|b| Picture::decoded(&b, self.name, None)) {
                Some(Ok(picture)) => picture,
                Some(Err(why)) => {
                    self.model.notes.push(why.to_string());
                    plain()
                }
                None => plain(),
            };
            self.model.pictures.push(picture);
        }
        if !missing.is_empty() {
            self.model.notes.push(format!("without {}, which did not come with it", crate::error::listed(&missing)));
        }
        Ok(())
    }

    fn materials(&mut self) {
        for m in self.document.materials() {
            let pbr = m.pbr_metallic_roughness();
            let strength = m.emissive_strength().unwrap_or(1.0);
            let map = |info: Option<gltf::texture::Info>| {
                let info = info?;
                let transform = info.texture_transform();
                let made = transform.map_or([1.0, 0.0, 0.0, 1.0, 0.0, 0.0], |t| {
                    let ([sx, sy], [ox, oy], (sin, cos)) = (t.scale(), t.offset(), t.rotation().sin_cos());
                    [cos * sx, sin * sy, -sin * sx, cos * sy, ox, oy]
                });
                Some(map_of(&info.texture(), made))
            };
            self.model.materials.push(ModelMaterial {
                name: m.name().unwrap_or_default().to_owned(),
                base: pbr.base_color_factor(),
                metal: pbr.metallic_factor(),
                rough: pbr.roughness_factor(),
                emission: m.emissive_factor().map(|v| v * strength),
                base_map: map(pbr.base_color_texture()),
                surface_map: map(pbr.metallic_roughness_texture()),
                occlusion_map: m
                    .occlusion_texture()
                    .map(|o| (map_of(&o.texture(), [1.0, 0.0, 0.0, 1.0, 0.0, 0.0]), o.strength().clamp(0.0, 1.0))),
                normal_map: m.normal_texture().map(|n| map_of(&n.texture(), [1.0, 0.0, 0.0, 1.0, 0.0, 0.0])),
                emission_map: map(m.emissive_texture()),
                cover: match m.alpha_mode() {
                    gltf::material::AlphaMode::Opaque => ModelCover::Opaque,
                    gltf::material::AlphaMode::Mask => ModelCover::Mask(m.alpha_cutoff().unwrap_or(0.5)),
                    gltf::material::AlphaMode::Blend => ModelCover::Blend,
                },
                two_sided: m.double_sided(),
                unlit: m.unlit(),
            });
        }
        // What has no material has the standard's own.
        self.model.materials.push(ModelMaterial {
            base: [1.0; 4],
            metal: 1.0,
            rough: 1.0,
            two_sided: false,
            ..ModelMaterial::default()
        });
    }

    fn node(&mut self, node: &gltf::Node, parent: &Matrix4<f32>, depth: usize) -> Result<(), AssetFileError> {
        self.visits += 1;
        if depth >= DEEPEST || self.visits > MOST_NODES {
            return Err(self.unreadable(&"its parts hang on one another without end"));
        }
        let own = node.transform().matrix();
        let world = parent * Matrix4::from_fn(|r, c| own[c][r]);
        if let Some(mesh) = node.mesh() {
            for primitive in mesh.primitives() {
                self.primitive(&primitive, &world, node)?;
            }
        }
        node.children().try_for_each(|child| self.node(&child, &world, depth + 1))
    }

    fn primitive(
        &mut self,
        primitive: &gltf::Primitive,
        world: &Matrix4<f32>,
        node: &gltf::Node,
    ) -> Result<(), AssetFileError> {
        if !matches!(primitive.mode(), Mode::Triangles | Mode::TriangleStrip | Mode::TriangleFan) {
            return Ok(());
        }
        let buffers = &self.buffers;
        let reader = primitive.reader(|b| buffers.get(b.index()).map(Vec::as_slice));
        let Some(positions) = reader.read_positions() else { return Ok(()) };
        let positions: Vec<[f32; 3]> = positions.collect();
        let normals: Vec<[f32; 3]> = reader.read_normals().map(Iterator::collect).unwrap_or_default();
        let uvs: Vec<[f32; 2]> = reader.read_tex_coords(0).map(|t| t.into_f32().collect()).unwrap_or_default();
        let colours: Vec<[f32; 4]> = reader.read_colors(0).map(|c| c.into_rgba_f32().collect()).unwrap_or_default();
        let bound = reader.read_joints(0).zip(reader.read_weights(0));
        let bound: Vec<_> = bound.map(|(j, w)| j.into_u16().zip(w.into_f32()).collect()).unwrap_or_default();
        if primitive.morph_targets().next().is_some() {
            note(&mut self.model.notes, "the shapes that it can take on are left out");
        }
        let indices: Vec<u32> = match reader.read_indices() {
            Some(indices) => indices.into_u32().collect(),
            None => (0..positions.len() as u32).collect(),
        };
        let n = indices.len();
        let triangles: Vec<[u32; 3]> = match primitive.mode() {
            Mode::Triangles => indices.chunks_exact(3).map(|t| [t[0], t[1], t[2]]).collect(),
            Mode::TriangleStrip => (2..n)
                .map(|i| if i % 2 == 0 { [i - 2, i - 1, i] } else { [i - 1, i - 2, i] })
                .map(|t| t.map(|k| indices[k]))
                .collect(),
            _ => (2..n).map(|i| [indices[0], indices[i - 1], indices[i]]).collect(),
        };
        let model = &mut self.model;
        too_many(model.triangles.len() + triangles.len(), self.name)?;
        let base = model.positions.len() as u32;
        let count = positions.len();
        model.positions.extend(positions.iter().map(|p| <[f32; 3]>::from(world.transform_point(&Point3::from(*p)))));
        // Normals go with the inverse transposed (Turkowski 1990).
        let turn = world.fixed_view::<3, 3>(0, 0).try_inverse().map(|m| m.transpose());
        let turned = |v: &[f32; 3]| turn.map_or(*v, |m| (m * Vector3::from(*v)).into());
        model.normals.extend(normals.iter().take(count).map(turned));
        model.normals.resize(base as usize + count, [0.0; 3]);
        model.uvs.extend(uvs.iter().take(count));
        model.uvs.resize(base as usize + count, [0.0; 2]);
        if !colours.is_empty() || !model.colours.is_empty() {
            model.colours.resize(base as usize, [1.0; 4]);
            model.colours.extend(colours.iter().take(count));
            model.colours.resize(base as usize + count, [1.0; 4]);
        }
        let skin = node.skin().filter(|_| !bound.is_empty()).map(|skin| {
            let joints: Vec<usize> = skin.joints().map(|j| j.index()).collect();
            let read = skin.reader(|b| buffers.get(b.index()).map(Vec::as_slice)).read_inverse_bind_matrices();
            let mut inverse: Vec<Matrix4<f32>> =
                read.map(|all| all.map(|m| Matrix4::from_fn(|r, c| m[c][r])).collect()).unwrap_or_default();
            inverse.resize(joints.len(), Matrix4::identity());
            Skin { joints, inverse, bound }
        });
        let mut own = normals;
        own.resize(count, [0.0; 3]);
        self.rig.parts.push(RigPart { node: node.index(), positions, normals: own, skin });
        // A part that is mirrored runs the other way round.
        let mirrored = world.fixed_view::<3, 3>(0, 0).determinant() < 0.0;
        let placed = |[a, b, c]: [u32; 3]| {
            let t = if mirrored { [a, c, b] } else { [a, b, c] };
            t.map(|k| k.saturating_add(base))
        };
        model.triangles.extend(triangles.into_iter().map(placed));
        let part = primitive.material().index().unwrap_or(model.materials.len() - 1);
        model.parts.resize(model.triangles.len(), u16::try_from(part).unwrap_or(0));
        Ok(())
    }
}

/// Says something once.
fn note(notes: &mut Vec<String>, what: &str) {
    if !notes.iter().any(|n| n == what) {
        notes.push(what.to_owned());
    }
}

fn four<const N: usize>(v: [f32; N]) -> [f32; 4] {
    std::array::from_fn(|k| v.get(k).copied().unwrap_or(0.0))
}

impl Reader<'_> {
    /// Nodes at rest, and the first of the motions.
    fn motion(&mut self) {
        use gltf::animation::Interpolation;
        use gltf::animation::util::ReadOutputs;
        let mut parents = vec![None; self.document.nodes().len()];
        for node in self.document.nodes() {
            for child in node.children() {
                if let Some(slot) = parents.get_mut(child.index()) {
                    *slot = Some(node.index());
                }
            }
        }
        let at_rest = |node: gltf::Node| {
            let (shift, turn, scale) = node.transform().decomposed();
            Node { parent: parents.get(node.index()).copied().flatten(), shift, turn, scale }
        };
        self.rig.nodes = self.document.nodes().map(at_rest).collect();
        if self.document.animations().len() > 1 {
            note(&mut self.model.notes, "of its motions the first is shown");
        }
        let Some(motion) = self.document.animations().next() else { return };
        for channel in motion.channels() {
            let buffers = &self.buffers;
            let reader = channel.reader(|b| buffers.get(b.index()).map(Vec::as_slice));
            let (Some(times), Some(values)) = (reader.read_inputs(), reader.read_outputs()) else { continue };
            let times: Vec<f32> = times.collect();
            let (path, values) = match values {
                ReadOutputs::Translations(v) => (Path::Shift, v.map(four).collect()),
                ReadOutputs::Rotations(v) => (Path::Turn, v.into_f32().collect()),
                ReadOutputs::Scales(v) => (Path::Scale, v.map(four).collect::<Vec<_>>()),
                ReadOutputs::MorphTargetWeights(_) => {
                    note(&mut self.model.notes, "the shapes that it can take on are left out");
                    continue;
                }
            };
            let sound = times.windows(2).all(|w| w[0] <= w[1]) && times.iter().all(|t| t.is_finite() && *t >= 0.0);
            if !sound || values.iter().flatten().any(|v| !v.is_finite()) {
                note(&mut self.model.notes, "a part of its motion is broken and left out");
                continue;
            }
            let between = match channel.sampler().interpolation() {
                Interpolation::Step => Between::Step,
                Interpolation::Linear => Between::Linear,
                Interpolation::CubicSpline => Between::Cubic,
            };
            self.rig.length_s = self.rig.length_s.max(times.last().copied().map_or(0.0, f64::from));
            self.rig.channels.push(Channel { node: channel.target().node().index(), path, times, values, between });
        }
    }
}

fn map_of(texture: &gltf::Texture, transform: [f32; 6]) -> ModelMap {
    use gltf::texture::WrappingMode;
    let rim = |mode| match mode {
        WrappingMode::ClampToEdge => Rim::Clamp,
        WrappingMode::MirroredRepeat => Rim::Mirror,
        WrappingMode::Repeat => Rim::Repeat,
    };
    let sampler = texture.sampler();
    ModelMap { picture: texture.source().index(), rim: [rim(sampler.wrap_s()), rim(sampler.wrap_t())], transform }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    /// A triangle in a file of its own.
    fn file(change: impl FnOnce(&mut serde_json::Value)) -> Vec<u8> {
        let corners = [0f32, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0, 0.0];
        let bytes: Vec<u8> = corners.iter().flat_map(|v| v.to_le_bytes()).collect();
        let mut json = json!({
            "asset": { "version": "2.0" },
            "scene": 0,
            "scenes": [{ "nodes": [0] }],
            "nodes": [{ "mesh": 0, "translation": [0.0, 2.0, 0.0] }],
            "meshes": [{ "primitives": [{ "attributes": { "POSITION": 0 } }] }],
            "accessors": [{ "bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3",
                "min": [0.0, 0.0, 0.0], "max": [1.0, 1.0, 0.0] }],
            "bufferViews": [{ "buffer": 0, "byteLength": 36 }],
            "buffers": [{ "byteLength": 36, "uri": format!("data:application/octet-stream;base64,{}", written(&bytes)) }],
        });
        change(&mut json);
        serde_json::to_vec(&json).unwrap()
    }

    #[test]
    fn vertex_colours_motion_and_skins_come_in() {
        let numbers: Vec<f32> = [
            &[0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0, 0.0][..],
            &[1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0],
            &[0.0, 2.0],
            &[0.0, 0.0, 0.0, 4.0, 0.0, 0.0],
        ]
        .concat();
        let bytes: Vec<u8> = numbers.iter().flat_map(|v| v.to_le_bytes()).collect();
        let view = |offset: usize, length: usize| json!({ "buffer": 0, "byteOffset": offset, "byteLength": length });
        let made = file(|j| {
            j["buffers"][0] = json!({ "byteLength": bytes.len(),
                "uri": format!("data:application/octet-stream;base64,{}", written(&bytes)) });
            j["bufferViews"] = json!([view(0, 36), view(36, 36), view(72, 8), view(80, 24)]);
            let accessors = j["accessors"].as_array_mut().unwrap();
            accessors.push(json!({ "bufferView": 1, "componentType": 5126, "count": 3, "type": "VEC3" }));
            accessors.push(json!({ "bufferView": 2, "componentType": 5126, "count": 2, "type": "SCALAR",
                "min": [0.0], "max": [2.0] }));
            accessors.push(json!({ "bufferView": 3, "componentType": 5126, "count": 2, "type": "VEC3" }));
            j["meshes"][0]["primitives"][0]["attributes"]["COLOR_0"] = json!(1);
            j["animations"] = json!([{ "channels": [{ "sampler": 0, "target": { "node": 0, "path": "translation" } }],
                "samplers": [{ "input": 2, "output": 3 }] }]);
        });
        let model = read(&made).unwrap();
        assert_eq!(model.colours, [[1.0, 0.0, 0.0, 1.0], [0.0, 1.0, 0.0, 1.0], [0.0, 0.0, 1.0, 1.0]]);
        let rig = model.rig.unwrap();
        assert_eq!((rig.length_s, rig.posed(Some(1.0)).0[1]), (2.0, [3.0, 0.0, 0.0]));
        assert_eq!(model.positions[0], [0.0, 2.0, 0.0], "at rest where its node puts it");
    }

    fn written(bytes: &[u8]) -> String {
        const DIGITS: &[u8] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
        let of = |chunk: &[u8]| {
            let n = chunk.iter().fold(0u32, |n, b| n << 8 | u32::from(*b)) << (8 * (3 - chunk.len()));
            (0..=chunk.len()).map(|k| DIGITS[(n >> (18 - 6 * k) & 63) as usize] as char).collect::<String>()
        };
        bytes.chunks(3).map(of).collect()
    }

    fn read(bytes: &[u8]) -> Result<ModelFile, AssetFileError> {
        ModelFile::read(bytes, "buoy.gltf", &Companions::new())
    }

    #[test]
    fn parts_come_in_where_their_nodes_put_them() {
        let model = read(&file(|_| {})).unwrap();
        assert_eq!((model.positions[0], model.triangles.len()), ([0.0, 2.0, 0.0], 1));
        let mirrored = read(&file(|j| j["nodes"][0]["scale"] = json!([-1.0, 1.0, 1.0]))).unwrap();
        assert_eq!(mirrored.triangles[0], [0, 2, 1]);
    }

    /// Fault: found by fuzzing, a header that says that the file ends before it begins.
    #[test]
    fn a_binary_file_whose_lengths_do_not_fit_is_refused() {
        let made = |whole: u32, chunk: u32| {
            let words = [2u32, whole, chunk, 0x4E4F_534A].map(u32::to_le_bytes).concat();
            [b"glTF".to_vec(), words, b"{\"asset\":{\"version\":\"2.0\"}}  ".to_vec()].concat()
        };
        for bytes in
            [made(0, 0), made(3, 30), made(50, 4_000_000_000), made(u32::MAX, 30), made(19, 30), b"glTF".to_vec()]
        {
            let why = ModelFile::read(&bytes, "buoy.glb", &Companions::new()).unwrap_err().to_string();
            assert!(why.contains("buoy.glb"), "{why}");
        }
    }

    #[test]
    fn hostile_files_end_in_a_clear_error() {
        let why = |change: fn(&mut serde_json::Value)| read(&file(change)).unwrap_err().to_string();
        for uri in ["file:///etc/passwd", "../../secret.bin", "buoy.bin"] {
            let mut bytes = serde_json::from_slice::<serde_json::Value>(&file(|_| {})).unwrap();
            bytes["buffers"][0]["uri"] = json!(uri);
            let said = read(&serde_json::to_vec(&bytes).unwrap()).unwrap_err().to_string();
            assert!(said.contains("did not come with it"), "{said}");
        }
        assert!(why(|j| j["extensionsRequired"] = json!(["XYZ_magic"])).contains("XYZ_magic"));
        assert!(
            why(|j| j["nodes"] = json!([{ "children": [1, 1, 1] }, { "children": [0, 0] }])).contains("without end")
        );
        assert!(why(|j| j["bufferViews"][0]["byteLength"] = json!(9999)).contains("buoy.gltf"));
        assert!(why(|j| j["accessors"][0]["count"] = json!(3_000_000_000u64)).contains("buoy.gltf"));
        assert!(why(|j| j["nodes"][0]["children"] = json!([0])).contains("buoy.gltf"));
        assert!(why(|j| j["buffers"][0]["byteLength"] = json!(99_999_999_999u64)).contains("buoy.gltf"));
        assert!(why(|j| j["meshes"] = json!([])).contains("buoy.gltf"));
        // Fault: found by fuzzing, places that are bytes.
        assert!(why(|j| j["accessors"][0]["componentType"] = json!(5120)).contains("buoy.gltf"));
        // Fault: found by fuzzing, a primitive of numbers that are not there.
        assert!(why(|j| j["accessors"] = json!([])).contains("not there"));
        assert!(why(|j| j["meshes"][0]["primitives"][0]["indices"] = json!(7)).contains("not there"));
    }
}
