//! Placing by a pixel: what a person does with the pointer, and a recipe with numbers.

use super::assets::TakenAsset;
use super::{EngineError, kinds};
use fennik_core::camera::CameraPath;
use fennik_core::scene::{
    Blend, Facing, Insert, InsertKind, Keyed, Placement, ShotDocument, Spot, SpotError, SpotKind, Stance, Surface,
    spot_at, spot_far,
};
use fennik_core::solve::Solution;
use fennik_core::survey::{Plane, PlaneKind, plane_through};
use fennik_core::track::TrackId;
use fennik_render::{Assets, Mesh, NoAssets, RenderScene, ShapeCache};
use nalgebra::{Vector2, Vector3};
use serde::Deserialize;

/// The upright part of a normal below which a surface is a wall.
const STEEP: f64 = 0.5;

/// A place on the picture.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Pixel {
    /// Frame of the trimmed clip.
    pub frame: u32,
    /// Full-resolution px.
    pub at: [f64; 2],
}

/// What lies under a pixel, in the world of the datum.
///
/// # Errors
/// A message where there is nothing.
pub fn spot(solution: &Solution, document: &ShotDocument, at: Pixel) -> Result<Spot, EngineError> {
    let surfaces = &document.surfacing.surfaces;
    Ok(spot_at(solution, &document.datum, surfaces, at.frame, Vector2::from(at.at))?)
}

/// Where something is put.
#[derive(Debug, Clone, PartialEq, Default, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "where")]
pub enum Put {
    /// On what lies under the pixel.
    #[default]
    Surface,
    /// In the air, so far from the camera.
    Air {
        /// Metres.
        depth_m: f64,
    },
    /// Far away.
    Far,
    /// On the plane of points, or at the one.
    Points {
        /// Which.
        points: Vec<TrackId>,
    },
}

/// The place of a pixel, as it is asked for.
///
/// # Errors
/// A message where there is nothing.
pub fn spot_put(
    kind: &str,
    put: &Put,
    solution: &Solution,
    document: &ShotDocument,
    at: Pixel,
) -> Result<Spot, EngineError> {
    let pixel = Vector2::from(at.at);
    let path = CameraPath::new(solution, &document.datum.world_from_solve);
    let camera = path.at(at.frame).ok_or(SpotError::NoCamera { frame: at.frame })?;
    let in_air = |name: &str, point, normal: Vector3<f64>, support| Spot {
        kind: SpotKind::Other,
        surface: None,
        name: name.to_owned(),
        point,
        normal,
        tilt_deg: normal.y.clamp(-1.0, 1.0).acos().to_degrees(),
        fit_px: None,
        support,
    };
    match put {
        Put::Surface => spot_for(kind, solution, document, at),
        Put::Far => Ok(spot_far(solution, &document.datum, at.frame, pixel)?),
        Put::Air { depth_m } => {
            let ray = camera.ray(pixel);
            let depth = depth_m.clamp(1e-3, 1e5);
            Ok(in_air("in the air", ray.from + ray.along * depth, Vector3::y(), 0))
        }
        Put::Points { points } => {
            let ids: Vec<TrackId> =
                points.iter().copied().collect::<std::collections::BTreeSet<_>>().into_iter().collect();
            let there = solution.points.iter().filter(|p| ids.binary_search(&p.id).is_ok());
            let places: Vec<Vector3<f64>> = there.map(|p| path.point(p.position)).collect();
            if let [one] = places[..] {
                return Ok(in_air("at the point", one, Vector3::y(), 1));
            }
            let plane = plane_through(solution, &[], &ids, PlaneKind::Other, None)?.found.plane;
            let world = &document.datum.world_from_solve;
            let normal: Vector3<f64> = world.rotation * plane.normal;
            let moved = Plane { point: world.point(plane.point), normal };
            let missed =
                || SpotError::NotSeen { name: "the points".to_owned(), x: at.at[0], y: at.at[1], frame: at.frame };
            let ray = camera.ray(pixel);
            let point = moved.meet(&ray).ok_or_else(missed)?;
            let normal = if moved.normal.dot(&ray.along) > 0.0 { -moved.normal } else { moved.normal };
            Ok(in_air("plane of the points", point, normal, ids.len()))
        }
    }
}

/// Where a kind would go that is placed at a pixel: what is far away needs no surface.
///
/// # Errors
/// A message where there is nothing.
pub fn spot_for(kind: &str, solution: &Solution, document: &ShotDocument, at: Pixel) -> Result<Spot, EngineError> {
    if kind == kinds::BACKDROP {
        return Ok(spot_far(solution, &document.datum, at.frame, Vector2::from(at.at))?);
    }
    spot(solution, document, at)
}

/// A first insert of a kind at a place: a readable size for its distance, inside its surface, turned towards the camera.
///
/// # Errors
/// A message where the frame has no camera, or there is no such kind.
pub fn insert_on(
    (kind, shows): (&str, Option<&TakenAsset>),
    solution: &Solution,
    document: &ShotDocument,
    frame: u32,
    spot: &Spot,
    stance: Option<Stance>,
) -> Result<Insert, EngineError> {
    let path = CameraPath::new(solution, &document.datum.world_from_solve);
    let camera = path.at(frame).ok_or(SpotError::NoCamera { frame })?;
    let pose = camera.pose();
    let away = spot.point - pose.centre();
    let toward = away.try_normalize(1e-9).unwrap_or_else(|| -Vector3::z());
    let content = kinds::first_of(&kinds::Wish { kind, shows, distance_m: away.norm(), toward, frame })?;
    // On a wall a picture lies flat and a thing stands upright; on the ground both stand.
    let stance = stance.unwrap_or(if spot.normal.y.abs() < STEEP && content.is_flat() {
        Stance::Lying
    } else {
        Stance::Standing
    });
    let mut placement = Placement::on(spot.point.into(), spot.normal.into(), stance);
    if spot.kind == SpotKind::Far {
        // Far off there is nothing to stand on; it faces the camera.
        placement.stance = Stance::Lying;
    }
    if spot.kind == SpotKind::Floor {
        let toward = -(pose.rotation.inverse() * Vector3::z());
        placement.set_turn_lean_deg(0.0, [toward.x.atan2(toward.z).to_degrees(), 0.0]);
    }
    if matches!(content, InsertKind::Lamp(_)) {
        placement.anchor.lift_m = kinds::lamp_lift_m(away.norm()).into();
    }
    if matches!(content, InsertKind::Effect(_)) {
        placement.facing = Facing::Upright;
    }
    // Black is let go by its key, so that light is added to what lies behind.
    let adds = matches!(&content, InsertKind::Effect(e) if e.key.by == Keyed::Black);
    let blend = if adds { Blend::Screen } else { Blend::Normal };
    let mut insert = Insert { blend, ..Insert::new(content, placement) };
    if let Some(surface) = spot.surface.and_then(|id| document.surfacing.surface(id)) {
        fit_inside(&mut insert, surface);
    }
    Ok(insert)
}

/// Room that is left at the rim of a surface, of its size.
const RIM: f64 = 0.04;

/// Makes a flat thing that lies on a surface no larger than that, and moves it in from its rim.
fn fit_inside(insert: &mut Insert, surface: &Surface) {
    let lies = insert.placement.stance == Stance::Lying;
    let shape = ShapeCache::default().shape(&insert.content, insert.placement.stance, &NoAssets);
    let Some((low, high)) = shape.ok().filter(|_| lies).and_then(|m| m.bounds()) else { return };
    let own = insert.placement.rotation(0.0);
    let foot = insert.placement.origin(0.0);
    let across = |axis: Vector3<f64>| {
        let along = surface.outline.iter().map(|c| (Vector3::from(*c) - foot).dot(&axis));
        let ends = along.fold((f64::INFINITY, f64::NEG_INFINITY), |(a, b), v| (a.min(v), b.max(v)));
        let room = RIM * (ends.1 - ends.0);
        (ends.0 + room, ends.1 - room)
    };
    let axes = [own * Vector3::x(), own * Vector3::y()];
    let ends = axes.map(across);
    let size: [f64; 2] = std::array::from_fn(|k| f64::from(high[k] - low[k]));
    let fits = (0..2).map(|k| (ends[k].1 - ends[k].0) / size[k].max(1e-9)).fold(1.0, f64::min);
    if !(fits > 1e-3) {
        return;
    }
    insert.placement.scale = fits.into();
    let mut foot = foot;
    for k in 0..2 {
        let (from, to) = (f64::from(low[k]) * fits, f64::from(high[k]) * fits);
        let by = (ends[k].0 - from).max(0.0) + (ends[k].1 - to).min(0.0);
        foot += axes[k] * by;
    }
    insert.placement.anchor.foot = <[f64; 3]>::from(foot).into();
}

/// How far a copy stands beside what it is a copy of, of its width.
const BESIDE: f64 = 1.15;

/// The same once more, beside it.
///
/// # Errors
/// A message where it cannot be made.
pub fn duplicate(insert: &Insert, assets: &dyn Assets) -> Result<Insert, EngineError> {
    let (mesh, _) = RenderScene::shape(insert, &[], 0.0, assets)?;
    let width = mesh.bounds().map_or(1.0, |(low, high)| f64::from(high.x - low.x));
    let mut copy = Insert { name: format!("{} again", insert.shown_name()), began: None, ..insert.clone() };
    let p = &mut copy.placement;
    let first = p.anchor.foot.key_frames().next().unwrap_or(0.0);
    let by = p.rotation(first) * Vector3::x() * (width * BESIDE * p.scale.at(first));
    p.anchor.foot.map(|foot| (Vector3::from(*foot) + by).into());
    (copy.locked, copy.solo) = (false, false);
    Ok(copy)
}

/// The same for another shot: where the numbers put it there, or where it would not be seen, in the middle of the first
/// picture as far as there is a surface.
pub fn for_another_shot(insert: &Insert, solution: Option<&Solution>, document: &ShotDocument) -> Insert {
    let mut copy = Insert { parent: None, began: None, locked: false, solo: false, ..insert.clone() };
    let Some(solution) = solution else { return copy };
    let path = CameraPath::new(solution, &document.datum.world_from_solve);
    let (w, h) = (f64::from(solution.width), f64::from(solution.height));
    let in_sight = path.cameras().any(|camera| {
        let at = Vector3::from(insert.placement.anchor.foot.at(f64::from(camera.frame)));
        camera.project(at).is_some_and(|p| (0.0..w).contains(&p.x) && (0.0..h).contains(&p.y))
    });
    let middle = |part: f64| {
        let frame = solution.frames.first().map_or(0, |f| f.frame);
        spot(solution, document, Pixel { frame, at: [0.5 * w, part * h] }).ok()
    };
    if let (false, Some(spot)) = (in_sight, middle(0.65).or_else(|| middle(0.85))) {
        copy.placement = Placement {
            facing: insert.placement.facing,
            ..Placement::on(spot.point.into(), spot.normal.into(), insert.placement.stance)
        };
        copy.placement.scale = insert.placement.scale.clone();
    }
    copy
}

/// Corners that an outline needs at most.
const MOST_CORNERS: usize = 96;

/// Corners of a shape that are farthest out along directions all round: their outline is that of the shape, near enough
/// for the eye, from any side.
pub fn hull_of(mesh: &Mesh) -> Vec<[f32; 3]> {
    let mut kept: Vec<u32> = Vec::new();
    for k in 0..MOST_CORNERS {
        // Evenly over the sphere (Vogel's spiral).
        let y = 1.0 - 2.0 * (k as f32 + 0.5) / MOST_CORNERS as f32;
        let (r, turn) = ((1.0 - y * y).sqrt(), 2.399_963_2 * k as f32);
        let way = Vector3::new(r * turn.cos(), y, r * turn.sin());
        let along = |(_, p): &(usize, &Vector3<f32>)| p.dot(&way);
        let farthest = mesh.positions.iter().enumerate().max_by(|a, b| along(a).total_cmp(&along(b)));
        kept.extend(farthest.map(|(i, _)| i as u32));
    }
    kept.sort_unstable();
    kept.dedup();
    kept.iter().map(|i| mesh.positions[*i as usize].into()).collect()
}
