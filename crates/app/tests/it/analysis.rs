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

/// Fault: following a second mask while one was followed did nothing, since both were the same kind of job.
#[test]
fn two_masks_that_are_followed_at_once_both_follow() {
    let server = Server::start();
    server.wait_for(|html| !html.contains("data-kind=\"decode\""), "/shots/2/route");
    for x in [300.0, 700.0] {
        let outline = json!([[x, 330.0], [x + 90.0, 330.0], [x + 90.0, 420.0], [x, 420.0]]);
        let mask = json!({ "mode": "keep-out", "keys": [{ "frame": 100, "outline": outline }], "span": [98, 103] });
        let revision = server.state_of(2)["revision"].clone();
        let edit = json!({ "revision": revision, "edit": { "edit": "add-mask", "mask": mask } });
        assert_eq!(server.post("/shots/2/edit", &edit).status, 200);
    }
    for mask in [1, 2, 2] {
        let asked = json!({ "mask": mask, "frame": 100 }).to_string();
        assert_eq!(server.ask("POST", "/shots/2/jobs/follow", &JSON, &asked).status, 200);
    }
    let followed = || {
        let state = server.state_of(2);
        let keys = |i: usize| state["masks"][i]["keys"].as_array().map_or(0, Vec::len);
        keys(0) > 1 && keys(1) > 1
    };
    let both = (0..600).any(|_| {
        std::thread::sleep(std::time::Duration::from_millis(100));
        followed()
    });
    assert!(both, "{}", server.state_of(2)["masks"]);
}

#[test]
fn a_job_is_run_again_with_what_it_was_asked_for() {
    let server = Server::start();
    let asked = json!({ "mask": 5, "frame": 9 }).to_string();
    assert_eq!(server.ask("POST", "/shots/2/jobs/follow", &JSON, &asked).status, 200);
    let number = |html: &str| -> Option<u32> {
        let job = html.split("data-job=\"").find(|s| s.contains("data-kind=\"follow\""))?;
        job.chars().take_while(char::is_ascii_digit).collect::<String>().parse().ok()
    };
    server.wait_for(|html| html.contains("the mask that was to follow is gone"), "/shots/2/route");
    let first = number(&server.get("/shots/2/route").body).unwrap();
    let again = format!("/shots/2/jobs/{first}/again");
    assert_eq!(server.ask("POST", &again, &[], "").status, 200);
    server.wait_for(|html| number(html).is_some_and(|n| n > first) && html.contains("is gone"), "/shots/2/route");
    // A job of another shot is none of this one's.
    assert_eq!(server.ask("POST", &format!("/shots/1/jobs/{first}/again"), &[], "").status, 404);
    assert_eq!(server.ask("POST", "/shots/2/jobs/follow", &JSON, "{}").status, 422, "which mask it is must be said");
}
