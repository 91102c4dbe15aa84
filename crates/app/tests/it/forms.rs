//! The forms of the route: what they take, what they refuse, and that a refusal keeps everything.

use super::web::Server;
use serde_json::{Value, json};

const FORM: [(&str, &str); 1] = [("content-type", "application/x-www-form-urlencoded")];

/// Percent-encodes what a form cannot carry as it is.
fn encoded(text: &str) -> String {
    text.bytes()
        .map(|b| if b.is_ascii_alphanumeric() { char::from(b).to_string() } else { format!("%{b:02X}") })
        .collect()
}

fn body(fields: &[(&str, String)]) -> String {
    fields.iter().map(|(k, v)| format!("{k}={}", encoded(v))).collect::<Vec<_>>().join("&")
}

/// The fields of the first title's form as they stand.
fn title_fields(state: &Value) -> Vec<(&'static str, String)> {
    let insert = &state["inserts"][0];
    let (content, placement) = (&insert["content"], &insert["placement"]);
    let number = |v: &Value| v.to_string();
    vec![
        ("revision", number(&state["revision"])),
        ("insert", number(&insert["id"])),
        ("text", content["text"].as_str().unwrap().to_owned()),
        ("font", content["font"].as_str().unwrap().to_owned()),
        ("height", number(&content["height_m"])),
        ("depth", number(&content["depth_m"])),
        ("bevel", number(&content["bevel_m"])),
        ("colour", "#a0b1c2".to_owned()),
        ("stance", "lying".to_owned()),
        ("x", number(&placement["anchor"]["foot"][0])),
        ("y", number(&placement["anchor"]["foot"][1])),
        ("z", number(&placement["anchor"]["foot"][2])),
        ("turn", "10.0".to_owned()),
        ("lean", "0.0".to_owned()),
        ("lift", number(&placement["anchor"]["lift_m"])),
        ("scale", number(&placement["scale"])),
    ]
}

fn with(fields: &[(&'static str, String)], name: &str, value: &str) -> Vec<(&'static str, String)> {
    fields.iter().map(|(k, v)| (*k, if *k == name { value.to_owned() } else { v.clone() })).collect()
}

#[test]
fn a_title_takes_typed_values_and_refuses_nonsense_in_words() {
    let server = Server::start();
    let before = server.state();
    let fields = title_fields(&before);
    for (name, value, reason) in [
        ("text", "", "text"),
        ("text", "漢字", "font"),
        ("font", "Nonesuch", "font"),
        ("colour", "red", "no colour"),
        ("colour", "#12", "no colour"),
        ("height", "0", "height"),
        ("height", "NaN", ""),
        ("depth", "-1", "depth"),
        ("scale", "0", "scale"),
        ("turn", "inf", ""),
        ("stance", "floating", ""),
        ("insert", "77", "gone"),
    ] {
        let answer = server.ask("POST", "/shots/2/insert", &FORM, &body(&with(&fields, name, value)));
        assert_eq!(answer.status, 422, "{name} = {value:?}: {}", answer.body);
        assert!(answer.body.to_lowercase().contains(reason), "{name} = {value:?}: {}", answer.body);
        assert_eq!(server.state(), before, "{name} = {value:?} changed the shot");
    }
    let typed = with(&with(&with(&fields, "text", "GROSSE\r\nFÄHRE"), "turn", "-12.5"), "height", "2.25");
    assert_eq!(server.ask("POST", "/shots/2/insert", &FORM, &body(&typed)).status, 200);
    let after = &server.state()["inserts"][0];
    assert_eq!(after["content"]["text"], json!("GROSSE\nFÄHRE"));
    assert_eq!(after["content"]["colour"], json!([0xa0, 0xb1, 0xc2]));
    assert_eq!(after["content"]["height_m"], json!(2.25));
    let turn: [f64; 4] = serde_json::from_value(after["placement"]["anchor"]["turn"].clone()).unwrap();
    let about_y = 2.0 * turn[1].atan2(turn[3]).to_degrees();
    assert!((about_y + 12.5).abs() < 1e-9 && turn[0].hypot(turn[2]) < 1e-12, "{turn:?}");
    assert_eq!(after["placement"]["stance"], json!("lying"));

    // Letters that its font lacks are set in one that ships and has them.
    let hebrew = with(&title_fields(&server.state()), "text", "שלום");
    assert_eq!(server.ask("POST", "/shots/2/insert", &FORM, &body(&hebrew)).status, 200);
    assert_eq!(server.state()["inserts"][0]["content"]["font"], json!("DejaVu Sans Bold"));
}

#[test]
fn light_trim_and_settings_have_their_limits() {
    let server = Server::start();
    let before = server.state();
    let revision = &before["revision"];
    for (path, form, reason) in [
        ("light", format!("revision={revision}&bearing=0&height=120&sun=1&ambient=1&floor-shadow=1"), "90"),
        ("light", format!("revision={revision}&bearing=0&height=10&sun=-1&ambient=1"), "20"),
        ("light", format!("revision={revision}&sun-width=70"), "60"),
        ("light", format!("revision={revision}&sun-colour=warm"), "colour"),
        ("trim", format!("revision={revision}&first=0&last=9999"), "ends at frame 249"),
        ("trim", format!("revision={revision}&first=9&last=3"), "at least one frame"),
        ("track-settings", format!("revision={revision}&density=0&spacing=28&threshold=0.1"), "Density"),
        ("track-settings", format!("revision={revision}&density=576&spacing=0&threshold=0.1"), "Spacing"),
        ("solve-settings", format!("revision={revision}&focal=long&motion=auto&lens=auto&readout="), "no focal length"),
        ("solve-settings", format!("revision={revision}&focal=-4&motion=auto&lens=auto&readout="), "focal length"),
        ("solve-settings", format!("revision={revision}&focal=&motion=auto&lens=auto&readout=slow"), "no readout"),
        ("solve-settings", format!("revision={revision}&focal=&motion=auto&lens=auto&readout=7"), "readout"),
        ("solve-settings", format!("revision={revision}&focal=&motion=sideways&lens=auto&readout="), ""),
        ("trim", "first=0&last=3".to_owned(), ""),
    ] {
        let answer = server.ask("POST", &format!("/shots/2/{path}"), &FORM, &form);
        assert!(
            answer.status == 422 && answer.body.contains(reason),
            "{path} {form}: {} {}",
            answer.status,
            answer.body
        );
        assert_eq!(server.state(), before, "{path} {form}");
    }
    let trimmed = server.ask("POST", "/shots/2/trim", &FORM, &format!("revision={revision}&first=10&last=19"));
    assert_eq!(trimmed.status, 200);
    let after = server.state();
    assert_eq!((&after["frames"], &after["tracks"], &after["solve"]), (&json!(10), &Value::Null, &Value::Null));
    let undone = server.ask("POST", "/shots/2/undo", &FORM, &format!("revision={}", after["revision"]));
    assert_eq!((undone.status, server.state()), (200, before));
}

#[test]
fn a_job_that_runs_is_not_begun_twice_and_can_be_stopped() {
    let server = Server::start();
    for _ in 0..2 {
        server.ask("POST", "/shots/1/jobs/track", &FORM, "");
    }
    let html = server.get("/shots/1/route").body;
    assert_eq!(html.matches("data-kind=\"track\"").count(), 1, "one job is enough");
    let id: String = html
        .split("data-job=\"")
        .find(|s| s.contains("data-kind=\"track\""))
        .unwrap()
        .chars()
        .take_while(char::is_ascii_digit)
        .collect();
    assert_eq!(server.ask("POST", &format!("/jobs/{id}/stop"), &FORM, "").status, 204);
    let stopped = (0..200).any(|_| {
        std::thread::sleep(std::time::Duration::from_millis(50));
        server.get("/shots/1/route").body.contains("data-state=\"stopped\"")
    });
    assert!(stopped, "{}", server.get("/shots/1/route").body);
}
