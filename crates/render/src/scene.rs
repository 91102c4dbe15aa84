//! What there is to be drawn: instances of shapes, where they are over time, and what they look like.

use crate::assets::Assets;
use crate::catching::CatchPlane;
use crate::colour::linear_colour;
use crate::dressed::{Dressed, Shown};
use crate::light::{AroundNow, LampNow, Panorama};
use crate::placed::{HazeNow, Look, PlacedScene};
use crate::shape::{ShapeCache, ShapeError};
use crate::{Mesh, Wall};
use fennik_core::camera::Camera;
use fennik_core::geometry::Similarity;
use fennik_core::scene::{
    Catcher, CatcherNow, Copy, Facing, Insert, InsertGrade, InsertKind, Lamp, LensLook, Light, Surface, is_shown,
    parents_of, world_of,
};
use nalgebra::{Rotation3, Vector3};
use std::borrow::Cow;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

/// By how much of its depth an insert counts as nearer than the one before it in the list: what lies in one plane is
/// told apart, what does not stays as it is.
const NUDGE: f32 = 2e-5;
/// Inserts that are told apart so.
const NUDGED: usize = 64;

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

/// One insert to be drawn.
#[derive(Debug)]
struct Instance {
    insert: Insert,
    /// What it hangs on, the nearest first.
    parents: Vec<Insert>,
    /// Position among all inserts.
    rank: usize,
    dressed: Dressed,
}

/// Something that is not seen itself, with what it hangs on.
#[derive(Debug)]
struct Placed {
    insert: Insert,
    parents: Vec<Insert>,
}

/// All inserts of a shot with its light, over the whole time.
#[derive(Debug)]
pub struct RenderScene {
    instances: Vec<Instance>,
    lamps: Vec<Placed>,
    light: Light,
    /// What is all round, as its file has it.
    panorama: Option<Arc<Panorama>>,
    /// Surfaces that may catch.
    surfaces: Vec<Surface>,
    /// The haze is a part of it.
    lens: LensLook,
    shapes: ShapeCache,
    assets: Arc<dyn Assets>,
    /// What does not change over time.
    stands: OnceLock<PlacedScene>,
    /// What is seen where nothing changes over time.
    still: OnceLock<Arc<PlacedScene>>,
    /// What hides what lies behind it.
    walls: Vec<Wall>,
    /// Whether inserts have their own things in front of them.
    held: bool,
    /// Called between two moments of an exposure; may wait.
    pub(crate) between: fn(),
    /// What was placed last.
    latest: Mutex<Option<(Moment, Arc<PlacedScene>)>>,
}

/// Frames, the eye, and whether rough pictures will do.
type Moment = (f64, Vector3<f64>, bool);

impl RenderScene {
    /// Takes all inserts that are to be shown; shapes come from the cache where it has them.
    ///
    /// # Errors
    /// [`RenderError`] names the insert that cannot be made.
    pub fn build(
        inserts: &[Insert],
        light: &Light,
        shapes: &ShapeCache,
        assets: &Arc<dyn Assets>,
    ) -> Result<Self, RenderError> {
        let shown = |i: &Insert| is_shown(inserts, i);
        let seen = inserts.iter().enumerate().filter(|(_, i)| shown(i) && !i.content.is_unseen());
        let lamp = |insert: &Insert| {
            let is_lamp = matches!(insert.content, InsertKind::Lamp(_)) && shown(insert);
            is_lamp.then(|| Placed { insert: insert.clone(), parents: parents_of(inserts, insert).cloned().collect() })
        };
        let around = match light.surroundings.as_ref().filter(|s| !s.hidden) {
            Some(s) => Some(
                assets
                    .surroundings(&s.asset.name)
                    .map_err(|cause| RenderError { insert: s.asset.file.clone(), cause: cause.into() })?,
            ),
            None => None,
        };
        let made = |(rank, insert): (usize, &Insert)| {
            let dressed = Dressed::new(insert, shapes, assets.as_ref()).map_err(|cause| wrong(insert, cause))?;
            let parents = parents_of(inserts, insert).cloned().collect();
            Ok(Instance { insert: insert.clone(), parents, rank, dressed })
        };
        Ok(Self {
            instances: seen.map(made).collect::<Result<_, _>>()?,
            lamps: inserts.iter().filter_map(lamp).collect(),
            light: light.clone(),
            panorama: around,
            surfaces: Vec::new(),
            lens: LensLook::default(),
            shapes: shapes.clone(),
            assets: assets.clone(),
            stands: OnceLock::new(),
            still: OnceLock::new(),
            walls: Vec::new(),
            held: false,
            between: || {},
            latest: Mutex::default(),
        })
    }

    /// The same, drawn so that between two moments of an exposure others may have their turn: `between` is called there,
    /// and waits for as long as they need.
    #[must_use]
    pub fn pausing(self, between: fn()) -> Self {
        Self { between, ..self }
    }

    /// The same, with things in the world that hide what lies behind them and are not seen themselves.
    #[must_use]
    pub fn behind(self, walls: Vec<Wall>) -> Self {
        Self { walls, ..self }
    }

    /// The same, with inserts that have their own things in front of them, as [`crate::Fronts::own`] says of each frame.
    #[must_use]
    pub fn held_apart(self, held: bool) -> Self {
        Self { held, ..self }
    }

    /// Everything in its place at a time, frames, as it stands for a camera whose centre is `eye`. `rough`: smaller frames
    /// of clips will do.
    ///
    /// # Errors
    /// [`RenderError`] names the insert whose picture of that time cannot be read.
    pub fn at(&self, frame: f64, eye: Vector3<f64>, rough: bool) -> Result<Arc<PlacedScene>, RenderError> {
        if self.changes() {
            let latest = || self.latest.lock().unwrap_or_else(PoisonError::into_inner);
            if let Some((_, there)) = latest().as_ref().filter(|(moment, _)| *moment == (frame, eye, rough)) {
                return Ok(there.clone());
            }
            let placed = Arc::new(self.placed(frame, eye, rough)?);
            *latest() = Some(((frame, eye, rough), placed.clone()));
            return Ok(placed);
        }
        if let Some(still) = self.still.get() {
            return Ok(still.clone());
        }
        let placed = Arc::new(self.placed(0.0, eye, rough)?);
        Ok(self.still.get_or_init(|| placed).clone())
    }

    /// The same within an exposure, where what is to be sharp stands as it does at `middle`, frames, moved by a way that
    /// keeps it where the camera saw it then.
    ///
    /// # Errors
    /// As [`RenderScene::at`].
    pub fn within(
        &self,
        frame: f64,
        eye: Vector3<f64>,
        (middle, kept): (f64, Similarity),
    ) -> Result<Arc<PlacedScene>, RenderError> {
        if !self.instances.iter().any(|i| i.insert.unblurred) {
            return self.at(frame, eye, false);
        }
        let mut scene = PlacedScene::empty(self.light.at(frame), self.shapes.casts()).holding(self.held);
        self.hide(|_| true, frame, &mut scene);
        self.place_all(|i| !i.insert.unblurred, (frame, false), eye, &Similarity::identity(), &mut scene)?;
        self.place_all(|i| i.insert.unblurred, (middle, false), eye, &kept, &mut scene)?;
        self.surround(frame, eye, &mut scene);
        Ok(Arc::new(scene))
    }

    /// Places everything for an exact picture that is drawn soon; what is wrong is said when it is.
    pub fn prepare(&self, camera: &Camera) {
        let _ = self.at(f64::from(camera.frame), camera.centre(), false);
    }

    /// The same, with surfaces that catch what the light says of them.
    #[must_use]
    pub fn on_surfaces(self, surfaces: Vec<Surface>) -> Self {
        Self { surfaces, ..self }
    }

    /// The same, in the haze that a lens look has.
    #[must_use]
    pub fn in_haze(self, lens: LensLook) -> Self {
        Self { lens, ..self }
    }

    /// Whether anything looks or stands otherwise at another time, or for another eye.
    fn changes(&self) -> bool {
        let moves = |p: &Placed| p.insert.changes() || p.parents.iter().any(Insert::changes);
        // What is mirrored is seen where the eye says.
        let mirrors = self.light.catchers.iter().any(|c| c.at(0.0).mirror > 0.0 || c.changes());
        self.light.changes()
            || self.lens.changes()
            || mirrors
            || self.walls.iter().any(Wall::changes)
            || self.lamps.iter().any(moves)
            || self.instances.iter().any(Instance::changes)
    }

    fn placed(&self, frame: f64, eye: Vector3<f64>, rough: bool) -> Result<PlacedScene, RenderError> {
        let mut scene = self.stands(eye)?.begun(self.light.at(frame));
        self.hide(Wall::changes, frame, &mut scene);
        self.place_all(Instance::changes, (frame, rough), eye, &Similarity::identity(), &mut scene)?;
        self.surround(frame, eye, &mut scene);
        Ok(scene)
    }

    /// All that is about what stands: lamps, what is all round, haze, and what catches.
    fn surround(&self, frame: f64, eye: Vector3<f64>, scene: &mut PlacedScene) {
        scene.lamps = self.lamps.iter().filter_map(|p| p.lamp(frame)).collect();
        scene.around = self.around_at(frame);
        let air = self.lens.at(frame);
        (scene.haze_colour, scene.haze_per_unit) = (linear_colour(air.haze_colour), air.haze_per_m as f32);
        scene.catch(self.planes(frame), eye.cast());
    }

    /// What is all round at a time, frames.
    fn around_at(&self, frame: f64) -> Option<AroundNow> {
        let (panorama, surroundings) = (self.panorama.as_ref()?, self.light.surroundings.as_ref()?);
        let now = surroundings.at(frame);
        Some(AroundNow::new(panorama.lighting(&now.grade), &now.turn))
    }

    /// The flat parts of the plate that do anything at a time, frames.
    fn planes(&self, frame: f64) -> Vec<CatchPlane> {
        let on_floor = self.light.at(frame).floor_shadow;
        let floor = self.light.catcher(None).map_or_else(|| Catcher::new(None).at(frame), |c| c.at(frame));
        let floor = CatchPlane::floor(CatcherNow { shadow: on_floor, ..floor });
        let surface = |c: &Catcher| {
            let surface = self.surfaces.iter().find(|s| Some(s.id) == c.surface)?;
            Some(CatchPlane::surface(surface, c.at(frame)))
        };
        let others = self.light.catchers.iter().filter_map(surface);
        std::iter::once(floor).chain(others).filter(|p| !p.now.is_plain()).collect()
    }

    /// What does not change over time, without the floor.
    fn stands(&self, eye: Vector3<f64>) -> Result<&PlacedScene, RenderError> {
        if let Some(there) = self.stands.get() {
            return Ok(there);
        }
        let mut scene = PlacedScene::empty(self.light.at(0.0), self.shapes.casts()).holding(self.held);
        self.hide(|w| !w.changes(), 0.0, &mut scene);
        self.place_all(|i| !i.changes(), (0.0, false), eye, &Similarity::identity(), &mut scene)?;
        Ok(self.stands.get_or_init(|| scene))
    }

    fn hide(&self, wanted: impl Fn(&Wall) -> bool, frame: f64, scene: &mut PlacedScene) {
        self.walls.iter().filter(|w| wanted(w)).for_each(|w| scene.hide_behind(&w.mesh, w.hides(frame)));
    }

    fn place_all(
        &self,
        wanted: impl Fn(&Instance) -> bool,
        when: (f64, bool),
        eye: Vector3<f64>,
        kept: &Similarity,
        scene: &mut PlacedScene,
    ) -> Result<(), RenderError> {
        for i in self.instances.iter().filter(|i| wanted(i)) {
            scene.begin_caster();
            self.place(i, when, eye, kept, scene).map_err(|cause| wrong(&i.insert, cause))?;
        }
        Ok(())
    }

    fn place(
        &self,
        i: &Instance,
        (frame, rough): (f64, bool),
        eye: Vector3<f64>,
        kept: &Similarity,
        scene: &mut PlacedScene,
    ) -> Result<(), ShapeError> {
        let copies = copies_of(&i.insert);
        let world = world_of(&i.parents, &i.insert, frame);
        for copy in &copies {
            // One that comes later shows what the insert showed before.
            let then = frame - copy.map_or(0.0, |c| c.frames);
            let insert = i.insert.resolved(then);
            let made;
            let dressed = if matches!(insert, Cow::Owned(_)) {
                made = Dressed::new(&insert, &self.shapes, self.assets.as_ref())?;
                &made
            } else {
                &i.dressed
            };
            let opacity = insert.opacity.at(then) * insert.span.share_at(then);
            let materials = dressed.materials(&insert, then, self.assets.as_ref(), rough)?;
            let Some(materials) = materials.filter(|_| opacity > 0.0) else { continue };
            let Some(shape) = dressed.shape(&insert, then) else { continue };
            let at = stands(&insert, *copy, frame, &world, eye).then(kept);
            let number = copy.map_or(0, |c| c.number);
            let look = Look {
                opacity: opacity as f32,
                blend: insert.blend,
                nudge: NUDGE * (i.rank % NUDGED) as f32,
                behind: matches!(insert.content, InsertKind::Backdrop(_)).then_some(i.rank as u32),
                near_fade: insert.near_fade_m as f32,
                haze: HazeNow::new(insert.haze, &shape, &at),
                insert: insert.id.0,
                held: self.held,
                grade: graded(&insert, then),
                surrounded: insert.surrounded as f32,
                ..Look::plain(insert.id.0 + 37 * number)
            };
            scene.add(&shape.placed(at.scale, &at.rotation, at.translation), &materials, look);
        }
        Ok(())
    }

    /// The triangles of one insert in the world of the datum at a time, frames, without copies; `inserts` are those that
    /// it may hang on.
    ///
    /// # Errors
    /// [`RenderError`] when it cannot be made.
    pub fn mesh(insert: &Insert, inserts: &[Insert], frame: f64, assets: &dyn Assets) -> Result<Mesh, RenderError> {
        let (own, at) = Self::shape(insert, inserts, frame, assets)?;
        Ok(own.placed(at.scale, &at.rotation, at.translation))
    }

    /// The triangles of one insert in its own frame, and how that stands in the world of the datum at a time, frames.
    ///
    /// # Errors
    /// [`RenderError`] when it cannot be made.
    pub fn shape(
        insert: &Insert,
        inserts: &[Insert],
        frame: f64,
        assets: &dyn Assets,
    ) -> Result<(Mesh, Similarity), RenderError> {
        let now = insert.resolved(frame);
        let dressed = Dressed::new(&now, &ShapeCache::default(), assets).map_err(|cause| wrong(insert, cause))?;
        let own = dressed.shape(&now, frame).map_or_else(Mesh::default, Cow::into_owned);
        Ok((own, now.placement.own(frame).then(&world_of(inserts, insert, frame))))
    }

    /// Every insert that is drawn at a time, frames, as triangles in the world of the datum: for finding what lies under
    /// a pixel. Copies are told by their numbers.
    ///
    /// # Errors
    /// [`RenderError`] when one cannot be made.
    pub fn bodies(&self, frame: f64, eye: Vector3<f64>) -> Result<Vec<Body>, RenderError> {
        let mut all = Vec::new();
        for i in &self.instances {
            let cause = |cause| wrong(&i.insert, cause);
            let world = world_of(&i.parents, &i.insert, frame);
            let insert = i.insert.resolved(frame);
            let Some(shape) = i.dressed.shape(&insert, frame) else { continue };
            if i.dressed.materials(&insert, frame, self.assets.as_ref(), true).map_err(|e| cause(e.into()))?.is_none() {
                continue;
            }
            for copy in copies_of(&insert) {
                let at = stands(&insert, copy, frame, &world, eye);
                let mesh = shape.placed(at.scale, &at.rotation, at.translation);
                all.push(Body { insert: insert.id.0, copy: copy.map(|c| c.number), mesh });
            }
        }
        Ok(all)
    }
}

/// What one insert, or one of its copies, takes up.
#[derive(Debug, Clone)]
pub struct Body {
    /// The insert's id.
    pub insert: u32,
    /// Which copy.
    pub copy: Option<u32>,
    /// World of the datum.
    pub mesh: Mesh,
}

/// How an insert or a copy of it stands in the world.
fn stands(insert: &Insert, copy: Option<Copy>, frame: f64, world: &Similarity, eye: Vector3<f64>) -> Similarity {
    if matches!(insert.content, InsertKind::Backdrop(_)) {
        // It goes with the camera.
        return Similarity { scale: 1.0, rotation: Rotation3::identity(), translation: eye };
    }
    let placement = match copy {
        Some(copy) => Cow::Owned(insert.placed_as(&copy)),
        None => Cow::Borrowed(&insert.placement),
    };
    placement.own_toward(frame, world.inverse().point(eye)).then(world)
}

/// What is done to its light at a time, frames.
fn graded(insert: &Insert, frame: f64) -> Option<Arc<InsertGrade>> {
    if insert.grade.is_usual() && insert.drawn.is_none() {
        return None;
    }
    insert.grade_at(frame).map(Arc::new)
}

/// Its copies, or itself alone.
fn copies_of(insert: &Insert) -> Vec<Option<Copy>> {
    insert.copies.as_ref().map_or_else(|| vec![None], |c| c.all().into_iter().map(Some).collect())
}

fn wrong(insert: &Insert, cause: ShapeError) -> RenderError {
    RenderError { insert: insert.shown_name(), cause }
}

impl Placed {
    /// The lamp that it is at a time, frames, where it shines then.
    fn lamp(&self, frame: f64) -> Option<LampNow> {
        let insert = self.insert.resolved(frame);
        let InsertKind::Lamp(lamp) = &insert.content else { return None };
        let seen = insert.opacity.at(frame) * insert.span.share_at(frame);
        let lamp = Lamp { strength: lamp.strength * seen, ..lamp.clone() };
        let own = insert.placement.own(frame).then(&world_of(&self.parents, &insert, frame));
        (lamp.strength > 0.0).then(|| LampNow::new(&lamp, &own))
    }
}

impl Instance {
    fn changes(&self) -> bool {
        self.insert.changes()
            || self.parents.iter().any(Insert::changes)
            || self.insert.placement.facing != Facing::Stays
            || matches!(self.insert.content, InsertKind::Backdrop(_))
            || !matches!(self.dressed.shown, Shown::Still(_))
    }
}
