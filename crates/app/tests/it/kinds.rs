//! Kinds of clip, from filmed pictures to what is made of them: a tripod pan with a zoom, with a thing placed far off;
//! fronts under the sky, where there is no floor.

use super::web::Server;
use super::{fennik, text};
use fennik_demo::encode::{Compression, encode};
use fennik_demo::take::Take;
use fennik_demo::trials::trial;
use fennik_demo::truth::{self, Truth};
use serde_json::{Value, json};
use std::path::Path;

/// One of the accuracy clips, small and short.
fn film_small(name: &str, folder: &Path) -> (std::path::PathBuf, Truth) {
    let whole = trial(name).unwrap();
    let take = Take { width: 640, height: 360, frames: 50, rays: 2, rate_factor: 12, ..*whole };
    let path = folder.join(format!("{name}.mp4"));
    let how = Compression { preset: "ultrafast", most_kbit: None, sound: false };
    let scene = take.scene();
    encode(scene.as_ref(), &take, &path, &how, |_| {}).unwrap();
    (path, truth::compute(scene.as_ref(), &take))
}

#[test]
fn fronts_under_the_sky_are_walls_and_no_floor() {
    let folder = tempfile::tempdir().unwrap();
    let (clip, truth) = film_small("court-up", folder.path());
    let data = folder.path().join("data");
    assert!(fennik(&["add", text(&clip), "--data", text(&data)]).status.success());
    let server = Server::over("serve", &data);
    server.ask("POST", "/shots/1/jobs/analyse", &[], "");
    server.wait_for(|html| html.contains("No floor found") && html.contains("Take what was found"), "/shots/1/route");
    let proposal: Value = serde_json::from_str(&server.get("/shots/1/proposal").body).unwrap();
    assert_eq!(proposal["floor"], json!(false), "{proposal}");
    let take = json!({ "revision": server.state_of(1)["revision"], "action": "take" });
    assert_eq!(server.post("/shots/1/datum", &take).status, 200);
    let state = server.state_of(1);
    let walls: Vec<&Value> = state["surfaces"].as_array().unwrap().iter().filter(|s| s["kind"] == "wall").collect();
    assert!(!walls.is_empty() && state["floor"].is_null(), "{state}");
    // The world stands upright, by the front that fills the frame.
    let up = |c: &Value| {
        let row: Vec<[f64; 3]> = serde_json::from_value(c["r"].clone()).unwrap();
        nalgebra::Vector3::new(row[0][1], row[1][1], row[2][1])
    };
    let solve: Value = serde_json::from_str(&server.get("/shots/1/solve").body).unwrap();
    for camera in solve["frames"].as_array().unwrap() {
        let right = truth.frames[camera["frame"].as_u64().unwrap() as usize].pose().rotation * nalgebra::Vector3::y();
        assert!(up(camera).angle(&right).to_degrees() < 3.0, "{} and not {right}", up(camera));
    }
    assert!(server.get("/shots/1/proposal").body.trim() == "null", "it is proposed once");
}

#[test]
fn a_pan_with_a_zoom_is_solved_and_what_is_placed_follows_the_turn() {
    let folder = tempfile::tempdir().unwrap();
    let (clip, truth) = film_small("nodal-zoom", folder.path());
    let out = folder.path().join("camera.json");
    let run = fennik(&["solve", text(&clip), "--out", text(&out)]);
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    let camera: Value = serde_json::from_slice(&std::fs::read(&out).unwrap()).unwrap();
    assert_eq!((&camera["solve"]["motion"], &camera["solve"]["zoom"]), (&json!("nodal"), &json!(true)));
    for (solved, right) in camera["frames"].as_array().unwrap().iter().zip(&truth.frames) {
        let ratio = solved["focal_length_px"].as_f64().unwrap() / right.focal_length_px;
        assert!((ratio - 1.0).abs() < 0.01, "frame {}: {ratio}", right.frame);
        assert_eq!(solved["world_to_camera"]["translation"], json!([0.0, 0.0, 0.0]));
    }
    let free = fennik(&["solve", text(&clip), "--motion", "free", "--out", text(&out)]);
    assert!(!free.status.success() && String::from_utf8_lossy(&free.stderr).contains("turned on the spot"));

    let data = folder.path().join("data");
    assert!(fennik(&["add", text(&clip), "--data", text(&data)]).status.success());
    let server = Server::over("serve", &data);
    for job in ["track", "solve"] {
        server.ask("POST", &format!("/shots/1/jobs/{job}"), &[], "");
        server.wait_for(|html| !html.contains(&format!("data-kind=\"{job}\"")), "/shots/1/route");
    }
    let route = server.get("/shots/1/route").body;
    assert!(route.contains("directions only") && route.contains("on the first frame"), "{route}");
    let surface: Value = serde_json::from_str(&server.get("/shots/1/surface?frame=20&x=300&y=150").body).unwrap();
    assert_eq!(surface["kind"], json!("far"));
    let floor = server.ask(
        "POST",
        "/shots/1/datum",
        &[("content-type", "application/json")],
        &json!({ "revision": server.state_of(1)["revision"], "action": "take" }).to_string(),
    );
    assert!(
        floor.status == 422 && floor.body.contains("no depths"),
        "there are none to lay a floor by: {}",
        floor.body
    );
    let place = json!({ "revision": server.state_of(1)["revision"], "frame": 20, "x": 300.0, "y": 150.0,
        "stance": "standing" });
    assert_eq!(server.post("/shots/1/place", &place).status, 200);
    let foot: [f64; 3] =
        serde_json::from_value(server.state_of(1)["inserts"][0]["placement"]["anchor"]["foot"].clone()).unwrap();

    // What lies under the pixel on frame 20 lies under the foot on every other frame, by the true camera.
    let solve: Value = serde_json::from_str(&server.get("/shots/1/solve").body).unwrap();
    let ray = {
        let c = &truth.frames[20];
        let n = c.lens().unproject(nalgebra::Vector2::new(300.0, 150.0));
        c.pose().rotation.inverse() * nalgebra::Vector3::new(n.x, n.y, 1.0)
    };
    let mut checked = 0;
    for f in solve["frames"].as_array().unwrap() {
        let number = |v: &Value| v.as_f64().unwrap();
        let right = &truth.frames[f["frame"].as_u64().unwrap() as usize];
        let seen = |c: nalgebra::Vector3<f64>| right.lens().project(nalgebra::Vector2::new(c.x / c.z, c.y / c.z));
        let wanted = seen(right.pose().rotation * ray);
        let row = |r: usize| (0..3).map(|k| number(&f["r"][r][k]) * foot[k]).sum::<f64>() + number(&f["t"][r]);
        let (x, y, z) = (row(0), row(1), row(2));
        let lens = fennik_core::geometry::Lens {
            focal_px: number(&f["f"]),
            centre_px: [number(&f["c"][0]), number(&f["c"][1])],
            k1: number(&f["k"][0]),
            k2: number(&f["k"][1]),
        };
        if z > 0.0 && (0.0..640.0).contains(&wanted.x) && (0.0..360.0).contains(&wanted.y) {
            let slip = (lens.project(nalgebra::Vector2::new(x / z, y / z)) - wanted).norm();
            assert!(slip < 0.3, "frame {}: {slip} px", f["frame"]);
            checked += 1;
        }
    }
    assert!(checked >= 20, "{checked} frames were checked");

    // By the camera's height there is a floor, to which what lies below the horizon belongs.
    let height = json!({ "revision": server.state_of(1)["revision"], "action": "camera-height", "height_m": 2.5 });
    assert_eq!(server.post("/shots/1/datum", &height).status, 200);
    let under = |y: f64| -> Value {
        serde_json::from_str(&server.get(&format!("/shots/1/surface?frame=20&x=300&y={y}")).body).unwrap()
    };
    let (low, high) = (under(340.0), under(20.0));
    assert_eq!((&low["kind"], &high["kind"]), (&json!("floor"), &json!("far")), "{low} {high}");
    assert!(low["point"][1].as_f64().unwrap().abs() < 1e-9);
}
