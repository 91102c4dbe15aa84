//! PLY and STL: triangles of one material, as scanners and printers have them.

use super::{ModelFile, ModelMaterial, too_many};
use crate::asset::AssetFileError;
use ply_rs_bw::parser::Parser;
use ply_rs_bw::ply::{DefaultElement, Property};
use std::io::{BufReader, Cursor};

/// Bytes a triangle of a binary STL, and of its header.
const STL_TRIANGLE: usize = 50;
const STL_HEADER: usize = 84;

/// STL is of millimetres mostly, and Z points up.
pub fn stl(bytes: &[u8], name: &str) -> Result<ModelFile, AssetFileError> {
    let unreadable = |why: &dyn std::fmt::Display| AssetFileError::unreadable(name, why);
    if !bytes.trim_ascii_start().starts_with(b"solid") {
        // A header may claim any number; memory is asked for by it.
        let claimed = bytes.get(80..84).and_then(|b| b.try_into().ok()).map_or(0, u32::from_le_bytes) as usize;
        too_many(claimed, name)?;
        if bytes.len() < STL_HEADER + claimed * STL_TRIANGLE {
            return Err(unreadable(&"it is cut off"));
        }
    }
    let mesh = stl_io::read_stl(&mut Cursor::new(bytes)).map_err(|e| unreadable(&e))?;
    Ok(ModelFile {
        positions: mesh.vertices.iter().map(|v| [v[0], v[1], v[2]]).collect(),
        triangles: mesh.faces.iter().map(|f| f.vertices.map(|k| k as u32)).collect(),
        z_up: true,
        ..ModelFile::default()
    })
}

fn number(p: Option<&Property>) -> Option<f32> {
    match p? {
        Property::Float(v) => Some(*v),
        Property::Double(v) => Some(*v as f32),
        Property::Int(v) => Some(*v as f32),
        Property::Short(v) => Some(f32::from(*v)),
        Property::UChar(v) => Some(f32::from(*v)),
        Property::UShort(v) => Some(f32::from(*v)),
        Property::Char(v) => Some(f32::from(*v)),
        Property::UInt(v) => Some(*v as f32),
        _ => None,
    }
}

fn corners(p: Option<&Property>) -> Vec<u32> {
    match p {
        Some(Property::ListInt(v)) => v.iter().map(|k| u32::try_from(*k).unwrap_or(u32::MAX)).collect(),
        Some(Property::ListUInt(v)) => v.clone(),
        Some(Property::ListUShort(v)) => v.iter().map(|k| u32::from(*k)).collect(),
        Some(Property::ListShort(v)) => v.iter().map(|k| u32::try_from(*k).unwrap_or(u32::MAX)).collect(),
        Some(Property::ListUChar(v)) => v.iter().map(|k| u32::from(*k)).collect(),
        _ => Vec::new(),
    }
}

/// PLY (Turk, "The PLY Polygon File Format", 1994).
pub fn ply(bytes: &[u8], name: &str) -> Result<ModelFile, AssetFileError> {
    let unreadable = |why: &dyn std::fmt::Display| AssetFileError::unreadable(name, why);
    // Each element takes at least a byte; a header that claims more lies.
    let head = String::from_utf8_lossy(&bytes[..bytes.len().min(64 * 1024)]).into_owned();
    for line in head.lines().take_while(|l| *l != "end_header").filter(|l| l.starts_with("element ")) {
        let claimed = line.split_whitespace().nth(2).and_then(|n| n.parse::<u64>().ok());
        if claimed.is_none_or(|n| n > bytes.len() as u64) {
            return Err(unreadable(&"its header claims more than the file holds"));
        }
    }
    let read = Parser::<DefaultElement>::new().read_ply(&mut BufReader::new(bytes)).map_err(|e| unreadable(&e))?;
    let get = |element: &DefaultElement, key: &str| number(element.get(key));
    let mut model = ModelFile { z_up: true, ..ModelFile::default() };
    let vertices = read.payload.get("vertex").map(Vec::as_slice).unwrap_or_default();
    for v in vertices {
        let three = |keys: [&str; 3]| Some([get(v, keys[0])?, get(v, keys[1])?, get(v, keys[2])?]);
        model.positions.push(three(["x", "y", "z"]).ok_or_else(|| unreadable(&"a corner of it has no place"))?);
        model.normals.push(three(["nx", "ny", "nz"]).unwrap_or_default());
        if let Some(rgb) = three(["red", "green", "blue"]) {
            // Written as encoded for display, 0 to 255.
            let [r, g, b] = rgb.map(|c| (c / 255.0).clamp(0.0, 1.0).powf(2.2));
            model.colours.resize(model.positions.len() - 1, [1.0; 4]);
            model.colours.push([r, g, b, get(v, "alpha").map_or(1.0, |a| a / 255.0)]);
        }
        let uv = |a, b| Some([get(v, a)?, 1.0 - get(v, b)?]);
        model.uvs.push(uv("s", "t").or_else(|| uv("u", "v")).unwrap_or_default());
    }
    if !model.colours.is_empty() {
        model.materials = vec![ModelMaterial { base: [1.0; 4], ..ModelMaterial::default() }];
    }
    for face in read.payload.get("face").map(Vec::as_slice).unwrap_or_default() {
        let list = corners(face.get("vertex_indices").or_else(|| face.get("vertex_index")));
        model.triangles.extend((2..list.len()).map(|k| [list[0], list[k - 1], list[k]]));
        too_many(model.triangles.len(), name)?;
    }
    // Colours of corners are taken as one: their mean.
    let mean = |key: &str| {
        let all: Vec<f32> = vertices.iter().filter_map(|v| get(v, key)).collect();
        (!all.is_empty()).then(|| all.iter().sum::<f32>() / all.len() as f32 / 255.0)
    };
    if let (Some(r), Some(g), Some(b)) = (mean("red"), mean("green"), mean("blue")) {
        let base = [r, g, b].map(|v| v.clamp(0.0, 1.0).powf(2.2));
        model.materials.push(ModelMaterial { base: [base[0], base[1], base[2], 1.0], ..ModelMaterial::default() });
        model.notes.push("colours of its corners are shown as one, their mean".to_owned());
    }
    Ok(model)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::asset::model::Companions;

    #[test]
    fn a_text_ply_and_both_stls_come_in() {
        let ply = b"ply\nformat ascii 1.0\nelement vertex 4\nproperty float x\nproperty float y\nproperty float z\n\
            element face 1\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n1 0 0\n1 1 0\n0 1 0\n4 0 1 2 3\n";
        let model = ModelFile::read(ply, "slab.ply", &Companions::new()).unwrap();
        assert_eq!((model.triangles.len(), model.z_up, model.unit_m), (2, true, 1.0));
        let text = b"solid a\nfacet normal 0 0 1\nouter loop\nvertex 0 0 0\nvertex 500 0 0\nvertex 0 500 0\nendloop\nendfacet\nendsolid a\n";
        let model = ModelFile::read(text, "peg.stl", &Companions::new()).unwrap();
        assert_eq!((model.triangles.len(), model.unit_m), (1, 0.01), "of a size that people place");
        let mut binary = vec![0u8; STL_HEADER + STL_TRIANGLE];
        binary[80] = 1;
        for (i, v) in [0f32, 0.0, 1.0, 0.0, 0.0, 0.0, 2.0, 0.0, 0.0, 0.0, 3.0, 0.0].iter().enumerate() {
            binary[84 + 4 * i..][..4].copy_from_slice(&v.to_le_bytes());
        }
        assert_eq!(ModelFile::read(&binary, "peg.stl", &Companions::new()).unwrap().triangles.len(), 1);
        binary[80..84].copy_from_slice(&u32::MAX.to_le_bytes());
        assert!(ModelFile::read(&binary, "peg.stl", &Companions::new()).unwrap_err().to_string().contains("triangles"));
    }

    #[test]
    fn headers_that_lie_and_corners_that_lie_nowhere_are_refused() {
        let claims = b"ply\nformat ascii 1.0\nelement vertex 99999999999\nproperty float x\nend_header\n";
        assert!(ModelFile::read(claims, "a.ply", &Companions::new()).unwrap_err().to_string().contains("claims"));
        let nowhere =
            b"ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\n\
            element face 1\nproperty list uchar int vertex_indices\nend_header\nnan 0 0\n1 0 0\n1 1 0\n3 0 1 2\n";
        assert!(ModelFile::read(nowhere, "a.ply", &Companions::new()).is_err());
        let missing =
            b"ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\n\
            element face 1\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n1 0 0\n1 1 0\n3 0 1 9\n";
        assert!(ModelFile::read(missing, "a.ply", &Companions::new()).unwrap_err().to_string().contains("not there"));
        for name in ["a.ply", "a.stl", "a.obj", "a.glb", "a.gltf"] {
            assert!(ModelFile::read(b"", name, &Companions::new()).is_err(), "{name}");
            assert!(ModelFile::read(b"rubbish \xFF\xFE", name, &Companions::new()).is_err(), "{name}");
        }
    }
}
