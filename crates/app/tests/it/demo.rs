//! The demo project: three finished shots, each also untouched.

use super::placed::{differing, still};
use super::server::Server;
use super::{fennik, text};
use serde_json::Value;

#[test]
fn three_shots_are_finished_and_each_is_there_untouched() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let mut server = Server::over("demo", &data);
    let list = server.get("/").body;
    server.end();
    for (name, frame, things, held_out, part) in [
        (
            "Varrick quay",
            125,
            &["Varrick", "Pennants", "Mast behind the shed"][..],
            &[("Man on the quay", "drawn"), ("Shed roof", "shed roof"), ("Shed front", "shed front")][..],
            0.01..0.25,
        ),
        ("Boathouse walk", 20, &["Crest", "Screen", "Painted board", "Slip"], &[("Oar", "drawn")], 0.02..0.3),
        (
            "Lookout pan",
            60,
            &["Sky", "Airship", "Varrick"],
            &[("Rail", "darker"), ("About the rail", "drawn"), ("Shore", "drawn")],
            0.1..0.5,
        ),
    ] {
        let (untouched, finished) = (format!("{name}, untouched"), format!("{name}, finished"));
        assert!(list.contains(&untouched) && list.contains(&finished), "{name}");
        let shown = fennik(&["show", &finished, "--json", "--data", text(&data)]);
        let state: Value = serde_json::from_slice(&shown.stdout).unwrap();
        let names: Vec<&str> =
            state["inserts"].as_array().unwrap().iter().map(|i| i["name"].as_str().unwrap()).collect();
        assert_eq!(names, things);
        let holdouts = state["holdouts"].as_array().unwrap().iter();
        let holdouts: Vec<_> = holdouts.map(|h| (h["name"].as_str().unwrap(), h["by"].as_str().unwrap())).collect();
        assert_eq!(holdouts, held_out);
        let frames = format!("{frame}-{frame}");
        let drawn = |shot: &str| {
            let out = folder.path().join(shot);
            let run = fennik(&["render", shot, "--frames", &frames, "--out", text(&out), "--data", text(&data)]);
            assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
            still(&out, frame)
        };
        let (bare, with) = (drawn(&untouched), drawn(&finished));
        let changed = differing(&bare, &with).0 as f64 / f64::from(bare.width() * bare.height());
        assert!(part.contains(&changed), "{name}: {:.1} % of the picture is changed", 100.0 * changed);
    }
}
