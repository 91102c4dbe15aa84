//! What there is to be drawn: instances of shapes, where they are over time, and what they look like.

use crate::assets::{AssetError, Assets, Run, Treatment};
use crate::colour::linear_of;
use crate::material::{Cover, Map, Material, Matte};
use crate::placed::{Look, PlacedScene};
use crate::shadow::FloorShadows;
use crate::shape::{ShapeCache, ShapeError};
use crate::{Mesh, Texture, Wrap};
use fennik_core::scene::{Effect, Facing, Insert, InsertKind, Keyed, Light, Placement, Spread};
use nalgebra::{Rotation3, Vector3};
use std::sync::{Arc, OnceLock};

/// Why a scene cannot be drawn.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[error("{insert}: {cause}")]
pub struct RenderError {
    /// Which insert, by its name.
    pub insert: String,
    /// Why.
    #[source]
    pub cause: ShapeError,
}

/// What an instance shows.
#[derive(Debug)]
enum Shown {
    /// The same all the time.
    Still(Vec<Arc<Material>>),
    /// A clip on the first of these materials.
    Clip { run: Run, treatment: Treatment, materials: Vec<Material> },
}

/// One thing to be drawn.
#[derive(Debug)]
struct Instance {
    insert: Insert,
    mesh: Arc<Mesh>,
    shown: Shown,
}

/// All inserts of a shot with its light, over the whole time.
#[derive(Debug)]
pub struct RenderScene {
    instances: Vec<Instance>,
    light: Light,
    assets: Arc<dyn Assets>,
    /// What is seen where nothing changes over time.
    still: OnceLock<Arc<PlacedScene>>,
    shadows: Arc<FloorShadows>,
}

impl RenderScene {
    /// Takes all inserts that are not hidden; shapes come from the cache where it has them.
    ///
    /// # Errors
    /// [`RenderError`] names the insert that cannot be made.
    pub fn build(
        inserts: &[Insert],
        light: &Light,
        shapes: &ShapeCache,
        assets: &Arc<dyn Assets>,
    ) -> Result<Self, RenderError> {
        let instances = inserts
            .iter()
            .filter(|i| !i.hidden && i.content != InsertKind::Marker)
            .map(|i| instance(i, shapes, assets.as_ref()).map_err(|cause| wrong(i, cause)))
            .collect::<Result<_, _>>()?;
        Ok(Self {
            instances,
            light: light.clone(),
            assets: assets.clone(),
            still: OnceLock::new(),
            shadows: Arc::default(),
        })
    }

    /// Everything in its place at a time, frames, as it stands for a camera whose centre is `eye`.
    ///
    /// # Errors
    /// [`RenderError`] names the insert whose picture of that time cannot be read.
    pub fn at(&self, frame: f64, eye: Vector3<f64>) -> Result<Arc<PlacedScene>, RenderError> {
        if self.light.changes() || self.instances.iter().any(Instance::changes) {
            return Ok(Arc::new(self.placed(frame, eye)?));
        }
        if let Some(still) = self.still.get() {
            return Ok(still.clone());
        }
        let placed = Arc::new(self.placed(0.0, eye)?);
        Ok(self.still.get_or_init(|| placed).clone())
    }

    fn placed(&self, frame: f64, eye: Vector3<f64>) -> Result<PlacedScene, RenderError> {
        let mut scene = PlacedScene::empty(self.light.at(frame), &self.shadows);
        for i in &self.instances {
            let opacity = i.insert.opacity.at(frame) as f32;
            let materials = i.materials(frame, self.assets.as_ref()).map_err(|why| wrong(&i.insert, why.into()))?;
            let Some(materials) = materials.filter(|_| opacity > 0.0) else { continue };
            let mesh = i.mesh_at(frame, eye);
            scene.add(&mesh, &materials, Look { id: i.insert.id.0, opacity, blend: i.insert.blend });
        }
        scene.catch_shadows();
        Ok(scene)
    }

    /// The triangles of one insert in the world of the datum at a time, frames.
    ///
    /// # Errors
    /// [`RenderError`] when it cannot be made.
    pub fn mesh(insert: &Insert, frame: f64, assets: &dyn Assets) -> Result<Mesh, RenderError> {
        let shapes = ShapeCache::default();
        let made = instance(insert, &shapes, assets).map_err(|cause| wrong(insert, cause))?;
        Ok(placed(&made.mesh, &insert.placement, frame, insert.placement.rotation(frame)))
    }
}

fn wrong(insert: &Insert, cause: ShapeError) -> RenderError {
    RenderError { insert: insert.shown_name(), cause }
}

impl Instance {
    fn changes(&self) -> bool {
        self.insert.changes()
            || self.insert.placement.facing != Facing::Stays
            || self.is_far()
            || matches!(self.shown, Shown::Clip { .. })
    }

    /// It goes with the camera.
    fn is_far(&self) -> bool {
        matches!(self.insert.content, InsertKind::Backdrop(_))
    }

    fn mesh_at(&self, frame: f64, eye: Vector3<f64>) -> Mesh {
        let placement = &self.insert.placement;
        if self.is_far() {
            return self.mesh.placed(1.0, &Rotation3::identity(), eye);
        }
        placed(&self.mesh, placement, frame, placement.rotation_toward(frame, eye))
    }

    /// What it looks like at a time; `None` where nothing is shown then.
    fn materials(&self, frame: f64, assets: &dyn Assets) -> Result<Option<Vec<Arc<Material>>>, AssetError> {
        let (run, treatment, materials) = match &self.shown {
            Shown::Still(materials) => return Ok(Some(materials.clone())),
            Shown::Clip { run, treatment, materials } => (run, treatment, materials),
        };
        let (Some(asset), Some(play)) = (self.insert.content.asset(), self.insert.content.play()) else {
            return Ok(None);
        };
        let Some(at) = play.frame_at(frame, run.frames, run.rate) else { return Ok(None) };
        let texture = assets.picture(&asset.name, at, treatment)?;
        let mut materials: Vec<Material> = materials.clone();
        materials[0].base_map = Some(front_map(&self.insert.content, texture));
        Ok(Some(materials.into_iter().map(Arc::new).collect()))
    }
}

fn placed(mesh: &Mesh, placement: &Placement, frame: f64, rotation: Rotation3<f64>) -> Mesh {
    mesh.placed(placement.scale.at(frame), &rotation, placement.origin(frame))
}

fn instance(insert: &Insert, shapes: &ShapeCache, assets: &dyn Assets) -> Result<Instance, ShapeError> {
    insert.validate()?;
    let stance = insert.placement.stance;
    let made = |mesh, shown| Ok(Instance { insert: insert.clone(), mesh, shown });
    if let InsertKind::Prop(prop) = &insert.content {
        let model = assets.model(&prop.asset.name)?;
        let mesh = shapes.model(prop, &model);
        return made(mesh, Shown::Still(model.materials.iter().cloned().map(Arc::new).collect()));
    }
    let mesh = shapes.shape(&insert.content, stance)?;
    let plain = Material::matt(insert.content.base_colour().map(linear_of));
    let Some(asset) = insert.content.asset() else {
        return made(mesh, Shown::Still(vec![Arc::new(plain)]));
    };
    let treatment = match &insert.content {
        InsertKind::Sign(sign) => Treatment { alpha: sign.alpha, ..Treatment::default() },
        InsertKind::Effect(effect) => Treatment { key: effect.key, ..Treatment::default() },
        _ => Treatment::default(),
    };
    let mut front = Material { base: [1.0; 4], cover: Cover::Blend, ..plain.clone() };
    match &insert.content {
        InsertKind::Sign(sign) => front.glows = sign.glows,
        InsertKind::Effect(effect) => (front.glows, front.casts) = (is_light(effect), false),
        InsertKind::Backdrop(far) => {
            (front.glows, front.casts) = (true, false);
            let horizon = far.above_horizon.then_some(far.fade_deg.to_radians() as f32);
            let plate = (far.plate_from > 0.0).then_some((far.plate_from as f32, far.plate_soft as f32));
            if horizon.is_some() || plate.is_some() {
                front.matte = Some(Matte { horizon, plate });
            }
        }
        InsertKind::Title(_) | InsertKind::Prop(_) | InsertKind::Marker => {}
    }
    let edge = Material { two_sided: true, ..plain };
    let run = assets.run(&asset.name)?;
    if run.frames > 1 {
        return made(mesh, Shown::Clip { run, treatment, materials: vec![front, edge] });
    }
    front.base_map = Some(front_map(&insert.content, assets.picture(&asset.name, 0, &treatment)?));
    made(mesh, Shown::Still(vec![Arc::new(front), Arc::new(edge)]))
}

/// A picture as it lies on the front; round a dome it meets itself.
fn front_map(content: &InsertKind, texture: Arc<Texture>) -> Map {
    let mut map = Map::new(texture);
    if matches!(content, InsertKind::Backdrop(far) if far.spread == Spread::Dome) {
        map.wrap[0] = Wrap::Repeat;
    }
    map
}

/// What was shot on black gives light; what has its own alpha is lit by the scene's.
fn is_light(effect: &Effect) -> bool {
    effect.key.by == Keyed::Black
}
