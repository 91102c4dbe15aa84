//! Backdrops.

use super::field::{Field, Input, ValueError, amount, word};
use super::sign::one_of;
use super::{Measure, Values, play};
use crate::engine::assets::TakenAsset;
use fennik_core::scene::{Backdrop, Spread};
use nalgebra::Vector3;
use serde_json::{Value, json};

pub const WORD: &str = "backdrop";
pub const FIELDS: [Field; 13] = [
    Field { name: "spread", label: "spread", input: Input::Choice(|| vec!["flat", "dome"]) },
    Field::number("bearing", "bearing, deg", Measure::Angle, 1.0),
    Field::number("rise", "height, deg", Measure::Angle, 1.0),
    Field::number("width", "width, deg", Measure::Angle, 1.0),
    Field { name: "covers", label: "covers", input: Input::Choice(|| vec!["above", "everywhere"]) },
    Field::number("fade", "fade, deg", Measure::Angle, 0.5),
    Field::number("plate-from", "plate from", Measure::Plain, 0.05),
    Field::number("plate-soft", "plate soft", Measure::Plain, 0.05),
    play::FIELDS[0],
    play::FIELDS[1],
    play::FIELDS[2],
    play::FIELDS[3],
    play::FIELDS[4],
];

/// How many of them, from the first, say where it is seen.
pub const SEEN_AT: usize = 4;

/// An equirectangular picture is twice as wide as it is high.
const EQUIRECTANGULAR: f64 = 2.0;

/// Where a ray of the camera points to.
pub fn first(shows: &TakenAsset, toward: Vector3<f64>) -> Backdrop {
    let aspect = shows.info.aspect();
    let spread = if (aspect - EQUIRECTANGULAR).abs() < 0.01 { Spread::Dome } else { Spread::Flat };
    let mut far = Backdrop::new(shows.asset.clone(), aspect, spread);
    if spread == Spread::Flat {
        far.bearing_deg = toward.x.atan2(-toward.z).to_degrees();
        far.height_deg = toward.y.clamp(-1.0, 1.0).asin().to_degrees().clamp(-80.0, 80.0);
    }
    far
}

pub fn values(far: &Backdrop) -> Values {
    let own = [
        json!(far.spread),
        json!(far.bearing_deg),
        json!(far.height_deg),
        json!(far.width_deg),
        json!(if far.above_horizon { "above" } else { "everywhere" }),
        json!(far.fade_deg),
        json!(far.plate_from),
        json!(far.plate_soft),
    ];
    let mut values: Values = FIELDS.iter().map(|f| f.name.to_owned()).zip(own).collect();
    values.extend(play::values(&far.play));
    values
}

pub fn set(far: &mut Backdrop, name: &str, value: &Value) -> Result<bool, ValueError> {
    let angle = || amount(value, Measure::Angle);
    let plain = || amount(value, Measure::Plain);
    match name {
        "spread" => far.spread = word::<Spread>(value)?,
        "bearing" => far.bearing_deg = angle()?,
        "rise" => far.height_deg = angle()?,
        "width" => far.width_deg = angle()?,
        "covers" => far.above_horizon = !one_of(value, "above", "everywhere")?,
        "fade" => far.fade_deg = angle()?,
        "plate-from" => far.plate_from = plain()?,
        "plate-soft" => far.plate_soft = plain()?,
        _ => return play::set(&mut far.play, name, value),
    }
    Ok(true)
}
