//! Models, pictures and letters that this project did not make, as they come with libraries of the registry, read here and,
//! where there is one, by a reader of another kind.

use fennik_media::{AssetFileError, Companions, FontFile, ModelFile, Picture};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::OnceLock;

/// Where the sources of a library lie.
fn library(name: &str) -> PathBuf {
    static ALL: OnceLock<BTreeMap<String, PathBuf>> = OnceLock::new();
    let all = ALL.get_or_init(|| {
        let said = Command::new("rustc").arg("-vV").output().unwrap().stdout;
        let said = String::from_utf8(said).unwrap();
        let host = said.lines().find_map(|line| line.strip_prefix("host: ")).unwrap();
        // What other systems need was not fetched.
        let run = Command::new(env!("CARGO"))
            .args(["metadata", "--offline", "--locked", "--filter-platform", host])
            .args(["--format-version", "1", "--manifest-path"])
            .arg(Path::new(env!("CARGO_MANIFEST_DIR")).join("Cargo.toml"))
            .output()
            .unwrap();
        let metadata: serde_json::Value = serde_json::from_slice(&run.stdout).unwrap();
        let packages = metadata["packages"].as_array().unwrap();
        let folder = |p: &serde_json::Value| Path::new(p["manifest_path"].as_str()?).parent().map(Path::to_owned);
        packages.iter().filter_map(|p| Some((p["name"].as_str()?.to_owned(), folder(p)?))).collect()
    });
    all[name].clone()
}

/// All files of a folder with one of these endings, by their names.
fn files(folder: &Path, endings: &[&str]) -> Vec<(PathBuf, String)> {
    let mut found: Vec<(PathBuf, String)> = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let (path, name) = (entry.path(), entry.file_name().to_string_lossy().into_owned());
        if path.is_dir() {
            found.extend(files(&path, endings));
        } else if endings.iter().any(|e| name.ends_with(e)) {
            found.push((path, name));
        }
    }
    found.sort();
    assert!(!found.is_empty(), "{} holds none of {endings:?}", folder.display());
    found
}

fn model(path: &Path, name: &str) -> Result<ModelFile, AssetFileError> {
    let mut with = Companions::new();
    for (path, name) in files(path.parent().unwrap(), &[""]) {
        with.insert(name, std::fs::read(path).unwrap());
    }
    ModelFile::open(path, name, &with)
}

/// Area of some triangles, and their least and greatest corner.
fn extent(triangles: impl Iterator<Item = [[f32; 3]; 3]>) -> (f64, [f64; 6]) {
    let mut box_of =
        [f64::INFINITY, f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
    let mut area = 0.0;
    for t in triangles {
        let [a, b, c] = t.map(|p| nalgebra::Vector3::from(p).cast::<f64>());
        area += 0.5 * (b - a).cross(&(c - a)).norm();
        for p in [a, b, c] {
            (0..3).for_each(|k| (box_of[k], box_of[k + 3]) = (box_of[k].min(p[k]), box_of[k + 3].max(p[k])));
        }
    }
    (area, box_of)
}

fn own_extent(model: &ModelFile) -> (f64, [f64; 6]) {
    extent(model.triangles.iter().map(|t| t.map(|k| model.positions[k as usize])))
}

fn agree(name: &str, (area, ends): (f64, [f64; 6]), (other_area, other_ends): (f64, [f64; 6])) {
    let size = (0..3).map(|k| other_ends[k + 3] - other_ends[k]).fold(0.0, f64::max);
    assert!((area - other_area).abs() <= 1e-3 * other_area, "{name}: area {area}, by another reader {other_area}");
    for (a, b) in ends.iter().zip(other_ends) {
        assert!((a - b).abs() <= 1e-3 * size, "{name}: {ends:?}, by another reader {other_ends:?}");
    }
}

#[test]
fn gltf_of_others_is_read_as_another_reader_does() {
    for (path, name) in files(&library("easy-gltf").join("tests"), &[".glb", ".gltf"]) {
        let scenes = easy_gltf::load(&path).unwrap();
        let models = || scenes.iter().flat_map(|s| &s.models);
        let triangles = models().filter_map(|m| m.triangles().ok()).flatten();
        let other = extent(triangles.map(|t| t.map(|v| v.position.into())));
        let read = model(&path, &name).unwrap_or_else(|why| panic!("{name}: {why}"));
        agree(&name, own_extent(&read), other);
        for colour in models().filter(|m| m.triangles().is_ok()).map(|m| m.material().pbr.base_color_factor) {
            let there = read.materials.iter().any(|m| (0..4).all(|k| (m.base[k] - colour[k]).abs() < 1e-3));
            assert!(there, "{name}: {colour:?} is not among {:?}", read.materials);
        }
        let pictured = models().filter(|m| m.material().pbr.base_color_texture.is_some()).count();
        assert_eq!(pictured > 0, read.materials.iter().any(|m| m.base_map.is_some()), "{name}");
    }
    for (path, name) in files(&library("gltf-json").join("tests"), &[".gltf"]) {
        assert!(model(&path, &name).is_err(), "{name} is broken");
    }
}

#[test]
fn obj_of_others_is_read_as_another_reader_does() {
    let (mut read_well, mut empty) = (0, 0);
    for (path, name) in files(&library("obj-rs").join("tests"), &[".obj"]) {
        let raw = obj::raw::parse_obj(std::io::BufReader::new(std::fs::File::open(&path).unwrap())).unwrap();
        use obj::raw::object::Polygon::{P, PN, PT, PTN};
        let polygons = raw.polygons.iter().map(|polygon| -> Vec<usize> {
            match polygon {
                P(at) => at.clone(),
                PT(at) | PN(at) => at.iter().map(|p| p.0).collect(),
                PTN(at) => at.iter().map(|p| p.0).collect(),
            }
        });
        let place = |k: usize| <[f32; 3]>::from((raw.positions[k].0, raw.positions[k].1, raw.positions[k].2));
        let fans = polygons.flat_map(|p| (2..p.len()).map(|i| [p[0], p[i - 1], p[i]].map(place)).collect::<Vec<_>>());
        match model(&path, &name) {
            Ok(read) => {
                agree(&name, own_extent(&read), extent(fans));
                read_well += 1;
            }
            Err(why) => {
                assert!(matches!(why, AssetFileError::Empty { .. }) && raw.polygons.is_empty(), "{name}: {why}");
                empty += 1;
            }
        }
    }
    assert!(read_well >= 6 && empty >= 2, "{read_well} read, {empty} without a face");
}

#[test]
fn ply_and_stl_of_others_are_read_or_refused_in_words() {
    let stl: Vec<_> = files(&library("stl_io").join("src/testdata"), &[".stl"])
        .into_iter()
        .map(|(path, name)| own_extent(&model(&path, &name).unwrap_or_else(|why| panic!("{name}: {why}"))))
        .collect();
    agree("the same rabbit, in words and in bytes", stl[0], stl[1]);
    let mut read: Vec<String> = Vec::new();
    for (path, name) in files(&library("ply-rs-bw").join("example_plys"), &[".ply"]) {
        match model(&path, &name) {
            Ok(_) => read.push(name),
            Err(why) => assert!(why.to_string().len() > 20, "{name}: {why}"),
        }
    }
    for wanted in
        ["tetrahedron_ascii", "tetrahedron_big_endian", "tetrahedron_little_endian", "greg_turk_example2_ok_ascii"]
    {
        assert!(read.iter().any(|name| name.starts_with(wanted)), "{wanted} is not among {read:?}");
    }
}

#[test]
fn pictures_and_letters_of_others_are_read() {
    let pictures = files(&library("tiff").join("tests"), &[".tif", ".tiff"])
        .into_iter()
        .chain(files(&library("i_triangle").join("readme"), &[".svg"]));
    let mut colourful = 0;
    for (path, name) in pictures {
        match Picture::open(&path, &name) {
            Ok(picture) => {
                assert!(picture.width > 1 && picture.height > 1, "{name}");
                let fennik_media::Pixels::Encoded(bytes) = &picture.pixels else { panic!("{name} holds no light") };
                colourful += usize::from(bytes.chunks(4).any(|p| p[..3] != bytes[..3]));
            }
            // A page that holds no picture.
            Err(why) => assert_eq!(name, "subsubifds.tif", "{why}"),
        }
    }
    assert!(colourful >= 10, "{colourful} pictures show anything");
    let fonts = [("fontdb", "tests/fonts", 200), ("ttf-parser", "tests/fonts", 1)];
    for (name, folder, glyphs) in fonts {
        for (path, name) in files(&library(name).join(folder), &[".ttf"]) {
            let font = FontFile::open(&path, &name).unwrap_or_else(|why| panic!("{name}: {why}"));
            assert!(font.glyphs >= glyphs, "{name}: {} glyphs", font.glyphs);
        }
    }
}

/// Models that trimesh wrote, with what it says of them (`tests/trimesh/make.py` makes both again).
#[test]
fn what_trimesh_writes_is_as_it_says() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/trimesh");
    let said = std::fs::read_to_string(folder.join("said.json")).unwrap();
    let said: BTreeMap<String, serde_json::Value> = serde_json::from_str(&said).unwrap();
    assert_eq!(said.len(), 5);
    for (name, other) in &said {
        let read = ModelFile::open(&folder.join(name), name, &Companions::new()).unwrap();
        assert_eq!(read.triangles.len() as u64, other["triangles"], "{name}");
        let ends: [f64; 6] = serde_json::from_value(other["ends"].clone()).unwrap();
        agree(name, own_extent(&read), (other["area"].as_f64().unwrap(), ends));
        assert_eq!(read.colours.is_empty(), !name.ends_with(".ply"), "{name}: colours of its corners");
        if name.ends_with(".glb") {
            let names: Vec<&str> = read.materials.iter().map(|m| m.name.as_str()).collect();
            assert_eq!(names, ["body", "ring"]);
        }
    }
}
