//! One frame: inserts over the plate.

use crate::Mesh;
use crate::bvh::{Bvh, Hit};
use crate::title::{TitleError, title_mesh};
use fennik_core::camera::Camera;
use fennik_core::scene::{Insert, InsertKind, Light};
use nalgebra::{Vector2, Vector3};
use rayon::prelude::*;

/// Rays on a side of an edge pixel.
const FINE: usize = 4;
/// Nearest depth at which a corner can be projected, world units.
const NEAR: f32 = 1e-3;
/// A shadow ray starts this far off its surface, of the distance to the camera.
const OFFSET: f32 = 1e-4;

/// How carefully a frame is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Quality {
    /// One ray a pixel, no shadows: while something is dragged.
    Draft,
    /// Sixteen rays on every edge, shadows: what is delivered.
    Exact,
}

/// Why a stage cannot be set.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[error("insert {insert}: {cause}")]
pub struct StageError {
    /// Which insert.
    pub insert: u32,
    /// Why.
    #[source]
    pub cause: TitleError,
}

#[derive(Debug, Clone, Copy)]
struct Face {
    normal: Vector3<f32>,
    colour: Vector3<f32>,
    insert: u32,
}

/// All inserts of a shot, ready for rays.
#[derive(Debug, Clone)]
pub struct Stage {
    tree: Bvh,
    faces: Vec<Face>,
    corners: Vec<Vector3<f32>>,
    light: Light,
    sun: Vector3<f32>,
}

impl Stage {
    /// Builds the meshes of all inserts that are not hidden.
    ///
    /// # Errors
    /// [`StageError`] names the insert that cannot be made.
    pub fn build(inserts: &[Insert], light: &Light) -> Result<Self, StageError> {
        let mut triangles = Vec::new();
        let mut faces = Vec::new();
        let mut corners = Vec::new();
        for insert in inserts.iter().filter(|i| !i.hidden) {
            let mesh = Self::mesh(insert)?;
            let InsertKind::Title(title) = &insert.content;
            let colour = Vector3::from(title.colour.map(|c| decode(f32::from(c) / 255.0)));
            for i in 0..mesh.indices.len() {
                let t = mesh.triangle(i);
                let Some(normal) = (t[1] - t[0]).cross(&(t[2] - t[0])).try_normalize(1e-20) else { continue };
                triangles.push(t);
                faces.push(Face { normal, colour, insert: insert.id.0 });
            }
            corners.extend(mesh.positions);
        }
        let sun = light.toward_sun().cast();
        Ok(Self { tree: Bvh::build(&triangles), faces, corners, light: *light, sun })
    }

    /// The triangles of one insert in the world of the datum.
    ///
    /// # Errors
    /// [`StageError`] when it cannot be made.
    pub fn mesh(insert: &Insert) -> Result<Mesh, StageError> {
        let wrong = |cause| StageError { insert: insert.id.0, cause };
        insert.validate().map_err(|why| wrong(TitleError::Value(why)))?;
        let InsertKind::Title(title) = &insert.content;
        let p = &insert.placement;
        let mesh = title_mesh(title, p.stance).map_err(wrong)?;
        Ok(mesh.placed(p.scale, &p.rotation(), p.origin()))
    }

    fn hit(&self, eye: Vector3<f32>, ray: Vector3<f32>) -> Option<Hit> {
        self.tree.meet(eye, ray, f32::INFINITY, false)
    }

    /// Light from a hit towards the eye, and whether the sun reaches it.
    fn shade(&self, eye: Vector3<f32>, ray: Vector3<f32>, hit: &Hit, quality: Quality) -> (Vector3<f32>, bool) {
        let face = &self.faces[hit.triangle as usize];
        let normal = if face.normal.dot(&ray) > 0.0 { -face.normal } else { face.normal };
        let facing = normal.dot(&self.sun).max(0.0);
        let lit = facing > 0.0
            && self.sun.y > 0.0
            && (quality == Quality::Draft || {
                let from = eye + ray * hit.distance + normal * (OFFSET * hit.distance.max(1.0));
                self.tree.meet(from, self.sun, f32::INFINITY, true).is_none()
            });
        let sun = if lit { self.light.sun as f32 * facing } else { 0.0 };
        // The sky gives more than the ground, so that no side goes flat.
        let ambient = self.light.ambient as f32 * (0.85 + 0.15 * normal.y);
        (face.colour * (sun + ambient), lit)
    }
}

/// Where the ray of a pixel begins, and its direction.
fn sight(camera: &Camera, x: f64, y: f64) -> (Vector3<f32>, Vector3<f32>) {
    let ray = camera.ray(Vector2::new(x, y));
    (ray.from.cast(), ray.along.cast())
}

/// What the middle of a pixel shows.
#[derive(Clone, Copy, PartialEq)]
struct Sample {
    light: Vector3<f32>,
    /// Equal for neighbours on one flat, evenly lit face; 0 for the plate.
    key: u64,
}

/// Draws the stage over `rgb` (`width` x `height`, display values), as seen by a camera in the world
/// of the datum whose lens is given for this size. Pixels without insert are left to the byte.
///
/// # Panics
/// When the buffer is not `3 * width * height` long.
pub fn composite(rgb: &mut [u8], width: usize, height: usize, camera: &Camera, stage: &Stage, quality: Quality) {
    assert_eq!(rgb.len(), 3 * width * height, "three bytes a pixel");
    let Some((x0, y0, x1, y1)) = reach(stage, camera, width, height) else { return };
    let columns = x1 - x0;
    let mut samples = vec![Sample { light: Vector3::zeros(), key: 0 }; columns * (y1 - y0)];
    samples.par_chunks_mut(columns).enumerate().for_each(|(row, line)| {
        for (column, sample) in line.iter_mut().enumerate() {
            let (from, ray) = sight(camera, (x0 + column) as f64, (y0 + row) as f64);
            if let Some(hit) = stage.hit(from, ray) {
                let (light, lit) = stage.shade(from, ray, &hit, quality);
                *sample = Sample { light, key: key(&stage.faces[hit.triangle as usize], lit) };
            }
        }
    });
    let rows = &mut rgb[3 * width * y0..3 * width * y1];
    rows.par_chunks_mut(3 * width).enumerate().for_each(|(row, line)| {
        for column in 0..columns {
            let sample = samples[row * columns + column];
            let edge = quality == Quality::Exact && differs(&samples, columns, y1 - y0, column, row);
            let (light, cover) = if edge {
                supersample(stage, camera, x0 + column, y0 + row)
            } else {
                (sample.light, f32::from(u8::from(sample.key != 0)))
            };
            if cover > 0.0 {
                let at = 3 * (x0 + column);
                over(&mut line[at..at + 3], light, cover);
            }
        }
    });
}

fn key(face: &Face, lit: bool) -> u64 {
    let q = face.normal.map(|v| (v * 60.0).round() as i64 as u64 & 0xFF);
    (1 << 63) | u64::from(face.insert) << 32 | u64::from(lit) << 24 | q.x << 16 | q.y << 8 | q.z
}

fn differs(samples: &[Sample], columns: usize, rows: usize, x: usize, y: usize) -> bool {
    let own = samples[y * columns + x].key;
    (y.saturating_sub(1)..=(y + 1).min(rows - 1))
        .any(|v| (x.saturating_sub(1)..=(x + 1).min(columns - 1)).any(|u| samples[v * columns + u].key != own))
}

/// Light (times cover) and cover of one pixel.
fn supersample(stage: &Stage, camera: &Camera, x: usize, y: usize) -> (Vector3<f32>, f32) {
    let (mut light, mut hits) = (Vector3::zeros(), 0usize);
    for j in 0..FINE {
        for i in 0..FINE {
            let offset = |k: usize| (k as f64 + 0.5) / FINE as f64 - 0.5;
            let (from, ray) = sight(camera, x as f64 + offset(i), y as f64 + offset(j));
            if let Some(hit) = stage.hit(from, ray) {
                light += stage.shade(from, ray, &hit, Quality::Exact).0;
                hits += 1;
            }
        }
    }
    let n = (FINE * FINE) as f32;
    (light / n, hits as f32 / n)
}

/// Puts light (already times cover) over a pixel, in linear light.
fn over(pixel: &mut [u8], light: Vector3<f32>, cover: f32) {
    for (byte, l) in pixel.iter_mut().zip(light.iter()) {
        let under = decode(f32::from(*byte) / 255.0);
        let value = l + (1.0 - cover) * under;
        *byte = (encode(value.clamp(0.0, 1.0)) * 255.0).round() as u8;
    }
}

/// The box of pixels, ends excluded, that the stage can reach; `None` when it is out of sight.
fn reach(stage: &Stage, camera: &Camera, width: usize, height: usize) -> Option<(usize, usize, usize, usize)> {
    let (mut low, mut high) = (Vector2::repeat(f64::INFINITY), Vector2::repeat(f64::NEG_INFINITY));
    let mut behind = 0usize;
    let (pose, lens) = (camera.pose(), camera.lens);
    for corner in &stage.corners {
        let c = pose.to_camera(corner.cast());
        if c.z <= f64::from(NEAR) {
            behind += 1;
            continue;
        }
        // Far outside the picture the lens model folds back; the undistorted place is on the right side.
        let n = Vector2::new(c.x / c.z, c.y / c.z);
        let straight = n * lens.focal_px + Vector2::from(lens.centre_px);
        let bent = lens.project(n);
        let wild = n.norm() * lens.focal_px > 1.5 * (width.max(height) as f64);
        let p = if wild { straight } else { bent };
        low = low.inf(&p);
        high = high.sup(&p);
    }
    if behind == stage.corners.len() {
        return None;
    }
    if behind > 0 {
        return Some((0, 0, width, height));
    }
    // Straight edges bulge between their corners under distortion.
    let margin = 2.0 + 0.01 * (high - low).norm();
    let clamp = |v: f64, most: usize| v.clamp(0.0, most as f64) as usize;
    let (x0, y0) = (clamp(low.x - margin, width), clamp(low.y - margin, height));
    let (x1, y1) = (clamp(high.x + margin + 1.0, width), clamp(high.y + margin + 1.0, height));
    (x0 < x1 && y0 < y1).then_some((x0, y0, x1, y1))
}

/// Display values to linear light (IEC 61966-2-1).
fn decode(v: f32) -> f32 {
    if v <= 0.040_45 { v / 12.92 } else { ((v + 0.055) / 1.055).powf(2.4) }
}

/// Linear light to display values (IEC 61966-2-1).
fn encode(v: f32) -> f32 {
    if v <= 0.003_130_8 { 12.92 * v } else { 1.055 * v.powf(1.0 / 2.4) - 0.055 }
}

#[cfg(test)]
mod tests {
    use super::*;
    use fennik_core::geometry::{Lens, Pose};
    use fennik_core::scene::{InsertId, Placement, Stance, Title};

    fn insert(text: &str, x: f64, z: f64) -> Insert {
        let title = Title {
            text: text.into(),
            font: "Lato Black".into(),
            height_m: 1.0,
            depth_m: 0.3,
            bevel_m: 0.0,
            colour: [250, 120, 20],
        };
        let placement = Placement {
            foot: [x, 0.0, z],
            normal: [0.0, 1.0, 0.0],
            turn_deg: 0.0,
            lean_deg: 0.0,
            lift_m: 0.0,
            scale: 1.0,
            stance: Stance::Standing,
        };
        Insert { id: InsertId(1), name: String::new(), content: InsertKind::Title(title), placement, hidden: false }
    }

    fn camera() -> (Pose, Lens) {
        let pose = Pose::look_at(Vector3::new(0.5, 1.5, 5.0), Vector3::new(0.0, 0.5, 0.0), Vector3::y()).unwrap();
        (pose, Lens { k1: -0.06, ..Lens::centred(300.0, 320, 180) })
    }

    fn draw(inserts: &[Insert], light: &Light, quality: Quality) -> Vec<u8> {
        let (pose, lens) = camera();
        let mut rgb = vec![90u8; 320 * 180 * 3];
        composite(&mut rgb, 320, 180, &Camera::new(pose, lens, 180), &Stage::build(inserts, light).unwrap(), quality);
        rgb
    }

    #[test]
    fn the_letter_is_where_the_lens_sees_it_and_the_plate_is_untouched_elsewhere() {
        let rgb = draw(&[insert("I", 0.0, 0.0)], &Light::default(), Quality::Exact);
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
            count(draw(&[insert("O", 0.0, 0.0)], &Light::default(), Quality::Exact)),
            count(draw(&[insert("O", 0.0, 0.0)], &Light::default(), Quality::Draft)),
        );
        assert!(exact > 2 * draft, "{exact} {draft}");
    }

    #[test]
    fn one_insert_throws_its_shadow_on_another() {
        let light = Light { bearing_deg: 0.0, height_deg: 30.0, sun: 1.0, ambient: 0.1 };
        let sum = |rgb: Vec<u8>| rgb.iter().map(|&b| u64::from(b)).sum::<u64>();
        let behind = Insert { id: InsertId(2), ..insert("HHH", 0.0, -2.0) };
        let alone = sum(draw(std::slice::from_ref(&behind), &light, Quality::Exact));
        // The blocker stands behind the camera's back, out of sight, in the way of the sun only.
        let mut blocker = insert("HHHHHH", 0.0, 6.0);
        blocker.placement.scale = 6.0;
        let shaded = sum(draw(&[behind, blocker], &light, Quality::Exact));
        assert!(shaded < alone, "{shaded} {alone}");
    }

    #[test]
    fn the_camera_may_fly_through_a_title() {
        let (_, lens) = camera();
        let stage = Stage::build(&[insert("OOO", 0.0, 0.0)], &Light::default()).unwrap();
        for z in [0.5, 0.1, 0.0, -0.1, -3.0] {
            let pose = Pose::look_at(Vector3::new(0.0, 0.5, z), Vector3::new(0.0, 0.5, z - 1.0), Vector3::y()).unwrap();
            let mut rgb = vec![90u8; 320 * 180 * 3];
            composite(&mut rgb, 320, 180, &Camera::new(pose, lens, 180), &stage, Quality::Exact);
            if z < -2.0 {
                assert!(rgb.iter().all(|&b| b == 90), "all behind the camera");
            }
        }
    }
}
