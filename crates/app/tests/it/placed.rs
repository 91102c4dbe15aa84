//! Every kind of insert, from files of all sorts, by recipe: placed, drawn, swapped, saved, handed over.

use super::server::Server;
use super::{fennik, ffmpeg, text};
use serde_json::{Value, json};
use std::path::Path;

/// The finished demo shot in a data folder of one's own.
pub fn finished(folder: &Path) -> std::path::PathBuf {
    let data = folder.join("data");
    let mut server = Server::plain(&data);
    server.end();
    data
}

pub fn apply(data: &Path, recipe: &Path, steps: Value) -> (bool, String) {
    let whole = json!({ "format": "fennik-recipe", "version": 1, "steps": steps });
    std::fs::write(recipe, whole.to_string()).unwrap();
    let run = fennik(&["apply", text(recipe), "--shot", "Varrick quay, finished", "--data", text(data)]);
    let said = [run.stdout, run.stderr].map(|b| String::from_utf8_lossy(&b).into_owned()).concat();
    (run.status.success(), said)
}

pub fn still(folder: &Path, frame: u32) -> image::RgbImage {
    image::open(folder.join(format!("{frame:06}.png"))).unwrap().into_rgb8()
}

/// Pixels that differ clearly, and the middle of them.
pub fn differing(a: &image::RgbImage, b: &image::RgbImage) -> (usize, [f64; 2]) {
    let apart = |(x, y, p): (u32, u32, &image::Rgb<u8>)| {
        let q = b.get_pixel(x, y);
        (0..3).any(|k| p[k].abs_diff(q[k]) > 24).then_some([f64::from(x), f64::from(y)])
    };
    let all: Vec<[f64; 2]> = a.enumerate_pixels().filter_map(apart).collect();
    let n = all.len().max(1) as f64;
    (all.len(), [all.iter().map(|p| p[0]).sum::<f64>() / n, all.iter().map(|p| p[1]).sum::<f64>() / n])
}

const CREST: &str = "<svg xmlns='http://www.w3.org/2000/svg' width='60' height='60'><rect width='60' height='60' \
    fill='#d01020'/></svg>";
const SLAB: &str = "mtllib slab.mtl\nv -1 0 -1\nv 1 0 -1\nv 1 0 1\nv -1 0 1\nv -1 2 -1\nv 1 2 -1\nv 1 2 1\nv -1 2 1\n\
    usemtl blue\nf 1 2 3 4\nf 8 7 6 5\nf 1 5 6 2\nf 2 6 7 3\nf 3 7 8 4\nf 4 8 5 1\n";

#[test]
fn every_kind_is_placed_drawn_swapped_and_written_down() {
    let folder = tempfile::tempdir().unwrap();
    let data = finished(folder.path());
    let (recipe, out) = (folder.path().join("steps.json"), folder.path().join("stills"));
    std::fs::write(folder.path().join("crest.svg"), CREST).unwrap();
    std::fs::write(folder.path().join("other.svg"), CREST.replace("#d01020", "#10c040")).unwrap();
    std::fs::write(folder.path().join("slab.obj"), SLAB).unwrap();
    std::fs::write(folder.path().join("slab.mtl"), "newmtl blue\nKd 0.05 0.1 0.9\n").unwrap();
    let blaze = folder.path().join("blaze.mp4");
    let lit = "between(X,30+20*mod(N,2),80+20*mod(N,2))*between(Y,30,80)";
    let glow = format!("color=black:s=128x128:r=25:d=1,format=rgb24,geq=r='255*{lit}':g='140*{lit}':b='0'");
    ffmpeg(&["-f", "lavfi", "-i", &glow, "-pix_fmt", "yuv420p", text(&blaze)]);
    let render = |name: &str| json!({ "do": "render", "out": format!("stills/{name}"), "frames": [60, 61] });
    let (done, said) = apply(&data, &recipe, json!([render("before")]));
    assert!(done, "{said}");
    let place = |kind: &str, name: &str, file: &str, pixel: [u32; 2]| json!({ "do": "place", "kind": kind, "name": name, "file": file, "at": { "frame": 60, "pixel": pixel } });
    let before = still(&out.join("before"), 60);
    for (kind, name, file, pixel) in [
        ("sign", "crest", "crest.svg", [300, 620]),
        ("prop", "slab", "slab.obj", [860, 600]),
        ("effect", "blaze", "blaze.mp4", [560, 640]),
    ] {
        let (done, said) = apply(&data, &recipe, json!([place(kind, name, file, pixel), render(name)]));
        assert!(done, "{said}");
        let (count, at) = differing(&before, &still(&out.join(name), 60));
        assert!(count > 500, "{kind}: {count} pixels");
        assert!((at[0] - f64::from(pixel[0])).abs() < 120.0, "{kind} stands at {at:?}");
        let (done, said) = apply(&data, &recipe, json!([{ "do": "set", "thing": name, "values": { "hidden": true } }]));
        assert!(done, "{said}");
    }
    // A clip runs.
    let (one, next) = (still(&out.join("blaze"), 60), still(&out.join("blaze"), 61));
    let frames = |name: &str| [60, 61].map(|f| still(&out.join(name), f));
    let [a, b] = frames("before");
    assert!(differing(&one, &next).0 > differing(&a, &b).0 + 200, "its next frame is another");
    // Another file in the same place.
    let (done, said) = apply(
        &data,
        &recipe,
        json!([
            { "do": "set", "thing": "crest", "values": { "hidden": false, "light": "glows", "thickness": "5 cm" } },
            { "do": "swap", "thing": "crest", "file": "other.svg" },
            { "do": "set", "thing": "light", "values": { "floor-shadow": 0 } },
            render("swapped"),
        ]),
    );
    assert!(done, "{said}");
    let swapped = still(&out.join("swapped"), 60);
    let green = swapped.pixels().filter(|p| p.0 == [16, 192, 64]).count();
    assert!(green > 500, "it glows in its own colour: {green} pixels");
    // Far away, behind everything: only above the horizon, and only where the plate is bright.
    let far = json!([
        { "do": "set", "thing": "crest", "values": { "hidden": true } },
        place("backdrop", "sky", "crest.svg", [640, 40]),
        { "do": "set", "thing": "sky", "values": { "spread": "dome", "covers": "above" } },
        render("sky"),
        { "do": "set", "thing": "sky", "values": { "hidden": true } },
    ]);
    let (done, said) = apply(&data, &recipe, far);
    assert!(done, "{said}");
    let sky = still(&out.join("sky"), 60);
    assert!(
        sky.get_pixel(640, 8).0 != before.get_pixel(640, 8).0 && sky.get_pixel(640, 700) == before.get_pixel(640, 700)
    );
    let marker =
        json!([{ "do": "place", "kind": "marker", "name": "gate", "at": { "frame": 60, "pixel": [640, 600] } }]);
    let (done, said) = apply(&data, &recipe, marker);
    assert!(done, "{said}");
    // The sun by a shadow; a tip in the sky is none.
    let sun = |tip: [u32; 2]| {
        let at = |pixel: [u32; 2]| json!({ "frame": 60, "pixel": pixel });
        json!([{ "do": "sun", "foot": at([500, 560]), "tip": at(tip), "top": at([500, 480]) }])
    };
    let (done, said) = apply(&data, &recipe, sun([640, 8]));
    assert!(!done && said.contains("the tip of the shadow is not seen on the floor"), "{said}");
    let (done, said) = apply(&data, &recipe, sun([560, 600]));
    assert!(done, "{said}");
    // It comes in from the side over some frames, and is not there yet half way.
    let steps = json!([
        { "do": "set", "thing": "sky", "values": { "hidden": true } },
        { "do": "set", "thing": "slab", "values": { "hidden": false } },
        { "do": "set", "thing": "slab", "values": { "x": -6, "opacity": 0 }, "frame": 60, "ease": "linear" },
        { "do": "set", "thing": "slab", "values": { "x": 2, "opacity": 1 }, "frame": 62 },
        { "do": "render", "out": "stills/comes", "frames": [60, 62] },
        { "do": "set", "thing": "slab", "values": { "hidden": true } },
    ]);
    let (done, said) = apply(&data, &recipe, steps);
    assert!(done, "{said}");
    let blue = |frame: u32| {
        let picture = still(&out.join("comes"), frame);
        let all: Vec<u32> = picture
            .enumerate_pixels()
            .filter(|(_, _, p)| i32::from(p[2]) > i32::from(p[0]) + 60 && i32::from(p[2]) > i32::from(p[1]) + 40)
            .map(|(x, ..)| x)
            .collect();
        (all.len(), all.iter().sum::<u32>() as f64 / all.len().max(1) as f64)
    };
    let [none, half, there] = [60, 61, 62].map(blue);
    assert!(none.0 < half.0 && half.1 + 40.0 < there.1 && there.0 > 1000, "{none:?} {half:?} {there:?}");
    // What is wrong is said, and changes nothing.
    std::fs::write(folder.path().join("notes.png"), "no picture").unwrap();
    for (step, reason) in [
        (place("sign", "n", "notes.png", [9, 9]), "notes.png"),
        (place("sign", "n", "slab.obj", [300, 620]), "picture"),
        (place("prop", "n", "crest.svg", [300, 620]), "model"),
        (place("sign", "n", "../gone.png", [9, 9]), "gone.png"),
        (json!({ "do": "swap", "thing": "gate", "file": "crest.svg" }), "marker"),
        (json!({ "do": "set", "thing": "crest", "values": { "alpha": "straight" }, "frame": 9 }), "over time"),
        (json!({ "do": "set", "thing": "crest", "values": { "blend": "glitter" } }), "glitter"),
        (json!({ "do": "set", "thing": "crest", "values": { "opacity": 2 } }), "opacity"),
    ] {
        let (done, said) = apply(&data, &recipe, json!([step]));
        assert!(!done && said.contains(reason), "{step}: {said}");
    }
    let arriving = |e: &std::fs::DirEntry| e.file_name().to_string_lossy().starts_with('.');
    assert!(!std::fs::read_dir(data.join("assets")).unwrap().flatten().any(|e| arriving(&e)), "nothing is left behind");
    let lit = json!([{ "do": "surroundings", "library": "evening" }]);
    let (done, said) = apply(&data, &recipe, lit);
    assert!(done, "{said}");
    // Written down as a recipe and read again, everything stands where it stood.
    let export = |format: &str, name: &str| {
        let out = folder.path().join(name);
        let arguments =
            ["export", "Varrick quay, finished", "--format", format, "--out", text(&out), "--data", text(&data)];
        let run = fennik(&arguments);
        assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
        std::fs::read(out).unwrap()
    };
    let written: Value = serde_json::from_slice(&export("recipe", "written.json")).unwrap();
    let steps = written["steps"].as_array().unwrap();
    let placed: Vec<_> = steps.iter().filter(|s| s["do"] == "place").map(|s| s["kind"].as_str().unwrap()).collect();
    assert_eq!(placed, ["title", "sign", "prop", "effect", "backdrop", "marker"]);
    assert!(export("gltf", "scene.glb").starts_with(b"glTF"));
}
