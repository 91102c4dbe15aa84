//! OBJ with MTL.

use super::{Companions, ModelFile, ModelMap, ModelMaterial, Rim, too_many};
use crate::asset::{AssetFileError, Picture};
use std::borrow::Cow;
use std::cell::RefCell;
use std::io::{BufReader, Cursor};

/// What a file refers to is looked up by its last part alone, whatever path it names.
fn companion<'a>(with: &'a Companions, refers: &str) -> Option<&'a Vec<u8>> {
    let last = refers.rsplit(['/', '\\']).next().unwrap_or(refers);
    with.get(last)
}

/// The same without its points and lines, which the parser would take for faces.
fn without_lines(bytes: &[u8]) -> Cow<'_, [u8]> {
    let is_face = |line: &&[u8]| !matches!(line.trim_ascii_start(), [b'l' | b'p', b' ' | b'\t', ..]);
    let lines = || bytes.split_inclusive(|b| *b == b'\n');
    if lines().all(|line| is_face(&line)) {
        return Cow::Borrowed(bytes);
    }
    Cow::Owned(lines().filter(is_face).flatten().copied().collect())
}

pub fn read(bytes: &[u8], name: &str, with: &Companions) -> Result<ModelFile, AssetFileError> {
    let unreadable = |why: &dyn std::fmt::Display| AssetFileError::unreadable(name, why);
    let options = tobj::LoadOptions { triangulate: true, single_index: true, ..tobj::LoadOptions::default() };
    let bytes = &*without_lines(bytes);
    let missing = RefCell::new(Vec::new());
    let loaded = tobj::load_obj_buf(&mut BufReader::new(Cursor::new(bytes)), &options, |path| {
        match companion(with, &path.to_string_lossy()) {
            Some(text) => tobj::load_mtl_buf(&mut BufReader::new(Cursor::new(text))),
            None => {
                missing.borrow_mut().push(path.to_string_lossy().into_owned());
                Ok((Vec::new(), Default::default()))
            }
        }
    });
    let mut missing = missing.into_inner();
    let (models, materials) = loaded.map_err(|e| unreadable(&e))?;
    let mut model = ModelFile::default();
    for material in materials.unwrap_or_default() {
        let made = made(&material, name, with, &mut model, &mut missing);
        model.materials.push(made);
    }
    for part in models {
        let mesh = part.mesh;
        too_many(model.triangles.len() + mesh.indices.len() / 3, name)?;
        let base = model.positions.len() as u32;
        let n = mesh.positions.len() / 3;
        model.positions.extend(mesh.positions.chunks_exact(3).map(|p| [p[0], p[1], p[2]]));
        model.normals.extend(mesh.normals.chunks_exact(3).map(|p| [p[0], p[1], p[2]]));
        model.uvs.extend(mesh.texcoords.chunks_exact(2).map(|p| [p[0], 1.0 - p[1]]));
        model.normals.resize(base as usize + n, [0.0; 3]);
        model.uvs.resize(base as usize + n, [0.0; 2]);
        let part = mesh.material_id.and_then(|m| u16::try_from(m).ok()).unwrap_or(0);
        model
            .triangles
            .extend(mesh.indices.chunks_exact(3).map(|t| [t[0], t[1], t[2]].map(|k| k.saturating_add(base))));
        model.parts.resize(model.triangles.len(), part);
    }
    if !missing.is_empty() {
        model.notes.push(format!("without {}, which did not come with it", crate::error::listed(&missing)));
    }
    Ok(model)
}

fn made(
    of: &tobj::Material,
    name: &str,
    with: &Companions,
    model: &mut ModelFile,
    missing: &mut Vec<String>,
) -> ModelMaterial {
    // Colours of MTL are taken as encoded for display, as who writes them means them.
    let colour = of.diffuse.unwrap_or([0.7; 3]).map(|v| v.clamp(0.0, 1.0).powf(2.2));
    let alpha = of.dissolve.unwrap_or(1.0).clamp(0.0, 1.0);
    // Blinn's exponent as roughness (Karis 2013).
    let rough = of.shininess.map_or(0.8, |n| (2.0 / (n.max(0.0) + 2.0)).powf(0.25).clamp(0.05, 1.0));
    let base_map = of.diffuse_texture.as_ref().and_then(|refers| {
        let Some(bytes) = companion(with, refers) else {
            missing.push(refers.clone());
            return None;
        };
        match Picture::decoded(bytes, name, None) {
            Ok(picture) => {
                model.pictures.push(picture);
                let transform = [1.0, 0.0, 0.0, 1.0, 0.0, 0.0];
                Some(ModelMap { picture: model.pictures.len() - 1, rim: [Rim::Repeat; 2], transform })
            }
            Err(why) => {
                model.notes.push(why.to_string());
                None
            }
        }
    });
    let cover = if alpha < 1.0 { super::ModelCover::Blend } else { super::ModelCover::Opaque };
    let base = if base_map.is_some() { [1.0, 1.0, 1.0, alpha] } else { [colour[0], colour[1], colour[2], alpha] };
    ModelMaterial { name: of.name.clone(), base, rough, base_map, cover, ..ModelMaterial::default() }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SQUARE: &[u8] = b"mtllib paint.mtl\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\n\
        usemtl red\nf 1/1 2/2 3/3 4/4\n";

    #[test]
    fn faces_and_colours_come_in_and_what_is_missing_is_named() {
        let mut with = Companions::new();
        let alone = ModelFile::read(SQUARE, "square.obj", &with).unwrap();
        assert!(alone.notes[0].contains("paint.mtl"), "{:?}", alone.notes);
        with.insert("paint.mtl".into(), b"newmtl red\nKd 1 0 0\nd 0.5\nmap_Kd ../../secret.png\n".to_vec());
        let model = ModelFile::read(SQUARE, "square.obj", &with).unwrap();
        assert_eq!((model.triangles.len(), model.materials[0].base), (2, [1.0, 0.0, 0.0, 0.5]));
        assert!(model.notes[0].contains("secret.png"), "it is not looked for anywhere else");
        assert_eq!(model.uvs[0], [0.0, 1.0], "counted from the top");
    }
}
