//! What is done with things that are placed, by recipe: copies, parents, corners, measures, keys, materials, the library.

use super::placed::{apply, differing, finished, still};
use super::{fennik, text};
use serde_json::{Value, json};
use std::path::Path;

fn shown(data: &Path) -> Vec<Value> {
    let run = fennik(&["show", "Varrick quay, finished", "--json", "--data", text(data)]);
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    let state: Value = serde_json::from_slice(&run.stdout).unwrap();
    state["inserts"].as_array().unwrap().clone()
}

fn written_down(folder: &Path, data: &Path) -> String {
    let out = folder.join("written.json");
    let shot = "Varrick quay, finished";
    let run = fennik(&["export", shot, "--format", "recipe", "--out", text(&out), "--data", text(data)]);
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    std::fs::read_to_string(out).unwrap()
}

fn named<'a>(all: &'a [Value], name: &str) -> &'a Value {
    all.iter().find(|i| i["name"] == name).unwrap_or_else(|| panic!("no {name} in {all:?}"))
}

fn origin(insert: &Value) -> [f64; 3] {
    std::array::from_fn(|k| insert["origin"][k].as_f64().unwrap())
}

fn place(item: &str, kind: &str, pixel: [u32; 2]) -> Value {
    json!({ "do": "place", "kind": kind, "name": item, "library": item, "at": { "frame": 60, "pixel": pixel } })
}

fn arrange(thing: &str, does: Value) -> Value {
    json!({ "do": "arrange", "thing": thing, "frame": 60, "does": does })
}

/// A model's foot is what touches the ground; recipes of version 1 had the middle of all of it.
#[test]
fn recipes_of_version_1_place_models_as_they_did() {
    let folder = tempfile::tempdir().unwrap();
    let data = finished(folder.path());
    for (version, foot) in [(1, "whole"), (2, "ground")] {
        let name = format!("mast {version}");
        let step = json!({ "do": "place", "kind": "prop", "name": name, "library": "mast",
            "at": { "frame": 60, "pixel": [560, 600] } });
        let recipe = folder.path().join("mast.json");
        let whole = json!({ "format": "fennik-recipe", "version": version, "steps": [step] });
        std::fs::write(&recipe, whole.to_string()).unwrap();
        let shot = "Varrick quay, finished";
        let run = fennik(&["apply", text(&recipe), "--shot", shot, "--data", text(&data)]);
        assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
        let written: Value = serde_json::from_str(&written_down(folder.path(), &data)).unwrap();
        let sets = written["steps"].as_array().unwrap().iter().filter(|s| s["thing"] == name.as_str());
        let feet: Vec<&Value> = sets.map(|s| &s["values"]["foot"]).filter(|f| !f.is_null()).collect();
        assert_eq!(feet, [foot]);
    }
}

/// A title clicked onto a wall lies against it; recipes up to version 2 had it stand out like a shelf.
#[test]
fn recipes_of_version_2_place_titles_as_they_did() {
    let folder = tempfile::tempdir().unwrap();
    let data = finished(folder.path());
    for (version, stance) in [(2, "standing"), (3, "lying")] {
        let name = format!("name {version}");
        let front = format!("front {version}");
        let steps = json!([
            { "do": "corners", "name": front, "region": { "frame": 60, "outline": [[400, 200], [700, 200], [700, 400], [400, 400]] } },
            { "do": "set", "thing": front, "values": { "kind": "wall" } },
            { "do": "square", "surface": front, "to": "floor" },
            { "do": "place", "kind": "title", "name": name, "text": "A", "on": front, "at": { "frame": 60, "pixel": [560, 300] } },
        ]);
        let recipe = folder.path().join("name.json");
        let whole = json!({ "format": "fennik-recipe", "version": version, "steps": steps });
        std::fs::write(&recipe, whole.to_string()).unwrap();
        let run = fennik(&["apply", text(&recipe), "--shot", "Varrick quay, finished", "--data", text(&data)]);
        assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
        let written: Value = serde_json::from_str(&written_down(folder.path(), &data)).unwrap();
        let place =
            written["steps"].as_array().unwrap().iter().find(|s| s["do"] == "place" && s["name"] == name.as_str());
        assert_eq!(place.unwrap()["stance"], stance);
    }
}

#[test]
fn things_are_arranged_hung_copied_and_dressed_and_written_down() {
    let folder = tempfile::tempdir().unwrap();
    let data = finished(folder.path());
    let recipe = folder.path().join("steps.json");
    let render = |name: &str| json!({ "do": "render", "out": format!("stills/{name}"), "frames": [60, 60] });
    let (done, said) = apply(
        &data,
        &recipe,
        json!([
            place("bollard", "prop", [420, 620]),
            place("regatta", "sign", [760, 640]),
            render("one"),
            { "do": "set", "thing": "bollard", "values": { "copies": "row" } },
            { "do": "set", "thing": "bollard", "values": { "count": 4, "step-x": 1.2, "each-turn": "10 deg" } },
            render("row"),
            { "do": "take-out", "thing": "bollard", "copy": 3, "name": "alone" },
            arrange("regatta", json!({ "how": "size", "of": "height", "is": "2 m" })),
            arrange("regatta", json!({ "how": "pivot", "at": "head" })),
            { "do": "hang", "thing": "alone", "on": "regatta", "frame": 60 },
            { "do": "set", "thing": "regatta", "values": { "lift": 1.0 } },
            { "do": "duplicate", "thing": "regatta", "name": "again" },
            { "do": "group", "things": ["again", "bollard"], "name": "both" },
            { "do": "dress", "thing": "alone", "with": "planks" },
            { "do": "dress", "thing": "Varrick", "with": "steel" },
            { "do": "order", "thing": "again", "to": 0 },
            { "do": "set", "thing": "Varrick", "frame": 50, "values": { "height": 1.0 } },
            { "do": "set", "thing": "Varrick", "frame": 70, "ease": "linear", "values": { "height": 2.0 } },
            arrange("Varrick", json!({ "how": "copy-key", "to": 90, "value": "height" })),
            { "do": "set", "thing": "again", "values": { "from": 10, "to": 40, "fade-out": 5, "haze": "oval", "flip": "across",
                "near-fade": "2 m" } },
            { "do": "set", "thing": "both", "values": { "locked": true } },
            render("all"),
        ]),
    );
    assert!(done, "{said}");
    let stills = |name: &str| still(&folder.path().join(format!("stills/{name}")), 60);
    let (more, _) = differing(&stills("one"), &stills("row"));
    assert!(more > 200, "three more bollards are seen: {more}");
    let all = shown(&data);
    assert_eq!(all[0]["name"], "again");
    assert_eq!(named(&all, "bollard")["copies"], 3);
    let height = named(&all, "regatta")["size"][1].as_f64().unwrap();
    assert!((height - 2.0).abs() < 1e-6, "{height}");
    assert_eq!((&named(&all, "alone")["on"], &named(&all, "again")["on"]), (&json!("regatta"), &json!("both")));
    // What hangs on the board went up with it.
    assert!((origin(named(&all, "alone"))[1] - 1.0).abs() < 1e-6, "{:?}", origin(named(&all, "alone")));
    let (_, refused) = apply(&data, &recipe, json!([{ "do": "set", "thing": "both", "values": { "turn": 5 } }]));
    assert!(refused.contains("both is locked"), "{refused}");
    let (_, refused) = apply(&data, &recipe, json!([{ "do": "hang", "thing": "regatta", "on": "alone" }]));
    assert!(refused.contains("hangs on it"), "{refused}");
    // A font of one's own sets a title; one that is broken is refused by its name, and nothing changes.
    let font = concat!(env!("CARGO_MANIFEST_DIR"), "/../fonts/files/Lobster-Regular.otf");
    std::fs::copy(font, folder.path().join("script.otf")).unwrap();
    std::fs::write(folder.path().join("bad.woff2"), b"wOF2 and nothing more").unwrap();
    let title = |name: &str, file: &str| {
        json!({ "do": "place", "kind": "title", "name": name, "file": file, "text": "Basin",
        "at": { "frame": 60, "pixel": [300, 640] } })
    };
    let (done, said) = apply(&data, &recipe, json!([title("script", "script.otf")]));
    assert!(done, "{said}");
    let (done, refused) = apply(&data, &recipe, json!([title("bad", "bad.woff2")]));
    assert!(!done && refused.contains("bad.woff2"), "{refused}");
    assert_eq!(shown(&data).len(), all.len() + 1);
    let (_, refused) = apply(&data, &recipe, json!([place("moon", "prop", [400, 600])]));
    assert!(refused.contains("the library has no") && refused.contains("bollard"), "{refused}");

    // Written down as a recipe it leads to the same picture again.
    let written: Value = serde_json::from_str(&written_down(folder.path(), &data)).unwrap();
    let steps: Vec<&Value> = written["steps"].as_array().unwrap().iter().collect();
    let verbs: Vec<&str> = steps.iter().map(|s| s["do"].as_str().unwrap()).collect();
    for verb in ["place", "hang", "arrange", "set"] {
        assert!(verbs.contains(&verb), "{verbs:?}");
    }
}

#[test]
fn corners_are_pulled_onto_the_picture_and_a_thing_lands_on_the_floor() {
    let folder = tempfile::tempdir().unwrap();
    let data = finished(folder.path());
    let recipe = folder.path().join("steps.json");
    let at = [[560.0, 330.0], [660.0, 332.0], [660.0, 268.0], [560.0, 266.0]];
    let (done, said) = apply(
        &data,
        &recipe,
        json!([
            { "do": "set", "thing": "light", "values": { "floor-shadow": 0 } },
            { "do": "place", "kind": "sign", "name": "board", "library": "lane",
                "at": { "frame": 60, "pixel": [600, 300] }, "depth": "20 m" },
            arrange("board", json!({ "how": "corners", "frames": [{ "frame": 60, "at": at }] })),
            { "do": "render", "out": "stills/pulled", "frames": [60, 60] },
            { "do": "set", "thing": "board", "values": { "hidden": true } },
            { "do": "render", "out": "stills/without", "frames": [60, 60] },
            { "do": "place", "kind": "prop", "name": "buoy", "library": "buoy", "at": { "frame": 0, "pixel": [640, 500] },
                "depth": "6 m" },
            { "do": "set", "thing": "buoy", "frame": 0, "values": { "lift": 3.0, "turn": 0 } },
            { "do": "set", "thing": "buoy", "frame": 60, "values": { "lift": 1.0, "turn": 90 } },
            { "do": "arrange", "thing": "buoy", "frame": 60, "does": { "how": "stand" } },
        ]),
    );
    assert!(done, "{said}");
    let (pulled, without) =
        (still(&folder.path().join("stills/pulled"), 60), still(&folder.path().join("stills/without"), 60));
    let (n, middle) = differing(&pulled, &without);
    assert!(n > 3000 && (middle[0] - 610.0).abs() < 6.0 && (middle[1] - 299.0).abs() < 6.0, "{n} about {middle:?}");
    let outside = pulled
        .enumerate_pixels()
        .filter(|(x, y, p)| !(552..668).contains(x) && (200..420).contains(y) && without.get_pixel(*x, *y) != *p)
        .count();
    assert!(outside < 30, "{outside} pixels beyond the corners");
    let (_, refused) = apply(
        &data,
        &recipe,
        json!([arrange("buoy", json!({ "how": "corners", "frames": [{ "frame": 60, "at": at }] }))]),
    );
    assert!(refused.contains("four corners"), "{refused}");
    let written = written_down(folder.path(), &data);
    assert!(written.contains("\"frame\": 60") || written.contains("\"frame\":60"), "{written}");
}

#[test]
fn letters_show_the_plate_and_a_sky_is_cut_by_a_drawn_shape() {
    let folder = tempfile::tempdir().unwrap();
    let data = finished(folder.path());
    let recipe = folder.path().join("steps.json");
    let shape = [[0.0, 0.0], [640.0, 0.0], [640.0, 300.0], [0.0, 300.0]];
    let (done, said) = apply(
        &data,
        &recipe,
        json!([
            { "do": "render", "out": "stills/bare", "frames": [60, 60] },
            { "do": "place", "kind": "title", "name": "window", "text": "I", "at": { "frame": 60, "pixel": [640, 560] },
                "depth": "6 m" },
            { "do": "set", "thing": "window", "values": { "height": 3, "depth": 0, "bevel": 0, "colour": "#00ff00",
                "finish": "glow" } },
            { "do": "render", "out": "stills/green", "frames": [60, 60] },
            arrange("window", json!({ "how": "cover", "part": "face", "plate": true })),
            { "do": "render", "out": "stills/plate", "frames": [60, 60] },
            { "do": "remove", "thing": "window" },
            { "do": "mask", "name": "sky", "mode": "keep-out", "keys": [{ "frame": 0, "outline": shape }] },
            { "do": "place", "kind": "backdrop", "name": "dusk", "library": "dusk",
                "at": { "frame": 60, "pixel": [640, 100] } },
            { "do": "set", "thing": "dusk", "values": { "covers": "everywhere" } },
            arrange("dusk", json!({ "how": "outline", "mask": "sky", "soft": 20 })),
            { "do": "remove", "thing": "sky" },
            { "do": "render", "out": "stills/cut", "frames": [60, 60] },
        ]),
    );
    assert!(done, "{said}");
    let [bare, green, plate, cut] =
        ["bare", "green", "plate", "cut"].map(|name| still(&folder.path().join("stills").join(name), 60));
    let greens = |picture: &image::RgbImage| picture.pixels().filter(|p| p[1] > 200 && p[0] < 60 && p[2] < 60).count();
    // Its sides stay green.
    assert!(greens(&green) > 2000 && 10 * greens(&plate) < greens(&green), "{} {}", greens(&green), greens(&plate));
    let (inside, _) = differing(&green, &plate);
    assert!(inside > 2000, "{inside}");
    let changed = |x: u32, y: u32| (0..3).any(|k| cut.get_pixel(x, y)[k].abs_diff(bare.get_pixel(x, y)[k]) > 12);
    let share = |xs: std::ops::Range<u32>, ys: std::ops::Range<u32>| {
        let all: Vec<bool> = ys.flat_map(|y| xs.clone().map(move |x| (x, y))).map(|(x, y)| changed(x, y)).collect();
        all.iter().filter(|c| **c).count() as f64 / all.len() as f64
    };
    assert!(share(20..600, 20..270) > 0.9, "{}", share(20..600, 20..270));
    // Letters that stand before it have other edges.
    assert!(share(670..1260, 20..700) < 0.005 && share(20..600, 330..700) < 0.005);
    let written = written_down(folder.path(), &data);
    assert!(written.contains("\"how\": \"outline\"") || written.contains("\"how\":\"outline\""), "{written}");
    let (_, refused) = apply(&data, &recipe, json!([arrange("dusk", json!({ "how": "outline", "mask": "sky" }))]));
    assert!(refused.contains("there is no mask \"sky\"") && refused.contains("draw one at Track"), "{refused}");
}
