//! What there is to be drawn: instances of meshes, placed, with their faces.

use crate::Mesh;
use crate::colour::linear_of;
use crate::shape::{ShapeCache, ShapeError};
use crate::tree::Bvh;
use fennik_core::scene::{Insert, Light, LightNow, Placement};
use nalgebra::Vector3;
use std::sync::{Arc, OnceLock};

/// Why a scene cannot be drawn.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[error("insert {insert}: {cause}")]
pub struct RenderError {
    /// Which insert.
    pub insert: u32,
    /// Why.
    #[source]
    pub cause: ShapeError,
}

/// One flat triangle as far as its looks go.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Face {
    pub normal: Vector3<f32>,
    /// `normal` times any point of it.
    pub offset: f32,
    /// Linear light.
    pub colour: Vector3<f32>,
    /// Equal for faces that look alike under one light.
    pub key: u32,
}

/// One thing to be drawn: a shape, where it is over time, and what it looks like.
#[derive(Debug)]
struct Instance {
    id: u32,
    mesh: Arc<Mesh>,
    placement: Placement,
    /// Linear light.
    colour: Vector3<f32>,
}

/// All inserts of a shot with its light, over the whole time.
#[derive(Debug)]
pub struct RenderScene {
    instances: Vec<Instance>,
    light: Light,
    /// What is seen where nothing changes over time.
    still: OnceLock<Arc<PlacedScene>>,
}

impl RenderScene {
    /// Takes all inserts that are not hidden; shapes come from the cache where it has them.
    ///
    /// # Errors
    /// [`RenderError`] names the insert that cannot be made.
    pub fn build(inserts: &[Insert], light: &Light, shapes: &ShapeCache) -> Result<Self, RenderError> {
        let instance = |insert: &Insert| {
            Ok(Instance {
                id: insert.id.0,
                mesh: shape(insert, shapes)?,
                placement: insert.placement.clone(),
                colour: Vector3::from(insert.content.base_colour().map(linear_of)),
            })
        };
        let instances = inserts.iter().filter(|i| !i.hidden).map(instance).collect::<Result<_, _>>()?;
        Ok(Self { instances, light: light.clone(), still: OnceLock::new() })
    }

    /// Everything in its place at a time, frames.
    pub fn at(&self, frame: f64) -> Arc<PlacedScene> {
        if self.light.changes() || self.instances.iter().any(|i| i.placement.moves()) {
            return Arc::new(self.placed(frame));
        }
        self.still.get_or_init(|| Arc::new(self.placed(0.0))).clone()
    }

    fn placed(&self, frame: f64) -> PlacedScene {
        let mut scene = PlacedScene::empty(self.light.at(frame));
        for i in &self.instances {
            scene.add(&placed(&i.mesh, &i.placement, frame), i.colour, i.id);
        }
        scene
    }

    /// The triangles of one insert in the world of the datum at a time, frames.
    ///
    /// # Errors
    /// [`RenderError`] when it cannot be made.
    pub fn mesh(insert: &Insert, frame: f64) -> Result<Mesh, RenderError> {
        Ok(placed(shape(insert, &ShapeCache::default())?.as_ref(), &insert.placement, frame))
    }
}

/// All that is to be drawn at one time, in the world of the datum.
#[derive(Debug)]
pub struct PlacedScene {
    pub(crate) corners: Vec<Vector3<f32>>,
    pub(crate) triangles: Vec<[u32; 3]>,
    pub(crate) faces: Vec<Face>,
    pub(crate) light: LightNow,
    /// Built when the first shadow is asked for.
    tree: OnceLock<Bvh>,
}

impl PlacedScene {
    fn empty(light: LightNow) -> Self {
        Self { corners: Vec::new(), triangles: Vec::new(), faces: Vec::new(), light, tree: OnceLock::new() }
    }

    fn add(&mut self, mesh: &Mesh, colour: Vector3<f32>, insert: u32) {
        let base = self.corners.len() as u32;
        for (i, corners) in mesh.indices.iter().enumerate() {
            let [a, b, c] = mesh.triangle(i);
            let Some(normal) = (b - a).cross(&(c - a)).try_normalize(1e-20) else { continue };
            self.triangles.push(corners.map(|k| k + base));
            self.faces.push(Face { normal, offset: normal.dot(&a), colour, key: key(&normal, insert) });
        }
        self.corners.extend(&mesh.positions);
    }

    /// One mesh in one place.
    #[cfg(test)]
    pub(crate) fn of_mesh(mesh: &Mesh) -> Self {
        let mut scene = Self::empty(Light::default().at(0.0));
        scene.add(mesh, Vector3::repeat(0.5), 1);
        scene
    }

    /// Rays are only asked for shadows.
    pub(crate) fn tree(&self) -> &Bvh {
        self.tree.get_or_init(|| {
            let corners = |t: &[u32; 3]| t.map(|k| self.corners[k as usize]);
            Bvh::build(&self.triangles.iter().map(corners).collect::<Vec<_>>())
        })
    }
}

fn shape(insert: &Insert, shapes: &ShapeCache) -> Result<Arc<Mesh>, RenderError> {
    let wrong = |cause| RenderError { insert: insert.id.0, cause };
    insert.validate().map_err(|why| wrong(why.into()))?;
    shapes.shape(&insert.content, insert.placement.stance).map_err(wrong)
}

fn placed(mesh: &Mesh, placement: &Placement, frame: f64) -> Mesh {
    mesh.placed(placement.scale.at(frame), &placement.rotation(frame), placement.origin(frame))
}

/// Neighbours with one key are one smooth part of the picture. Never 0, which is the plate's.
fn key(normal: &Vector3<f32>, insert: u32) -> u32 {
    let q = normal.map(|v| (v * 60.0).round() as i32 as u32 & 0x7F);
    1 | insert << 22 | q.x << 15 | q.y << 8 | q.z << 1
}
