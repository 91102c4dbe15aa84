//! The picture while the shutter is open.

use super::bins::Bins;
use super::moment::{Parted, drawn};
use super::view::{Knows, Recall, View};
use crate::blend::Rgba;
use crate::canvas::{Behind, Canvas, Fronts};
use crate::layers::Bounds;
use crate::lens::{Drawn, LensPass};
use crate::light::Care;
use crate::placed::PlacedScene;
use crate::raster::{SAMPLES, TILE, project, sample_offset};
use crate::scene::{RenderError, RenderScene};
use fennik_core::camera::Camera;
use fennik_core::geometry::Similarity;
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
    /// Frames by which its middle lies after the frame's time.
    phase: f64,
    /// What is seen all the while, where the camera alone moves.
    still: Option<Arc<PlacedScene>>,
    /// Whether shadows are looked for carefully.
    fine: bool,
    /// By how many px anything moves.
    moves: f64,
}

impl Exposure {
    /// `None` where nothing is seen to move, so that a moment will do.
    pub fn new(camera: &Camera, scene: &RenderScene, shutter: f64, phase: f64) -> Result<Option<Self>, RenderError> {
        let ends = [moment(camera, scene, phase - 0.5 * shutter)?, moment(camera, scene, phase + 0.5 * shutter)?];
        let moves = motion(&ends);
        if moves <= SEEN_PX {
            return Ok(None);
        }
        // Where nothing moves by itself, what is shown in the middle of the exposure is shown all the while.
        let still = all_stands(&ends).then(|| scene.at(f64::from(camera.frame), camera.centre(), false)).transpose()?;
        // What moves casts another shadow each time; a rough one will do.
        let fine = still.is_some() || casters_stand(&ends);
        Ok(Some(Self { shutter, phase, still, fine, moves }))
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
    let (here, there) = (camera.pose(), then.pose());
    let back = there.rotation.inverse();
    // From where it stands to where it is seen then as it is now.
    let kept = Similarity {
        scale: 1.0,
        rotation: back * here.rotation,
        translation: back * (here.translation - there.translation),
    };
    let middle = f64::from(camera.frame);
    let placed = scene.within(middle + after, then.centre(), (middle, kept))?;
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

/// What was seen in a pixel, added up over moments.
#[derive(Debug, Clone, Copy, Default)]
struct Sum {
    /// Light, and how often anything was seen; or what [`Parted::Apart`] says.
    light: Rgba,
    /// How far away, and how often.
    far: [f32; 2],
}

/// Of the pixels of a tile; empty where nothing ever was seen.
type Sums = Vec<Sum>;

/// The picture while the shutter is open: the mean of the light of moments, each looked at elsewhere within the pixel, so
/// that edges are smooth and what moves is blurred by as much as it moves. Moments between which next to nothing moves
/// share what a face sends to a pixel.
pub(super) fn exposed(
    canvas: &mut Canvas,
    size: [usize; 2],
    camera: &Camera,
    scene: &RenderScene,
    exposure: &Exposure,
    (fronts, lens): (&Fronts, Option<&LensPass>),
) -> Result<(), RenderError> {
    let [width, height] = size;
    let bounds = Bounds { left: 0, top: 0, right: width, bottom: height };
    let across = width.div_ceil(TILE);
    let mut sums: Vec<Sums> = vec![Sums::new(); across * height.div_ceil(TILE)];
    let placed = |k: usize| {
        let after = exposure.phase + exposure.shutter * ((k as f64 + 0.5) / SAMPLES as f64 - 0.5);
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
    let parted = if lens.is_some() { Parted::Apart } else { Parted::Whole };
    let care = Care { shadows: true, fine: exposure.fine, quick: false };
    for group in exposure.groups((HELD / triangles.max(1)).clamp(1, TOGETHER)) {
        let placed = group.map(placed).collect::<Result<Vec<_>, RenderError>>()?;
        let projected = |(k, camera, placed): (usize, Camera, Arc<PlacedScene>)| {
            let bins = Bins::new(project(&placed, &camera, width, height), bounds);
            Moment { camera, placed, part: exposure.part(k), bins }
        };
        let moments: Vec<Moment> = placed.into_par_iter().map(projected).collect();
        let asks_far = lens.is_some_and(LensPass::asks_depth);
        let views: Vec<View> = moments.iter().map(|m| viewed(m, care, size, fronts).asking_far(asks_far)).collect();
        views.iter().for_each(View::look_ahead);
        for (n, rows) in sums.chunks_mut(across * ROWS_AT_ONCE).enumerate() {
            (scene.between)();
            let behind = canvas.behind();
            let first = n * across * ROWS_AT_ONCE;
            rows.par_iter_mut().enumerate().with_min_len(4).for_each_init(
                || vec![Knows::default(); TILE * TILE],
                |knows, (i, sums)| add((&moments, &views), behind, first + i, (knows, parted), sums),
            );
        }
    }
    match lens {
        Some(lens) => lens.finish(drawn_of(size, &sums, lens.asks_depth()), canvas, fronts),
        None => finish(canvas, size, &sums, fronts),
    }
    Ok(())
}

/// Adds what some moments see in a tile.
fn add(
    (moments, views): (&[Moment], &[View]),
    behind: Behind,
    number: usize,
    (knows, parted): (&mut [Knows], Parted),
    sums: &mut Sums,
) {
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
        sums.resize(tile.size[0] * tile.size[1], Sum::default());
        let [left, top] = moment.bins.corner(number);
        tile.each(|k, face, before| {
            let (x, y) = (left + k % tile.size[0], top + k / tile.size[0]);
            let plate = behind.at(y * view.size[0] + x);
            let mixed = view.mixed(face, before, [x as f64, y as f64], plate, Recall::Pixel(&mut knows[k]));
            if face > 0 || mixed.seen != plate {
                let part = parted.of(&mixed, &plate);
                (0..4).for_each(|c| sums[k].light[c] += part[c]);
                if mixed.far.is_finite() {
                    sums[k].far = [sums[k].far[0] + mixed.far, sums[k].far[1] + 1.0];
                }
            }
        });
    }
}

/// A moment as it is seen.
fn viewed<'a>(m: &'a Moment, care: Care, size: [usize; 2], fronts: &'a Fronts) -> View<'a> {
    View::new(&m.camera, &m.placed, care, size, fronts)
}

/// The sum of a pixel.
fn sum_at(sums: &[Sums], width: usize, x: usize, y: usize) -> Option<&Sum> {
    let left = x / TILE * TILE;
    sums[y / TILE * width.div_ceil(TILE) + x / TILE].get(y % TILE * TILE.min(width - left) + x - left)
}

/// The mean, apart from the plate.
fn drawn_of([width, height]: [usize; 2], sums: &[Sums], asks_depth: bool) -> Drawn {
    let n = SAMPLES as f32;
    let at = |i: usize| sum_at(sums, width, i % width, i / width).copied().unwrap_or_default();
    let pixels = (0..width * height).into_par_iter().map(|i| at(i).light.map(|v| v / n)).collect();
    let far = |i: usize| {
        let [sum, count] = at(i).far;
        if count > 0.0 { sum / count } else { f32::INFINITY }
    };
    let depth = asks_depth.then(|| (0..width * height).into_par_iter().map(far).collect());
    Drawn { size: [width, height], pixels, depth }
}

/// Puts the mean of the light over the plate, but for what stands in front.
fn finish(canvas: &mut Canvas, [width, height]: [usize; 2], sums: &[Sums], fronts: &Fronts) {
    let n = SAMPLES as f32;
    canvas.each_pixel(width, 0..height, |x, y, behind| {
        let sum = sum_at(sums, width, x, y)?.light;
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
