//! What pages and recipes know of holdouts: their values by name.

use super::kinds::{
    Field, Input, Measure, PLAY_FIELDS, ToldKey, ValueError, Values, When, amount, colour, play_values, set_play,
    switch, tell, text, word, written,
};
use super::{EngineError, ShotError, assets};
use fennik_core::matte::{Combine, KeyBy, PlateKey};
use fennik_core::scene::{Holdout, HoldoutBy, HoldoutId, Insert, MatteChannel, Play, ShotDocument, SurfaceId};
use serde_json::{Value, json};

/// Of all.
const STRENGTH: Field = Field::number("strength", "strength, 0 to 1", Measure::Plain, 0.05);
/// Of all but those that are told by a surface.
const SHARED: [Field; 3] = [
    STRENGTH,
    Field {
        name: "combine",
        label: "meets those above",
        input: Input::Choice(|| Combine::ALL.map(Combine::word).into()),
    },
    Field { name: "inverted", label: "inverted", input: Input::Choice(|| vec!["no", "yes"]) },
];
/// Of those that are told by the plate.
const KEY: [Field; 5] = [
    Field { name: "key", label: "in front is what is", input: Input::Choice(|| KEYS.map(|k| k.0).into()) },
    Field { name: "colour", label: "colour", input: Input::Colour },
    Field::number("from", "from", Measure::Plain, 0.02),
    Field::number("soft", "soft", Measure::Plain, 0.02),
    Field::number("clean-frame", "frame without it", Measure::Plain, 1.0),
];
/// Of those that are told by an imported picture.
const MATTE: [Field; 1] =
    [Field { name: "matte", label: "the matte is its", input: Input::Choice(|| vec!["brightness", "alpha"]) }];

/// The keys, each with its word.
const KEYS: [(&str, KeyBy); 4] = [
    ("brighter", KeyBy::Brighter),
    ("darker", KeyBy::Darker),
    ("colour", KeyBy::Colour),
    ("difference", KeyBy::Difference),
];

/// The fields that a holdout has.
pub fn fields(holdout: &Holdout) -> Vec<&'static Field> {
    match &holdout.by {
        HoldoutBy::Mask { .. } => SHARED.iter().collect(),
        HoldoutBy::Surface { .. } => vec![&STRENGTH],
        HoldoutBy::Key { key } => {
            let needed = |f: &&Field| match f.name {
                "colour" => key.by == KeyBy::Colour,
                "clean-frame" => key.by == KeyBy::Difference,
                _ => true,
            };
            KEY.iter().filter(needed).chain(&SHARED).collect()
        }
        HoldoutBy::Matte { .. } => MATTE.iter().chain(&PLAY_FIELDS).chain(&SHARED).collect(),
    }
}

/// What it is told by, in a word or two.
pub fn told_by(document: &ShotDocument, holdout: &Holdout) -> String {
    match &holdout.by {
        HoldoutBy::Mask { .. } => "drawn".to_owned(),
        HoldoutBy::Surface { surface } => {
            document.surfacing.surface(*surface).map_or_else(|| "a surface that is gone".to_owned(), |s| s.name.clone())
        }
        HoldoutBy::Key { key } => key_word(key.by).to_owned(),
        HoldoutBy::Matte { asset, .. } => asset.file.clone(),
    }
}

fn key_word(by: KeyBy) -> &'static str {
    KEYS.iter().find(|k| k.1 == by).map_or("", |k| k.0)
}

/// All its values at a time, frames.
pub fn values(holdout: &Holdout, frame: f64) -> Values {
    let mut all = vec![
        ("strength", json!(holdout.strength.at(frame))),
        ("combine", json!(holdout.combine)),
        ("inverted", json!(if holdout.inverted { "yes" } else { "no" })),
    ];
    let mut played = Values::new();
    match &holdout.by {
        HoldoutBy::Key { key } => all.extend([
            ("key", json!(key_word(key.by))),
            ("colour", json!(written(key.colour))),
            ("from", json!(key.from)),
            ("soft", json!(key.soft)),
            ("clean-frame", json!(key.clean_frame)),
        ]),
        HoldoutBy::Matte { play, channel, .. } => {
            all.push(("matte", json!(channel)));
            played = play_values(play);
        }
        HoldoutBy::Mask { .. } | HoldoutBy::Surface { .. } => {}
    }
    all.into_iter().map(|(name, value)| (name.to_owned(), value)).chain(played).collect()
}

/// Sets one; `false` where there is none of that name.
///
/// # Errors
/// [`ValueError`] says what is wrong with the value.
pub fn set(holdout: &mut Holdout, when: When, name: &str, value: &Value) -> Result<bool, ValueError> {
    let plain = || amount(value, Measure::Plain);
    let wrong = || ValueError::NoWord { value: value.clone() };
    match (name, &mut holdout.by) {
        ("name", _) => text(value)?.trim().clone_into(&mut holdout.name),
        ("hidden", _) => holdout.hidden = switch(value)?,
        ("strength", _) => when.put(&mut holdout.strength, plain()?),
        ("combine", _) => holdout.combine = word::<Combine>(value)?,
        ("inverted", _) => {
            holdout.inverted = match (value.as_str(), value.as_bool()) {
                (Some("yes"), _) | (_, Some(true)) => true,
                (Some("no"), _) | (_, Some(false)) => false,
                _ => return Err(wrong()),
            };
        }
        ("key", HoldoutBy::Key { key }) => {
            key.by = KEYS.iter().find(|k| value.as_str() == Some(k.0)).ok_or_else(wrong)?.1;
        }
        ("colour", HoldoutBy::Key { key }) => key.colour = colour(value)?,
        ("from", HoldoutBy::Key { key }) => key.from = plain()?,
        ("soft", HoldoutBy::Key { key }) => key.soft = plain()?,
        ("clean-frame", HoldoutBy::Key { key }) => key.clean_frame = plain()?.round().clamp(0.0, 1e9) as u32,
        ("matte", HoldoutBy::Matte { channel, .. }) => *channel = word::<MatteChannel>(value)?,
        (_, HoldoutBy::Matte { play, .. }) => return set_play(play, name, value),
        _ => return Ok(false),
    }
    Ok(true)
}

/// What a holdout is to be told by.
#[derive(Debug, Clone)]
pub enum Wish<'a> {
    /// A mask that is there, by its id.
    Mask(u32),
    /// A surface.
    Surface(SurfaceId),
    /// The plate, by the word of a key.
    Key(&'a str),
    /// A file that was taken in.
    Matte(&'a assets::TakenAsset),
}

/// A holdout that stands in front of everything, told by something.
///
/// # Errors
/// [`EngineError`] says what is not there or cannot tell it.
pub fn first_of(document: &ShotDocument, wish: &Wish, frame: u32) -> Result<Holdout, EngineError> {
    let named = |name: &str, by| Ok(Holdout::new(name.to_owned(), by));
    match wish {
        Wish::Mask(id) => {
            let mask = document.mask(*id).ok_or(ShotError::Gone { what: "mask" })?;
            named(&mask.name, HoldoutBy::Mask { mask: *id })
        }
        Wish::Surface(id) => {
            let surface = document.surfacing.surface(*id).ok_or(ShotError::Gone { what: "surface" })?;
            named(&surface.name, HoldoutBy::Surface { surface: *id })
        }
        Wish::Key(key) => {
            let by = KEYS.iter().find(|k| k.0 == *key);
            let by = by.ok_or_else(|| ValueError::NoWord { value: json!(key) })?.1;
            // Differences are small, brightness and colours are not.
            let (from, soft) = match by {
                KeyBy::Difference => (0.15, 0.1),
                KeyBy::Colour => (0.3, 0.2),
                _ => (0.5, 0.1),
            };
            let key = PlateKey { by, from, soft, clean_frame: frame, ..PlateKey::default() };
            named(key_word(by), HoldoutBy::Key { key })
        }
        Wish::Matte(taken) => {
            let picture = matches!(taken.info, assets::AssetInfo::Picture { .. } | assets::AssetInfo::Clip { .. });
            if !picture {
                return Err(ValueError::NoAsset { kind: "matte", shows: "picture or a clip" }.into());
            }
            let by = HoldoutBy::Matte {
                asset: taken.asset.clone(),
                play: Play::default(),
                channel: MatteChannel::default(),
            };
            named(&taken.asset.file, by)
        }
    }
}

/// Whatever a document holds out, by name.
pub fn named<'d>(document: &'d ShotDocument, name: &str) -> Option<&'d Holdout> {
    document.holding.holdouts.iter().find(|h| h.name == name.trim())
}

/// One by its id.
///
/// # Errors
/// [`ShotError::Gone`].
pub fn by_id(document: &ShotDocument, id: u32) -> Result<&Holdout, EngineError> {
    Ok(document.holding.holdout(HoldoutId(id)).ok_or(ShotError::Gone { what: "holdout" })?)
}

/// What it stands in front of, by name; nothing where it is everything.
pub fn of_names(document: &ShotDocument, holdout: &Holdout) -> Vec<String> {
    let inserts = &document.placing.inserts;
    let named = |id| inserts.iter().find(|i: &&Insert| i.id == id).map(Insert::shown_name);
    holdout.of.iter().filter_map(|id| named(*id)).collect()
}

/// Its values as steps of a recipe say them: still ones by name, and the keys of the others.
pub fn told(holdout: &Holdout) -> (Values, Vec<ToldKey>) {
    let mut keys = Vec::new();
    let mut still = if matches!(holdout.by, HoldoutBy::Surface { .. }) { Values::new() } else { values(holdout, 0.0) };
    still.remove("strength");
    tell("strength", &holdout.strength, |v| json!(v), &mut still, &mut keys);
    if holdout.hidden {
        still.insert("hidden".to_owned(), json!(true));
    }
    (still, keys)
}

#[cfg(test)]
mod tests {
    use super::*;
    use fennik_core::scene::anim::Ease;
    use fennik_core::scene::{Asset, AssetName};

    #[test]
    fn holdouts_are_made_anew_from_their_values() {
        let document = ShotDocument::new(10);
        let key = first_of(&document, &Wish::Key("colour"), 4).unwrap();
        let asset = Asset { name: AssetName::of_digest(&[7; 32]), file: "crowd.png".into() };
        let by = HoldoutBy::Matte { asset, play: Play { start: 3.0, ..Play::default() }, channel: MatteChannel::Alpha };
        for mut made in [key, Holdout::new("crowd".into(), by)] {
            (made.inverted, made.combine, made.strength) = (true, Combine::Cross, 0.5.into());
            let mut other = match &made.by {
                HoldoutBy::Key { .. } => first_of(&document, &Wish::Key("brighter"), 0).unwrap(),
                by => {
                    let mut by = by.clone();
                    if let HoldoutBy::Matte { play, channel, .. } = &mut by {
                        (*play, *channel) = (Play::default(), MatteChannel::default());
                    }
                    Holdout::new("other".into(), by)
                }
            };
            other.name.clone_from(&made.name);
            for (name, value) in values(&made, 0.0) {
                assert!(set(&mut other, When::At(0.0), &name, &value).unwrap(), "{name}");
            }
            assert_eq!(other, made);
            assert!(fields(&made).iter().all(|f| values(&made, 0.0).contains_key(f.name)));
            set(&mut other, When::Key(5.0, Ease::Hold), "strength", &json!(0.25)).unwrap();
            assert_eq!(told(&other).1.len(), 1);
        }
        assert!(first_of(&document, &Wish::Mask(4), 0).is_err());
        assert!(first_of(&document, &Wish::Key("loud"), 0).is_err());
    }
}
