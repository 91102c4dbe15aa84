//! What pages and recipes know of the surroundings, and of what flat parts of the plate do with what is placed.

use super::grading;
use super::kinds::{
    Field, Input, Measure, ToldKey, ValueError, Values, When, amount, colour, set_anew, switch, tell, written_light,
};
use fennik_core::scene::anim::Track;
use fennik_core::scene::{Catcher, Light, Surface, SurfaceId, Surroundings};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::sync::LazyLock;

/// How they are turned.
const TURN_FIELDS: [Field; 3] = [
    Field::number("turn", "turn, deg", Measure::Angle, 5.0),
    Field::number("tilt", "tilt, deg", Measure::Angle, 5.0),
    Field::number("roll", "roll, deg", Measure::Angle, 5.0),
];

/// The fields of the surroundings in groups: what each is called, and its fields.
pub static GROUPS: LazyLock<Vec<(&'static str, Vec<Field>)>> = LazyLock::new(|| {
    let group =
        |name: &str| grading::GROUPS.iter().find(|g| g.name == name).map_or_else(Vec::new, |g| g.fields.clone());
    let mut basic = TURN_FIELDS.to_vec();
    basic.extend(group("grade"));
    vec![("surroundings", basic), ("hues of the surroundings", group("hues"))]
});

/// Of what falls on a flat part of the plate. The floor's shadow is a value of the light.
pub const CATCH_FIELDS: [Field; 7] = [
    Field::number("shadow", "shadow, 0 to 1", Measure::Plain, 0.05),
    Field::number("contact", "contact, 0 to 1", Measure::Plain, 0.05),
    Field::number("contact-reach", "reaches, m", Measure::Length, 0.05),
    Field { name: "tint", label: "tint", input: Input::Colour },
    Field::number("mirror", "mirrors, 0 to 1", Measure::Plain, 0.01),
    Field::number("mirror-rough", "rough, 0 to 1", Measure::Plain, 0.02),
    Field::number("mirror-fade", "fades over, m", Measure::Length, 0.5),
];

/// All of their fields.
pub fn fields() -> impl Iterator<Item = &'static Field> {
    GROUPS.iter().flat_map(|g| &g.1)
}

/// Their values at a time, frames.
pub fn values(around: &Surroundings, frame: f64) -> Values {
    let mut all = grading::values(&around.numbers, Surroundings::rules(), frame);
    all.insert("hidden".to_owned(), json!(around.hidden));
    all
}

/// Sets one; `false` where there is none of that name.
///
/// # Errors
/// [`ValueError`] says what is wrong with the value.
pub fn set(around: &mut Surroundings, when: When, name: &str, value: &Value) -> Result<bool, ValueError> {
    if name == "hidden" {
        around.hidden = switch(value)?;
        return Ok(true);
    }
    if let (Some(_), Some(rule)) = (TURN_FIELDS.iter().find(|f| f.name == name), Surroundings::rule(name)) {
        let angle = amount(value, Measure::Angle)?;
        around.numbers.with(rule, |of| when.put(of, angle));
        return Ok(true);
    }
    grading::set(&mut around.numbers, Surroundings::rule(name), when, value)
}

/// Sets those values at a time, frames, that were typed as others than are there.
///
/// # Errors
/// The first value that cannot be used, by its name.
pub fn set_typed(around: &mut Surroundings, frame: f64, typed: &BTreeMap<String, String>) -> Result<(), ValueError> {
    let now = values(around, frame);
    set_anew(fields(), &now, typed, |name, value| set(around, When::At(frame), name, value))
}

/// As steps of a recipe say them.
pub fn told(around: &Surroundings) -> (Values, Vec<ToldKey>) {
    let (mut still, keys) = grading::told(&around.numbers);
    if around.hidden {
        still.insert("hidden".to_owned(), json!(true));
    }
    (still, keys)
}

/// Does something to one of their values over time, by its name; `false` where there is none.
pub fn with_track(around: &mut Surroundings, name: &str, act: impl FnOnce(&mut dyn Track)) -> bool {
    let Some(rule) = Surroundings::rule(name) else { return false };
    around.numbers.with(rule, |of| act(of));
    true
}

/// Does something to one of the values over time of what the floor, or a surface, does; `false` where there is none.
pub fn with_catch_track(
    light: &mut Light,
    surface: Option<SurfaceId>,
    name: &str,
    act: impl FnOnce(&mut dyn Track),
) -> bool {
    match (name, Catcher::rule(name)) {
        ("shadow", _) if surface.is_none() => act(&mut light.floor_shadow),
        ("tint", _) => act(&mut light.catcher_mut(surface).tint),
        (_, Some(rule)) => light.catcher_mut(surface).numbers.with(rule, |of| act(of)),
        _ => return false,
    }
    true
}

/// Whether one of a catcher's values has keys, by its name.
pub fn catch_keyed(catcher: &Catcher, name: &str) -> bool {
    if name == "tint" { catcher.tint.key_frames().next().is_some() } else { grading::keyed(&catcher.numbers, name) }
}

/// The values of what the floor, or a surface, does at a time, frames.
pub fn catch_values(light: &Light, surface: Option<SurfaceId>, frame: f64) -> Values {
    let now = light.catcher(surface).map_or_else(|| Catcher::new(surface).at(frame), |c| c.at(frame));
    let shadow = if surface.is_none() { light.at(frame).floor_shadow } else { now.shadow };
    let all = [
        json!(shadow),
        json!(now.contact),
        json!(now.contact_reach_m),
        json!(written_light(now.tint)),
        json!(now.mirror),
        json!(now.mirror_rough),
        json!(now.mirror_fade_m),
    ];
    CATCH_FIELDS.iter().map(|f| f.name.to_owned()).zip(all).collect()
}

/// Sets one of them; `false` where there is none of that name.
///
/// # Errors
/// [`ValueError`] says what is wrong with the value.
pub fn set_catch(
    light: &mut Light,
    surface: Option<SurfaceId>,
    when: When,
    name: &str,
    value: &Value,
) -> Result<bool, ValueError> {
    if name == "shadow" && surface.is_none() {
        when.put(&mut light.floor_shadow, amount(value, Measure::Plain)?);
        return Ok(true);
    }
    if name == "tint" {
        when.put(&mut light.catcher_mut(surface).tint, colour(value)?.map(f64::from));
        return Ok(true);
    }
    let Some(rule) = Catcher::rule(name) else { return Ok(false) };
    let measure = if name.ends_with("reach") || name.ends_with("fade") { Measure::Length } else { Measure::Plain };
    let value = amount(value, measure)?;
    light.catcher_mut(surface).numbers.with(rule, |of| when.put(of, value));
    Ok(true)
}

/// Sets those of them at a time, frames, that were typed as others than are there.
///
/// # Errors
/// The first value that cannot be used, by its name.
pub fn set_catch_typed(
    light: &mut Light,
    surface: Option<SurfaceId>,
    frame: f64,
    typed: &BTreeMap<String, String>,
) -> Result<(), ValueError> {
    let now = catch_values(light, surface, frame);
    set_anew(CATCH_FIELDS.iter(), &now, typed, |name, value| set_catch(light, surface, When::At(frame), name, value))
}

/// What the floor and surfaces do, as steps of a recipe say it: of which, and its values.
pub fn catches_told(light: &Light, surfaces: &[Surface]) -> Vec<(String, (Values, Vec<ToldKey>))> {
    let named = |c: &Catcher| match c.surface {
        None => Some("floor".to_owned()),
        Some(id) => surfaces.iter().find(|s| s.id == id).map(|s| s.name.clone()),
    };
    let one = |c: &Catcher| {
        let (mut still, mut keys) = grading::told(&c.numbers);
        if c.tint != [0.0; 3].into() {
            tell("tint", &c.tint, |v| json!(written_light(*v)), &mut still, &mut keys);
        }
        Some((named(c)?, (still, keys)))
    };
    light.catchers.iter().filter_map(one).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use fennik_core::scene::{Asset, AssetName};

    #[test]
    fn surroundings_and_catchers_are_made_anew_from_their_values() {
        let asset = Asset { name: AssetName::of_digest(&[7; 32]), file: "yard.hdr".into() };
        let mut made = Surroundings::new(asset.clone());
        for (k, rule) in Surroundings::rules().iter().enumerate() {
            made.numbers.set_at(rule, 0.0, rule.usual + 0.01 * (k + 1) as f64);
        }
        let mut other = Surroundings::new(asset);
        for (name, value) in values(&made, 0.0) {
            assert!(set(&mut other, When::At(0.0), &name, &value).unwrap(), "{name}");
        }
        assert_eq!(other, made);
        // Fault: an angle could not be written with its unit, as it can be elsewhere.
        assert!(set(&mut other, When::At(0.0), "turn", &json!("40 deg")).unwrap());
        assert_eq!(values(&other, 0.0)["turn"], json!(40.0));
        let mut named: Vec<_> = fields().map(|f| f.name).collect();
        let mut ruled: Vec<_> = Surroundings::rules().iter().map(|r| r.name).collect();
        named.sort_unstable();
        ruled.sort_unstable();
        assert_eq!(named, ruled);
        for surface in [None, Some(SurfaceId(3))] {
            let mut light = Light::default();
            let wanted = [0.2, 0.3, 0.5, 0.0, 0.04, 0.1, 2.0];
            for (field, value) in CATCH_FIELDS.iter().zip(wanted) {
                let value = if field.name == "tint" { json!("#102030") } else { json!(value) };
                assert!(set_catch(&mut light, surface, When::At(0.0), field.name, &value).unwrap(), "{}", field.name);
                assert_eq!(catch_values(&light, surface, 0.0)[field.name], value);
            }
            assert!(!set_catch(&mut light, surface, When::At(0.0), "glow", &json!(1)).unwrap());
        }
    }
}
