//! The scene at one time.

use crate::Mesh;
use crate::blend::Rgba;
use crate::catching::CatchPlane;
use crate::light::{AroundNow, Care, Falling, LampNow};
use crate::material::Material;
use crate::shadow::{Casts, FloorShadow, Patch, Source, Sun, on_one_grid, reach, side_by_side};
use crate::tree::Bvh;
use fennik_core::geometry::Similarity;
use fennik_core::scene::{Blend, Haze, HazeForm, InsertGrade, LightNow};
use nalgebra::{Vector2, Vector3};
use std::collections::hash_map::DefaultHasher;
use std::hash::{Hash, Hasher};
use std::sync::{Arc, OnceLock};

/// One triangle as far as its looks go.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Face {
    pub normal: Vector3<f32>,
    /// `normal` times any point of it.
    pub offset: f32,
    /// Equal for faces that look alike under one light.
    pub key: u32,
    /// Position among the scene's materials.
    pub material: u32,
    /// Position among the scene's looks.
    pub look: u32,
    /// Whether what lies behind it may be seen.
    pub through: bool,
}

/// How an insert as a whole is seen.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Look {
    pub id: u32,
    /// The insert that it is of.
    pub insert: u32,
    pub opacity: f32,
    pub blend: Blend,
    /// It counts as nearer by this part of its depth, so that of two in one plane the later is seen.
    pub nudge: f32,
    /// It lies behind all that stands anywhere; of several the one of the higher number is in front.
    pub behind: Option<u32>,
    /// It fades within so far from the lens.
    pub near_fade: f32,
    /// What of it is lost in haze.
    pub haze: Option<HazeNow>,
    /// Whether something else stands in front of it than of others.
    pub held: bool,
    /// What is done to its light.
    pub grade: Option<Arc<InsertGrade>>,
    /// How much of the light of the surroundings reaches it.
    pub surrounded: f32,
}

impl Look {
    /// All of it, as it is.
    pub fn plain(id: u32) -> Self {
        Self {
            id,
            insert: id,
            opacity: 1.0,
            blend: Blend::Normal,
            nudge: 0.0,
            behind: None,
            near_fade: 0.0,
            haze: None,
            held: false,
            grade: None,
            surrounded: 1.0,
        }
    }

    /// Whether what lies behind may be seen, whatever it is made of.
    pub fn shows_through(&self) -> bool {
        self.opacity < 1.0 || self.blend != Blend::Normal || self.near_fade > 0.0 || self.haze.is_some() || self.held
    }

    /// Whether as much of it is seen everywhere.
    pub fn is_even(&self) -> bool {
        self.near_fade <= 0.0 && self.haze.is_none()
    }

    /// How much of it is seen at a place, world, so far from the eye.
    pub fn share_at(&self, at: Vector3<f32>, distance: f32) -> f32 {
        let near = if self.near_fade > 0.0 { (distance / self.near_fade).clamp(0.0, 1.0) } else { 1.0 };
        self.opacity * near * self.haze.as_ref().map_or(1.0, |h| h.share_at(at))
    }
}

/// Haze on an insert where it stands.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct HazeNow {
    pub haze: Haze,
    /// From the world: how far along its width and its height, -1 to 1. Each as what is to be times a place, and added.
    pub across: (Vector3<f32>, f32),
    pub up: (Vector3<f32>, f32),
}

impl HazeNow {
    /// For a shape of a box in its own frame, where it stands.
    pub fn new(haze: Haze, shape: &Mesh, at: &Similarity) -> Option<Self> {
        if haze.form == HazeForm::None {
            return None;
        }
        let (low, high) = shape.bounds()?;
        let (middle, half) = ((low + high) * 0.5, (high - low) * 0.5);
        let axis = |k: usize| {
            let reach = f64::from(half[k].max(1e-6)) * at.scale;
            let way = at.rotation.matrix().column(k) / reach;
            let shift = -way.dot(&at.point(middle.cast()));
            (way.cast::<f32>(), shift as f32)
        };
        Some(Self { haze, across: axis(0), up: axis(1) })
    }

    fn share_at(&self, at: Vector3<f32>) -> f32 {
        let along = |(way, shift): (Vector3<f32>, f32)| f64::from(way.dot(&at) + shift);
        self.haze.share_at(along(self.across), along(self.up)) as f32
    }
}

/// What lies at a place of a face, between its corners.
pub(crate) struct Between {
    /// Weights of the corners.
    pub weights: [f32; 3],
    /// How the weights of the second and the third corner grow, per world unit.
    pub slopes: [Vector3<f32>; 2],
}

/// What casts a shadow of its own: an insert with its copies.
#[derive(Debug, Clone, Default)]
struct Caster {
    /// Positions of the faces that keep light off.
    faces: Vec<u32>,
    /// Has seen every corner of them to the last bit, and which pictures with clear parts they have.
    seen: DefaultHasher,
}

/// Shadows of one source on a plane; where there is none for what casts it, nothing is kept of it.
type Shadows = Vec<Arc<Option<FloorShadow>>>;

/// What is kept off a plane.
#[derive(Debug, Default)]
pub(crate) struct OnPlane {
    sun: Shadows,
    /// Of each lamp.
    pub lamps: Vec<Shadows>,
    contact: Shadows,
}

impl OnPlane {
    /// How much of a source is kept from a place of the plane, 0 to 1.
    pub fn kept_of(&self, of: &Shadows, at: Vector2<f32>) -> f32 {
        of.iter().filter_map(|s| s.as_ref().as_ref()).fold(0.0, |most, s| most.max(s.at(at)))
    }

    pub fn sun_at(&self, at: Vector2<f32>) -> f32 {
        self.kept_of(&self.sun, at)
    }

    pub fn contact_at(&self, at: Vector2<f32>) -> f32 {
        self.kept_of(&self.contact, at)
    }

    /// Where any of it lies.
    fn places(&self) -> Vec<Patch> {
        let all = self.sun.iter().chain(self.lamps.iter().flatten()).chain(&self.contact);
        all.filter_map(|s| s.as_ref().as_ref()).flat_map(FloorShadow::places).collect()
    }
}

/// All that is to be drawn at one time, in the world of the datum.
#[derive(Debug)]
pub struct PlacedScene {
    pub(crate) corners: Vec<Vector3<f32>>,
    /// Of each corner; zero where its faces are flat.
    pub(crate) normals: Vec<Vector3<f32>>,
    pub(crate) uvs: Vec<[f32; 2]>,
    /// Of each corner; empty where all are white.
    pub(crate) colours: Vec<[f32; 4]>,
    pub(crate) triangles: Vec<[u32; 3]>,
    pub(crate) faces: Vec<Face>,
    pub(crate) materials: Vec<Arc<Material>>,
    pub(crate) looks: Vec<Look>,
    pub(crate) light: LightNow,
    pub(crate) lamps: Vec<LampNow>,
    pub(crate) around: Option<AroundNow>,
    /// Haze between the eye and everything: linear light, and the part that is lost a world unit.
    pub(crate) haze_colour: Vector3<f32>,
    pub(crate) haze_per_unit: f32,
    /// Flat parts of the plate that catch.
    pub(crate) catches: Vec<CatchPlane>,
    casters: Vec<Caster>,
    /// Of all faces that keep light off, and their positions; built when the first shadow is asked for.
    tree: OnceLock<(Arc<Bvh>, Vec<u32>)>,
    /// Of all faces that can be mirrored, and their positions.
    mirror: OnceLock<(Bvh, Vec<u32>)>,
    /// On each plane: rough ones, one for each caster, and a fine one of all.
    kept: [OnceLock<Vec<OnPlane>>; 2],
    casts: Arc<Casts>,
    /// Whether inserts have their own things in front of them.
    held: bool,
}

/// Names the first plane that catches among the inserts; the others count down from it.
const FLOOR_ID: u32 = u32::MAX - 1;
/// Names what hides.
const WALL_ID: u32 = u32::MAX;

impl PlacedScene {
    pub(crate) fn empty(light: LightNow, casts: &Arc<Casts>) -> Self {
        Self {
            corners: Vec::new(),
            normals: Vec::new(),
            uvs: Vec::new(),
            colours: Vec::new(),
            triangles: Vec::new(),
            faces: Vec::new(),
            materials: Vec::new(),
            looks: Vec::new(),
            light,
            lamps: Vec::new(),
            around: None,
            haze_colour: Vector3::zeros(),
            haze_per_unit: 0.0,
            catches: Vec::new(),
            casters: Vec::new(),
            tree: OnceLock::new(),
            mirror: OnceLock::new(),
            kept: Default::default(),
            casts: casts.clone(),
            held: false,
        }
    }

    /// With inserts that have their own things in front of them.
    pub(crate) fn holding(self, held: bool) -> Self {
        Self { held, ..self }
    }

    /// The same under another light, to which more is added.
    pub(crate) fn begun(&self, light: LightNow) -> Self {
        Self {
            corners: self.corners.clone(),
            normals: self.normals.clone(),
            uvs: self.uvs.clone(),
            colours: self.colours.clone(),
            triangles: self.triangles.clone(),
            faces: self.faces.clone(),
            materials: self.materials.clone(),
            looks: self.looks.clone(),
            casters: self.casters.clone(),
            held: self.held,
            ..Self::empty(light, &self.casts)
        }
    }

    /// What is added from here on casts a shadow of its own.
    pub(crate) fn begin_caster(&mut self) {
        self.casters.push(Caster::default());
    }

    pub(crate) fn add(&mut self, mesh: &Mesh, materials: &[Arc<Material>], look: Look) {
        let base = self.corners.len() as u32;
        let first = self.materials.len() as u32;
        let of = self.looks.len() as u32;
        let faded = look.shows_through();
        let smooth = !mesh.normals.is_empty();
        if self.casters.is_empty() {
            self.begin_caster();
        }
        let Some(caster) = self.casters.last_mut() else { return };
        for (i, corners) in mesh.indices.iter().enumerate() {
            let [a, b, c] = mesh.triangle(i);
            let Some(normal) = (b - a).cross(&(c - a)).try_normalize(1e-20) else { continue };
            let part = mesh.part(i).min(materials.len().saturating_sub(1));
            if materials[part].casts {
                caster.faces.push(self.faces.len() as u32);
                [a, b, c].map(|p| <[f32; 3]>::from(p).map(f32::to_bits)).hash(&mut caster.seen);
                if let Some(map) = materials[part].clear_map().filter(|_| !mesh.uvs.is_empty()) {
                    let at = corners.map(|k| map.at(mesh.uvs[k as usize]).map(f32::to_bits));
                    (map.texture.id(), at).hash(&mut caster.seen);
                }
            }
            self.triangles.push(corners.map(|k| k + base));
            self.faces.push(Face {
                normal,
                offset: normal.dot(&a),
                key: key(&normal, look.id, smooth),
                material: first + part as u32,
                look: of,
                through: faded || materials[part].shows_through(),
            });
        }
        let n = mesh.positions.len();
        self.corners.extend(&mesh.positions);
        if smooth {
            self.normals.extend(&mesh.normals)
        } else {
            self.normals.extend(vec![Vector3::zeros(); n])
        }
        if mesh.uvs.is_empty() {
            self.uvs.extend(vec![[0.0; 2]; n])
        } else {
            self.uvs.extend(&mesh.uvs)
        }
        if !mesh.colours.is_empty() || !self.colours.is_empty() {
            // Those before were white.
            self.colours.resize(base as usize, [1.0; 4]);
            self.colours.extend(&mesh.colours);
            self.colours.resize(self.corners.len(), [1.0; 4]);
        }
        self.materials.extend(materials.iter().cloned());
        self.looks.push(look);
    }

    /// Lays planes that are not seen themselves where shadows may fall on them, or something may be mirrored as it is seen
    /// from `eye`.
    pub(crate) fn catch(&mut self, planes: Vec<CatchPlane>, eye: Vector3<f32>) {
        self.catches = planes;
        let mut meshes = Vec::new();
        if !self.catches.is_empty() {
            for (plane, on) in self.catches.iter().zip(self.shadows(false)) {
                let mut patches = on.places();
                patches.extend((plane.now.mirror > 0.0).then(|| self.mirroring(plane, eye)).flatten());
                let mut mesh = Mesh::default();
                for (low, high) in side_by_side(&on_one_grid(&patches)) {
                    let at = |x: f32, z: f32| plane.world(Vector3::new(x, 0.0, z));
                    let base = mesh.positions.len() as u32;
                    mesh.positions.extend([at(low.x, low.y), at(low.x, high.y), at(high.x, high.y), at(high.x, low.y)]);
                    mesh.indices.extend([[0, 1, 2], [0, 2, 3]].map(|t: [u32; 3]| t.map(|k| k + base)));
                }
                meshes.push(mesh);
            }
        }
        for (i, mesh) in meshes.into_iter().enumerate() {
            let catcher = Material { catches: Some(i), casts: false, ..Material::matt([0.0; 3]) };
            self.add(&mesh, &[Arc::new(catcher)], Look { held: self.held, ..Look::plain(FLOOR_ID - i as u32) });
        }
    }

    /// The part of a plane in which anything may be seen mirrored from `eye`.
    fn mirroring(&self, plane: &CatchPlane, eye: Vector3<f32>) -> Option<Patch> {
        let eye = plane.own(eye);
        if eye.y <= 0.0 {
            return None;
        }
        let mut bounds: Option<Patch> = None;
        let faces = self.faces.iter().zip(&self.triangles).filter(|(f, _)| self.can_be_mirrored(f));
        let corners = faces.map(|(_, t)| t.map(|k| plane.own(self.corners[k as usize])));
        for corner in corners.filter(|t| t.iter().any(|c| c.y > 0.0)).flatten() {
            // Where the look at its image meets the plane; what reaches under it is seen from the plane on.
            let part = corner.y.max(0.0) / (corner.y.max(0.0) + eye.y);
            let foot = Vector2::new(corner.x, corner.z);
            let at = foot + (Vector2::new(eye.x, eye.z) - foot) * part;
            let (low, high) = bounds.get_or_insert((at, at));
            (*low, *high) = (low.inf(&at), high.sup(&at));
        }
        let rim = Vector2::repeat(0.02 + plane.now.mirror_rough as f32 * 0.5 * eye.y);
        let (mut low, mut high) = bounds.map(|(low, high)| (low - rim, high + rim))?;
        if let Some(corners) = plane.corners() {
            let axis =
                |k: usize, pick: fn(f64, f64) -> f64, start: f64| corners.iter().map(|c| c[k]).fold(start, pick) as f32;
            low = low.sup(&Vector2::new(axis(0, f64::min, f64::INFINITY), axis(1, f64::min, f64::INFINITY)));
            high = high.inf(&Vector2::new(axis(0, f64::max, f64::NEG_INFINITY), axis(1, f64::max, f64::NEG_INFINITY)));
        }
        (low.x < high.x && low.y < high.y).then_some((low, high))
    }

    fn can_be_mirrored(&self, face: &Face) -> bool {
        let material = self.material(face);
        material.catches.is_none() && !material.holds && self.look(face).behind.is_none()
    }

    /// The face that a ray meets first, of those that can be mirrored, and how far it is.
    pub(crate) fn nearest(&self, from: Vector3<f32>, along: Vector3<f32>) -> Option<(usize, f32)> {
        let (tree, faces) = self.mirror.get_or_init(|| {
            let all = self.faces.iter().enumerate().filter(|(_, f)| self.can_be_mirrored(f));
            let faces: Vec<u32> = all.map(|(i, _)| i as u32).collect();
            (Bvh::build(&self.corners_of(&faces).collect::<Vec<_>>()), faces)
        });
        let (id, far) = tree.nearest(from, along)?;
        Some((faces[id as usize] as usize, far))
    }

    /// What is left of a face's light so far away: graded as its insert is, and hazy.
    pub(crate) fn seen_from(&self, face: &Face, light: Rgba, distance: f32) -> Rgba {
        let [mut r, mut g, mut b, alpha] = light;
        let look = self.look(face);
        if let Some(grade) = look.grade.as_ref().filter(|_| alpha > 0.0) {
            [r, g, b] = grade.apply([r, g, b].map(|v| v / alpha)).map(|v| v * alpha);
        }
        // What goes with the camera is as hazy as it was made.
        if self.haze_per_unit > 0.0 && look.behind.is_none() && self.material(face).catches.is_none() {
            let lost = 1.0 - (-self.haze_per_unit * distance).exp();
            let haze = self.haze_colour * alpha;
            [r, g, b] = [r + (haze.x - r) * lost, g + (haze.y - g) * lost, b + (haze.z - b) * lost];
        }
        [r, g, b, alpha]
    }

    /// Light that comes from everywhere on a matt white face of a normal.
    pub(crate) fn everywhere(&self, light: &Falling, normal: Vector3<f32>) -> Vector3<f32> {
        // The sky gives more than the ground, so that no side goes flat.
        let even = light.ambient * (0.85 + 0.15 * normal.y);
        self.around.as_ref().map_or(even, |a| even + a.even(normal))
    }

    /// Hides what lies behind something that is not seen itself, or a part of it: the plate shows there.
    pub(crate) fn hide_behind(&mut self, mesh: &Mesh, part: f32) {
        if part <= 0.0 {
            return;
        }
        let wall = Material { holds: true, casts: false, ..Material::matt([0.0; 3]) };
        self.begin_caster();
        self.add(mesh, &[Arc::new(wall)], Look { opacity: part, ..Look::plain(WALL_ID) });
    }

    /// One mesh in one place.
    #[cfg(test)]
    pub(crate) fn of_mesh(mesh: &Mesh) -> Self {
        let mut scene = Self::empty(fennik_core::scene::Light::default().at(0.0), &Arc::default());
        scene.add(mesh, &[Arc::new(Material::matt([0.5; 3]))], Look::plain(1));
        scene
    }

    fn corners_of<'a>(&'a self, faces: &'a [u32]) -> impl Iterator<Item = [Vector3<f32>; 3]> + 'a {
        faces.iter().map(|face| self.triangles[*face as usize].map(|k| self.corners[k as usize]))
    }

    /// Names what keeps light off: equal for scenes in which the same does so in the same places.
    pub(crate) fn casters_key(&self) -> u64 {
        let mut all = DefaultHasher::new();
        for caster in &self.casters {
            (caster.seen.finish(), &caster.faces).hash(&mut all);
        }
        all.finish()
    }

    /// Makes what shadows need, before many look for them at once.
    pub(crate) fn look_ahead(&self, care: Care) {
        if care.shadows && (self.light.sun > 0.0 || !self.lamps.is_empty()) {
            self.tree();
        }
        if !self.catches.is_empty() {
            self.shadows(care.fine);
        }
    }

    /// Rays are only asked for shadows.
    fn tree(&self) -> &(Arc<Bvh>, Vec<u32>) {
        self.tree.get_or_init(|| {
            let faces: Vec<u32> = self.casters.iter().flat_map(|c| c.faces.iter().copied()).collect();
            let build = || Bvh::build(&self.corners_of(&faces).collect::<Vec<_>>());
            (self.casts.tree(self.casters_key(), build), faces)
        })
    }

    /// Whether anything keeps light from a place that comes from a direction; what a picture leaves out keeps none.
    pub(crate) fn blocks(&self, from: Vector3<f32>, toward: Vector3<f32>, most: f32) -> bool {
        let (tree, faces) = self.tree();
        self.blocked_by((tree, faces), from, toward, most)
    }

    fn blocked_by(&self, (tree, faces): (&Bvh, &[u32]), from: Vector3<f32>, toward: Vector3<f32>, most: f32) -> bool {
        tree.blocks(from, toward, most, |id, u, v| {
            let face = faces[id as usize] as usize;
            let material = self.material(&self.faces[face]);
            let Some(map) = material.clear_map() else { return true };
            let [p, q, r] = self.triangles[face].map(|k| self.uvs[k as usize]);
            let uv = std::array::from_fn(|k| p[k] * (1.0 - u - v) + q[k] * u + r[k] * v);
            map.texture.alpha(map.at(uv), map.wrap) >= 0.5
        })
    }

    /// What is kept off each plane that catches.
    pub(crate) fn shadows(&self, fine: bool) -> &Vec<OnPlane> {
        let kept = &self.kept[usize::from(fine)];
        if let Some(there) = kept.get() {
            return there;
        }
        // Nobody waits for it while it is made: whoever makes it may be given the work of those who would.
        let made = self.catches.iter().map(|plane| self.shadows_on(plane, fine)).collect();
        kept.get_or_init(|| made)
    }

    fn shadows_on(&self, plane: &CatchPlane, fine: bool) -> OnPlane {
        let now = &plane.now;
        let sun = Sun {
            toward: plane.turned(self.light.toward_sun().cast()),
            radius: (0.5 * self.light.sun_width_deg).to_radians() as f32,
        };
        let of_sun = now.shadow > 0.0 && self.light.sun > 0.0;
        let of_lamp = |lamp: &LampNow| now.shadow > 0.0 && lamp.floor_shadow > 0.0;
        let lamp = |lamp: &LampNow| {
            if of_lamp(lamp) { self.of_source(plane, Source::Lamp(lamp, plane.own(lamp.at)), fine) } else { Vec::new() }
        };
        OnPlane {
            sun: if of_sun { self.of_source(plane, Source::Sun(sun), fine) } else { Vec::new() },
            lamps: self.lamps.iter().map(lamp).collect(),
            contact: if now.contact > 0.0 {
                self.of_source(plane, Source::Sky(now.contact_reach_m as f32), fine)
            } else {
                Vec::new()
            },
        }
    }

    fn of_source(&self, plane: &CatchPlane, source: Source, fine: bool) -> Shadows {
        let key = |of: u64| {
            let mut hasher = DefaultHasher::new();
            let bits = |v: Vector3<f32>| <[f32; 3]>::from(v).map(f32::to_bits);
            (fine, of, plane.bits()).hash(&mut hasher);
            match source {
                Source::Sun(sun) => (1u8, sun.radius.to_bits(), bits(sun.toward)).hash(&mut hasher),
                Source::Lamp(lamp, _) => (2u8, lamp.shape_bits()).hash(&mut hasher),
                Source::Sky(within) => (3u8, within.to_bits()).hash(&mut hasher),
            }
            hasher.finish()
        };
        if fine {
            let made = || {
                let (tree, faces) = self.tree();
                self.shadow_of((tree, faces), plane, source, true)
            };
            return vec![self.casts.shadow(key(self.casters_key()), made)];
        }
        let rough = |caster: &Caster| {
            self.casts.shadow(key(caster.seen.finish()), || {
                let tree = Bvh::build(&self.corners_of(&caster.faces).collect::<Vec<_>>());
                self.shadow_of((&tree, &caster.faces), plane, source, false)
            })
        };
        self.casters.iter().filter(|c| !c.faces.is_empty()).map(rough).collect()
    }

    fn shadow_of(
        &self,
        (tree, faces): (&Bvh, &[u32]),
        plane: &CatchPlane,
        source: Source,
        fine: bool,
    ) -> Option<FloorShadow> {
        let corners: Vec<Vector3<f32>> = self.corners_of(faces).flatten().map(|c| plane.own(c)).collect();
        let blocks = |from, toward, most| self.blocked_by((tree, faces), plane.world(from), plane.way(toward), most);
        let place = |k, of, turn, from| match source {
            Source::Lamp(lamp, _) => plane.own(lamp.place(k, of, turn, plane.world(from))),
            Source::Sun(_) | Source::Sky(_) => from,
        };
        Some(FloorShadow::new(blocks, place, source, reach(&corners, source)?, fine))
    }

    /// Whether a face is bent by the normals of its corners.
    pub(crate) fn is_smooth(&self, face: usize) -> bool {
        self.normals[self.triangles[face][0] as usize] != Vector3::zeros()
    }

    pub(crate) fn material(&self, face: &Face) -> &Material {
        &self.materials[face.material as usize]
    }

    pub(crate) fn look(&self, face: &Face) -> &Look {
        &self.looks[face.look as usize]
    }

    /// Where a place lies in a triangle.
    pub(crate) fn between(&self, triangle: usize, at: Vector3<f32>) -> Option<Between> {
        let [a, b, c] = self.triangles[triangle].map(|k| self.corners[k as usize]);
        let (u, v) = (b - a, c - a);
        let (uu, uv, vv) = (u.dot(&u), u.dot(&v), v.dot(&v));
        let whole = uu * vv - uv * uv;
        if whole <= 0.0 {
            return None;
        }
        let slopes = [(u * vv - v * uv) / whole, (v * uu - u * uv) / whole];
        let off = at - a;
        let (s, t) = (slopes[0].dot(&off), slopes[1].dot(&off));
        Some(Between { weights: [1.0 - s - t, s, t], slopes })
    }
}

/// Neighbours with one key are one smooth part of the picture. Never 0, which is the plate's.
fn key(normal: &Vector3<f32>, insert: u32, smooth: bool) -> u32 {
    // A round thing is one part as far as it turns little.
    let steps = if smooth { 3.0 } else { 60.0 };
    let q = normal.map(|v| (v * steps).round() as i32 as u32 & 0x7F);
    1 | insert << 22 | q.x << 15 | q.y << 8 | q.z << 1
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::material::{Cover, Map};
    use crate::{Texture, Wrap};

    /// Fault: corners that lie in the plane were left out, and with them all that is mirrored near the foot of a thing.
    #[test]
    fn what_stands_on_a_mirror_is_mirrored_from_its_foot_on() {
        let corner = |x, y| Vector3::new(x, y, 0.0f32);
        let card = Mesh {
            positions: vec![corner(-1.0, 0.0), corner(1.0, 0.0), corner(1.0, 2.0), corner(-1.0, 2.0)],
            indices: vec![[0, 1, 2], [0, 2, 3]],
            ..Mesh::default()
        };
        let mut scene = PlacedScene::empty(fennik_core::scene::Light::default().at(0.0), &Arc::default());
        scene.add(&card, &[Arc::new(Material::matt([1.0; 3]))], Look::plain(1));
        let mut now = fennik_core::scene::Catcher::new(None).at(0.0);
        now.mirror = 0.5;
        let (low, high) = scene.mirroring(&CatchPlane::floor(now), Vector3::new(0.0, 2.0, 6.0)).unwrap();
        // Its head is seen half way to the foot of the eye, its foot where it stands.
        assert!(low.y < 0.01 && (2.9..3.2).contains(&high.y), "{low} {high}");
        assert!(low.x < -0.99 && high.x > 0.99, "{low} {high}");
    }

    /// Fault: a card whose picture has clear parts kept the sun off as a whole.
    #[test]
    fn what_a_picture_leaves_out_keeps_no_light() {
        let rgba: Vec<u8> = (0..64).flat_map(|i| [200, 200, 200, if i % 8 < 4 { 0 } else { 255 }]).collect();
        let corner = |x, y| Vector3::new(x, y, 0.0f32);
        let card = Mesh {
            positions: vec![corner(-1.0, 0.0), corner(1.0, 0.0), corner(1.0, 2.0), corner(-1.0, 2.0)],
            indices: vec![[0, 1, 2], [0, 2, 3]],
            uvs: vec![[0.0, 1.0], [1.0, 1.0], [1.0, 0.0], [0.0, 0.0]],
            ..Mesh::default()
        };
        let mut map = Map::new(Arc::new(Texture::new(8, 8, &rgba)));
        map.wrap = [Wrap::Clamp; 2];
        let mut scene = PlacedScene::empty(fennik_core::scene::Light::default().at(0.0), &Arc::default());
        let front = Material { base_map: Some(map), cover: Cover::Blend, ..Material::matt([1.0; 3]) };
        scene.add(&card, &[Arc::new(front)], Look::plain(1));
        let hit = |x: f32, y: f32| scene.blocks(Vector3::new(x, y, 1.0), -Vector3::z(), f32::INFINITY);
        assert!(hit(0.5, 0.5) && hit(0.9, 1.8) && !hit(-0.5, 0.5) && !hit(-0.9, 1.8) && !hit(1.5, 1.0));
        let haze = Haze { form: HazeForm::Box, reach: 0.5, soft: 0.0 };
        let at =
            Similarity { scale: 2.0, translation: nalgebra::Vector3::new(5.0, 0.0, 0.0), ..Similarity::identity() };
        let now = HazeNow::new(haze, &card, &at).unwrap();
        // Twice as large, its middle at (5, 2).
        assert_eq!([5.9, 6.1].map(|x| now.share_at(Vector3::new(x, 2.0, 0.0))), [1.0, 0.0]);
    }
}
