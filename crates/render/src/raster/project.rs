//! From the world to the screen.

use crate::placed::PlacedScene;
use fennik_core::camera::Camera;
use nalgebra::{Vector2, Vector3};
use rayon::prelude::*;

type V3 = Vector3<f64>;
type V2 = Vector2<f64>;

/// Farthest that an edge may bend from the chord that is drawn for it, px.
pub const CHORD_PX: f64 = 0.05;
/// Cuts of an edge at most.
const DEEPEST: u32 = 9;
/// Nearest depth that is drawn, world units.
const NEAR: f64 = 1e-3;
/// How much wider than the picture triangles are clipped, so that no cut is seen; and with rows that are exposed one
/// after the other, while the camera moves.
const ROOM: f64 = 1.04;
const ROOM_ROLLING: f64 = 1.35;

/// One over the depth of what lies behind everything, per number in its order: nothing is as far off.
const BEHIND: f64 = 1e-15;

/// A triangle as it lies on the picture.
#[derive(Debug, Clone, Copy)]
pub struct ScreenTriangle {
    /// Corners, px.
    pub at: [[f32; 2]; 3],
    /// One over the depth at each.
    pub inverse_depth: [f32; 3],
    /// The face of the scene that it is of.
    pub face: u32,
}

#[derive(Debug, Clone, Copy)]
struct Corner {
    world: V3,
    /// x right, y down, z forward.
    camera: V3,
    pixel: V2,
}

/// How far to the sides the picture reaches, per depth.
struct Frustum {
    low: V2,
    high: V2,
}

impl Frustum {
    fn new(camera: &Camera, width: usize, height: usize) -> Self {
        let (w, h) = (width as f64 - 0.5, height as f64 - 0.5);
        // Under distortion the middle of an edge may lie further out than its ends, or less far.
        let along = [0.0, 0.25, 0.5, 0.75, 1.0];
        let rim = along.iter().flat_map(|t| {
            let (x, y) = (t * (w + 0.5) - 0.5, t * (h + 0.5) - 0.5);
            [V2::new(x, -0.5), V2::new(x, h), V2::new(-0.5, y), V2::new(w, y)]
        });
        let rays: Vec<V2> = rim.map(|p| camera.lens.unproject(p)).collect();
        let ends = |pick: fn(f64, f64) -> f64, start: f64| {
            rays.iter().fold(V2::repeat(start), |m, r| V2::new(pick(m.x, r.x), pick(m.y, r.y)))
        };
        let room = if camera.is_rolling() { ROOM_ROLLING } else { ROOM };
        Self { low: ends(f64::min, f64::INFINITY) * room, high: ends(f64::max, f64::NEG_INFINITY) * room }
    }

    /// Square of the length, px, up to which an edge that lies inside is straight whatever its direction: the chord of a
    /// curve strays by at most an eighth of its length squared times its second derivative.
    fn straight_px2(&self, camera: &Camera) -> f64 {
        if camera.is_rolling() {
            return 0.0;
        }
        let lens = &camera.lens;
        let farthest2 = self.low.abs().sup(&self.high.abs()).norm_squared();
        let second = farthest2.sqrt() * (6.0 * lens.k1.abs() + 20.0 * lens.k2.abs() * farthest2);
        if second == 0.0 {
            return f64::INFINITY;
        }
        // By how much the lens stretches at least, along the radius and across it: each 1 + b t + c t^2 of the squared radius.
        let least = |b: f64, c: f64| {
            let at = |t: f64| 1.0 + t * (b + t * c);
            let turn = -b / (2.0 * c);
            let turn = if turn > 0.0 && turn < farthest2 { at(turn) } else { 1.0 };
            at(farthest2).min(turn).min(1.0)
        };
        let stretch = least(lens.k1, lens.k2).min(least(3.0 * lens.k1, 5.0 * lens.k2)).max(0.0);
        8.0 * CHORD_PX * lens.focal_px * stretch * stretch / second
    }

    /// How far inside each of the five planes a place of the camera's frame lies; below zero is outside.
    fn inside(&self, c: &V3) -> [f64; 5] {
        [c.z - NEAR, c.x - self.low.x * c.z, self.high.x * c.z - c.x, c.y - self.low.y * c.z, self.high.y * c.z - c.y]
    }
}

struct Projector<'a> {
    camera: &'a Camera,
    /// Edges are straight up to this length, squared, px.
    straight_px2: f64,
    face: u32,
    /// What its depth counts as, times.
    nearer: f64,
    /// One over the depth that all of it has, where that is not its own.
    behind: Option<f32>,
    out: &'a mut Vec<ScreenTriangle>,
}

/// Where a place is seen: in front of the camera, and near the picture.
fn seen(camera: &Camera, world: V3, in_camera: V3) -> V2 {
    let straight = || camera.lens.project(V2::new(in_camera.x / in_camera.z, in_camera.y / in_camera.z));
    if camera.is_rolling() { camera.project(world).unwrap_or_else(straight) } else { straight() }
}

/// All triangles of a scene that may be seen on a picture.
pub fn project(scene: &PlacedScene, camera: &Camera, width: usize, height: usize) -> Vec<ScreenTriangle> {
    let frustum = Frustum::new(camera, width, height);
    let pose = camera.pose();
    let eye = pose.centre().cast::<f32>();
    let corners: Vec<(Corner, [f64; 5])> = scene
        .corners
        .par_iter()
        .map(|p| {
            let world = p.cast::<f64>();
            let in_camera = pose.to_camera(world);
            let inside = frustum.inside(&in_camera);
            let there = inside.iter().all(|d| *d >= 0.0);
            let pixel = if there { seen(camera, world, in_camera) } else { V2::zeros() };
            (Corner { world, camera: in_camera, pixel }, inside)
        })
        .collect();
    let straight_px2 = frustum.straight_px2(camera);
    let seen_of = |face: usize, t: &[u32; 3], out: &mut Vec<ScreenTriangle>| {
        let of = t.map(|k| &corners[k as usize]);
        if (0..5).any(|plane| of.iter().all(|c| c.1[plane] < 0.0)) {
            return;
        }
        let looks = &scene.faces[face];
        if !scene.material(looks).two_sided && looks.normal.dot(&eye) < looks.offset {
            return;
        }
        let look = scene.look(looks);
        let nearer = 1.0 + f64::from(look.nudge);
        let behind = look.behind.map(|n| (BEHIND * f64::from(n + 1)) as f32);
        let mut projector = Projector { camera, straight_px2, face: face as u32, nearer, behind, out };
        if of.iter().all(|c| c.1.iter().all(|d| *d >= 0.0)) {
            projector.cut(of.map(|c| c.0), 0);
        } else {
            let polygon = clipped(of.map(|c| c.0), &frustum, camera);
            for i in 2..polygon.len() {
                projector.cut([polygon[0], polygon[i - 1], polygon[i]], 0);
            }
        }
    };
    let some = |(chunk, triangles): (usize, &[[u32; 3]])| {
        let mut out = Vec::with_capacity(triangles.len());
        triangles.iter().enumerate().for_each(|(i, t)| seen_of(chunk * AT_ONCE + i, t, &mut out));
        out
    };
    let parts: Vec<Vec<ScreenTriangle>> = scene.triangles.par_chunks(AT_ONCE).enumerate().map(some).collect();
    parts.concat()
}

/// Triangles that one thread takes at once.
const AT_ONCE: usize = 2048;

/// The part of a triangle that lies inside (Sutherland & Hodgman, "Reentrant Polygon Clipping", 1974).
fn clipped(triangle: [Corner; 3], frustum: &Frustum, camera: &Camera) -> Vec<Corner> {
    let mut polygon: Vec<(V3, V3)> = triangle.iter().map(|c| (c.world, c.camera)).collect();
    for plane in 0..5 {
        let depth = |c: &V3| frustum.inside(c)[plane];
        let mut kept = Vec::with_capacity(polygon.len() + 1);
        for (i, (world, at)) in polygon.iter().enumerate() {
            let (next_world, next) = polygon[(i + 1) % polygon.len()];
            let (a, b) = (depth(at), depth(&next));
            if a >= 0.0 {
                kept.push((*world, *at));
            }
            if (a >= 0.0) != (b >= 0.0) {
                let t = a / (a - b);
                kept.push((world + (next_world - world) * t, at + (next - at) * t));
            }
        }
        polygon = kept;
    }
    polygon
        .into_iter()
        .map(|(world, in_camera)| Corner { world, camera: in_camera, pixel: seen(camera, world, in_camera) })
        .collect()
}

impl Projector<'_> {
    /// Adds a triangle, in parts where its edges bend.
    fn cut(&mut self, t: [Corner; 3], depth: u32) {
        let middles: [Option<Corner>; 3] = std::array::from_fn(|k| {
            let (a, b) = (&t[k], &t[(k + 1) % 3]);
            let straight = depth >= DEEPEST || (b.pixel - a.pixel).norm_squared() <= self.straight_px2;
            if straight { None } else { self.bent(a, b) }
        });
        let [a, b, c] = t;
        let deeper = depth + 1;
        match middles {
            [None, None, None] => self.out.push(ScreenTriangle {
                at: t.map(|c| [c.pixel.x as f32, c.pixel.y as f32]),
                inverse_depth: t.map(|c| self.behind.unwrap_or((self.nearer / c.camera.z) as f32)),
                face: self.face,
            }),
            [Some(ab), Some(bc), Some(ca)] => {
                for part in [[a, ab, ca], [ab, b, bc], [ca, bc, c], [ab, bc, ca]] {
                    self.cut(part, deeper);
                }
            }
            [Some(m), None, None] => self.halves(a, b, c, m, deeper),
            [None, Some(m), None] => self.halves(b, c, a, m, deeper),
            [None, None, Some(m)] => self.halves(c, a, b, m, deeper),
            [Some(p), Some(q), None] => self.thirds(a, b, c, p, q, deeper),
            [None, Some(p), Some(q)] => self.thirds(b, c, a, p, q, deeper),
            [Some(q), None, Some(p)] => self.thirds(c, a, b, p, q, deeper),
        }
    }

    /// Cut from the middle `m` of the edge ab to c.
    fn halves(&mut self, a: Corner, b: Corner, c: Corner, m: Corner, depth: u32) {
        self.cut([a, m, c], depth);
        self.cut([m, b, c], depth);
    }

    /// Cut where the edges ab and bc, with the middles `p` and `q`, are.
    fn thirds(&mut self, a: Corner, b: Corner, c: Corner, p: Corner, q: Corner, depth: u32) {
        self.cut([p, b, q], depth);
        self.cut([a, p, q], depth);
        self.cut([a, q, c], depth);
    }

    /// The middle of an edge, where it strays too far from the chord. The same for both triangles that share the edge.
    fn bent(&self, a: &Corner, b: &Corner) -> Option<Corner> {
        // In the middle of the picture of the edge, not of the edge itself.
        let (za, zb) = (a.camera.z, b.camera.z);
        let (wa, wb) = (zb / (za + zb), za / (za + zb));
        let (world, in_camera) = (a.world * wa + b.world * wb, a.camera * wa + b.camera * wb);
        let pixel = seen(self.camera, world, in_camera);
        let chord = b.pixel - a.pixel;
        let off = pixel - a.pixel;
        let length = chord.norm();
        let stray = if length > 1e-9 { (chord.x * off.y - chord.y * off.x).abs() / length } else { off.norm() };
        (stray > CHORD_PX).then_some(Corner { world, camera: in_camera, pixel })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Mesh;
    use fennik_core::geometry::{Lens, Pose};
    use proptest::prelude::*;

    fn scene(corners: &[[f64; 3]; 3]) -> PlacedScene {
        let mesh = Mesh {
            positions: corners.iter().map(|c| V3::from(*c).cast()).collect(),
            indices: vec![[0, 1, 2]],
            ..Mesh::default()
        };
        PlacedScene::of_mesh(&mesh)
    }

    fn area(t: &ScreenTriangle) -> f64 {
        let [a, b, c] = t.at.map(|p| p.map(f64::from));
        0.5 * ((b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])).abs()
    }

    proptest! {
        /// However the lens bends, every point of the triangle's rim lies on the rim of its pieces.
        #[test]
        fn pieces_follow_the_lens(k1 in -0.2f64..0.2, x in -1.0f64..1.0, y in -0.6f64..0.6, near in 2.0f64..6.0) {
            let lens = Lens { k1, ..Lens::centred(700.0, 1280, 720) };
            let camera = Camera::new(Pose::identity(), lens, 720);
            let corners = [[x - 0.9, y - 0.5, near], [x + 0.9, y - 0.4, near + 1.0], [x, y + 0.6, near + 0.5]];
            let pieces = project(&scene(&corners), &camera, 1280, 720);
            prop_assume!(!pieces.is_empty());
            for (from, to) in [(0, 1), (1, 2), (2, 0)] {
                for step in 0..=20 {
                    let t = f64::from(step) / 20.0;
                    let p = V3::from(corners[from]) * (1.0 - t) + V3::from(corners[to]) * t;
                    let pixel = camera.project(p).unwrap();
                    if !(0.0..1279.0).contains(&pixel.x) || !(0.0..719.0).contains(&pixel.y) {
                        continue;
                    }
                    let off = pieces.iter().flat_map(|piece| (0..3).map(|k| {
                        let (a, b) = (piece.at[k].map(f64::from), piece.at[(k + 1) % 3].map(f64::from));
                        let (a, b) = (V2::from(a), V2::from(b));
                        let along = ((pixel - a).dot(&(b - a)) / (b - a).norm_squared().max(1e-12)).clamp(0.0, 1.0);
                        (a + (b - a) * along - pixel).norm()
                    })).fold(f64::INFINITY, f64::min);
                    prop_assert!(off < 2.0 * CHORD_PX, "{off} px off at {pixel}");
                }
            }
        }
    }

    #[test]
    fn a_straight_lens_needs_no_cuts_and_what_is_behind_is_cut_off() {
        let camera = Camera::new(Pose::identity(), Lens::centred(700.0, 1280, 720), 720);
        let whole = project(&scene(&[[-1.0, -0.5, 4.0], [1.0, -0.5, 4.0], [0.0, 0.8, 4.0]]), &camera, 1280, 720);
        assert_eq!(whole.len(), 1);
        assert!((area(&whole[0]) - 0.5 * 2.0 * 1.3 * (700.0f64 / 4.0).powi(2)).abs() < 0.1);
        let behind = project(&scene(&[[-1.0, 0.0, -4.0], [1.0, 0.0, -4.0], [0.0, 1.0, -4.0]]), &camera, 1280, 720);
        assert!(behind.is_empty());
        // A floor that runs under the camera fills the lower half of the picture, and a little beyond its rim.
        let floor = project(&scene(&[[-90.0, 1.0, -50.0], [90.0, 1.0, -50.0], [0.0, 1.0, 900.0]]), &camera, 1280, 720);
        let filled: f64 = floor.iter().map(area).sum();
        assert!(filled > 0.45 * 1280.0 * 720.0 && filled < 0.6 * 1280.0 * 720.0, "{filled}");
        assert!(floor.iter().flat_map(|t| t.at).all(|p| p[0].abs() < 2000.0 && p[1].abs() < 2000.0));
    }
}
