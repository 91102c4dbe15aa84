//! What stands in the scene stays where it is on the picture, whatever becomes of the camera.

use super::{fennik, text};
use fennik_media::CameraDocument;
use nalgebra::{Vector2, Vector3};
use serde_json::{Value, json};
use std::path::Path;

fn apply(folder: &Path, data: &Path, steps: &Value) -> Result<(), String> {
    let path = folder.join("more.json");
    std::fs::write(&path, json!({ "format": "fennik-recipe", "version": 1, "steps": steps }).to_string()).unwrap();
    let run = fennik(&["apply", text(&path), "--shot", "1", "--data", text(data)]);
    if run.status.success() { Ok(()) } else { Err(String::from_utf8_lossy(&run.stderr).into_owned()) }
}

/// What there is, and the camera of the datum's world.
fn seen(folder: &Path, data: &Path) -> (Value, CameraDocument) {
    let out = folder.join("camera.json");
    assert!(
        fennik(&["export", "1", "--format", "camera-json", "--out", text(&out), "--data", text(data)]).status.success()
    );
    let shown = fennik(&["show", "1", "--json", "--data", text(data)]);
    (serde_json::from_slice(&shown.stdout).unwrap(), serde_json::from_slice(&std::fs::read(out).unwrap()).unwrap())
}

/// Where the foot and the corners of the floor are on the picture, by the frame of the file.
fn places((shown, camera): &(Value, CameraDocument)) -> Vec<((u32, usize), Vector2<f64>)> {
    let origin: [f64; 3] = serde_json::from_value(shown["inserts"][0]["origin"].clone()).unwrap();
    let marks = std::iter::once(origin).chain(camera.surfaces.iter().flat_map(|s| s.outline.iter().copied()));
    let marks: Vec<Vector3<f64>> = marks.map(Vector3::from).collect();
    let mut places = Vec::new();
    for frame in &camera.frames {
        let (pose, lens) = frame.camera();
        for (i, mark) in marks.iter().enumerate() {
            let c = pose.to_camera(*mark);
            let n = Vector2::new(c.x / c.z, c.y / c.z);
            let p = lens.project(n);
            // Far off the axis the lens's model folds back into the picture.
            let unfolded = (lens.unproject(p) - n).norm() < 1e-6;
            if c.z > 0.1 && unfolded && (0.0..1280.0).contains(&p.x) && (0.0..720.0).contains(&p.y) {
                places.push(((frame.source_frame, i), p));
            }
        }
    }
    places
}

/// RMS distance of what is seen in both, px: of the foot and of the corners of the floor.
fn moved(before: &[((u32, usize), Vector2<f64>)], after: &[((u32, usize), Vector2<f64>)]) -> f64 {
    let of = |key: (u32, usize)| after.iter().find(|a| a.0 == key).map(|a| a.1);
    let gaps: Vec<f64> = before.iter().filter_map(|(key, p)| Some((of(*key)? - p).norm_squared())).collect();
    assert!(gaps.len() > 30, "{} sightings in common", gaps.len());
    (gaps.iter().sum::<f64>() / gaps.len() as f64).sqrt()
}

/// The angle between two worlds' uprights, as the same camera sees them, degrees.
fn tilted((_, a): &(Value, CameraDocument), (_, b): &(Value, CameraDocument)) -> f64 {
    let up = |c: &CameraDocument, source: u32| {
        c.frames.iter().find(|f| f.source_frame == source).map(|f| f.camera().0.rotation * Vector3::y())
    };
    let both = a.frames.iter().find_map(|f| Some((up(a, f.source_frame)?, up(b, f.source_frame)?))).unwrap();
    both.0.dot(&both.1).clamp(-1.0, 1.0).acos().to_degrees()
}

/// Fault: tracking the finished demo shot again with another density and solving afresh tilted its floor by some ten
/// degrees and slid its title away: points of two runs were paired by ids that mean nothing across runs. The shot is
/// made from nothing by its recipe.
#[test]
fn the_finished_demo_shot_is_made_by_a_recipe_and_stays_while_the_camera_is_made_anew() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let recipe = folder.path().join("shot.json");
    std::fs::write(folder.path().join("varrick-quay.mp4"), fennik_demo::QUAY_CLIP).unwrap();
    std::fs::write(&recipe, include_bytes!("../../../demo/assets/varrick-quay.recipe.json")).unwrap();
    let run = fennik(&["apply", text(&recipe), "--data", text(&data)]);
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    let first = seen(folder.path(), &data);
    let made = &first.0;
    assert_eq!(
        (made["readings"]["solve"]["verdict"].as_str(), made["inserts"][0]["name"].as_str()),
        (Some("good"), Some("Varrick"))
    );
    let floor = &made["surfaces"][0];
    assert!(floor["name"] == "floor" && floor["outline"].as_array().unwrap().len() >= 4, "{floor}");
    assert_eq!(made["light"]["bearing"].as_f64(), Some(37.0));
    let start = first.1.frames[0].camera().0.centre();
    assert!((start.y - 8.4).abs() < 0.1, "the drone starts 8.4 m above the floor, not {}", start.y);
    let before = places(&first);

    apply(folder.path(), &data, &json!([{ "do": "track", "density": 300 }])).unwrap();
    let out_of_date = seen(folder.path(), &data);
    assert_eq!(
        out_of_date.0["readings"]["solve"]["of_other_tracks"],
        json!(true),
        "the camera is of the tracks before"
    );
    assert!(moved(&before, &places(&out_of_date)) < 1e-9);
    let refused = apply(folder.path(), &data, &json!([{ "do": "solve-on" }])).unwrap_err();
    assert!(refused.contains("other tracks"), "{refused}");
    apply(folder.path(), &data, &json!([{ "do": "solve" }])).unwrap();
    let again = seen(folder.path(), &data);
    let (gap, tilt) = (moved(&before, &places(&again)), tilted(&first, &again));
    assert!(gap < 0.5 && tilt < 0.1, "foot and corners moved by {gap} px RMS, the floor tilted by {tilt} degrees");
    assert!(again.0["readings"]["datum"]["carried_over"]["rms_px"].as_f64().unwrap() < 0.5, "{}", again.0["readings"]);

    // Another trim lets the camera go; the next one takes over what was laid in it.
    apply(
        folder.path(),
        &data,
        &json!([{ "do": "trim", "first": 60, "last": 200 }, { "do": "track", "density": 576 }, { "do": "solve" }]),
    )
    .unwrap();
    let trimmed = seen(folder.path(), &data);
    assert_eq!(trimmed.1.frames.len(), 141);
    let (gap, tilt) = (moved(&before, &places(&trimmed)), tilted(&first, &trimmed));
    assert!(
        gap < 0.5 && tilt < 0.15,
        "after a trim foot and corners moved by {gap} px RMS, the floor tilted by {tilt} degrees"
    );

    // A camera that only turns can take nothing over: it is kept beside, and the one before stays in use.
    let declared = apply(folder.path(), &data, &json!([{ "do": "solve", "motion": "turns" }]));
    let after = seen(folder.path(), &data);
    assert!(declared.is_err_and(|e| e.contains("step 1 (solve)")));
    assert_eq!(trimmed.0["revision"], after.0["revision"], "a step that fails changes nothing, its settings included");
    assert!(moved(&places(&trimmed), &places(&after)) < 1e-9);
}
