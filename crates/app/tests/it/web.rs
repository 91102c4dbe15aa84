//! What the server answers, asked directly.

pub(crate) use crate::server::{Server, status_of};
use serde_json::{Value, json};
use std::process::Command;

#[test]
fn strangers_bad_paths_and_bad_bodies_are_refused() {
    let server = Server::start();
    assert_eq!(server.get("/").status, 200);
    assert_eq!(server.ask("GET", "/", &[("host", "somewhere.example")], "").status, 403);
    assert_eq!(
        server.ask("POST", "/shots/2/undo", &[("origin", "http://somewhere.example")], "revision=1").status,
        403
    );
    assert_eq!(server.ask("POST", "/shots/2/undo", &[("sec-fetch-site", "cross-site")], "revision=1").status, 403);
    for path in [
        "/static/../../../etc/passwd",
        "/static/%2e%2e/%2e%2e/Cargo.toml",
        "/shots/99",
        "/shots/abc",
        "/nothing",
        "/shots/2/jobs/format",
    ] {
        assert_eq!(server.get(path).status, 404, "{path}");
    }
    assert_eq!(server.get("/shots/2/plate/9999").status, 422);
    assert_eq!(server.post("/shots/2/edit", &json!({ "revision": 1 })).status, 422);
    assert_eq!(server.post("/shots/2/edit", &json!({ "revision": 1, "edit": { "edit": "explode" } })).status, 422);
    let answer = server.ask("POST", "/shots/2/edit", &[("content-type", "application/json")], "{\"revision\": ");
    assert_eq!(answer.status, 422);
}

#[test]
fn edits_start_from_the_head_or_change_nothing() {
    let server = Server::start();
    let before = server.state();
    let revision = before["revision"].as_i64().unwrap();
    let mut insert = before["inserts"][0].clone();
    insert["placement"]["scale"] = json!(2.0);
    let edit = |revision: i64, insert: &Value| {
        let edit = json!({ "edit": "change-insert", "insert": insert });
        json!({ "revision": revision, "edit": edit })
    };

    let stale = server.post("/shots/2/edit", &edit(revision - 1, &insert));
    assert!(stale.status == 409 && stale.body.contains("changed in another window"), "{}", stale.body);
    assert_eq!(server.state(), before);

    let mut wrong = insert.clone();
    wrong["placement"]["scale"] = json!(-1.0);
    let refused = server.post("/shots/2/edit", &edit(revision, &wrong));
    assert!(refused.status == 422 && refused.body.contains("scale"), "{}", refused.body);
    assert_eq!(server.state(), before);

    assert_eq!(server.post("/shots/2/edit", &edit(revision, &insert)).status, 200);
    let after = server.state();
    assert_eq!(after["inserts"][0]["placement"]["scale"], json!(2.0));
    let form = [("content-type", "application/x-www-form-urlencoded")];
    let undo = format!("revision={}", after["revision"]);
    assert_eq!(server.ask("POST", "/shots/2/undo", &form, &undo).status, 200);
    assert_eq!(server.state(), before);
}

#[test]
fn the_datum_is_changed_by_typed_values_and_the_title_stays_in_the_picture() {
    let server = Server::start();
    let before = server.state();
    let solve: Value = serde_json::from_str(&server.get("/shots/2/solve").body).unwrap();
    let camera = |solve: &Value| serde_json::from_value::<[f64; 3]>(solve["frames"][100]["t"].clone()).unwrap();
    // The pixel at which the first title's foot is seen, by the sums of docs/formats.md.
    let pixel = |solve: &Value, state: &Value| {
        let frame = &solve["frames"][100];
        let three = |v: &Value| serde_json::from_value::<[f64; 3]>(v.clone()).unwrap();
        let (foot, t) = (three(&state["inserts"][0]["placement"]["anchor"]["foot"]), three(&frame["t"]));
        let seen: [f64; 3] =
            std::array::from_fn(|i| three(&frame["r"][i]).iter().zip(foot).map(|(r, x)| r * x).sum::<f64>() + t[i]);
        let (u, v) = (seen[0] / seen[2], seen[1] / seen[2]);
        let number = |v: &Value| v.as_f64().unwrap();
        let r2 = u * u + v * v;
        let gain = number(&frame["f"]) * (1.0 + r2 * (number(&frame["k"][0]) + r2 * number(&frame["k"][1])));
        [gain * u + number(&frame["c"][0]), gain * v + number(&frame["c"][1])]
    };
    let turn =
        json!({ "revision": before["revision"], "action": "nudge", "turn_deg": [0, 30, 0], "shift_m": [1, 0, 0] });
    assert_eq!(server.post("/shots/2/datum", &turn).status, 200);
    let after = server.state();
    assert_ne!(
        after["inserts"][0]["placement"]["anchor"]["foot"], before["inserts"][0]["placement"]["anchor"]["foot"],
        "the world moved under it"
    );
    let turned: Value = serde_json::from_str(&server.get("/shots/2/solve").body).unwrap();
    assert_ne!(camera(&solve), camera(&turned));
    let (was, is) = (pixel(&solve, &before), pixel(&turned, &after));
    assert!((was[0] - is[0]).hypot(was[1] - is[1]) < 1e-6, "{was:?} and then {is:?}");
    assert!((0.0..1280.0).contains(&was[0]) && (0.0..720.0).contains(&was[1]), "it is in the picture: {was:?}");
    let two = json!({ "revision": after["revision"], "action": "scale", "from": 1, "to": 1, "distance_m": 2.0 });
    let refused = server.post("/shots/2/datum", &two);
    assert!(refused.status == 422, "one point has no distance: {}", refused.body);
}

#[test]
fn camera_and_scene_are_the_same_from_the_page_and_the_command_line() {
    let server = Server::start();
    let page = server.get("/shots/2/camera.json");
    assert_eq!(page.status, 200);
    let out = server.folder.as_ref().unwrap().path().join("camera.json");
    let data = server.folder.as_ref().unwrap().path().to_str().unwrap();
    let arguments =
        ["export", "Varrick quay, finished", "--format", "camera-json", "--out", out.to_str().unwrap(), "--data", data];
    assert!(Command::new(env!("CARGO_BIN_EXE_fennik")).args(arguments).status().unwrap().success());
    let (a, b): (Value, Value) =
        (serde_json::from_str(&page.body).unwrap(), serde_json::from_slice(&std::fs::read(&out).unwrap()).unwrap());
    assert_eq!(a, b);
    assert_eq!(a["frames"].as_array().unwrap().len(), 250);
    let untouched = Command::new(env!("CARGO_BIN_EXE_fennik"))
        .args(["export", "1", "--format", "gltf", "--out", out.to_str().unwrap(), "--data", data])
        .output()
        .unwrap();
    assert!(!untouched.status.success() && String::from_utf8_lossy(&untouched.stderr).contains("no solved camera"));
}
