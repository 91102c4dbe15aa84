//! Documents of earlier formats.

use crate::scene::anim::Rotation;
use serde_json::{Map, Value, json};

/// The format that documents are written in.
pub const FORMAT: u64 = 5;

/// Why a document cannot be read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum DocumentError {
    /// Of a later version.
    #[error("it is of format {found}; this Fennik reads up to {FORMAT}")]
    Newer {
        /// Its format.
        found: u64,
    },
    /// A format that is none.
    #[error("its format is no number")]
    NoFormat,
    /// Not even an object.
    #[error("it is no object")]
    NoObject,
    /// Something is missing that every document of its format has.
    #[error("an insert of it has no {field}")]
    Missing {
        /// What.
        field: &'static str,
    },
    /// Something in it is not what it should be.
    #[error(transparent)]
    Json(#[from] serde_json::Error),
}

/// Brings a document of any earlier format to the newest, one format after the other.
///
/// # Errors
/// [`DocumentError`] when it is of no format that is known.
pub fn upgrade(mut document: Value) -> Result<Value, DocumentError> {
    loop {
        // The first format did not say which it was.
        let format = document.get("format").map_or(Some(1), Value::as_u64);
        document = match format {
            Some(FORMAT) => return Ok(document),
            Some(1) => in_parts(document)?,
            Some(2) => anchored(document)?,
            Some(3) => surfaced(document),
            Some(4) => finished(document),
            Some(found) => return Err(DocumentError::Newer { found }),
            None => return Err(DocumentError::NoFormat),
        };
    }
}

/// From format 1, which held everything side by side.
fn in_parts(document: Value) -> Result<Value, DocumentError> {
    let Value::Object(mut old) = document else { return Err(DocumentError::NoObject) };
    let mut take = |name: &str| old.remove(name).unwrap_or(Value::Null);
    let some = |values: Vec<(&str, Value)>| -> Value {
        // What an early version did not know yet has the value that it had without it.
        values.into_iter().filter(|(_, v)| !v.is_null()).map(|(k, v)| (k.to_owned(), v)).collect::<Map<_, _>>().into()
    };
    let or = |value: Value, usual: Value| if value.is_null() { usual } else { value };
    let tracking = json!({
        "settings": take("track_settings"),
        "run": take("tracks"),
        "deleted": take("deleted_tracks"),
        "trusted": or(take("trusted_tracks"), json!([])),
    });
    let masking = json!({ "masks": take("masks"), "next": or(take("next_mask"), json!(0)) });
    let solving = json!({
        "settings": take("solve_settings"),
        "solve": take("solve"),
        "laid_in": take("laid_in"),
        "transfer": take("transfer"),
    });
    let placing = json!({ "inserts": take("inserts"), "next": take("next_insert") });
    Ok(some(vec![
        ("format", json!(2)),
        ("trim", take("trim")),
        ("tracking", tracking),
        ("masking", masking),
        ("solving", solving),
        ("datum", take("datum")),
        ("placing", placing),
        ("light", take("light")),
    ]))
}

/// From format 2, in which inserts had a turn and a lean in degrees beside their foot.
fn anchored(mut document: Value) -> Result<Value, DocumentError> {
    document["format"] = json!(3);
    for insert in document["placing"]["inserts"].as_array_mut().into_iter().flatten() {
        let old = &insert["placement"];
        let angle = |field| old[field].as_f64().ok_or(DocumentError::Missing { field });
        let turn = Rotation::from_turn_lean_roll([angle("turn_deg")?, angle("lean_deg")?, 0.0]);
        let (foot, normal, lift_m) = (&old["foot"], &old["normal"], &old["lift_m"]);
        let anchor = json!({ "foot": foot, "normal": normal, "turn": turn, "lift_m": lift_m });
        insert["placement"] = json!({ "anchor": anchor, "scale": old["scale"], "stance": old["stance"] });
    }
    Ok(document)
}

/// From format 4, which knew nothing that stands in front, and no finish.
fn finished(mut document: Value) -> Value {
    document["format"] = json!(5);
    document["holding"] = json!({ "holdouts": [], "next": 1 });
    document["finish"] = json!({});
    document
}

/// From format 3, which knew one distance at most, no surfaces, and the corners of a floor row by row.
fn surfaced(mut document: Value) -> Value {
    document["format"] = json!(4);
    let metres = document["datum"]["known_distance_m"].take();
    if let Some(datum) = document["datum"].as_object_mut() {
        datum.remove("known_distance_m");
        datum.insert(
            "scale".to_owned(),
            if metres.is_null() { json!({ "basis": "unset" }) } else { json!({ "basis": "typed", "metres": metres }) },
        );
    }
    let floor = document["datum"].get_mut("floor").and_then(Value::as_object_mut);
    if let Some(corners) = floor.and_then(|f| f.get_mut("outline")?.as_array_mut()).filter(|c| c.len() == 4) {
        corners.swap(2, 3);
    }
    document["surfacing"] = json!({ "surfaces": [], "next": 1 });
    document
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scene::{AnalysisId, ScaleBasis, ShotDocument};

    const KEPT: [&str; 6] = [
        include_str!("../../../tests/fixtures/document-1-walk-finished.json"),
        include_str!("../../../tests/fixtures/document-1-masked.json"),
        include_str!("../../../tests/fixtures/document-1-first-version.json"),
        include_str!("../../../tests/fixtures/document-2-walk-lit.json"),
        include_str!("../../../tests/fixtures/document-3-walk-lit.json"),
        include_str!("../../../tests/fixtures/document-4-wall.json"),
    ];

    fn read(text: &str) -> Result<ShotDocument, String> {
        serde_json::from_str(text).map_err(|e| e.to_string())
    }

    #[test]
    fn documents_of_the_first_format_keep_all_that_was_decided() {
        let walk = read(KEPT[0]).unwrap();
        assert_eq!((walk.trim.first, walk.trim.last), (5, 139));
        assert_eq!((walk.tracking.run, walk.tracking.settings.density), (Some(AnalysisId(3)), 300.0));
        assert_eq!((walk.solving.solve, walk.laid_in()), (Some(AnalysisId(2)), Some(AnalysisId(2))));
        assert!(walk.solving.transfer.is_some_and(|t| t.worst_frame == 94));
        assert_eq!((walk.masking.masks.masks.len(), walk.masking.next), (1, 2));
        assert!(walk.datum.floor.as_ref().is_some_and(|f| f.points.len() > 500 && f.outline.len() == 4));
        let names: Vec<&str> = walk.placing.inserts.iter().map(|i| i.name.as_str()).collect();
        assert_eq!((names, walk.placing.next.0), (vec!["Hello", "title 2"], 3));
        let title = serde_json::to_value(&walk.placing.inserts[0].content).unwrap();
        assert_eq!(
            (&title["kind"], &title["text"], &title["height_m"]),
            (&json!("title"), &json!("HELLO"), &json!(1.2))
        );
        // The oldest know nothing of masks' ids, trust, or what a datum was laid in.
        let first = read(KEPT[2]).unwrap();
        assert_eq!((first.solving.solve, first.laid_in()), (Some(AnalysisId(2)), Some(AnalysisId(2))));
        assert!(first.tracking.trusted.is_empty() && first.masking.masks.masks.is_empty());
        assert_eq!(first.placing.inserts[0].shown_name(), "title 1");
    }

    /// Where the version that wrote it had the two inserts.
    #[test]
    fn documents_of_the_second_format_keep_everything_in_its_place() {
        let lit = read(KEPT[3]).unwrap();
        let stood = [
            (
                [
                    [0.2546019482055276, 0.0, -0.9670459389139431],
                    [0.1679257650126118, 0.984807753012208, 0.04421116433634004],
                    [0.9523543381614212, -0.1736481776669303, 0.2507339725248162],
                ],
                [-0.5708327028358204, -0.1, -0.2523710886519943],
            ),
            (
                [
                    [0.7825180805870445, 0.20791169081775934, -0.5868885604402834],
                    [-0.2179898648997486, 0.9744254538021788, 0.05454772024023874],
                    [0.5832202605837328, 0.08525118065879463, 0.8078281771768825],
                ],
                [1.0, 2.0, -3.0],
            ),
        ];
        for (insert, (columns, origin)) in lit.placing.inserts.iter().zip(stood) {
            let placement = &insert.placement;
            for (axis, column) in columns.iter().enumerate() {
                let now = placement.rotation(0.0).matrix().column(axis) - nalgebra::Vector3::from(*column);
                assert!(now.norm() < 1e-12, "axis {axis} of {}: {now}", insert.shown_name());
            }
            assert!((placement.origin(0.0) - nalgebra::Vector3::from(origin)).norm() < 1e-12);
        }
        let [turn, lean] = lit.placing.inserts[0].placement.turn_lean_deg(0.0);
        assert!((turn - 75.25).abs() < 1e-9 && (lean + 100.0).abs() < 1e-9, "{turn} {lean}");
        assert_eq!(lit.light.at(0.0).bearing_deg, -30.0);
    }

    #[test]
    fn documents_of_the_third_format_keep_their_scale_and_have_no_surfaces_yet() {
        let lit = read(KEPT[4]).unwrap();
        let mut known: Value = serde_json::from_str(KEPT[4]).unwrap();
        known["datum"]["known_distance_m"] = json!(2.5);
        let known = read(&known.to_string()).unwrap().datum.scale;
        let mut bare: Value = serde_json::from_str(KEPT[4]).unwrap();
        bare["datum"]["floor"] = Value::Null;
        assert!(read(&bare.to_string()).unwrap().datum.floor.is_none());
        assert_eq!((&lit.datum.scale, known), (&ScaleBasis::Unset, ScaleBasis::Typed { metres: 2.5 }));
        assert!(lit.datum.floor.as_ref().is_some_and(|f| f.outline.len() == 4));
        assert!(lit.surfacing.surfaces.is_empty() && lit.surfacing.next.0 == 1 && lit.datum.lines.is_empty());
        let turn = lit.placing.inserts[0].placement.turn_lean_deg(0.0)[0];
        assert!(lit.light.at(0.0).bearing_deg == 12.0 && (turn - 31.5).abs() < 1e-9);
        // Round it, not across.
        let corners = &lit.datum.floor.as_ref().unwrap().outline;
        let side = |i: usize| {
            (corners[i][0] - corners[(i + 1) % 4][0]).abs().min((corners[i][2] - corners[(i + 1) % 4][2]).abs())
        };
        assert!((0..4).all(|i| side(i) < 1e-9), "{corners:?}");
    }

    #[test]
    fn documents_of_the_fourth_format_keep_everything_and_have_nothing_in_front() {
        let wall = read(KEPT[5]).unwrap();
        assert_eq!((wall.placing.inserts.len(), wall.surfacing.surfaces.len()), (3, 2));
        assert!(wall.holding.holdouts.is_empty() && wall.finish.is_plain());
        assert_eq!((wall.light.at(0.0).ambient, wall.light.at(0.0).sun_width_deg), (0.35, 1.375));
    }

    #[test]
    fn what_is_written_is_read_as_it_was_and_says_its_format() {
        for kept in KEPT {
            let document = read(kept).unwrap();
            let written = serde_json::to_value(&document).unwrap();
            assert_eq!(written["format"], FORMAT);
            assert_eq!(read(&written.to_string()).unwrap(), document);
            assert_eq!(upgrade(written.clone()).unwrap(), written, "nothing is left to be done");
        }
    }

    #[test]
    fn documents_of_a_later_format_or_of_none_are_refused_with_the_reason() {
        assert!(read(r#"{"format":6}"#).unwrap_err().contains("format 6"));
        assert!(read(r#"{"format":"x"}"#).unwrap_err().contains("no number"));
        assert!(read("[]").unwrap_err().contains("no object"));
        assert!(read("{}").is_err());
    }
}
