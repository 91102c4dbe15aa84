//! What pages and recipes know of the light: its values by their names in a recipe.

use super::EngineError;
use super::arrange::Place;
use super::kinds::{
    Field, Input, Measure, ToldKey, ValueError, Values, When, amount, colour, set_anew, tell, written_light,
};
use fennik_core::camera::CameraPath;
use fennik_core::scene::anim::{Animated, Track};
use fennik_core::scene::{Light, LightColour, LightNow, ShotDocument, SpotError, sun_by_shadow};
use fennik_core::solve::Solution;
use nalgebra::Vector2;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// Of the sun.
pub const SUN: [Field; 6] = [
    Field::number("bearing", "bearing, deg", Measure::Angle, 5.0),
    Field::number("height", "height, deg", Measure::Angle, 5.0),
    Field::number("sun", "strength", Measure::Plain, 0.05),
    Field { name: "sun-colour", label: "colour", input: Input::Colour },
    Field::number("sun-width", "width, deg", Measure::Angle, 0.25),
    Field::number("sun-shadow", "shadow, 0 to 1", Measure::Plain, 0.05),
];
/// Of what comes from everywhere.
pub const AMBIENT: [Field; 2] = [
    Field::number("ambient", "strength", Measure::Plain, 0.05),
    Field { name: "ambient-colour", label: "colour", input: Input::Colour },
];
/// Of what falls on the plate.
pub const FLOOR: [Field; 1] = [Field::number("floor-shadow", "on the floor, 0 to 1", Measure::Plain, 0.05)];

/// All of its values.
pub fn values(light: &LightNow) -> Values {
    let all = [
        ("bearing", json!(light.bearing_deg)),
        ("height", json!(light.height_deg)),
        ("sun", json!(light.sun)),
        ("sun-colour", json!(written_light(light.sun_colour))),
        ("sun-width", json!(light.sun_width_deg)),
        ("sun-shadow", json!(light.sun_shadow)),
        ("ambient", json!(light.ambient)),
        ("ambient-colour", json!(written_light(light.ambient_colour))),
        ("floor-shadow", json!(light.floor_shadow)),
    ];
    all.into_iter().map(|(name, value)| (name.to_owned(), value)).collect()
}

fn fields() -> impl Iterator<Item = &'static Field> {
    SUN.iter().chain(&AMBIENT).chain(&FLOOR)
}

/// The names of all values.
pub fn names() -> impl Iterator<Item = &'static str> {
    fields().map(|f| f.name)
}

/// One of its values over time.
enum Over<'l> {
    Number(&'l mut Animated<f64>, Measure),
    Colour(&'l mut Animated<LightColour>),
}

fn over<'l>(light: &'l mut Light, name: &str) -> Option<Over<'l>> {
    Some(match name {
        "bearing" => Over::Number(&mut light.bearing_deg, Measure::Angle),
        "height" => Over::Number(&mut light.height_deg, Measure::Angle),
        "sun" => Over::Number(&mut light.sun, Measure::Plain),
        "sun-colour" => Over::Colour(&mut light.sun_colour),
        "sun-width" => Over::Number(&mut light.sun_width_deg, Measure::Angle),
        "sun-shadow" => Over::Number(&mut light.sun_shadow, Measure::Plain),
        "ambient" => Over::Number(&mut light.ambient, Measure::Plain),
        "ambient-colour" => Over::Colour(&mut light.ambient_colour),
        "floor-shadow" => Over::Number(&mut light.floor_shadow, Measure::Plain),
        _ => return None,
    })
}

/// Sets one; `false` where there is none of that name.
///
/// # Errors
/// [`ValueError`] says what is wrong with the value.
pub fn set(light: &mut Light, when: When, name: &str, value: &Value) -> Result<bool, ValueError> {
    match over(light, name) {
        Some(Over::Number(of, measure)) => when.put(of, amount(value, measure)?),
        Some(Over::Colour(of)) => when.put(of, colour(value)?.map(f64::from)),
        None => return Ok(false),
    }
    Ok(true)
}

/// The values that change over time, by name.
pub fn keyed(light: &Light) -> Vec<(&'static str, Vec<f64>)> {
    let mut light = light.clone();
    let keys = |over: Over| -> Vec<f64> {
        match over {
            Over::Number(of, _) => of.key_frames().collect(),
            Over::Colour(of) => of.key_frames().collect(),
        }
    };
    let of = |name: &'static str| (name, over(&mut light, name).map(keys).unwrap_or_default());
    names().map(of).filter(|(_, keys)| !keys.is_empty()).collect()
}

/// Does something to one of its values over time, by its name; `false` where there is none.
pub fn with_track(light: &mut Light, name: &str, act: impl FnOnce(&mut dyn Track)) -> bool {
    match over(light, name) {
        Some(Over::Number(of, _)) => act(of),
        Some(Over::Colour(of)) => act(of),
        None => return false,
    }
    true
}

/// Its values as steps of a recipe say them: still ones by name, and the keys of the others.
pub fn told(light: &Light) -> (Values, Vec<ToldKey>) {
    let (mut still, mut keys) = (Values::new(), Vec::new());
    let mut light = light.clone();
    for name in names() {
        match over(&mut light, name) {
            Some(Over::Number(of, _)) => tell(name, of, |v| json!(v), &mut still, &mut keys),
            Some(Over::Colour(of)) => tell(name, of, |v| json!(written_light(*v)), &mut still, &mut keys),
            None => {}
        }
    }
    (still, keys)
}

/// Sets those values at a time, frames, that were typed as others than are there.
///
/// # Errors
/// The first value that cannot be used, by its name.
pub fn set_typed(light: &mut Light, frame: f64, typed: &BTreeMap<String, String>) -> Result<(), ValueError> {
    let now = values(&light.at(frame));
    set_anew(fields(), &now, typed, |name, value| set(light, When::At(frame), name, value))
}

/// A shadow on the plate: the foot of an upright thing, the tip of its shadow on the floor, and its top if it is seen.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Shadow {
    /// The foot.
    pub foot: Place,
    /// The tip of the shadow.
    pub tip: Place,
    /// The top.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub top: Option<Place>,
}

/// The light with the sun where a shadow says that it stands; without a top its height stays.
///
/// # Errors
/// A message that says what is missing, or what to draw instead.
pub fn by_shadow(document: &ShotDocument, solution: &Solution, shadow: &Shadow) -> Result<Light, EngineError> {
    if document.datum.floor.is_none() {
        return Err(SpotError::NoFloor.into());
    }
    let path = CameraPath::new(solution, &document.datum.world_from_solve);
    let sight = |place: &Place| {
        let camera = path.at(place.frame).ok_or(SpotError::NoCamera { frame: place.frame })?;
        Ok::<_, SpotError>(camera.ray(Vector2::from(place.pixel)))
    };
    let top = shadow.top.as_ref().map(sight).transpose()?;
    let seen = sun_by_shadow(&sight(&shadow.foot)?, &sight(&shadow.tip)?, top.as_ref())?;
    let mut light = document.light.clone();
    light.bearing_deg = seen.bearing_deg.into();
    if let Some(height) = seen.height_deg {
        light.height_deg = height.into();
    }
    Ok(light)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn light_is_made_anew_from_its_values_and_none_is_left_out() {
        let changed = LightNow {
            bearing_deg: 1.0,
            height_deg: 2.0,
            sun: 3.0,
            sun_colour: [4.0, 5.0, 6.0],
            sun_width_deg: 7.0,
            sun_shadow: 0.5,
            ambient: 8.0,
            ambient_colour: [9.0, 10.0, 11.0],
            floor_shadow: 0.25,
        };
        let mut light = Light::default();
        let values = values(&changed);
        for (name, value) in &values {
            assert!(set(&mut light, When::At(0.0), name, value).unwrap(), "{name}");
        }
        assert_eq!(light.at(0.0), changed);
        assert_eq!((told(&light).0, told(&light).1.len()), (values.clone(), 0));
        let key = When::Key(8.0, fennik_core::scene::anim::Ease::Linear);
        for (name, value) in &values {
            assert!(set(&mut light, key, name, value).unwrap(), "{name}");
        }
        assert_eq!((keyed(&light).len(), told(&light).1.len()), (values.len(), values.len()));
        let mut named: Vec<_> = names().collect();
        named.sort_unstable();
        assert_eq!(named, values.keys().collect::<Vec<_>>());
        assert!(!set(&mut light, When::At(0.0), "moon", &json!(1)).unwrap());
        assert!(set(&mut light, When::At(0.0), "sun-colour", &json!("warm")).is_err());
    }
}
