//! Copies, as forms and recipes see them: the same for all kinds.

use super::field::{Field, Input, ValueError, amount};
use super::sign::one_of;
use super::{Measure, Values};
use fennik_core::scene::{Copies, Insert, Layout};
use serde_json::{Value, json};

pub const FIELDS: [Field; 20] = [
    Field {
        name: "copies",
        label: "copies",
        input: Input::Choice(|| vec!["none", "row", "ring", "grid", "path", "scatter"]),
    },
    Field::number("count", "how many", Measure::Plain, 1.0),
    Field::number("step-x", "apart X, m", Measure::Length, 0.1),
    Field::number("step-y", "apart Y, m", Measure::Length, 0.1),
    Field::number("step-z", "apart Z, m", Measure::Length, 0.1),
    Field::number("across", "in a row", Measure::Plain, 1.0),
    Field::number("radius", "radius, m", Measure::Length, 0.1),
    Field::number("sweep", "sweep, deg", Measure::Angle, 15.0),
    Field { name: "along", label: "on the path they", input: Input::Choice(|| vec!["stay", "turn along"]) },
    Field::number("each-turn", "each turns, deg", Measure::Angle, 5.0),
    Field::number("each-size", "each, times", Measure::Plain, 0.05),
    Field::number("each-delay", "each later, frames", Measure::Plain, 1.0),
    Field::number("stray-x", "stray X, m", Measure::Length, 0.1),
    Field::number("stray-y", "stray Y, m", Measure::Length, 0.1),
    Field::number("stray-z", "stray Z, m", Measure::Length, 0.1),
    Field::number("stray-turn", "stray turn, deg", Measure::Angle, 5.0),
    Field::number("stray-size", "stray size", Measure::Plain, 0.05),
    Field::number("stray-delay", "stray, frames", Measure::Plain, 1.0),
    Field::number("seed", "chance", Measure::Plain, 1.0),
    Field { name: "left-out", label: "left out", input: Input::Text },
];

/// Those fields that a layout has.
pub fn shown(copies: Option<&Copies>) -> Vec<&'static Field> {
    let Some(copies) = copies else { return vec![&FIELDS[0]] };
    let own: &[&str] = match copies.layout {
        Layout::Row { .. } => &["step-x", "step-y", "step-z"],
        Layout::Ring { .. } => &["radius", "sweep"],
        Layout::Grid { .. } => &["across", "step-x", "step-z"],
        Layout::Path { .. } => &["along"],
        Layout::Scatter { .. } => &["step-x", "step-z", "seed"],
    };
    let all = ["copies", "count", "each-turn", "each-size", "each-delay"];
    let stray = ["stray-x", "stray-y", "stray-z", "stray-turn", "stray-size", "stray-delay"];
    let wanted = |f: &&Field| all.contains(&f.name) || own.contains(&f.name) || stray.contains(&f.name);
    FIELDS.iter().filter(wanted).collect()
}

/// Copies as they begin.
fn first(layout: &str, size_m: f64) -> Option<Copies> {
    let step = (size_m * 1.5).max(0.1);
    Some(match layout {
        "row" => Copies::row(5, [step, 0.0, 0.0]),
        "ring" => Copies::new(8, Layout::Ring { radius_m: 2.0 * step, sweep_deg: 360.0 }),
        "grid" => Copies::new(9, Layout::Grid { across: 3, step: [step; 2] }),
        "path" => Copies::new(5, Layout::Path { corners: vec![[4.0 * step, 0.0, 0.0]], along: false }),
        "scatter" => Copies::new(12, Layout::Scatter { reach: [3.0 * step; 2] }),
        _ => return None,
    })
}

fn word(copies: Option<&Copies>) -> &'static str {
    match copies.map(|c| &c.layout) {
        None => "none",
        Some(Layout::Row { .. }) => "row",
        Some(Layout::Ring { .. }) => "ring",
        Some(Layout::Grid { .. }) => "grid",
        Some(Layout::Path { .. }) => "path",
        Some(Layout::Scatter { .. }) => "scatter",
    }
}

pub fn values(insert: &Insert) -> Values {
    let mut values = Values::new();
    let mut put = |name: &str, value: Value| values.insert(name.to_owned(), value);
    let copies = insert.copies.as_ref();
    put("copies", json!(word(copies)));
    let Some(copies) = copies else { return values };
    put("count", json!(copies.count));
    match &copies.layout {
        Layout::Row { step: [x, y, z] } => {
            put("step-x", json!(x));
            put("step-y", json!(y));
            put("step-z", json!(z));
        }
        Layout::Ring { radius_m, sweep_deg } => {
            put("radius", json!(radius_m));
            put("sweep", json!(sweep_deg));
        }
        Layout::Grid { across, step: [x, z] } => {
            put("across", json!(across));
            put("step-x", json!(x));
            put("step-z", json!(z));
        }
        Layout::Path { along, .. } => {
            put("along", json!(if *along { "turn along" } else { "stay" }));
        }
        Layout::Scatter { reach: [x, z] } => {
            put("step-x", json!(x));
            put("step-z", json!(z));
        }
    }
    put("each-turn", json!(copies.each.turn_deg));
    put("each-size", json!(copies.each.scale));
    put("each-delay", json!(copies.each.frames));
    let [x, y, z] = copies.stray_m;
    put("stray-x", json!(x));
    put("stray-y", json!(y));
    put("stray-z", json!(z));
    put("stray-turn", json!(copies.stray.turn_deg));
    put("stray-size", json!(copies.stray.scale));
    put("stray-delay", json!(copies.stray.frames));
    put("seed", json!(copies.seed));
    let out: Vec<String> = copies.out.iter().map(|n| (n + 1).to_string()).collect();
    put("left-out", json!(out.join(" ")));
    values
}

/// Sets one; `false` where there is none of that name. `size_m` is about how wide the insert is.
pub fn set(insert: &mut Insert, size_m: f64, name: &str, value: &Value) -> Result<bool, ValueError> {
    if !FIELDS.iter().any(|f| f.name == name) {
        return Ok(false);
    }
    if name == "copies" {
        let layout = value.as_str().unwrap_or_default();
        if layout == word(insert.copies.as_ref()) {
            return Ok(true);
        }
        let made = first(layout, size_m);
        if made.is_none() && layout != "none" {
            return Err(ValueError::NoWord { value: value.clone() });
        }
        // Another layout keeps what each differs by.
        insert.copies = match (made, insert.copies.take()) {
            (Some(made), Some(old)) => Some(Copies { layout: made.layout, out: Default::default(), ..old }),
            (made, _) => made,
        };
        return Ok(true);
    }
    let Some(copies) = &mut insert.copies else { return Err(ValueError::NoCopies { name: name.to_owned() }) };
    let length = || amount(value, Measure::Length);
    let plain = || amount(value, Measure::Plain);
    let angle = || amount(value, Measure::Angle);
    let whole = |v: f64| v.round().clamp(0.0, 1e6) as u32;
    let axis = |name: &str| usize::from(name.as_bytes()[name.len() - 1] - b'x');
    match name {
        "count" => copies.count = whole(plain()?),
        "step-x" | "step-y" | "step-z" => {
            let (k, v) = (axis(name), length()?);
            match &mut copies.layout {
                Layout::Row { step } => step[k] = v,
                Layout::Grid { step, .. } | Layout::Scatter { reach: step } if k != 1 => step[k / 2] = v,
                _ => {}
            }
        }
        "across" | "radius" | "sweep" | "along" => match &mut copies.layout {
            Layout::Grid { across, .. } if name == "across" => *across = whole(plain()?),
            Layout::Ring { radius_m, .. } if name == "radius" => *radius_m = length()?,
            Layout::Ring { sweep_deg, .. } if name == "sweep" => *sweep_deg = angle()?,
            Layout::Path { along, .. } if name == "along" => *along = one_of(value, "stay", "turn along")?,
            _ => {}
        },
        "each-turn" => copies.each.turn_deg = angle()?,
        "each-size" => copies.each.scale = plain()?,
        "each-delay" => copies.each.frames = plain()?,
        "stray-x" | "stray-y" | "stray-z" => copies.stray_m[axis(name)] = length()?,
        "stray-turn" => copies.stray.turn_deg = angle()?,
        "stray-size" => copies.stray.scale = plain()?,
        "stray-delay" => copies.stray.frames = plain()?,
        "seed" => copies.seed = whole(plain()?),
        _ => {
            let numbers = value.as_str().unwrap_or_default().split_whitespace();
            let read = |n: &str| n.parse::<u32>().ok().and_then(|n| n.checked_sub(1));
            copies.out = numbers.map(read).collect::<Option<_>>().ok_or(ValueError::NoWord { value: value.clone() })?;
        }
    }
    Ok(true)
}
