//! A shot by recipe, from outside.

use super::{clip, fennik, pattern, text};
use serde_json::{Value, json};
use std::path::Path;

fn write(path: &Path, steps: &Value) {
    let recipe = json!({ "format": "fennik-recipe", "version": 1, "steps": steps });
    std::fs::write(path, recipe.to_string()).unwrap();
}

fn show(data: &Path, shot: &str) -> Value {
    let run = fennik(&["show", shot, "--json", "--data", text(data)]);
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    serde_json::from_slice(&run.stdout).unwrap()
}

#[test]
fn a_step_that_does_not_hold_ends_the_run_and_those_before_it_stay() {
    let folder = tempfile::tempdir().unwrap();
    let (data, path) = (folder.path().join("data"), folder.path().join("steps/shot.json"));
    std::fs::create_dir(folder.path().join("steps")).unwrap();
    clip(folder.path());
    let apply = |steps: Value, more: &[&str]| {
        write(&path, &steps);
        let run = fennik(&[&["apply", text(&path), "--data", text(&data)], more].concat());
        (
            run.status.code().unwrap(),
            String::from_utf8_lossy(&run.stdout).into_owned() + &String::from_utf8_lossy(&run.stderr),
        )
    };
    let take_in = json!({ "do": "take-in", "clip": "../the quay's clip.mp4", "name": "Quay" });
    let (code, said) = apply(
        json!([take_in, { "do": "trim", "first": 10, "last": 39 },
            { "do": "origin", "at": { "frame": 0, "pixel": [9, 9] } }, { "do": "flip" }]),
        &[],
    );
    assert!(code == 1 && said.contains("step 3 (origin)") && said.contains("no solved camera"), "{said}");
    let there = show(&data, "Quay");
    assert_eq!(
        (&there["trim"], &there["readings"], &there["inserts"]),
        (&json!({ "first": 10, "last": 39 }), &json!({}), &json!([]))
    );
    assert!(said.lines().filter(|l| l.contains("decoding")).count() <= 12, "a line every ten per cent: {said}");

    let key = json!({ "frame": 0, "outline": [[0, 0], [90, 0], [90, 90]] });
    let mask = |keys: Value| json!({ "do": "mask", "name": "people", "mode": "keep-out", "keys": keys });
    let (code, said) = apply(
        json!([mask(json!([key])), mask(json!([key, { "frame": 9, "outline": [[0, 0], [90, 0], [90, 90]] }]))]),
        &["--shot", "Quay"],
    );
    assert_eq!(code, 0, "{said}");
    assert_eq!(
        show(&data, "1")["masks"],
        json!([{ "name": "people", "mode": "keep-out", "keys": 2 }]),
        "the same name is the same mask"
    );
    for (step, reason) in [
        (json!({ "do": "trim", "first": 0, "last": 250 }), "ends at frame 249"),
        (json!({ "do": "track", "density": 1 }), "ensity"),
        (json!({ "do": "solve" }), "no tracks of this trim yet"),
        (json!({ "do": "take-in", "clip": "gone.mp4" }), "gone.mp4"),
        (json!({ "do": "set", "thing": "Hello", "values": {} }), "nothing called \"Hello\""),
        (json!({ "do": "set", "thing": "light", "values": { "sun": "2 m" } }), "sun: "),
        (
            json!({ "do": "set", "thing": "light", "values": { "moon": 1 } }),
            "bearing, height, sun, sun-colour, sun-width, sun-shadow, ambient, ambient-colour, floor-shadow",
        ),
        (json!({ "do": "set", "thing": "shutter", "values": { "angle": 90 }, "frame": 3 }), "over time"),
        (json!({ "do": "set", "thing": "finish", "values": { "glow": 1 } }), "vignette"),
        (json!({ "do": "set", "thing": "lens", "values": { "glow": 1 } }), "haze-at"),
        (json!({ "do": "set", "thing": "floor", "values": { "glow": 1 } }), "contact"),
        (json!({ "do": "set", "thing": "surroundings", "values": { "turn": 1 } }), "no surroundings yet"),
        (json!({ "do": "hold-out", "name": "x" }), "one of mask, surface, key, file and asset"),
        (json!({ "do": "hold-out", "name": "x", "mask": "mast" }), "no mask \"mast\""),
        (json!({ "do": "hold-out", "name": "x", "key": "loud" }), "none of the words"),
        (json!({ "do": "use-look", "name": "noon" }), "no look \"noon\""),
        (json!({ "do": "table", "file": "gone.cube" }), "gone.cube"),
        (json!({ "do": "plate-colour", "transfer": "film" }), "film"),
        (
            json!({ "do": "place", "kind": "kiosk", "name": "K", "at": { "frame": 0, "pixel": [9, 9] } }),
            "cannot be placed",
        ),
        (json!({ "do": "render", "out": "x", "frames": [5, 30] }), "frames 0 to 29"),
        (json!({ "do": "dance" }), "dance"),
        (json!({ "do": "flip", "often": true }), "often"),
        (
            json!({ "do": "sun", "foot": { "frame": 0, "pixel": [9, 9] }, "tip": { "frame": 0, "pixel": [9, 9] }, "moon": 1 }),
            "moon",
        ),
    ] {
        let before = show(&data, "Quay");
        let (code, said) = apply(json!([step]), &["--shot", "Quay"]);
        assert!(code == 1 && said.contains("step 1") && said.contains(reason), "{step}: {said}");
        let kept = |v: &Value| (v["inserts"].clone(), v["light"].clone(), v["trim"].clone(), v["masks"].clone());
        assert_eq!(kept(&show(&data, "Quay")), kept(&before), "{step}");
    }
    assert_eq!(show(&data, "Quay")["shot"], 1);
    let (code, said) = apply(json!([{ "do": "flip" }]), &[]);
    assert!(code == 1 && said.contains("begin with take-in"), "{said}");
    let (code, said) = apply(json!([{ "do": "render", "out": "-o:1/", "frames": [0, 1] }]), &["--shot", "Quay"]);
    assert!(code == 0 && folder.path().join("steps/-o:1/000001.png").exists(), "{said}");
    // A clip that cannot be decoded leaves no shot behind.
    std::fs::write(folder.path().join("notes.mp4"), "no clip").unwrap();
    assert_eq!(apply(json!([{ "do": "take-in", "clip": "../notes.mp4" }]), &[]).0, 1);
    assert_eq!(std::fs::read_dir(data.join("clips")).unwrap().count(), 1);
}

#[test]
fn stills_are_rendered_by_the_frame() {
    let folder = tempfile::tempdir().unwrap();
    let (data, out) = (folder.path().join("data"), folder.path().join("stills"));
    let bars = folder.path().join("bars.mp4");
    pattern("320x180", 9, &["-pix_fmt", "yuv420p"], &bars);
    assert!(fennik(&["add", text(&bars), "--data", text(&data)]).status.success());
    let run = fennik(&["render", "bars", "--frames", "3-5", "--out", text(&out), "--data", text(&data)]);
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    let mut names: Vec<_> =
        std::fs::read_dir(&out).unwrap().flatten().map(|e| e.file_name().into_string().unwrap()).collect();
    names.sort();
    assert_eq!(names, ["000003.png", "000004.png", "000005.png"]);
    assert_eq!(image::open(out.join("000004.png")).unwrap().width(), 320);
    let run = fennik(&["render", "bars", "--frames", "3-9", "--out", text(&out), "--data", text(&data)]);
    assert!(!run.status.success() && String::from_utf8_lossy(&run.stderr).contains("frames 0 to 8"));
}
