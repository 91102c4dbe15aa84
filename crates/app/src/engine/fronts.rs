//! What stands in front on a frame: all holdouts of a document, put together.

use super::EngineError;
use fennik_core::camera::Camera;
use fennik_core::matte::{Combine, Coverage, LightPicture, contains};
use fennik_core::scene::{Holdout, HoldoutBy, MatteChannel, ShotDocument, Surface};
use fennik_core::survey::Plane;
use fennik_render::{Assets, Fronts, Mesh, RenderError, ShapeError, Treatment, Wall};
use nalgebra::{Vector2, Vector3};
use rayon::prelude::*;
use std::collections::BTreeMap;
use std::sync::Arc;

/// Between places at which it is reckoned where a picture of another frame has what this one has, px.
const WARP_PX: usize = 16;
/// What is far away for that, metres.
const FAR: f64 = 1e5;

/// A frame for which it is asked.
pub struct Asked<'a> {
    /// Of the trimmed clip.
    pub frame: u32,
    /// Of the picture, px.
    pub size: [usize; 2],
    /// Width of the clip, px: shapes are drawn on it.
    pub clip_width: u32,
    /// The plate in linear light.
    pub plate: &'a [[f32; 3]],
    /// The camera of a frame for a picture of this size.
    pub camera: &'a dyn Fn(u32) -> Option<Camera>,
    /// Where pictures come from.
    pub assets: &'a dyn Assets,
}

/// Whether things that are placed have their own things in front of them.
pub fn apart(document: &ShotDocument) -> bool {
    document.holding.holdouts.iter().any(|h| !h.hidden && !h.of.is_empty() && !is_wall(h))
}

/// Whether anything is to be looked up on the plate of a frame.
pub fn asks_plate(document: &ShotDocument, frame: u32) -> bool {
    document.holding.holdouts.iter().any(|h| h.counts_on(frame) && matches!(h.by, HoldoutBy::Key { .. }))
}

fn is_wall(holdout: &Holdout) -> bool {
    matches!(holdout.by, HoldoutBy::Surface { .. })
}

/// Flat parts of the scene that hide what lies behind them.
pub fn walls(document: &ShotDocument) -> Vec<Wall> {
    let shown = document.holding.holdouts.iter().filter(|h| !h.hidden);
    let hides = |h: &Holdout| {
        let surface = wall(document, h)?;
        let mesh = flat(&surface.outline, surface.point, surface.normal)?;
        Some(Wall { mesh, strength: h.strength.clone(), span: h.span })
    };
    shown.filter_map(hides).collect()
}

/// The surface that a holdout is told by.
fn wall<'d>(document: &'d ShotDocument, holdout: &Holdout) -> Option<&'d Surface> {
    match holdout.by {
        HoldoutBy::Surface { surface } => document.surfacing.surface(surface),
        _ => None,
    }
}

/// An outline on a plane as places along two ways across it.
fn laid(outline: &[[f64; 3]], plane: &Plane, [a, b]: [Vector3<f64>; 2]) -> Vec<[f64; 2]> {
    let lies = |c: &[f64; 3]| {
        let way = Vector3::from(*c) - plane.point;
        [a.dot(&way), b.dot(&way)]
    };
    outline.iter().map(lies).collect()
}

/// A matte with the parts of the picture on which a flat part of the scene hides what lies behind it.
pub fn with_walls(
    document: &ShotDocument,
    frame: u32,
    camera: Option<&Camera>,
    [width, height]: [usize; 2],
    matte: Option<Arc<Coverage>>,
) -> Option<Arc<Coverage>> {
    let hides = document.holding.holdouts.iter().filter(|h| h.counts_on(frame));
    let walls: Vec<_> = hides
        .filter_map(|h| Some((wall(document, h)?, h.strength.at(f64::from(frame)) as f32)))
        .map(|(s, strength)| {
            let plane = Plane { point: s.point.into(), normal: s.normal.into() };
            let across = plane.across();
            let outline = laid(&s.outline, &plane, across);
            (plane, across, outline, strength)
        })
        .collect();
    let Some(camera) = camera.filter(|_| !walls.is_empty()) else { return matte };
    let hidden = |x: f64, y: f64| {
        let ray = camera.ray(Vector2::new(x, y));
        let hides = |(plane, [a, b], outline, strength): &(Plane, [Vector3<f64>; 2], Vec<[f64; 2]>, f32)| {
            let far = (plane.point - ray.from).dot(&plane.normal) / ray.along.dot(&plane.normal);
            let way = ray.from + ray.along * far - plane.point;
            let within = far.is_finite() && far > 0.0 && contains(outline, a.dot(&way), b.dot(&way));
            if within { *strength } else { 0.0 }
        };
        1.0 - walls.iter().map(|wall| 1.0 - hides(wall)).product::<f32>()
    };
    // Four looks into each pixel.
    let part = |i: usize| {
        let (x, y) = ((i % width) as f64, (i / width) as f64);
        let looks = [(-0.25, -0.25), (0.25, -0.25), (-0.25, 0.25), (0.25, 0.25)];
        looks.iter().map(|(dx, dy)| hidden(x + dx, y + dy)).sum::<f32>() / looks.len() as f32
    };
    let mut all = Coverage { width, height, parts: (0..width * height).into_par_iter().map(part).collect() };
    if let Some(matte) = matte {
        all.meet(&matte, Combine::Add);
    }
    Some(Arc::new(all))
}

/// An outline on a plane as triangles.
pub fn flat(outline: &[[f64; 3]], point: [f64; 3], normal: [f64; 3]) -> Option<Mesh> {
    let plane = Plane { point: point.into(), normal: normal.into() };
    let [a, b] = plane.across();
    let (places, indices) = fennik_render::triangulated(&laid(outline, &plane, [a, b]));
    let positions = places.iter().map(|p| (plane.point + a * p[0] + b * p[1]).cast::<f32>()).collect();
    let indices: Vec<[u32; 3]> = indices.chunks_exact(3).map(|t| [t[0], t[1], t[2]]).collect();
    (!indices.is_empty()).then(|| Mesh { positions, indices, ..Mesh::default() })
}

/// What stands in front on a frame.
///
/// # Errors
/// [`EngineError`] names the holdout whose picture cannot be read.
pub fn fronts(document: &ShotDocument, asked: &Asked) -> Result<Fronts, EngineError> {
    let all = &document.holding.holdouts;
    let counted: Vec<&Holdout> = all.iter().filter(|h| h.counts_on(asked.frame) && !is_wall(h)).collect();
    if counted.is_empty() {
        return Ok(Fronts::none());
    }
    let own = counted.iter().map(|h| coverage(document, h, asked)).collect::<Result<Vec<_>, _>>()?;
    let mut made: BTreeMap<Vec<bool>, Option<Arc<Coverage>>> = BTreeMap::new();
    let mut together = |of: Vec<bool>| -> Option<Arc<Coverage>> {
        let make = || {
            let mut sum: Option<Coverage> = None;
            for ((holdout, part), _) in counted.iter().zip(&own).zip(&of).filter(|(_, of)| **of) {
                match &mut sum {
                    None => sum = Some(part.clone()),
                    Some(sum) => sum.meet(part, holdout.combine),
                }
            }
            sum.filter(|c| !c.is_empty()).map(Arc::new)
        };
        made.entry(of.clone()).or_insert_with(make).clone()
    };
    if !apart(document) {
        return Ok(Fronts { all: together(vec![true; counted.len()]), ..Fronts::none() });
    }
    let mut fronts = Fronts {
        plate: together(counted.iter().map(|h| h.of.is_empty()).collect()),
        // Nothing stands in front of those that are not named here, whatever does of the plate.
        ..Fronts::none()
    };
    let [width, height] = asked.size;
    let nothing = Arc::new(Coverage::empty(width, height));
    for insert in &document.placing.inserts {
        let of = counted.iter().map(|h| h.is_of(insert.id)).collect();
        fronts.own.insert(insert.id.0, together(of).unwrap_or_else(|| nothing.clone()));
    }
    Ok(fronts)
}

/// What one covers.
fn coverage(document: &ShotDocument, holdout: &Holdout, asked: &Asked) -> Result<Coverage, EngineError> {
    let [width, height] = asked.size;
    let mut made = match &holdout.by {
        HoldoutBy::Mask { mask } => match document.mask(*mask).filter(|m| m.counts_on(asked.frame)) {
            Some(mask) => {
                let scale = width as f64 / f64::from(asked.clip_width);
                let drawn = Coverage::of_shape(width, height, &mask.soft_shape_at(asked.frame, scale));
                if mask.inverted { drawn.inverted() } else { drawn }
            }
            None => return Ok(Coverage::empty(width, height)),
        },
        HoldoutBy::Key { key } => {
            let picture = LightPicture { width, height, light: asked.plate };
            let clean = if key.by == fennik_core::matte::KeyBy::Difference {
                Some(clean(key.clean_frame, asked).map_err(|why| named(holdout, why))?)
            } else {
                None
            };
            key.coverage(picture, clean.as_deref().map(|light| LightPicture { width, height, light }))
        }
        HoldoutBy::Matte { asset, play, channel } => {
            let run = asked.assets.run(&asset.name).map_err(|why| named(holdout, why))?;
            let Some(at) = play.frame_at(f64::from(asked.frame), run.frames, run.rate) else {
                return Ok(Coverage::empty(width, height));
            };
            let picture = asked.assets.picture(&asset.name, at, &Treatment::default());
            let picture = picture.map_err(|why| named(holdout, why))?;
            let step = [1.0 / width as f32, 1.0 / height as f32];
            let part = |i: usize| {
                let at = [((i % width) as f32 + 0.5) * step[0], ((i / width) as f32 + 0.5) * step[1]];
                let [r, g, b, a] = picture.seen_at(at, step);
                match channel {
                    // A matte says parts, not light.
                    MatteChannel::Brightness => {
                        fennik_core::colour::encode(fennik_core::colour::luminance([r, g, b])).clamp(0.0, 1.0)
                    }
                    MatteChannel::Alpha => a,
                }
            };
            Coverage { width, height, parts: (0..width * height).into_par_iter().map(part).collect() }
        }
        HoldoutBy::Surface { .. } => Coverage::empty(width, height),
    };
    if holdout.inverted {
        made = made.inverted();
    }
    let strength = holdout.strength.at(f64::from(asked.frame)) as f32;
    Ok(if strength < 1.0 { made.times(strength) } else { made })
}

fn named(holdout: &Holdout, cause: fennik_render::AssetError) -> EngineError {
    RenderError { insert: holdout.name.clone(), cause: ShapeError::from(cause) }.into()
}

/// The picture of another frame as it would be seen from this one, as far as the camera only turned.
fn clean(frame: u32, asked: &Asked) -> Result<Vec<[f32; 3]>, fennik_render::AssetError> {
    let [width, height] = asked.size;
    let picture = asked.assets.plate(i64::from(frame), false)?;
    let (here, there) = ((asked.camera)(asked.frame), (asked.camera)(frame));
    let lies = |p: Vector2<f64>| -> [f32; 2] {
        let far = here.as_ref().zip(there.as_ref()).and_then(|(here, there)| {
            let ray = here.ray(p);
            there.project(there.centre() + ray.along * FAR)
        });
        far.unwrap_or(p).map(|v| v as f32).into()
    };
    let (across, down) = (width.div_ceil(WARP_PX) + 1, height.div_ceil(WARP_PX) + 1);
    let node = |i: usize| lies(Vector2::new((i % across * WARP_PX) as f64, (i / across * WARP_PX) as f64));
    let nodes: Vec<[f32; 2]> = (0..across * down).into_par_iter().map(node).collect();
    let step = [1.0 / width as f32, 1.0 / height as f32];
    let seen = |i: usize| {
        let (x, y) = (i % width, i / width);
        let (s, t) = ((x % WARP_PX) as f32 / WARP_PX as f32, (y % WARP_PX) as f32 / WARP_PX as f32);
        let at = y / WARP_PX * across + x / WARP_PX;
        let [a, b, c, d] = [at, at + 1, at + across, at + across + 1].map(|i| nodes[i]);
        let place = |k: usize| {
            let (top, low) = (a[k] + (b[k] - a[k]) * s, c[k] + (d[k] - c[k]) * s);
            (top + (low - top) * t + 0.5) * step[k]
        };
        let [r, g, b, _] = picture.seen_at([place(0), place(1)], step);
        [r, g, b]
    };
    Ok((0..width * height).into_par_iter().map(seen).collect())
}
