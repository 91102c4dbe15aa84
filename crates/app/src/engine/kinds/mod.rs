//! What pages and recipes know of each kind of insert: one file a kind, and the lists here.

mod backdrop;
mod copies;
mod effect;
mod field;
mod lamp;
mod look;
mod material;
mod placed;
mod play;
mod prop;
mod sign;
mod title;

pub use field::{
    Field, Input, ToldKey, ValueError, When, amount, colour, set_anew, switch, tell, text, typed_anew, word, written,
    written_light,
};
pub use look::FIELDS as LOOK_FIELDS;
pub use look::SPAN_FIELDS;
pub use material::set_material;
pub use placed::FIELDS as PLACE_FIELDS;
pub use placed::PIVOT_FIELDS;
pub use play::{FIELDS as PLAY_FIELDS, set as set_play, values as play_values};

pub use super::quantity::{Amount, Measure};
use super::{grading, matching};
use crate::engine::assets::{AssetInfo, TakenAsset};
use fennik_core::scene::anim::Ease;
use fennik_core::scene::{Drawn, Insert, InsertKind, grade_rules};
use nalgebra::Vector3;
use serde_json::Value;
use std::collections::BTreeMap;

/// Values by their names in a recipe.
pub type Values = BTreeMap<String, Value>;

/// What is to be placed, and from where it is seen.
#[derive(Debug, Clone, Copy)]
pub struct Wish<'a> {
    /// The word of its kind.
    pub kind: &'a str,
    /// The file that it shows.
    pub shows: Option<&'a TakenAsset>,
    /// Metres from the camera.
    pub distance_m: f64,
    /// Unit direction from the camera, world.
    pub toward: Vector3<f64>,
    /// Where the playhead stands.
    pub frame: u32,
}

/// The word of what is far away.
pub const BACKDROP: &str = backdrop::WORD;
const MARKER: &str = "marker";

/// The words of all kinds.
pub const WORDS: [&str; 7] = [title::WORD, sign::WORD, prop::WORD, effect::WORD, backdrop::WORD, MARKER, lamp::WORD];

pub use lamp::lift_m as lamp_lift_m;

/// What a kind shows: `picture` for a picture or a clip, `model`, or nothing.
pub fn shows(kind: &str) -> Option<&'static str> {
    match kind {
        sign::WORD | effect::WORD | backdrop::WORD => Some("picture"),
        prop::WORD => Some("model"),
        _ => None,
    }
}

/// A kind by its word.
///
/// # Errors
/// [`ValueError::NoKind`] names the kinds that there are.
pub fn known(word: &str) -> Result<&'static str, ValueError> {
    let found = WORDS.into_iter().find(|w| *w == word);
    found.ok_or_else(|| ValueError::NoKind { word: word.to_owned(), kinds: WORDS.to_vec() })
}

/// Makes the first one of a kind, of a readable size for its distance.
///
/// # Errors
/// As [`known`]; [`ValueError::NoAsset`] says what the kind shows.
pub fn first_of(wish: &Wish) -> Result<InsertKind, ValueError> {
    let kind = known(wish.kind)?;
    let file = || {
        let shows = shows(kind).unwrap_or("file");
        let fits = |a: &&TakenAsset| matches!(a.info, AssetInfo::Model { .. }) == (shows == "model");
        wish.shows.filter(fits).ok_or(ValueError::NoAsset { kind, shows })
    };
    Ok(match kind {
        sign::WORD => InsertKind::Sign(sign::first(file()?, wish.distance_m)),
        prop::WORD => InsertKind::Prop(prop::first(file()?)),
        effect::WORD => InsertKind::Effect(effect::first(file()?, wish.distance_m, wish.frame)),
        backdrop::WORD => InsertKind::Backdrop(backdrop::first(file()?, wish.toward)),
        MARKER => InsertKind::Marker,
        lamp::WORD => InsertKind::Lamp(lamp::first(wish.distance_m)),
        _ => {
            let font = wish.shows.filter(|f| matches!(f.info, AssetInfo::Font { .. }));
            InsertKind::Title(title::first(font, wish.distance_m))
        }
    })
}

/// Shows another file and keeps everything else.
///
/// # Errors
/// [`ValueError::NoAsset`] where the kind cannot show it.
pub fn swap(kind: &mut InsertKind, file: &TakenAsset) -> Result<(), ValueError> {
    let wish = Wish { kind: kind.word(), shows: Some(file), distance_m: 1.0, toward: Vector3::z(), frame: 0 };
    let made = first_of(&wish)?;
    let (asset, aspect) = (file.asset.clone(), file.info.aspect());
    match (kind, made) {
        (InsertKind::Sign(sign), _) => (sign.asset, sign.aspect) = (asset, aspect),
        (InsertKind::Effect(effect), _) => (effect.asset, effect.aspect) = (asset, aspect),
        (InsertKind::Backdrop(far), _) => (far.asset, far.aspect) = (asset, aspect),
        // Another model has units and axes of its own.
        (InsertKind::Prop(prop), InsertKind::Prop(other)) => {
            (prop.asset, prop.unit_m, prop.up) = (other.asset, other.unit_m, other.up);
        }
        (other, _) => return Err(ValueError::NoAsset { kind: other.word(), shows: "text" }),
    }
    Ok(())
}

/// A size that people would type.
fn rounded_size(m: f64) -> f64 {
    (m * 10.0).round().max(1.0) / 10.0
}

/// What can be set of what a kind shows.
pub fn fields(kind: &InsertKind) -> &'static [Field] {
    match kind {
        InsertKind::Title(_) => &title::FIELDS,
        InsertKind::Sign(_) => &sign::FIELDS,
        InsertKind::Prop(_) => &prop::FIELDS,
        InsertKind::Effect(_) => &effect::FIELDS,
        InsertKind::Backdrop(_) => &backdrop::FIELDS,
        InsertKind::Marker => &[],
        InsertKind::Lamp(_) => &lamp::FIELDS,
    }
}

/// All values of what an insert shows.
pub fn content_values(kind: &InsertKind) -> Values {
    match kind {
        InsertKind::Title(title) => title::values(title),
        InsertKind::Sign(sign) => sign::values(sign),
        InsertKind::Prop(prop) => prop::values(prop),
        InsertKind::Effect(effect) => effect::values(effect),
        InsertKind::Backdrop(far) => backdrop::values(far),
        InsertKind::Marker => Values::new(),
        InsertKind::Lamp(lamp) => lamp::values(lamp),
    }
}

/// Sets a value of what an insert shows; `false` where it has none of that name.
///
/// # Errors
/// [`ValueError`] says what is wrong with the value.
pub fn set_content(kind: &mut InsertKind, name: &str, value: &Value) -> Result<bool, ValueError> {
    match kind {
        InsertKind::Title(title) => title::set(title, name, value),
        InsertKind::Sign(sign) => sign::set(sign, name, value),
        InsertKind::Prop(prop) => prop::set(prop, name, value),
        InsertKind::Effect(effect) => effect::set(effect, name, value),
        InsertKind::Backdrop(far) => backdrop::set(far, name, value),
        InsertKind::Marker => Ok(false),
        InsertKind::Lamp(lamp) => lamp::set(lamp, name, value),
    }
}

/// All values of an insert at a time, frames, but for its name.
pub fn values(insert: &Insert, frame: f64) -> Values {
    let insert = insert.resolved(frame);
    let mut values = placed::values(&insert.placement, frame);
    values.extend(look::values(&insert, frame));
    values.extend(copies::values(&insert));
    values.extend(matching::draw_values(&insert, frame));
    values.extend(grading::values(&insert.grade, &grade_rules(), frame));
    values.extend(content_values(&insert.content));
    values
}

/// The values of an insert in groups, what people change most first: what each is called, and its fields.
pub fn groups(insert: &Insert) -> Vec<(&'static str, Vec<&'static Field>)> {
    let kind = insert.content.word();
    if matches!(insert.content, InsertKind::Backdrop(_)) {
        // It goes with the camera: it has no place, no pivot and no copies.
        let (seen_at, content) = backdrop::FIELDS.split_at(backdrop::SEEN_AT);
        let look = LOOK_FIELDS.iter().filter(|f| !look::OF_PLACE.contains(&f.name));
        let mut all = vec![
            ("where it is seen", seen_at.iter().collect()),
            (kind, content.iter().collect()),
            ("how it is seen", look.collect()),
        ];
        all.extend(grading::GROUPS.iter().map(|g| (g.name, g.fields.iter().collect())));
        all.push(("when", SPAN_FIELDS.iter().collect()));
        return all;
    }
    let content: Vec<_> = fields(&insert.content).iter().collect();
    let mut all = vec![("place, turn and size", PLACE_FIELDS.iter().collect())];
    if !content.is_empty() {
        all.push((kind, content));
    }
    if insert.content.is_unseen() {
        all.push(("when", SPAN_FIELDS.iter().collect()));
        return all;
    }
    all.push(("how it is seen", LOOK_FIELDS.iter().collect()));
    if insert.drawn.is_some() {
        all.push(("towards the plate", matching::DRAW_FIELDS.iter().collect()));
    }
    all.extend(grading::GROUPS.iter().map(|g| (g.name, g.fields.iter().collect())));
    all.push(("when", SPAN_FIELDS.iter().collect()));
    all.push(("copies", copies::shown(insert.copies.as_ref())));
    all.push(("pivot", PIVOT_FIELDS.iter().collect()));
    all
}

/// Whether a field says how a clip is played.
pub fn is_of_clip(field: &Field) -> bool {
    play::FIELDS.iter().any(|f| f.name == field.name)
}

/// All fields that an insert has.
fn all_fields(insert: &Insert) -> impl Iterator<Item = &'static Field> {
    let shared = PLACE_FIELDS.iter().chain(&PIVOT_FIELDS).chain(&LOOK_FIELDS).chain(&SPAN_FIELDS);
    let drawn = insert.drawn.iter().flat_map(|_| &matching::DRAW_FIELDS);
    let graded = grading::GROUPS.iter().flat_map(|g| &g.fields).chain(drawn);
    fields(&insert.content).iter().chain(shared).chain(&copies::FIELDS).chain(graded)
}

/// About how wide what it shows is, metres.
fn width_m(content: &InsertKind) -> f64 {
    match content {
        InsertKind::Sign(sign) => sign.width_m(),
        InsertKind::Effect(effect) => effect.height_m * effect.aspect,
        InsertKind::Title(title) => {
            title.height_m * 0.8 * title.text.lines().map(|l| l.chars().count()).max().unwrap_or(1) as f64
        }
        InsertKind::Prop(_) | InsertKind::Backdrop(_) | InsertKind::Marker | InsertKind::Lamp(_) => 1.0,
    }
}

/// Sets a value of an insert: at a time, frames, where it changes, else for good.
///
/// # Errors
/// [`ValueError`] says what is wrong with the value, or what values there are.
pub fn set(insert: &mut Insert, frame: f64, name: &str, value: &Value) -> Result<(), ValueError> {
    let switch = || switch(value);
    let width = width_m(&insert.content) * insert.placement.scale.at(frame);
    match name {
        "name" => insert.name = text(value)?.trim().to_owned(),
        "hidden" => insert.hidden = switch()?,
        "locked" => insert.locked = switch()?,
        "solo" => insert.solo = switch()?,
        _ if placed::set(&mut insert.placement, frame, name, value)? => {}
        _ if look::set(insert, frame, name, value)? => {}
        _ if copies::set(insert, width, name, value)? => {}
        _ if matching::set_draw(insert, When::At(frame), name, value)? => {}
        _ if grading::set(&mut insert.grade, Insert::grade_rule(name), When::At(frame), value)? => {}
        _ if set_content(&mut insert.content, name, value)? => {}
        _ => {
            let all = all_fields(insert).map(|f| f.name).collect();
            return Err(ValueError::Unknown { kind: insert.content.word(), all });
        }
    }
    // What changes over time takes it there.
    if let Some(mut track) = insert.tracks.remove(name) {
        if let Some(slot) = insert.slot(name) {
            track.take(frame, &slot);
        }
        insert.tracks.insert(name.to_owned(), track);
    }
    Ok(())
}

/// The track in which a value changes over time, by the value's name.
pub fn track_of(name: &str) -> &str {
    match name {
        "x" | "y" | "z" => "place",
        "lean" => "turn",
        other => other,
    }
}

/// Whether a value can change over time.
pub fn can_change(insert: &Insert, name: &str) -> bool {
    let own = ["place", "turn", "lift", "scale", "opacity"];
    own.contains(&track_of(name))
        || Insert::grade_rule(name).is_some()
        || Drawn::rule(name).is_some()
        || insert.clone().slot(name).is_some()
}

/// Sets a value of an insert with a key at a time, frames, and how it goes on from there.
///
/// # Errors
/// [`ValueError::NotKeyed`] where the value cannot change over time; [`ValueError`] says what is wrong with it.
pub fn set_keyed(
    insert: &mut Insert,
    frame: f64,
    name: &str,
    value: &Value,
    ease: Option<Ease>,
) -> Result<(), ValueError> {
    if !can_change(insert, name) {
        return Err(ValueError::NotKeyed { name: name.to_owned() });
    }
    let track = track_of(name);
    insert.begin_track(track, frame);
    insert.each_track(Some(track), |t| t.key_at(frame));
    set(insert, frame, name, value)?;
    insert.each_track(Some(track), |t| t.ease_at(frame, ease.unwrap_or_default()));
    Ok(())
}

/// Sets those values of an insert at a time, frames, that were typed as others than are there.
///
/// # Errors
/// The first value that cannot be used, by its name.
pub fn set_typed(insert: &mut Insert, frame: f64, typed: &BTreeMap<String, String>) -> Result<(), ValueError> {
    let now = values(insert, frame);
    let changed = typed_anew(all_fields(insert), &now, typed);
    let name = typed.get("name").map(|name| ("name", name.as_str()));
    for (name, typed) in changed.into_iter().chain(name) {
        set(insert, frame, name, &Value::from(typed)).map_err(|why| why.of(name))?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::engine::assets::ShotOn;
    use fennik_core::scene::{Asset, AssetName, InsertId, Placement, Stance};

    fn insert(content: InsertKind) -> Insert {
        let placement = Placement::on([1.0, 0.0, -2.0], [0.0, 1.0, 0.0], Stance::Standing);
        Insert { id: InsertId(1), name: "one".into(), ..Insert::new(content, placement) }
    }

    #[test]
    fn every_kind_is_made_anew_from_its_values() {
        for word in WORDS {
            let file = file(word);
            let wish = Wish { shows: Some(&file), ..wish(word) };
            let made = first_of(&wish).unwrap();
            assert_eq!((made.word(), made.validate()), (word, Ok(())));
            let mut other = first_of(&Wish { distance_m: 3.0, frame: 7, toward: Vector3::x(), ..wish }).unwrap();
            let values = content_values(&made);
            let mut names: Vec<_> = fields(&made).iter().map(|f| f.name).collect();
            names.sort_unstable();
            assert_eq!(values.keys().map(String::as_str).collect::<Vec<_>>(), names);
            for (name, value) in &values {
                assert_eq!(set_content(&mut other, name, value), Ok(true), "{name}");
            }
            assert_eq!(other, made);
            let wrong = set(&mut insert(other), 0.0, "moons", &Value::from(1)).unwrap_err().to_string();
            assert!(wrong.contains("turn") && names.iter().all(|n| wrong.contains(n)), "{wrong}");
            assert_eq!(first_of(&super::tests::wish(word)).is_err(), shows(word).is_some(), "{word} shows a file");
        }
        assert!(first_of(&wish("kiosk")).unwrap_err().to_string().contains("a title, a sign"));
    }

    #[test]
    fn another_file_keeps_everything_else() {
        let (one, mut other) = (file("sign"), file("effect"));
        other.info = AssetInfo::Picture { width: 300, height: 100, ground: ShotOn::Anything };
        let mut kind = first_of(&Wish { shows: Some(&one), ..wish("sign") }).unwrap();
        set_content(&mut kind, "thickness", &Value::from(0.2)).unwrap();
        let before = content_values(&kind);
        swap(&mut kind, &other).unwrap();
        let InsertKind::Sign(sign) = &kind else { panic!("a sign") };
        assert_eq!((sign.aspect, &sign.asset, content_values(&kind)), (3.0, &other.asset, before));
        assert!(swap(&mut kind, &file("prop")).unwrap_err().to_string().contains("picture"));
        assert!(swap(&mut InsertKind::Marker, &one).is_err());
    }

    fn wish(kind: &str) -> Wish<'_> {
        Wish { kind, shows: None, distance_m: 12.0, toward: -Vector3::z(), frame: 0 }
    }

    /// A file that a kind shows.
    fn file(kind: &str) -> TakenAsset {
        let name = AssetName::of_digest(&[kind.len() as u8; 32]);
        let info = if shows(kind) == Some("model") {
            AssetInfo::Model {
                size: [1.0; 3],
                unit_m: 0.01,
                z_up: true,
                triangles: 2,
                notes: Vec::new(),
                length_s: 0.0,
                materials: Vec::new(),
            }
        } else {
            AssetInfo::Picture { width: 200, height: 100, ground: ShotOn::Black }
        };
        TakenAsset { asset: Asset { name, file: "one".into() }, kind: "any".into(), info }
    }

    #[test]
    fn only_what_was_typed_anew_is_set() {
        let mut one = insert(first_of(&wish("title")).unwrap());
        one.placement.set_turn_lean_deg(0.0, [-77.123_456_789_012, 11.1]);
        let before = one.clone();
        let shown = |v: &Value| v.as_str().map_or_else(|| v.to_string(), str::to_owned);
        let mut typed: BTreeMap<String, String> =
            values(&one, 0.0).iter().map(|(k, v)| (k.clone(), shown(v))).collect();
        set_typed(&mut one, 0.0, &typed).unwrap();
        assert_eq!(one, before, "to the last digit");
        typed.insert("turn".into(), "12.5".into());
        typed.insert("colour".into(), "#102030".into());
        typed.insert("name".into(), " two ".into());
        set_typed(&mut one, 0.0, &typed).unwrap();
        let [turn, lean] = one.placement.turn_lean_deg(0.0);
        assert!((turn - 12.5).abs() < 1e-9 && (lean - 11.1).abs() < 1e-9);
        assert_eq!((one.name.as_str(), one.content.base_colour()), ("two", [16, 32, 48]));
        assert!(
            set_typed(&mut one, 0.0, &[("height".to_owned(), "high".to_owned())].into())
                .unwrap_err()
                .to_string()
                .contains("height: ")
        );
    }
}
