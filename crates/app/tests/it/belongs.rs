//! What makes things belong, by recipe: holdouts, light, lens and finish, and that ten bits stay ten.

use super::{fennik, ffmpeg, pattern, text};
use fennik_core::colour::decode;
use fennik_media::{ClipInfo, FrameReader, PixelKind};
use serde_json::{Value, json};
use std::path::Path;

fn apply(folder: &Path, steps: Value, more: &[&str]) -> (bool, String) {
    let recipe = folder.join("recipe.json");
    let whole = json!({ "format": "fennik-recipe", "version": 3, "steps": steps });
    std::fs::write(&recipe, whole.to_string()).unwrap();
    let data = folder.join("data");
    let mut arguments = vec!["apply", text(&recipe), "--data", text(&data)];
    arguments.extend(more);
    let run = fennik(&arguments);
    let said = String::from_utf8_lossy(&run.stdout).into_owned() + &String::from_utf8_lossy(&run.stderr);
    (run.status.success(), said)
}

fn still(path: &Path) -> image::RgbImage {
    image::open(path).unwrap().into_rgb8()
}

/// Of a clip without a camera the finish and the mattes can be had; and what was written down does the same again.
#[test]
fn a_shot_is_finished_and_its_mattes_are_written_by_recipe() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    pattern("320x180", 12, &[], &at.join("clip.mp4"));
    let turned: String =
        (0..8).map(|i| format!("{} {} {}\n", 1 - (i & 1), 1 - (i >> 1 & 1), 1 - (i >> 2 & 1))).collect();
    std::fs::write(at.join("turned.cube"), format!("LUT_3D_SIZE 2\n{turned}")).unwrap();
    let outline = json!([{ "frame": 0, "outline": [[40, 40], [120, 40], [120, 120], [40, 120]] }]);
    let (done, said) = apply(
        at,
        json!([
            { "do": "take-in", "clip": "clip.mp4", "name": "Bars" },
            { "do": "render", "out": "plain/", "frames": [0, 0] },
            { "do": "mask", "name": "box", "mode": "shape", "keys": outline, "feather": 0 },
            { "do": "hold-out", "name": "box", "mask": "box", "values": { "strength": 0.5 } },
            { "do": "set", "thing": "box", "values": { "strength": 1 }, "frame": 4 },
            { "do": "set", "thing": "box", "values": { "strength": 0 }, "frame": 8 },
            { "do": "matte", "out": "mattes/", "frames": [4, 8] },
            { "do": "set", "thing": "finish", "values": { "exposure": -1, "bars-format": 2.39 } },
            { "do": "set", "thing": "finish", "values": { "saturation": 0.2 }, "frame": 2, "ease": "linear" },
            { "do": "keep-look", "name": "dim" },
            { "do": "table", "file": "turned.cube" },
            { "do": "render", "out": "turned/", "frames": [0, 0] },
            { "do": "use-look", "name": "dim" },
            { "do": "render", "out": "dim/", "frames": [0, 0] },
        ]),
        &[],
    );
    assert!(done, "{said}");
    let matte = |frame: u32| image::open(at.join(format!("mattes/{frame:06}.png"))).unwrap().into_luma8();
    assert_eq!([matte(4).get_pixel(80, 80).0[0], matte(4).get_pixel(200, 80).0[0]], [255, 0]);
    assert!((110..145).contains(&matte(6).get_pixel(80, 80).0[0]) && matte(8).get_pixel(80, 80).0[0] == 0);
    let (plain, dim, turned) =
        (still(&at.join("plain/000000.png")), still(&at.join("dim/000000.png")), still(&at.join("turned/000000.png")));
    assert_eq!(dim.get_pixel(160, 2).0, [0; 3], "the bar");
    let middle = |p: &image::RgbImage| p.get_pixel(160, 90).0.map(i32::from);
    // A stop less light; greyer by four fifths.
    let luminance = |p: &image::RgbImage| fennik_core::colour::luminance(middle(p).map(|v| decode(v as f32 / 255.0)));
    assert!((luminance(&dim) - 0.5 * luminance(&plain)).abs() < 0.01, "{:?} {:?}", middle(&dim), middle(&plain));
    assert!((0..3).all(|k| (middle(&dim)[k] + middle(&turned)[k] - 255).abs() <= 2), "{:?}", middle(&turned));
    // Written down, and done again on the same clip.
    let data = at.join("data");
    let again = at.join("again.json");
    let run = fennik(&["export", "Bars", "--format", "recipe", "--out", text(&again), "--data", text(&data)]);
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    let mut steps: Value = serde_json::from_slice(&std::fs::read(&again).unwrap()).unwrap();
    let list = steps["steps"].as_array_mut().unwrap();
    list[0]["name"] = json!("Again");
    list.push(json!({ "do": "render", "out": "again/", "frames": [0, 0] }));
    list.push(json!({ "do": "matte", "out": "again mattes/", "frames": [6, 6] }));
    let (done, said) = apply(at, steps["steps"].clone(), &[]);
    assert!(done, "{said}");
    assert_eq!(still(&at.join("again/000000.png")), dim);
    assert_eq!(image::open(at.join("again mattes/000006.png")).unwrap().into_luma8(), matte(6));
}

#[test]
fn ten_bits_stay_ten_bits_and_keep_their_law() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    // A ramp of 1024 steps over the width, in HLG.
    let ramp = "nullsrc=s=1024x64:d=0.2:r=25,format=gbrp10le,geq=r=X:g=X:b=X";
    let law = ["-color_primaries", "bt2020", "-color_trc", "arib-std-b67", "-colorspace", "bt2020nc"];
    let mut arguments = vec!["-v", "error", "-f", "lavfi", "-i", ramp, "-vf"];
    arguments.extend(["scale=out_color_matrix=bt2020:out_range=tv,format=yuv420p10le", "-c:v", "libx265"]);
    arguments.extend(["-x265-params", "lossless=1:log-level=error"]);
    arguments.extend(law);
    let clip = at.join("ramp.mp4");
    arguments.push(text(&clip));
    ffmpeg(&arguments);
    let (done, said) = apply(
        at,
        json!([
            { "do": "take-in", "clip": "ramp.mp4", "name": "Ramp" },
            { "do": "render", "out": "ramp out.mp4" },
        ]),
        &[],
    );
    assert!(done, "{said}");
    let read = |path: &Path| -> (ClipInfo, Vec<u16>) {
        let info = ClipInfo::open(path, at).unwrap();
        let mut reader = FrameReader::open(&info, Some((2, 3)), PixelKind::DeepRgb).unwrap();
        let row = reader.next_frame().unwrap().unwrap()[..6 * 1024].to_vec();
        (info, row.chunks_exact(6).map(|p| u16::from_le_bytes([p[2], p[3]])).collect())
    };
    let ((before, was), (after, is)) = (read(&clip), read(&at.join("ramp out.mp4")));
    assert!(before.deep && after.deep);
    assert_eq!((after.transfer.word(), after.primaries.word()), ("hlg", "bt2020"));
    let levels = |row: &[u16]| row.iter().map(|v| v >> 6).collect::<std::collections::BTreeSet<_>>().len();
    assert!(levels(&was) > 500 && levels(&is) > 500, "{} {}", levels(&was), levels(&is));
    let off = was.iter().zip(&is).map(|(a, b)| a.abs_diff(*b)).max().unwrap();
    assert!(off < 4 * 64, "less than four of 1024 off: {off}");
}
