//! What the stations Track and Solve ask of the server, asked directly.

use super::web::Server;
use serde_json::{Value, json};

const JSON: [(&str, &str); 1] = [("content-type", "application/json")];

fn edit(server: &Server, shot: i64, edit: &Value) -> u16 {
    let revision = server.state_of(shot)["revision"].clone();
    server.post(&format!("/shots/{shot}/edit"), &json!({ "revision": revision, "edit": edit })).status
}

fn mask(outline: &Value) -> Value {
    json!({ "id": 0, "name": "", "mode": "keep-out", "keys": [{ "frame": 0, "outline": outline }], "smooth": [],
        "inverted": false, "span": null })
}

/// A picture that is far from the plate.
const SEEN: &str = "channel=blue&denoise=2&contrast=0.5&sharpen=1";

#[test]
fn masks_are_kept_and_bad_ones_are_refused_in_words() {
    let server = Server::start();
    let before = server.state();
    for (outline, reason) in [(json!([[0, 0], [9, 9]]), "corners"), (json!([]), "corners")] {
        let body = json!({ "revision": before["revision"], "edit": { "edit": "add-mask", "mask": mask(&outline) } });
        let answer = server.post("/shots/2/edit", &body);
        assert!(answer.status == 422 && answer.body.contains(reason), "{} {}", answer.status, answer.body);
        assert_eq!(server.state(), before);
    }
    assert_eq!(
        edit(&server, 2, &json!({ "edit": "add-mask", "mask": mask(&json!([[0, 0], [90, 9], [50, 80]])) })),
        200
    );
    assert_eq!((&server.state()["masks"][0]["id"], &server.state()["masks"][0]["name"]), (&json!(1), &json!("mask 1")));
    assert!(
        server.get("/shots/2/route").body.contains("settings changed since this solve"),
        "a mask asks for a new solve"
    );
    assert_eq!(edit(&server, 2, &json!({ "edit": "remove-mask", "id": 7 })), 422);
    let nothing = server
        .post("/shots/2/masks/round-tracks", &json!({ "revision": server.state()["revision"], "tracks": [999_999] }));
    assert!(nothing.status == 422 && nothing.body.contains("elect tracks"), "{}", nothing.body);
}

#[test]
fn a_mask_that_is_gone_and_a_solve_that_is_not_there_end_their_jobs_with_the_reason() {
    let server = Server::start();
    assert_eq!(server.ask("POST", "/shots/2/jobs/follow", &JSON, "{\"mask\": 5, \"frame\": 9}").status, 200);
    server.wait_for(|html| html.contains("the mask that was to follow is gone"), "/shots/2/route");
    assert_eq!(server.ask("POST", "/shots/1/jobs/track", &JSON, "{}").status, 200);
    server.wait_for(|html| html.contains("Track again") && !html.contains("data-kind=\"track\""), "/shots/1/route");
    assert_eq!(server.ask("POST", "/shots/1/jobs/refine", &JSON, "{}").status, 200);
    server.wait_for(|html| html.contains("this shot has no solved camera yet; solve it first"), "/shots/1/route");
}

#[test]
fn a_track_shows_its_patches_and_the_tracker_its_picture() {
    let server = Server::start();
    let is_jpeg = |body: &str| body.contains("JFIF");
    server.wait_for(|html| !html.contains("data-kind=\"decode\""), "/shots/2/route");
    assert!(is_jpeg(&server.get("/shots/2/tracks/3/patches.jpg").body));
    let gone = server.get("/shots/2/tracks/4000000/patches.jpg");
    assert!(gone.status == 422 && gone.body.contains("gone"), "{}", gone.body);
    assert!(is_jpeg(&server.get(&format!("/shots/2/seen?frame=10&density=576&spacing=28&threshold=0.03&{SEEN}")).body));
    for (query, reason) in
        [("denoise=99", "Denoising"), ("contrast=-1", "Local contrast"), ("sharpen=NaN", "Sharpening")]
    {
        let answer = server.get(&format!("/shots/2/seen?frame=10&density=576&spacing=28&threshold=0.03&{query}"));
        assert!(answer.status == 422 && answer.body.contains(reason), "{query}: {}", answer.body);
    }
}
