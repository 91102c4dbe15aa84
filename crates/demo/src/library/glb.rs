//! Models as GLB (glTF 2.0), with their pictures inside.

use serde_json::{Value, json};

/// A material: one colour, linear light, or pictures.
#[derive(Clone)]
pub struct Matter {
    pub name: &'static str,
    pub colour: [f32; 3],
    pub metal: f32,
    pub rough: f32,
    /// Colour, roughness and directions, PNG.
    pub maps: Option<[Vec<u8>; 3]>,
    pub two_sided: bool,
}

impl Matter {
    pub fn plain(name: &'static str, colour: [f32; 3], metal: f32, rough: f32) -> Self {
        Self { name, colour, metal, rough, maps: None, two_sided: false }
    }

    pub fn pictured(name: &'static str, maps: [Vec<u8>; 3]) -> Self {
        Self { name, colour: [1.0; 3], metal: 1.0, rough: 1.0, maps: Some(maps), two_sided: false }
    }
}

/// Triangles of one material.
#[derive(Default)]
pub struct Part {
    pub matter: usize,
    pub positions: Vec<[f32; 3]>,
    pub normals: Vec<[f32; 3]>,
    pub uvs: Vec<[f32; 2]>,
    pub indices: Vec<u32>,
}

impl Part {
    pub fn of(matter: usize) -> Self {
        Self { matter, ..Self::default() }
    }

    /// A face of four corners, counter-clockwise; `size` is how often its picture is seen across and up.
    pub fn quad(&mut self, corners: [[f32; 3]; 4], size: [f32; 2]) {
        let [a, b, _, d] = corners;
        let (u, v) = (minus(b, a), minus(d, a));
        let n = unit([u[1] * v[2] - u[2] * v[1], u[2] * v[0] - u[0] * v[2], u[0] * v[1] - u[1] * v[0]]);
        let base = self.positions.len() as u32;
        self.positions.extend(corners);
        self.normals.extend([n; 4]);
        let [w, h] = size;
        self.uvs.extend([[0.0, h], [w, h], [w, 0.0], [0.0, 0.0]]);
        self.indices.extend([0, 1, 2, 0, 2, 3].map(|k| k + base));
    }

    /// A box between two corners; its pictures are a metre wide.
    pub fn block(&mut self, low: [f32; 3], high: [f32; 3]) {
        let ([x0, y0, z0], [x1, y1, z1]) = (low, high);
        let (w, h, d) = (x1 - x0, y1 - y0, z1 - z0);
        self.quad([[x0, y0, z1], [x1, y0, z1], [x1, y1, z1], [x0, y1, z1]], [w, h]);
        self.quad([[x1, y0, z0], [x0, y0, z0], [x0, y1, z0], [x1, y1, z0]], [w, h]);
        self.quad([[x1, y0, z1], [x1, y0, z0], [x1, y1, z0], [x1, y1, z1]], [d, h]);
        self.quad([[x0, y0, z0], [x0, y0, z1], [x0, y1, z1], [x0, y1, z0]], [d, h]);
        self.quad([[x0, y1, z1], [x1, y1, z1], [x1, y1, z0], [x0, y1, z0]], [w, d]);
        self.quad([[x0, y0, z0], [x1, y0, z0], [x1, y0, z1], [x0, y0, z1]], [w, d]);
    }

    /// A profile of radius and height turned about the upright, from below up; smooth but where it has a corner twice.
    pub fn turned(&mut self, profile: &[[f32; 2]], sides: u32, repeat: [f32; 2]) {
        let whole: f32 = profile.windows(2).map(|w| (w[1][0] - w[0][0]).hypot(w[1][1] - w[0][1])).sum();
        let mut along = 0.0;
        for pair in 0..profile.len().saturating_sub(1) {
            let ([r0, y0], [r1, y1]) = (profile[pair], profile[pair + 1]);
            let length = (r1 - r0).hypot(y1 - y0);
            if length < 1e-6 {
                continue;
            }
            let slope = |a: [f32; 2], b: [f32; 2]| {
                let l = (b[0] - a[0]).hypot(b[1] - a[1]).max(1e-9);
                [(b[1] - a[1]) / l, -(b[0] - a[0]) / l]
            };
            let own = slope([r0, y0], [r1, y1]);
            // A corner that is there twice is sharp.
            let joint = |other: Option<[f32; 2]>| {
                let Some(o) = other.filter(|o| o[0].hypot(o[1]) > 0.5) else { return own };
                let (x, y) = (own[0] + o[0], own[1] + o[1]);
                let l = x.hypot(y).max(1e-6);
                [x / l, y / l]
            };
            let near = |a: [f32; 2], b: [f32; 2]| (a[0] - b[0]).hypot(a[1] - b[1]) > 1e-6;
            let before =
                pair.checked_sub(1).map(|k| profile[k]).filter(|p| near(*p, [r0, y0])).map(|p| slope(p, [r0, y0]));
            let after = profile.get(pair + 2).filter(|p| near(**p, [r1, y1])).map(|p| slope([r1, y1], *p));
            let base = self.positions.len() as u32;
            for ([r, y], [nr, ny], v) in [([r0, y0], joint(before), along), ([r1, y1], joint(after), along + length)] {
                for k in 0..=sides {
                    let turn = k as f32 / sides as f32;
                    let (sin, cos) = (turn * std::f32::consts::TAU).sin_cos();
                    self.positions.push([r * sin, y, r * cos]);
                    self.normals.push([nr * sin, ny, nr * cos]);
                    self.uvs.push([turn * repeat[0], (1.0 - v / whole) * repeat[1]]);
                }
            }
            let row = sides + 1;
            for k in 0..sides {
                self.indices.extend([k, k + 1, row + k + 1, k, row + k + 1, row + k].map(|i| i + base));
            }
            along += length;
        }
    }

    /// The same part shifted.
    pub fn shifted(mut self, by: [f32; 3]) -> Self {
        self.positions.iter_mut().for_each(|p| (0..3).for_each(|k| p[k] += by[k]));
        self
    }

    /// Turned so that its upright points along z.
    pub fn laid(mut self) -> Self {
        for v in self.positions.iter_mut().chain(&mut self.normals) {
            *v = [v[0], -v[2], v[1]];
        }
        self
    }
}

fn minus(a: [f32; 3], b: [f32; 3]) -> [f32; 3] {
    std::array::from_fn(|k| a[k] - b[k])
}

pub fn unit(v: [f32; 3]) -> [f32; 3] {
    let l = v.iter().map(|x| x * x).sum::<f32>().sqrt().max(1e-12);
    v.map(|x| x / l)
}

/// Everything in one file.
pub fn glb(matters: &[Matter], parts: &[Part]) -> Vec<u8> {
    let mut bin: Vec<u8> = Vec::new();
    let (mut views, mut accessors): (Vec<Value>, Vec<Value>) = (Vec::new(), Vec::new());
    let mut view = |bin: &mut Vec<u8>, bytes: &[u8]| {
        while !bin.len().is_multiple_of(4) {
            bin.push(0);
        }
        views.push(json!({ "buffer": 0, "byteOffset": bin.len(), "byteLength": bytes.len() }));
        bin.extend(bytes);
        views.len() - 1
    };
    let floats = |v: &[f32]| v.iter().flat_map(|f| f.to_le_bytes()).collect::<Vec<u8>>();
    let mut primitives = Vec::new();
    for part in parts {
        let ends = |pick: fn(f32, f32) -> f32, from: f32| {
            part.positions.iter().fold([from; 3], |m, p| std::array::from_fn(|k| pick(m[k], p[k])))
        };
        let mut accessor = |view: usize, kind: u32, count: usize, of: &str, more: Value| {
            let mut a = json!({ "bufferView": view, "componentType": kind, "count": count, "type": of });
            if let (Some(a), Some(more)) = (a.as_object_mut(), more.as_object()) {
                a.extend(more.clone());
            }
            accessors.push(a);
            accessors.len() - 1
        };
        let n = part.positions.len();
        let at = view(&mut bin, &floats(part.positions.as_flattened()));
        let (low, high) = (ends(f32::min, f32::INFINITY), ends(f32::max, f32::NEG_INFINITY));
        let position = accessor(at, 5126, n, "VEC3", json!({ "min": low, "max": high }));
        let at = view(&mut bin, &floats(part.normals.as_flattened()));
        let normal = accessor(at, 5126, n, "VEC3", json!({}));
        let at = view(&mut bin, &floats(part.uvs.as_flattened()));
        let uv = accessor(at, 5126, n, "VEC2", json!({}));
        let at = view(&mut bin, &part.indices.iter().flat_map(|i| i.to_le_bytes()).collect::<Vec<u8>>());
        let indices = accessor(at, 5125, part.indices.len(), "SCALAR", json!({}));
        primitives.push(json!({ "attributes": { "POSITION": position, "NORMAL": normal, "TEXCOORD_0": uv },
            "indices": indices, "material": part.matter }));
    }
    let (mut images, mut textures, mut materials) = (Vec::new(), Vec::new(), Vec::new());
    for m in matters {
        let mut pbr = json!({ "baseColorFactor": [m.colour[0], m.colour[1], m.colour[2], 1.0],
            "metallicFactor": m.metal, "roughnessFactor": m.rough });
        let mut made = json!({ "name": m.name, "doubleSided": m.two_sided });
        if let Some(maps) = &m.maps {
            let mut texture = |bytes: &Vec<u8>| {
                let at = view(&mut bin, bytes);
                images.push(json!({ "bufferView": at, "mimeType": "image/png" }));
                textures.push(json!({ "source": images.len() - 1, "sampler": 0 }));
                json!({ "index": textures.len() - 1 })
            };
            pbr["baseColorTexture"] = texture(&maps[0]);
            pbr["metallicRoughnessTexture"] = texture(&maps[1]);
            made["normalTexture"] = texture(&maps[2]);
        }
        made["pbrMetallicRoughness"] = pbr;
        materials.push(made);
    }
    while !bin.len().is_multiple_of(4) {
        bin.push(0);
    }
    let mut json = json!({ "asset": { "version": "2.0" }, "scene": 0, "scenes": [{ "nodes": [0] }],
        "nodes": [{ "mesh": 0 }], "meshes": [{ "primitives": primitives }], "materials": materials,
        "buffers": [{ "byteLength": bin.len() }], "bufferViews": views, "accessors": accessors });
    if !images.is_empty() {
        json["images"] = images.into();
        json["textures"] = textures.into();
        json["samplers"] = json!([{ "wrapS": 10497, "wrapT": 10497 }]);
    }
    let mut text = json.to_string().into_bytes();
    while !text.len().is_multiple_of(4) {
        text.push(b' ');
    }
    let mut out = Vec::with_capacity(text.len() + bin.len() + 28);
    out.extend(b"glTF");
    for v in [2u32, (28 + text.len() + bin.len()) as u32, text.len() as u32, 0x4E4F_534A] {
        out.extend(v.to_le_bytes());
    }
    out.extend(&text);
    for v in [bin.len() as u32, 0x004E_4942] {
        out.extend(v.to_le_bytes());
    }
    out.extend(&bin);
    out
}
