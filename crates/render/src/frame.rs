//! One frame: inserts over the plate.

use crate::blend::{Rgba, blend};
use crate::colour::{byte_of, encode, linear_of};
use crate::layers::{Bounds, Layer, compose};
use crate::light::{Care, Seen, Sent, shade};
use crate::material::Matte;
use crate::placed::PlacedScene;
use crate::raster::{Fragment, SAMPLES, ScreenTriangle, TILE, Tile, project, sample_offset};
use crate::scene::{RenderError, RenderScene};
use fennik_core::camera::Camera;
use nalgebra::{Matrix3, Vector2, Vector3};
use rayon::prelude::*;
use std::sync::Arc;

/// Two faces that share an edge lie there at depths that differ by rounding alone.
const SAME_DEPTH: f32 = 1e-6;

/// How carefully a frame is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Quality {
    /// One sample a pixel, no shadows: while something is dragged.
    Draft,
    /// Sixteen samples on every edge, shadows: what is delivered.
    Exact,
}

/// Draws the scene over `rgb` (`width` x `height`, display values), as seen by a camera for this size. Pixels without
/// insert are left to the byte. `shutter` is the part of a frame for which the exact picture is exposed; 0 is a moment.
///
/// # Errors
/// [`RenderError`] names the insert whose picture of that time cannot be read.
///
/// # Panics
/// When the buffer is not `3 * width * height` long.
pub fn composite(
    rgb: &mut [u8],
    width: usize,
    height: usize,
    camera: &Camera,
    scene: &RenderScene,
    quality: Quality,
    shutter: f64,
) -> Result<(), RenderError> {
    assert_eq!(rgb.len(), 3 * width * height, "three bytes a pixel");
    let size = [width, height];
    if quality == Quality::Exact && shutter > 0.0 {
        let ends = [moment(camera, scene, -0.5 * shutter)?, moment(camera, scene, 0.5 * shutter)?];
        let moves = motion(&ends);
        if moves > SEEN_PX {
            // Where nothing moves by itself, what is shown in the middle of the exposure is shown all the while.
            let still =
                all_stands(&ends).then(|| scene.at(f64::from(camera.frame), camera.centre(), false)).transpose()?;
            // What moves casts another shadow each time; a rough one will do.
            let fine = still.is_some() || casters_stand(&ends);
            return exposed(rgb, size, camera, scene, Exposure { shutter, still, fine, moves });
        }
    }
    let exact = quality == Quality::Exact;
    let scene = scene.at(f64::from(camera.frame), camera.centre(), !exact)?;
    if let Some(layer) =
        inserts(rgb, size, camera, &scene, exact, Care { shadows: exact, fine: exact, quick: !exact }, None)
    {
        compose(rgb, width, &layer);
    }
    Ok(())
}

/// Motion within the shutter that is seen, px.
const SEEN_PX: f64 = 0.2;
/// Corners that are asked how far they move.
const ASKED: usize = 400;

/// A moment of the exposure, frames from its middle: the camera, and everything in its place.
fn moment(camera: &Camera, scene: &RenderScene, after: f64) -> Result<(Camera, Arc<PlacedScene>), RenderError> {
    let then = camera.after(after);
    let placed = scene.at(f64::from(camera.frame) + after, then.centre(), false)?;
    Ok((then, placed))
}

/// Whether everything stands still between the ends of an exposure.
fn all_stands([(_, a), (_, b)]: &[(Camera, Arc<PlacedScene>); 2]) -> bool {
    Arc::ptr_eq(a, b) || (a.corners == b.corners && a.light == b.light)
}

/// Whether what casts shadows does: what follows the camera, and casts none, is left out.
fn casters_stand([(_, a), (_, b)]: &[(Camera, Arc<PlacedScene>); 2]) -> bool {
    a.light == b.light && a.casters_key() == b.casters_key()
}

/// What is known of an exposure.
struct Exposure {
    /// Part of a frame.
    shutter: f64,
    /// What is seen all the while, where the camera alone moves.
    still: Option<Arc<PlacedScene>>,
    /// Whether shadows are looked for carefully.
    fine: bool,
    /// By how many px anything moves.
    moves: f64,
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

/// What was seen of a face in a pixel, for as long as it looks the same there.
#[derive(Debug, Clone, Copy, Default)]
struct Known {
    /// Of the face, and of its material; 0 for none.
    key: [u32; 2],
    /// In which part of the exposure.
    part: u32,
    light: Rgba,
    lit: bool,
}

/// Faces of which a pixel knows.
type PixelKnows = [Known; 3];

/// What all pixels know, and the part of the exposure that it is.
struct Knowing<'a> {
    pixels: &'a mut [PixelKnows],
    part: u32,
}

/// How far anything may move between moments that share what they know, px.
const SHARED_PX: f64 = 0.7;
/// Parts of an exposure at least: each looks at light and shadow anew.
const LEAST_PARTS: usize = 4;

/// The picture while the shutter is open: the mean of the light of moments, each looked at elsewhere within the pixel, so
/// that edges are smooth and what moves is blurred by as much as it moves. Moments between which next to nothing moves
/// share what a face sends to a pixel.
fn exposed(
    rgb: &mut [u8],
    size: [usize; 2],
    camera: &Camera,
    scene: &RenderScene,
    Exposure { shutter, still, fine, moves }: Exposure,
) -> Result<(), RenderError> {
    let mut sum = vec![[0.0f32; 4]; size[0] * size[1]];
    let mut known = vec![PixelKnows::default(); size[0] * size[1]];
    let parts = ((moves / SHARED_PX).ceil() as usize).clamp(LEAST_PARTS, SAMPLES);
    for k in 0..SAMPLES {
        (scene.between)();
        let after = shutter * ((k as f64 + 0.5) / SAMPLES as f64 - 0.5);
        let (mut then, placed) = match &still {
            Some(placed) => (camera.after(after), placed.clone()),
            None => moment(camera, scene, after)?,
        };
        // Times and places in the pixel are not in step.
        let [dx, dy] = sample_offset(k * 7 % SAMPLES).map(f64::from);
        then.lens.centre_px = [then.lens.centre_px[0] - dx, then.lens.centre_px[1] - dy];
        let care = Care { shadows: true, fine, quick: false };
        let knowing = Knowing { pixels: &mut known, part: (k * parts / SAMPLES) as u32 + 1 };
        let Some(layer) = inserts(rgb, size, &then, &placed, false, care, Some(knowing)) else { continue };
        let columns = layer.bounds.width();
        let rows = sum[layer.bounds.top * size[0]..layer.bounds.bottom * size[0]].par_chunks_mut(size[0]);
        rows.zip(layer.pixels.par_chunks(columns)).for_each(|(sums, seen)| {
            let sums = sums[layer.bounds.left..layer.bounds.right].iter_mut();
            for (sum, p) in sums.zip(seen).filter(|(_, p)| p[3] > 0.0) {
                (0..4).for_each(|c| sum[c] += p[c]);
            }
        });
    }
    let n = SAMPLES as f32;
    rgb.par_chunks_exact_mut(3).zip(&sum).filter(|(_, s)| s[3] > 0.0).for_each(|(bytes, s)| {
        for (byte, light) in bytes.iter_mut().zip(s) {
            *byte = byte_of((light + (n - s[3]) * linear_of(*byte)) / n);
        }
    });
    Ok(())
}

/// The inserts mixed with the plate that lies behind them; `None` where none is in sight. With `edges`, sixteen samples on
/// every edge.
fn inserts(
    plate: &[u8],
    [width, height]: [usize; 2],
    camera: &Camera,
    scene: &PlacedScene,
    edges: bool,
    care: Care,
    knowing: Option<Knowing>,
) -> Option<Layer> {
    let triangles = project(scene, camera, width, height);
    let bounds = bounds(&triangles, width, height)?;
    let bands = Bands::new(&triangles, bounds);
    let sun = scene.light.toward_sun().cast();
    let view = View { scene, sun, sight: Sight::new(camera, [width, height]), edges, care, plate, width };
    let mut layer = Layer::empty(bounds);
    let mut keys = vec![0u32; layer.pixels.len()];
    let columns = bounds.width();
    // Whole rows of tiles, so that each thread has pixels of its own.
    let lines = columns * TILE;
    let mut tiles: Vec<Vec<Tile>> = Vec::new();
    let drawn = layer.pixels.par_chunks_mut(lines).zip(keys.par_chunks_mut(lines));
    match knowing {
        Some(Knowing { pixels, part }) => {
            let rows = pixels[width * bounds.top..width * bounds.bottom].par_chunks_mut(width * TILE);
            let all = drawn.zip(rows).enumerate();
            all.map(|(band, ((pixels, keys), known))| view.middles(&bands, band, pixels, keys, Some((known, part))))
                .collect_into_vec(&mut tiles);
        }
        None => drawn
            .enumerate()
            .map(|(band, (pixels, keys))| view.middles(&bands, band, pixels, keys, None))
            .collect_into_vec(&mut tiles),
    }
    if edges {
        layer.pixels.par_chunks_mut(lines).zip(&tiles).enumerate().for_each(|(band, (pixels, tiles))| {
            tiles.iter().enumerate().for_each(|(i, tile)| view.edges(&bands, (band, i), tile, &keys, pixels));
        });
    }
    Some(layer)
}

/// The box of pixels that triangles can touch.
fn bounds(triangles: &[ScreenTriangle], width: usize, height: usize) -> Option<Bounds> {
    let (mut low, mut high) = ([f32::INFINITY; 2], [f32::NEG_INFINITY; 2]);
    for p in triangles.iter().flat_map(|t| t.at) {
        for k in 0..2 {
            low[k] = low[k].min(p[k]);
            high[k] = high[k].max(p[k]);
        }
    }
    let first = |v: f32, size: usize| (v - 1.0).clamp(0.0, size as f32) as usize;
    let end = |v: f32, size: usize| (v + 2.0).clamp(0.0, size as f32) as usize;
    let found = Bounds {
        left: first(low[0], width),
        top: first(low[1], height),
        right: end(high[0], width),
        bottom: end(high[1], height),
    };
    (found.left < found.right && found.top < found.bottom).then_some(found)
}

/// Which triangles may touch which tile.
struct Bands<'a> {
    triangles: &'a [ScreenTriangle],
    bounds: Bounds,
    /// Tiles across.
    across: usize,
    /// Positions in the list, tile by tile.
    of_tile: Vec<Vec<u32>>,
}

impl<'a> Bands<'a> {
    fn new(triangles: &'a [ScreenTriangle], bounds: Bounds) -> Self {
        let (across, down) = (bounds.width().div_ceil(TILE), bounds.height().div_ceil(TILE));
        let mut of_tile = vec![Vec::new(); across * down];
        for (i, t) in triangles.iter().enumerate() {
            let span = |axis: usize, from: usize, count: usize| {
                let (a, b, c) = (t.at[0][axis], t.at[1][axis], t.at[2][axis]);
                // One pixel more than it covers, for what is thin.
                let tile = |v: f32| ((v - from as f32) / TILE as f32).floor().clamp(-1.0, count as f32) as i64;
                let (low, high) = (tile(a.min(b).min(c) - 1.0), tile(a.max(b).max(c) + 1.0));
                low.max(0) as usize..(high + 1).clamp(0, count as i64) as usize
            };
            for row in span(1, bounds.top, down) {
                for column in span(0, bounds.left, across) {
                    of_tile[row * across + column].push(i as u32);
                }
            }
        }
        Self { triangles, bounds, across, of_tile }
    }

    fn of(&self, band: usize, tile: usize) -> impl Iterator<Item = &'a ScreenTriangle> + '_ {
        self.of_tile[band * self.across + tile].iter().map(|i| &self.triangles[*i as usize])
    }

    /// An empty tile.
    fn tile(&self, band: usize, tile: usize) -> Tile {
        let (left, top) = (self.bounds.left + tile * TILE, self.bounds.top + band * TILE);
        Tile::new(left, top, [TILE.min(self.bounds.right - left), TILE.min(self.bounds.bottom - top)])
    }
}

/// Rays of pixels, from what is the same for all of them where all rows are exposed at once. The lens is undone at the
/// nodes of a grid, between which it bends by less than a thousandth of a pixel.
struct Sight<'a> {
    camera: &'a Camera,
    from: Vector3<f64>,
    to_world: Matrix3<f64>,
    /// Undistorted places of the nodes, row by row.
    nodes: Vec<Vector2<f64>>,
    across: usize,
}

/// Between the nodes of the grid on which the lens is undone, px.
const NODE_PX: f64 = 12.0;

impl<'a> Sight<'a> {
    fn new(camera: &'a Camera, [width, height]: [usize; 2]) -> Self {
        let pose = camera.pose();
        // One more node on each side than the picture has.
        let count = |v: usize| (v as f64 / NODE_PX).ceil() as usize + 3;
        let (across, down) = (count(width), count(height));
        let node = |i: usize| {
            let (x, y) = ((i % across) as f64 - 1.0, (i / across) as f64 - 1.0);
            camera.lens.unproject(Vector2::new(x, y) * NODE_PX)
        };
        let nodes = if camera.is_rolling() { Vec::new() } else { (0..across * down).map(node).collect() };
        Self { camera, from: pose.centre(), to_world: pose.rotation.inverse().into_inner(), nodes, across }
    }

    fn undistorted(&self, x: f64, y: f64) -> Option<Vector2<f64>> {
        let (u, v) = (x / NODE_PX + 1.0, y / NODE_PX + 1.0);
        let (i, j) = (u.floor(), v.floor());
        if !(i >= 0.0 && j >= 0.0) || i as usize + 1 >= self.across {
            return None;
        }
        let at = j as usize * self.across + i as usize;
        let [a, b] = [self.nodes.get(at)?, self.nodes.get(at + 1)?];
        let [c, d] = [self.nodes.get(at + self.across)?, self.nodes.get(at + self.across + 1)?];
        let (s, t) = (u - i, v - j);
        Some((a * (1.0 - s) + b * s) * (1.0 - t) + (c * (1.0 - s) + d * s) * t)
    }

    fn ray(&self, x: f64, y: f64) -> (Vector3<f64>, Vector3<f64>) {
        if self.camera.is_rolling() {
            let ray = self.camera.ray(Vector2::new(x, y));
            return (ray.from, ray.along);
        }
        let n = self.undistorted(x, y).unwrap_or_else(|| self.camera.lens.unproject(Vector2::new(x, y)));
        (self.from, (self.to_world * Vector3::new(n.x, n.y, 1.0)).normalize())
    }
}

struct View<'a> {
    scene: &'a PlacedScene,
    sun: Vector3<f32>,
    sight: Sight<'a>,
    /// Whether edges are looked at sample by sample.
    edges: bool,
    care: Care,
    plate: &'a [u8],
    /// Of the plate, px.
    width: usize,
}

impl View<'_> {
    /// Light of a face at a place of the picture, and where that is: world, and how far from the eye.
    fn light(&self, index: u32, x: f64, y: f64) -> (Sent, Vector3<f32>, f32) {
        let face = &self.scene.faces[index as usize];
        let (from, along) = self.sight.ray(x, y);
        let normal = face.normal.cast::<f64>();
        // Where the ray meets the plane of the face; one that is seen edge-on is met anywhere.
        let distance = (f64::from(face.offset) - normal.dot(&from)) / normal.dot(&along);
        let distance = if distance.is_finite() && distance > 0.0 { distance } else { 1.0 };
        let at = from + along * distance;
        let pixel = (1.0 / self.sight.camera.lens.focal_px) as f32;
        let (at, along, distance) = (at.cast(), along.cast(), distance as f32);
        let seen = Seen { face, index: index as usize, at, along, distance, pixel };
        (shade(self.scene, self.sun, &seen, self.care), at, distance)
    }

    /// The plate at a pixel, linear light.
    fn behind(&self, x: usize, y: usize) -> Rgba {
        let at = 3 * (y * self.width + x);
        let [r, g, b] = [0, 1, 2].map(|k| linear_of(self.plate[at + k]));
        [r, g, b, 1.0]
    }

    /// How much of a far picture is left at a pixel: by the horizon, and by the brightness of the plate.
    fn matte(&self, matte: &Matte, at: [f64; 2], plate: &Rgba) -> f32 {
        let mut part = 1.0;
        if let Some(fade) = matte.horizon {
            let (_, along) = self.sight.ray(at[0], at[1]);
            part *= (along.y.asin() as f32 / fade.max(1e-5) + 0.5).clamp(0.0, 1.0);
        }
        if let Some((from, soft)) = matte.plate {
            let bright = encode(0.2126 * plate[0] + 0.7152 * plate[1] + 0.0722 * plate[2]);
            part *= ((bright - from) / soft.max(1e-4) + 0.5).clamp(0.0, 1.0);
        }
        if let Some(shape) = &matte.shape {
            // Pixels are counted by their middles; an edge is never sharper than one.
            let pixel = 1.0 / self.width as f64;
            part *= shape.share_at((at[0] + 0.5) * pixel, (at[1] + 0.5) * pixel, pixel);
        }
        part
    }

    /// What is seen at a place of the picture: the plate, a face, and what shows through before it, the farthest first.
    /// Also whether the sun reaches the face.
    fn mixed(
        &self,
        face: u32,
        before: &[Fragment],
        at: [f64; 2],
        plate: Rgba,
        mut knows: Option<(&mut PixelKnows, u32)>,
    ) -> (Rgba, bool) {
        let (mut seen, mut lit) = (plate, false);
        if face > 0 {
            (seen, lit) = self.known(face - 1, at, &mut knows);
        }
        for (i, fragment) in before.iter().enumerate() {
            let face = &self.scene.faces[fragment.face as usize];
            let (material, look) = (self.scene.material(face), self.scene.look(face));
            let nearer = &before[i + 1..];
            let same = |f: &&Fragment| self.scene.faces[f.face as usize].look == face.look;
            // What is faded as a whole does not show its own far side; and two that share an edge are met once.
            let hidden = if material.shows_through() && !material.catches {
                nearer.first().filter(same).is_some_and(|f| f.depth - fragment.depth <= SAME_DEPTH * f.depth)
            } else {
                nearer.iter().any(|f| same(&f))
            };
            if hidden {
                continue;
            }
            let (light, mut part) = if look.is_even() {
                (self.known(fragment.face, at, &mut knows).0, look.opacity)
            } else {
                let (sent, place, distance) = self.light(fragment.face, at[0], at[1]);
                (sent.light, look.share_at(place, distance))
            };
            if let Some(matte) = &material.matte {
                part *= self.matte(matte, at, &plate);
            }
            seen = blend(light.map(|v| v * part), seen, look.blend);
        }
        (seen, lit)
    }

    /// Light of a face in a pixel, and whether the sun reaches it: as it is known there, or looked at now.
    fn known(&self, index: u32, at: [f64; 2], knows: &mut Option<(&mut PixelKnows, u32)>) -> (Rgba, bool) {
        let face = &self.scene.faces[index as usize];
        let key = [face.key, face.material + 1];
        if let Some((pixel, part)) = knows {
            if let Some(known) = pixel.iter().find(|k| k.key == key && k.part == *part) {
                return (known.light, known.lit);
            }
        }
        let (sent, ..) = self.light(index, at[0], at[1]);
        if let Some((pixel, part)) = knows {
            // The one that has been there longest gives way.
            pixel.rotate_right(1);
            pixel[0] = Known { key, part: *part, light: sent.light, lit: sent.lit };
        }
        (sent.light, sent.lit)
    }

    fn key(&self, face: u32) -> u32 {
        self.scene.faces[face as usize].key
    }

    /// Draws a band of tiles at the middles of its pixels.
    fn middles(
        &self,
        bands: &Bands,
        band: usize,
        pixels: &mut [Rgba],
        keys: &mut [u32],
        mut known: Option<(&mut [PixelKnows], u32)>,
    ) -> Vec<Tile> {
        let columns = bands.bounds.width();
        let draw = |i: usize| {
            let mut tile = bands.tile(band, i);
            bands.of(band, i).for_each(|t| tile.draw(t, self.edges, self.scene.faces[t.face as usize].through));
            tile.settle();
            let mut rest = &tile.fragments[..];
            for (k, face) in tile.faces.iter().enumerate() {
                let count = rest.iter().take_while(|f| f.at as usize == k).count();
                let (before, after) = rest.split_at(count);
                rest = after;
                if *face == 0 && before.is_empty() {
                    continue;
                }
                let (x, y) = (i * TILE + k % tile.size[0], k / tile.size[0]);
                let (at_x, at_y) = (bands.bounds.left + x, bands.bounds.top + band * TILE + y);
                let plate = self.behind(at_x, at_y);
                let knows = known.as_mut().map(|(pixels, part)| (&mut pixels[y * self.width + at_x], *part));
                let (seen, lit) = self.mixed(*face, before, [at_x as f64, at_y as f64], plate, knows);
                if *face == 0 && seen == plate {
                    continue;
                }
                pixels[y * columns + x] = [seen[0], seen[1], seen[2], 1.0];
                // The lowest bit is always set; with the sun the highest changes.
                let own = if *face > 0 { self.key(face - 1) ^ (u32::from(lit) << 31) } else { 0 };
                let catches = |f: &Fragment| self.scene.material(&self.scene.faces[f.face as usize]).catches;
                let through = before.iter().filter(|f| !catches(f));
                keys[y * columns + x] = through.fold(own, |key, f| key.rotate_left(5) ^ self.key(f.face));
            }
            tile
        };
        (0..bands.across).map(draw).collect()
    }

    /// Draws the pixels of a tile again in which something begins or ends, sample by sample.
    fn edges(&self, bands: &Bands, (band, i): (usize, usize), tile: &Tile, keys: &[u32], pixels: &mut [Rgba]) {
        let (columns, rows) = (bands.bounds.width(), bands.bounds.height());
        let (left, top) = (i * TILE, band * TILE);
        let differs = |x: usize, y: usize| {
            let own = keys[y * columns + x];
            (y.saturating_sub(1)..=(y + 1).min(rows - 1)).any(|v| {
                let line = &keys[v * columns..][x.saturating_sub(1)..=(x + 1).min(columns - 1)];
                line.iter().any(|k| *k != own)
            })
        };
        let edge: Vec<usize> = (0..tile.faces.len())
            .filter(|k| tile.thin[*k] || differs(left + k % tile.size[0], top + k / tile.size[0]))
            .collect();
        if edge.is_empty() {
            return;
        }
        let through = |face: u32| self.scene.faces[face as usize].through;
        let (sampled, fragments) = tile.sampled(bands.of(band, i).copied(), &edge, through);
        let mut rest = &fragments[..];
        for (n, (k, faces)) in edge.into_iter().zip(sampled).enumerate() {
            let (x, y) = (left + k % tile.size[0], k / tile.size[0]);
            let (at_x, at_y) = (bands.bounds.left + x, bands.bounds.top + top + y);
            let count = rest.iter().take_while(|f| f.at as usize / SAMPLES == n).count();
            let (own, after) = rest.split_at(count);
            rest = after;
            if own.is_empty() && faces.iter().all(|f| *f == 0) {
                continue;
            }
            let plate = self.behind(at_x, at_y);
            pixels[y * columns + x] = self.sampled(&faces, own, n, [at_x as f64, at_y as f64], plate);
        }
    }

    /// Light of a pixel from what its samples see, each lit where it lies.
    fn sampled(&self, faces: &[u32; SAMPLES], own: &[Fragment], n: usize, at: [f64; 2], plate: Rgba) -> Rgba {
        let mut sum = [0.0; 3];
        let mut rest = own;
        for (k, face) in faces.iter().enumerate() {
            let count = rest.iter().take_while(|f| f.at as usize == n * SAMPLES + k).count();
            let (before, after) = rest.split_at(count);
            rest = after;
            let seen = if *face == 0 && before.is_empty() {
                plate
            } else {
                let [dx, dy] = sample_offset(k).map(f64::from);
                self.mixed(*face, before, [at[0] + dx, at[1] + dy], plate, None).0
            };
            (0..3).for_each(|c| sum[c] += seen[c] / SAMPLES as f32);
        }
        [sum[0], sum[1], sum[2], 1.0]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::assets::{AssetError, Run, Treatment};
    use crate::{NoAssets, ShapeCache, Texture};
    use fennik_core::camera::CameraPath;
    use fennik_core::geometry::{Lens, Pose, Similarity};
    use fennik_core::scene::anim::{Animated, Curve, Ease, Key};
    use fennik_core::scene::{
        Asset, AssetName, Backdrop, Insert, InsertId, InsertKind, Light, LightNow, Placement, Spread, Stance, Title,
    };
    use fennik_core::solve::{Solution, SolvedFrame};

    fn insert(text: &str, x: f64, z: f64) -> Insert {
        let title = Title {
            lettering: Default::default(),
            text: text.into(),
            font: "Lato Black".into(),
            height_m: 1.0,
            depth_m: 0.3,
            bevel_m: 0.0,
            colour: [250, 120, 20],
        };
        let placement = Placement::on([x, 0.0, z], [0.0, 1.0, 0.0], Stance::Standing);
        Insert { id: InsertId(1), ..Insert::new(InsertKind::Title(title), placement) }
    }

    /// No shadow on the floor, so that what changes is the insert alone.
    fn unshaded() -> Light {
        LightNow { floor_shadow: 0.0, ..Light::default().at(0.0) }.into()
    }

    fn camera() -> (Pose, Lens) {
        let pose = Pose::look_at(Vector3::new(0.5, 1.5, 5.0), Vector3::new(0.0, 0.5, 0.0), Vector3::y()).unwrap();
        (pose, Lens { k1: -0.06, ..Lens::centred(300.0, 320, 180) })
    }

    fn draw(inserts: &[Insert], light: &Light, quality: Quality) -> Vec<u8> {
        let (pose, lens) = camera();
        let mut rgb = vec![90u8; 320 * 180 * 3];
        composite(
            &mut rgb,
            320,
            180,
            &Camera::new(pose, lens, 180),
            &RenderScene::build(inserts, light, &ShapeCache::default(), &NoAssets::shared()).unwrap(),
            quality,
            0.0,
        )
        .unwrap();
        rgb
    }

    #[test]
    fn the_letter_is_where_the_lens_sees_it_and_the_plate_is_untouched_elsewhere() {
        let rgb = draw(&[insert("I", 0.0, 0.0)], &unshaded(), Quality::Exact);
        let (pose, lens) = camera();
        let c = pose.to_camera(Vector3::new(0.0, 0.5, 0.15));
        let p = lens.project(Vector2::new(c.x / c.z, c.y / c.z));
        let at = |x: usize, y: usize| &rgb[3 * (320 * y + x)..3 * (320 * y + x) + 3];
        let seen = at(p.x.round() as usize, p.y.round() as usize);
        assert!(seen[0] > seen[2] + 60, "{seen:?}");
        for (x, y) in [(5, 5), (315, 5), (5, 175), (315, 175)] {
            assert_eq!(at(x, y), [90; 3]);
        }
    }

    #[test]
    fn edges_are_smooth_when_exact_and_hard_in_a_draft() {
        let count = |rgb: Vec<u8>| rgb.chunks(3).map(|p| p.to_vec()).collect::<std::collections::BTreeSet<_>>().len();
        let (exact, draft) = (
            count(draw(&[insert("O", 0.0, 0.0)], &unshaded(), Quality::Exact)),
            count(draw(&[insert("O", 0.0, 0.0)], &unshaded(), Quality::Draft)),
        );
        assert!(exact > 2 * draft, "{exact} {draft}");
    }

    #[test]
    fn one_insert_throws_its_shadow_on_another() {
        let light = LightNow { bearing_deg: 0.0, height_deg: 30.0, sun: 1.0, ambient: 0.1, floor_shadow: 0.0 }.into();
        let sum = |rgb: Vec<u8>| rgb.iter().map(|&b| u64::from(b)).sum::<u64>();
        let behind = Insert { id: InsertId(2), ..insert("HHH", 0.0, -2.0) };
        let alone = sum(draw(std::slice::from_ref(&behind), &light, Quality::Exact));
        // The blocker stands behind the camera's back, out of sight, in the way of the sun only.
        let mut blocker = insert("HHHHHH", 0.0, 6.0);
        blocker.placement.scale = 6.0.into();
        let shaded = sum(draw(&[behind, blocker], &light, Quality::Exact));
        assert!(shaded < alone, "{shaded} {alone}");
    }

    #[test]
    fn what_stands_throws_its_shadow_on_the_floor_and_nothing_else_changes() {
        // The sun stands behind the letter: its shadow falls towards the camera.
        let light =
            |floor_shadow| LightNow { bearing_deg: 180.0, height_deg: 40.0, sun: 0.8, ambient: 0.3, floor_shadow };
        for quality in [Quality::Draft, Quality::Exact] {
            let [with, without] = [1.0, 0.0].map(|s| draw(&[insert("I", 0.0, 0.0)], &light(s).into(), quality));
            let (pose, lens) = camera();
            let seen = |p: [f64; 3]| {
                let c = pose.to_camera(p.into());
                let px = lens.project(Vector2::new(c.x / c.z, c.y / c.z));
                3 * (320 * px.y.round() as usize + px.x.round() as usize)
            };
            let (shaded, lit) = (seen([0.0, 0.0, 0.7]), seen([0.8, 0.0, 0.7]));
            assert!(with[shaded] < 80 && without[shaded] == 90, "{} {quality:?}", with[shaded]);
            assert_eq!(with[lit], 90);
            let letter = seen([0.0, 0.5, 0.15]);
            assert_eq!(with[letter], without[letter]);
        }
    }

    #[test]
    fn what_moves_while_the_shutter_is_open_is_blurred_by_as_much() {
        let mut moving = insert("I", 0.0, 0.0);
        // About 24 px a frame to the right.
        let keys =
            vec![Key { ease: Ease::Linear, ..Key::smooth(-1.0, [-0.4, 0.0, 0.0]) }, Key::smooth(1.0, [0.4, 0.0, 0.0])];
        moving.placement.anchor.foot = Animated::Curve(Curve::new(keys).unwrap());
        let (pose, lens) = camera();
        let scene = RenderScene::build(&[moving], &unshaded(), &ShapeCache::default(), &NoAssets::shared()).unwrap();
        let row = |shutter: f64| {
            let mut rgb = vec![90u8; 320 * 180 * 3];
            composite(&mut rgb, 320, 180, &Camera::new(pose, lens, 180), &scene, Quality::Exact, shutter).unwrap();
            let middle = lens.project(
                pose.to_camera(Vector3::new(0.0, 0.5, 0.15)).xy() / pose.to_camera(Vector3::new(0.0, 0.5, 0.15)).z,
            );
            let y = middle.y.round() as usize;
            (0..320).filter(|x| rgb[3 * (320 * y + x)..][..3] != [90; 3]).count() as f64
        };
        let (sharp, half, whole) = (row(0.0), row(0.5), row(1.0));
        // Sixteen moments reach fifteen sixteenths of the way.
        let way = 300.0 / 5.0 * 0.4;
        assert!((half - sharp - 0.5 * way * 15.0 / 16.0).abs() < 2.5, "{sharp} {half}, {way} px a frame");
        assert!((whole - sharp - way * 15.0 / 16.0).abs() < 3.5, "{sharp} {whole}");
    }

    /// One red pixel, whatever is asked for.
    #[derive(Debug)]
    struct Red;

    impl crate::Assets for Red {
        fn run(&self, _: &AssetName) -> Result<Run, AssetError> {
            Ok(Run { frames: 1, rate: 1.0 })
        }

        fn picture(&self, _: &AssetName, _: u32, _: &Treatment) -> Result<Arc<Texture>, AssetError> {
            Ok(Arc::new(Texture::new(1, 1, &[255, 0, 0, 255])))
        }

        fn model(&self, _: &AssetName) -> Result<Arc<crate::Model>, AssetError> {
            Err(AssetError("no model is asked for".to_owned()))
        }

        fn bytes(&self, _: &AssetName) -> Result<Arc<Vec<u8>>, AssetError> {
            Err(AssetError("no file is asked for".to_owned()))
        }
    }

    /// Fault: as soon as anything followed the camera, everything cast rough shadows in the exact picture.
    #[test]
    fn what_follows_the_camera_leaves_the_shadows_of_the_rest_alone() {
        let light = LightNow { bearing_deg: 200.0, height_deg: 35.0, sun: 0.8, ambient: 0.3, floor_shadow: 1.0 };
        let picture = Asset { name: AssetName::of_digest(&[7; 32]), file: "sky.png".into() };
        let mut sky = Insert { id: InsertId(2), ..insert("", 0.0, 0.0) };
        sky.content = InsertKind::Backdrop(Backdrop { height_deg: 60.0, ..Backdrop::new(picture, 2.0, Spread::Flat) });
        let (pose, lens) = camera();
        let at = |f: u32| Pose { translation: pose.translation + Vector3::x() * 0.04 * f64::from(f), ..pose };
        let frames = (0..3).map(|f| SolvedFrame::new(f, at(f), lens, 0.1, 50)).collect();
        let solution = Solution { frames, ..Solution::empty(320, 180, 3) };
        let camera = CameraPath::new(&solution, &Similarity::identity()).at(1).unwrap();
        let drawn = |inserts: &[Insert]| {
            let scene =
                RenderScene::build(inserts, &light.into(), &ShapeCache::default(), &(Arc::new(Red) as Arc<_>)).unwrap();
            let mut rgb = vec![90u8; 320 * 180 * 3];
            composite(&mut rgb, 320, 180, &camera, &scene, Quality::Exact, 1.0).unwrap();
            rgb
        };
        let (alone, before_sky) = (drawn(&[insert("HO", 0.0, 0.0)]), drawn(&[insert("HO", 0.0, 0.0), sky]));
        let differ = alone.iter().zip(&before_sky).filter(|(a, b)| a.abs_diff(**b) > 2).count();
        assert_eq!(differ, 0);
    }

    #[test]
    fn the_camera_may_fly_through_a_title() {
        let (_, lens) = camera();
        let scene =
            RenderScene::build(&[insert("OOO", 0.0, 0.0)], &unshaded(), &ShapeCache::default(), &NoAssets::shared())
                .unwrap();
        for z in [0.5, 0.1, 0.0, -0.1, -3.0] {
            let pose = Pose::look_at(Vector3::new(0.0, 0.5, z), Vector3::new(0.0, 0.5, z - 1.0), Vector3::y()).unwrap();
            let mut rgb = vec![90u8; 320 * 180 * 3];
            composite(&mut rgb, 320, 180, &Camera::new(pose, lens, 180), &scene, Quality::Exact, 0.0).unwrap();
            let changed = rgb.chunks(3).filter(|p| **p != [90; 3]).count();
            if z < -2.0 {
                assert_eq!(changed, 0, "all behind the camera");
            } else if z > 0.2 {
                assert!(changed > 10_000, "it fills the picture: {changed} pixels");
            }
        }
    }
}
