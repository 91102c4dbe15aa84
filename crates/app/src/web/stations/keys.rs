//! Keys of what stands nowhere: the light, the surroundings, what surfaces catch, the finish, a holdout.

use crate::engine::kinds::ValueError;
use crate::engine::{EngineError, ShotError, finishing, holding, light, matching, surroundings};
use crate::web::PageError;
use crate::web::answer::Editor;
use actix_web::{Responder, post, web};
use fennik_core::scene::anim::{Ease, Track};
use fennik_core::scene::{Edit, FinishEdit, HoldoutEdit, LightEdit, ShotDocument, SurfaceId};
use serde::Deserialize;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(change_keys);
}

/// Of what.
#[derive(Debug, Clone, Copy, PartialEq, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Of {
    Light,
    /// The surroundings.
    Around,
    /// What a surface does with what is placed; 0 is the floor.
    Catch(u32),
    Finish,
    Match,
    Holdout(u32),
}

/// What is done.
#[derive(Debug, Clone, Copy, PartialEq, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "how")]
enum How {
    /// A key with the value that it has.
    Key,
    /// The key goes.
    ForgetKey,
    /// All keys go.
    ForgetKeys,
    /// It goes on otherwise from the key.
    Ease { ease: Ease },
    /// The key is moved.
    MoveKey { to: f64 },
    /// The key is set once more.
    CopyKey { to: f64 },
}

impl How {
    fn act(self, frame: f64, track: &mut dyn Track) {
        match self {
            Self::Key => track.key_at(frame),
            Self::ForgetKey => track.forget_key(frame),
            Self::ForgetKeys => track.forget_keys(frame),
            Self::Ease { ease } => track.ease_at(frame, ease),
            Self::MoveKey { to } => track.move_key(frame, to),
            Self::CopyKey { to } => track.copy_key(frame, to),
        }
    }
}

#[derive(Deserialize)]
struct KeysRequest {
    revision: i64,
    of: Of,
    /// Which value.
    name: String,
    frame: f64,
    #[serde(flatten)]
    how: How,
}

/// The edit that does something to the keys of a value.
fn edit(document: &ShotDocument, request: &KeysRequest) -> Result<Edit, EngineError> {
    let KeysRequest { of, name, frame, how, .. } = request;
    let act = |track: &mut dyn Track| how.act(*frame, track);
    let none = || EngineError::from(ValueError::NotKeyed { name: name.clone() });
    Ok(match of {
        Of::Light => {
            let mut light = document.light.clone();
            light::with_track(&mut light, name, act).then_some(()).ok_or_else(none)?;
            Edit::Light(LightEdit::Light { light })
        }
        Of::Around => {
            let mut light = document.light.clone();
            let around = light.surroundings.as_mut().ok_or(ShotError::Gone { what: "picture all round" })?;
            surroundings::with_track(around, name, act).then_some(()).ok_or_else(none)?;
            Edit::Light(LightEdit::Light { light })
        }
        Of::Catch(surface) => {
            let mut light = document.light.clone();
            let surface = (*surface > 0).then_some(SurfaceId(*surface));
            surroundings::with_catch_track(&mut light, surface, name, act).then_some(()).ok_or_else(none)?;
            Edit::Light(LightEdit::Light { light })
        }
        Of::Finish => {
            let mut finish = document.finish.clone();
            finishing::with_track(&mut finish, name, act).then_some(()).ok_or_else(none)?;
            Edit::Finish(FinishEdit::Finish { finish })
        }
        Of::Match => {
            let mut lens = document.lens.clone();
            matching::with_track(&mut lens, name, act).then_some(()).ok_or_else(none)?;
            Edit::Finish(FinishEdit::Lens { lens })
        }
        Of::Holdout(id) => {
            let mut holdout = holding::by_id(document, *id)?.clone();
            (name == "strength").then_some(()).ok_or_else(none)?;
            act(&mut holdout.strength);
            Edit::Holding(HoldoutEdit::ChangeHoldout { holdout })
        }
    })
}

#[post("/shots/{id}/keys")]
async fn change_keys(editor: Editor, body: web::Json<KeysRequest>) -> Result<impl Responder, PageError> {
    let body = body.into_inner();
    editor.apply(body.revision, move |_, shot| edit(shot.document(), &body)).await
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn keys_come_and_go_by_the_name_of_their_value() {
        let mut document = ShotDocument::new(20);
        let mut ask = |body: serde_json::Value| -> Result<ShotDocument, String> {
            let request: KeysRequest = serde_json::from_value(body).map_err(|e| e.to_string())?;
            let edit = edit(&document, &request).map_err(|e| e.to_string())?;
            document = document.apply(&edit).map_err(|e| e.to_string())?;
            Ok(document.clone())
        };
        for (of, name) in [("light", "sun"), ("finish", "exposure")] {
            let at =
                |how: &str, frame: f64| json!({ "revision": 1, "of": of, "name": name, "frame": frame, "how": how });
            ask(at("key", 3.0)).unwrap();
            let with = ask(at("key", 9.0)).unwrap();
            let keys = |d: &ShotDocument| match of {
                "light" => light::keyed(&d.light).into_iter().find(|k| k.0 == name).map(|k| k.1),
                _ => finishing::keyed(&d.finish).into_iter().find(|k| k.0 == name).map(|k| k.1),
            };
            assert_eq!(keys(&with), Some(vec![3.0, 9.0]));
            let moved = json!({ "revision": 1, "of": of, "name": name, "frame": 9.0, "how": "move-key", "to": 12.0 });
            assert_eq!(keys(&ask(moved).unwrap()), Some(vec![3.0, 12.0]));
            ask(at("forget-key", 3.0)).unwrap();
            assert_eq!(keys(&ask(at("forget-keys", 0.0)).unwrap()), None);
        }
        let catch = |name: &str, frame: f64| {
            let of = json!({ "catch": 0 });
            json!({ "revision": 1, "of": of, "name": name, "frame": frame, "how": "key" })
        };
        for name in ["mirror", "tint"] {
            ask(catch(name, 3.0)).unwrap();
        }
        let shadow = ask(catch("shadow", 3.0)).unwrap();
        let keys = |d: &ShotDocument| light::keyed(&d.light).into_iter().map(|k| k.0).collect::<Vec<_>>();
        assert_eq!(keys(&shadow), ["floor-shadow"], "the floor's shadow is a value of the light");
        let floor = shadow.light.catcher(None).unwrap();
        assert!(["mirror", "tint"].iter().all(|name| surroundings::catch_keyed(floor, name)));
        assert!(ask(catch("moon", 3.0)).unwrap_err().contains("moon"));
        let around = json!({ "revision": 1, "of": "around", "name": "turn", "frame": 0.0, "how": "key" });
        assert!(ask(around).unwrap_err().contains("picture all round"));
        let wrong = json!({ "revision": 1, "of": "light", "name": "moon", "frame": 0.0, "how": "key" });
        assert!(ask(wrong).unwrap_err().contains("moon"));
        let gone = json!({ "revision": 1, "of": { "holdout": 4 }, "name": "strength", "frame": 0.0, "how": "key" });
        assert!(ask(gone).unwrap_err().contains("holdout"));
    }
}
