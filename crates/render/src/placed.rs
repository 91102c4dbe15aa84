//! The scene at one time.

use crate::Mesh;
use crate::material::Material;
use crate::shadow::{FloorShadow, FloorShadows, reach, shadow_key};
use crate::tree::Bvh;
use fennik_core::scene::{Blend, LightNow};
use nalgebra::{Vector2, Vector3};
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
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Look {
    pub id: u32,
    pub opacity: f32,
    pub blend: Blend,
}

/// What lies at a place of a face, between its corners.
pub(crate) struct Between {
    /// Weights of the corners.
    pub weights: [f32; 3],
    /// How the weights of the second and the third corner grow, per world unit.
    pub slopes: [Vector3<f32>; 2],
}

/// All that is to be drawn at one time, in the world of the datum.
#[derive(Debug)]
pub struct PlacedScene {
    pub(crate) corners: Vec<Vector3<f32>>,
    /// Of each corner; zero where its faces are flat.
    pub(crate) normals: Vec<Vector3<f32>>,
    pub(crate) uvs: Vec<[f32; 2]>,
    pub(crate) triangles: Vec<[u32; 3]>,
    pub(crate) faces: Vec<Face>,
    pub(crate) materials: Vec<Arc<Material>>,
    pub(crate) looks: Vec<Look>,
    pub(crate) light: LightNow,
    /// Built when the first shadow is asked for.
    tree: OnceLock<Bvh>,
    /// The part of the floor on which shadows may fall.
    caught: Option<(Vector2<f32>, Vector2<f32>)>,
    /// A rough and a fine one.
    floor: [OnceLock<Option<Arc<FloorShadow>>>; 2],
    shadows: Arc<FloorShadows>,
}

/// Names the floor among the inserts.
const FLOOR_ID: u32 = u32::MAX;

impl PlacedScene {
    pub(crate) fn empty(light: LightNow, shadows: &Arc<FloorShadows>) -> Self {
        Self {
            corners: Vec::new(),
            normals: Vec::new(),
            uvs: Vec::new(),
            triangles: Vec::new(),
            faces: Vec::new(),
            materials: Vec::new(),
            looks: Vec::new(),
            light,
            tree: OnceLock::new(),
            caught: None,
            floor: Default::default(),
            shadows: shadows.clone(),
        }
    }

    pub(crate) fn add(&mut self, mesh: &Mesh, materials: &[Arc<Material>], look: Look) {
        let base = self.corners.len() as u32;
        let first = self.materials.len() as u32;
        let of = self.looks.len() as u32;
        let faded = look.opacity < 1.0 || look.blend != Blend::Normal;
        let smooth = !mesh.normals.is_empty();
        for (i, corners) in mesh.indices.iter().enumerate() {
            let [a, b, c] = mesh.triangle(i);
            let Some(normal) = (b - a).cross(&(c - a)).try_normalize(1e-20) else { continue };
            let part = mesh.part(i).min(materials.len().saturating_sub(1));
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
        self.materials.extend(materials.iter().cloned());
        self.looks.push(look);
    }

    /// Lays a floor that is not seen itself where shadows may fall on it.
    pub(crate) fn catch_shadows(&mut self) {
        if self.light.floor_shadow <= 0.0 || self.light.sun <= 0.0 {
            return;
        }
        let sun = self.light.toward_sun().cast::<f32>();
        let casters: Vec<Vector3<f32>> = self.casters().flatten().collect();
        self.caught = reach(&casters, sun);
        let Some((low, high)) = self.caught else { return };
        let at = |x: f32, z: f32| Vector3::new(x, 0.0, z);
        let floor = Mesh {
            positions: vec![at(low.x, low.y), at(low.x, high.y), at(high.x, high.y), at(high.x, low.y)],
            indices: vec![[0, 1, 2], [0, 2, 3]],
            ..Mesh::default()
        };
        let catcher = Material { catches: true, casts: false, ..Material::matt([0.0; 3]) };
        self.add(&floor, &[Arc::new(catcher)], Look { id: FLOOR_ID, opacity: 1.0, blend: Blend::Normal });
    }

    /// One mesh in one place.
    #[cfg(test)]
    pub(crate) fn of_mesh(mesh: &Mesh) -> Self {
        let mut scene = Self::empty(fennik_core::scene::Light::default().at(0.0), &Arc::default());
        let look = Look { id: 1, opacity: 1.0, blend: Blend::Normal };
        scene.add(mesh, &[Arc::new(Material::matt([0.5; 3]))], look);
        scene
    }

    fn casters(&self) -> impl Iterator<Item = [Vector3<f32>; 3]> + '_ {
        let casts = |face: &Face| self.materials[face.material as usize].casts;
        let all = self.triangles.iter().zip(&self.faces);
        all.filter(move |(_, face)| casts(face)).map(|(t, _)| t.map(|k| self.corners[k as usize]))
    }

    /// Rays are only asked for shadows.
    pub(crate) fn tree(&self) -> &Bvh {
        self.tree.get_or_init(|| Bvh::build(&self.casters().collect::<Vec<_>>()))
    }

    /// How much of the sun is kept from a place of the floor, 0 to 1.
    pub(crate) fn shadow_on_floor(&self, at: Vector2<f32>, fine: bool) -> f32 {
        let make = || {
            let region = self.caught?;
            let casters: Vec<Vector3<f32>> = self.casters().flatten().collect();
            let sun = self.light.toward_sun().cast::<f32>();
            let key = shadow_key(&casters, sun, fine);
            Some(self.shadows.get(key, || FloorShadow::new(self.tree(), sun, region, fine)))
        };
        self.floor[usize::from(fine)].get_or_init(make).as_ref().map_or(0.0, |s| s.at(at))
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
