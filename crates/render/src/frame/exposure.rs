//! The picture while the shutter is open.

use super::bins::Bins;
use super::moment::drawn;
use super::view::{Knows, Recall, View};
use crate::blend::Rgba;
use crate::canvas::{Canvas, Fronts};
use crate::layers::Bounds;
use crate::light::Care;
use crate::placed::PlacedScene;
use crate::raster::{SAMPLES, TILE, project, sample_offset};
use crate::scene::{RenderError, RenderScene};
use fennik_core::camera::Camera;
use nalgebra::Vector3;
use rayon::prelude::*;
use std::ops::Range;
use std::sync::Arc;

/// Motion within the shutter that is seen, px.
const SEEN_PX: f64 = 0.2;
/// Corners that are asked how far they move.
const ASKED: usize = 400;
/// How far anything may move between moments that share what they know, px.
const SHARED_PX: f64 = 0.7;
/// Parts of an exposure at least: each looks at light and shadow anew.
const LEAST_PARTS: usize = 4;
/// Moments that are drawn together at most, and triangles that are held for them.
const TOGETHER: usize = 4;
const HELD: usize = 1 << 20;
/// Rows of tiles between which others may have their turn.
const ROWS_AT_ONCE: usize = 6;

/// What is known of an exposure.
pub(super) struct Exposure {
    /// Part of a frame.
    shutter: f64,
    /// What is seen all the while, where the camera alone moves.
    still: Option<Arc<PlacedScene>>,
    /// Whether shadows are looked for carefully.
    fine: bool,
    /// By how many px anything moves.
    moves: f64,
}

impl Exposure {
    /// `None` where nothing is seen to move, so that a moment will do.
    pub fn new(camera: &Camera, scene: &RenderScene, shutter: f64) -> Result<Option<Self>, RenderError> {
        let ends = [moment(camera, scene, -0.5 * shutter)?, moment(camera, scene, 0.5 * shutter)?];
        let moves = motion(&ends);
        if moves <= SEEN_PX {
            return Ok(None);
        }
        // Where nothing moves by itself, what is shown in the middle of the exposure is shown all the while.
        let still = all_stands(&ends).then(|| scene.at(f64::from(camera.frame), camera.centre(), false)).transpose()?;
        // What moves casts another shadow each time; a rough one will do.
        let fine = still.is_some() || casters_stand(&ends);
        Ok(Some(Self { shutter, still, fine, moves }))
    }

    /// The part of the exposure that a moment belongs to.
    fn part(&self, k: usize) -> usize {
        let parts = ((self.moves / SHARED_PX).ceil() as usize).clamp(LEAST_PARTS, SAMPLES);
        k * parts / SAMPLES
    }

    /// Moments that are drawn together: whole parts, as far as they fit.
    fn groups(&self, most: usize) -> Vec<Range<usize>> {
        let mut all: Vec<Range<usize>> = Vec::new();
        for k in 0..SAMPLES {
            let begins = k == 0 || self.part(k) != self.part(k - 1);
            let ends = (k..SAMPLES).find(|j| self.part(*j) != self.part(k)).unwrap_or(SAMPLES);
            match all.last_mut() {
                Some(open) if open.len() < most && (!begins || ends - open.start <= most) => open.end = k + 1,
                _ => all.push(k..k + 1),
            }
        }
        all
    }
}

/// A moment of the exposure, frames from its middle: the camera, and everything in its place.
fn moment(camera: &Camera, scene: &RenderScene, after: f64) -> Result<(Camera, Arc<PlacedScene>), RenderError> {
    let then = camera.after(after);
    let placed = scene.at(f64::from(camera.frame) + after, then.centre(), false)?;
    Ok((then, placed))
}

/// Whether everything stands still between the ends of an exposure.
fn all_stands([(_, a), (_, b)]: &[(Camera, Arc<PlacedScene>); 2]) -> bool {
    Arc::ptr_eq(a, b) || (a.corners == b.corners && same_light(a, b))
}

/// Whether what casts shadows does: what follows the camera, and casts none, is left out.
fn casters_stand([(_, a), (_, b)]: &[(Camera, Arc<PlacedScene>); 2]) -> bool {
    same_light(a, b) && a.casters_key() == b.casters_key()
}

fn same_light(a: &PlacedScene, b: &PlacedScene) -> bool {
    a.light == b.light && a.lamps == b.lamps && a.around == b.around && a.catches == b.catches
}

/// By how many px anything moves on the picture between the ends of an exposure; without end where something comes or goes.
fn motion([(first, a), (last, b)]: &[(Camera, Arc<PlacedScene>); 2]) -> f64 {
    if a.corners.len() != b.corners.len() {
        return f64::INFINITY;
    }
    let step = a.corners.len().div_ceil(ASKED).max(1);
    let moves = a.corners.iter().zip(&b.corners).step_by(step).map(|(p, q)| {
        let seen = |camera: &Camera, p: &Vector3<f32>| camera.project(p.cast());
        match (seen(first, p), seen(last, q)) {
            (Some(p), Some(q)) => (p - q).norm(),
            _ => 0.0,
        }
    });
    moves.fold(0.0, f64::max)
}

/// One moment, and what it shows by tiles of the whole picture.
struct Moment {
    camera: Camera,
    placed: Arc<PlacedScene>,
    part: usize,
    bins: Bins,
}

/// Light of the pixels of a tile, added up, and how often anything was seen in each; empty where nothing ever was.
type Sums = Vec<Rgba>;

/// The picture while the shutter is open: the mean of the light of moments, each looked at elsewhere within the pixel, so
/// that edges are smooth and what moves is blurred by as much as it moves. Moments between which next to nothing moves
/// share what a face sends to a pixel.
pub(super) fn exposed(
    canvas: &mut Canvas,
    size: [usize; 2],
    camera: &Camera,
    scene: &RenderScene,
    exposure: &Exposure,
    fronts: &Fronts,
) -> Result<(), RenderError> {
    let [width, height] = size;
    let bounds = Bounds { left: 0, top: 0, right: width, bottom: height };
    let across = width.div_ceil(TILE);
    let mut sums: Vec<Sums> = vec![Sums::new(); across * height.div_ceil(TILE)];
    let placed = |k: usize| {
        let after = exposure.shutter * ((k as f64 + 0.5) / SAMPLES as f64 - 0.5);
        let (mut then, placed) = match &exposure.still {
            Some(placed) => (camera.after(after), placed.clone()),
            None => moment(camera, scene, after)?,
        };
        // Times and places in the pixel are not in step.
        let [dx, dy] = sample_offset(k * 7 % SAMPLES).map(f64::from);
        then.lens.centre_px = [then.lens.centre_px[0] - dx, then.lens.centre_px[1] - dy];
        Ok((k, then, placed))
    };
    let triangles = placed(0)?.2.triangles.len();
    let care = Care { shadows: true, fine: exposure.fine, quick: false };
    for group in exposure.groups((HELD / triangles.max(1)).clamp(1, TOGETHER)) {
        let placed = group.map(placed).collect::<Result<Vec<_>, RenderError>>()?;
        let projected = |(k, camera, placed): (usize, Camera, Arc<PlacedScene>)| {
            let bins = Bins::new(project(&placed, &camera, width, height), bounds);
            Moment { camera, placed, part: exposure.part(k), bins }
        };
        let moments: Vec<Moment> = placed.into_par_iter().map(projected).collect();
        let views: Vec<View> =
            moments.iter().map(|m| View::new(&m.camera, &m.placed, care, canvas.behind(), size, fronts)).collect();
        views.iter().for_each(View::look_ahead);
        for (n, rows) in sums.chunks_mut(across * ROWS_AT_ONCE).enumerate() {
            (scene.between)();
            let first = n * across * ROWS_AT_ONCE;
            rows.par_iter_mut().enumerate().with_min_len(4).for_each_init(
                || vec![Knows::default(); TILE * TILE],
                |knows, (i, sums)| add(&moments, &views, first + i, knows, sums),
            );
        }
    }
    finish(canvas, size, &sums, fronts);
    Ok(())
}

/// Adds what some moments see in a tile.
fn add(moments: &[Moment], views: &[View], number: usize, knows: &mut [Knows], sums: &mut Sums) {
    let mut part = None;
    for (moment, view) in moments.iter().zip(views) {
        if moment.bins.of(number).len() == 0 {
            continue;
        }
        if part != Some(moment.part) {
            knows.fill(Knows::default());
            part = Some(moment.part);
        }
        let tile = drawn(view, &moment.bins, number, false);
        sums.resize(tile.size[0] * tile.size[1], [0.0; 4]);
        let [left, top] = moment.bins.corner(number);
        tile.each(|k, face, before| {
            let (x, y) = (left + k % tile.size[0], top + k / tile.size[0]);
            let plate = view.behind(x, y);
            let (seen, _) = view.mixed(face, before, [x as f64, y as f64], plate, Recall::Pixel(&mut knows[k]));
            if face > 0 || seen != plate {
                (0..3).for_each(|c| sums[k][c] += seen[c]);
                sums[k][3] += 1.0;
            }
        });
    }
}

/// Puts the mean of the light over the plate, but for what stands in front.
fn finish(canvas: &mut Canvas, [width, height]: [usize; 2], sums: &[Sums], fronts: &Fronts) {
    let n = SAMPLES as f32;
    let across = width.div_ceil(TILE);
    canvas.each_pixel(width, 0..height, |x, y, behind| {
        let left = x / TILE * TILE;
        let sum = sums[y / TILE * across + x / TILE].get(y % TILE * TILE.min(width - left) + x - left)?;
        let part = 1.0 - fronts.all_at(y * width + x);
        if sum[3] <= 0.0 || part <= 0.0 {
            return None;
        }
        Some(std::array::from_fn(|k| {
            let seen = (sum[k] + (n - sum[3]) * behind[k]) / n;
            behind[k] + (seen - behind[k]) * part
        }))
    });
}
