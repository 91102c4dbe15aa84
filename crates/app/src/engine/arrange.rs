//! What people do with a thing that is placed, beyond typing its values: the page's tools and the steps of recipes.

use super::assets::{AssetInfo, TakenAsset};
use super::kinds::{self, ValueError, Values, set_material};
use super::place::{Pixel, spot};
use super::quantity::{Amount, Measure};
use super::{EngineError, OpenShot};
use fennik_core::camera::CameraPath;
use fennik_core::geometry::Similarity;
use fennik_core::matte::Outline;
use fennik_core::scene::anim::Rotation;
use fennik_core::scene::{
    Asset, AssetName, Covering, Cutout, Fit, Insert, InsertKind, Layout, Placement, PulledCorners, Sign, SpotError,
    Stance, pulled, world_of,
};
use fennik_core::solve::Solution;
use fennik_render::{Assets, RenderScene};
use nalgebra::{Rotation3, Vector2, Vector3};
use serde::{Deserialize, Serialize};

/// A place of an insert's own box.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum BoxPlace {
    /// The middle of its foot.
    Foot,
    /// Its middle.
    Middle,
    /// The middle of its head.
    Head,
    /// A corner, as it is seen from the front.
    LeftFoot,
    /// A corner.
    RightFoot,
    /// A corner.
    LeftHead,
    /// A corner.
    RightHead,
}

/// A side that a measure is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Side {
    /// From foot to head.
    #[default]
    Height,
    /// Across.
    Width,
}

/// A part of letters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LetterPart {
    /// Their front.
    Face,
    /// Round the front.
    Bevel,
    /// All others.
    Side,
}

/// Corners on one frame: lower left, lower right, upper right, upper left as the front is read.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CornersAt {
    /// Of the trimmed clip.
    pub frame: u32,
    /// Full-resolution px.
    pub at: [[f64; 2]; 4],
}

/// A place on the picture: full-resolution px of a frame of the trimmed clip.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Place {
    /// The frame.
    pub frame: u32,
    /// x and y.
    pub pixel: [f64; 2],
}

/// What is done.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", rename_all_fields = "snake_case", tag = "how")]
pub enum Arrange {
    /// It turns and grows about another place of its box from now on; it moves nowhere.
    Pivot {
        /// Which.
        at: BoxPlace,
    },
    /// It stands on the floor, upright, from this frame on: what moves lands there and stays.
    Stand {},
    /// It turns to the camera of this frame.
    Face {},
    /// It stands upright in the world.
    Upright {},
    /// It lies flat on its surface.
    Flat {},
    /// It is as high or as wide as a measure.
    Size {
        /// Of which side.
        #[serde(default)]
        of: Side,
        /// Metres or with its unit.
        is: Amount,
    },
    /// It is as high or as wide as two places are apart.
    Between {
        /// Of which side.
        #[serde(default)]
        of: Side,
        /// One end.
        from: Place,
        /// The other.
        to: Place,
    },
    /// Its four corners are pulled onto places of the picture; a second frame mends the depth.
    Corners {
        /// On one frame or more.
        frames: Vec<CornersAt>,
    },
    /// Its copies lie along a way through places.
    Path {
        /// From the insert on.
        through: Vec<Place>,
    },
    /// A picture on a part of its letters, or none.
    Cover {
        /// Which part.
        part: LetterPart,
        /// The picture.
        #[serde(default)]
        asset: Option<AssetName>,
        /// The clip's own picture instead.
        #[serde(default)]
        plate: bool,
        /// Fitted to what.
        #[serde(default)]
        fit: Fit,
    },
    /// A far picture is seen within a shape on the picture, or outside of it; without one everywhere again.
    Outline {
        /// A mask of the shot whose shape it takes over.
        #[serde(default)]
        mask: Option<String>,
        /// The shape itself.
        #[serde(default)]
        outline: Option<Outline>,
        /// Over how much it fades, px.
        #[serde(default)]
        soft: f64,
        /// Whether it is seen outside.
        #[serde(default)]
        outside: bool,
    },
    /// A font of one's own, or again one that ships.
    Font {
        /// The file.
        #[serde(default)]
        asset: Option<AssetName>,
    },
    /// Values of a material of a model: colour, metal, rough, glow; `plain` forgets them all. Pictures by what they are.
    Material {
        /// What its file calls it.
        name: String,
        /// What is set.
        #[serde(default)]
        values: Values,
        /// Pictures: base, rough, gloss, metal, normal or emission.
        #[serde(default)]
        maps: std::collections::BTreeMap<fennik_core::scene::ModelMap, Option<AssetName>>,
    },
    /// Values are what they were when it was placed: those named, or all.
    PutBack {
        /// Which.
        #[serde(default)]
        values: Vec<String>,
    },
    /// Keys at this frame.
    Key {
        /// Of which value; nothing for place, turn, lift, scale, opacity, and what changes already.
        #[serde(default)]
        value: Option<String>,
    },
    /// The keys at this frame go.
    ForgetKey {
        /// Of which value; all where there is none.
        #[serde(default)]
        value: Option<String>,
    },
    /// All keys go; it stays as it is at this frame.
    ForgetKeys {
        /// Of which value; all where there is none.
        #[serde(default)]
        value: Option<String>,
    },
    /// The keys at this frame go to another.
    MoveKey {
        /// Where to.
        to: f64,
        /// Of which value; all where there is none.
        #[serde(default)]
        value: Option<String>,
    },
    /// The keys at this frame are set once more at another.
    CopyKey {
        /// Where to.
        to: f64,
        /// Of which value; all where there is none.
        #[serde(default)]
        value: Option<String>,
    },
    /// How it goes on from the keys at this frame.
    Ease {
        /// How.
        ease: fennik_core::scene::anim::Ease,
        /// Of which value; all where there is none.
        #[serde(default)]
        value: Option<String>,
    },
}

/// Why something cannot be arranged so.
#[derive(Debug, thiserror::Error)]
pub enum ArrangeError {
    /// It has no front to be pulled.
    #[error("only signs and effects have four corners; {name} has none")]
    NoCorners {
        /// What it is called.
        name: String,
    },
    /// Corners that fit nothing.
    #[error(transparent)]
    Pull(#[from] fennik_core::scene::PullError),
    /// It is near.
    #[error("{name} is no backdrop; only those are cut by a shape")]
    NotFar {
        /// What it is called.
        name: String,
    },
    /// No such mask.
    #[error("there is no mask {mask:?}; {}", if all.is_empty() { "draw one at Track".to_owned() } else { format!("there is: {}", all.join(", ")) })]
    NoMask {
        /// As it was asked for.
        mask: String,
        /// What there is.
        all: Vec<String>,
    },
    /// It has no letters.
    #[error("{name} has no letters")]
    NoLetters {
        /// What it is called.
        name: String,
    },
    /// It has no materials.
    #[error("{name} has no material {material:?}; it has: {}", all.join(", "))]
    NoMaterial {
        /// What it is called.
        name: String,
        /// What was asked for.
        material: String,
        /// What there is.
        all: Vec<String>,
    },
    /// A file of another kind.
    #[error("“{file}” is a {is}; a {wanted} is needed here")]
    OtherKind {
        /// The file.
        file: String,
        /// What it is.
        is: String,
        /// What is needed.
        wanted: &'static str,
    },
    /// Nothing is known of how it began.
    #[error("{name} was placed by an earlier version, which did not keep what it began with; type the value instead")]
    NoBeginning {
        /// What it is called.
        name: String,
    },
    /// A box of no size.
    #[error("{name} has no size that could be measured")]
    NoSize {
        /// What it is called.
        name: String,
    },
    /// Copies that lie on no path.
    #[error("{name} has no copies on a path; set its copies to path first")]
    NoPath {
        /// What it is called.
        name: String,
    },
}

/// What is needed to arrange a thing.
pub struct Arranging<'a> {
    /// The shot.
    pub shot: &'a OpenShot,
    /// Its camera.
    pub solution: &'a Solution,
    /// The frame on which it is done.
    pub frame: u32,
    /// Finds a file.
    pub file: &'a dyn Fn(&AssetName) -> Result<TakenAsset, EngineError>,
    /// Gives files to whoever draws.
    pub assets: &'a dyn Assets,
}

/// What came of it: the thing, and a reading where there is one.
pub struct Arranged {
    /// As it is now.
    pub insert: Insert,
    /// In a line.
    pub reading: Option<String>,
}

impl Arranging<'_> {
    fn at(&self) -> f64 {
        f64::from(self.frame)
    }

    fn world(&self, insert: &Insert) -> Similarity {
        world_of(&self.shot.document().placing.inserts, insert, self.at())
    }

    /// Does it.
    ///
    /// # Errors
    /// [`EngineError`] says why it cannot be done.
    pub fn arrange(&self, mut insert: Insert, how: &Arrange) -> Result<Arranged, EngineError> {
        let mut reading = None;
        let (frame, name) = (self.at(), insert.shown_name());
        match how {
            Arrange::Pivot { at } => {
                let pivot = self.own_place(&insert, *at)?;
                insert.placement.set_pivot(frame, pivot.into());
            }
            Arrange::Stand {} => self.stand(&mut insert)?,
            Arrange::Face {} => self.face(&mut insert)?,
            Arrange::Upright {} => {
                let heading = insert.placement.rotation(frame) * Vector3::z();
                self.in_world(&mut insert, |p| stand_up(p, frame, heading));
            }
            Arrange::Flat {} => {
                insert.placement.stance = Stance::Lying;
                let [turn, ..] = insert.placement.anchor.turn.at(frame).turn_lean_roll();
                insert.placement.anchor.turn.set_at(frame, Rotation::from_turn_lean_roll([turn, 0.0, 0.0]));
            }
            Arrange::Size { of, is } => self.resize(&mut insert, *of, is.value(Measure::Length)?)?,
            Arrange::Between { of, from, to } => {
                let apart = (self.spot(from)? - self.spot(to)?).norm();
                self.resize(&mut insert, *of, apart)?;
                reading = Some(format!("{apart:.3} m"));
            }
            Arrange::Corners { frames } => {
                let misses = self.pull(&mut insert, frames)?;
                let depth = if frames.len() > 1 { "" } else { "; pull them on a second frame to mend the depth" };
                reading = Some(format!("misses by {misses:.2} px{depth}"));
            }
            Arrange::Path { through } => {
                let own = self.own_surface(&insert);
                let corners = through.iter().map(|p| Ok(own.point(self.spot(p)?).into()));
                let found: Vec<[f64; 3]> = corners.collect::<Result<_, EngineError>>()?;
                match insert.copies.as_mut().map(|c| &mut c.layout) {
                    Some(Layout::Path { corners, .. }) => *corners = found,
                    _ => return Err(ArrangeError::NoPath { name }.into()),
                }
            }
            Arrange::Cover { part, asset, plate, fit } => {
                let asset = asset.as_ref().map(|a| self.picture(a)).transpose()?;
                let covering = (asset.is_some() || *plate).then_some(Covering { asset, fit: *fit });
                let letters = &mut lettered(&mut insert)?.lettering;
                *match part {
                    LetterPart::Face => &mut letters.face,
                    LetterPart::Bevel => &mut letters.bevel,
                    LetterPart::Side => &mut letters.side,
                } = covering;
            }
            Arrange::Outline { mask, outline, soft, outside } => {
                let outline = match mask {
                    Some(mask) => Some(self.outline_of(mask)?),
                    None => outline.clone(),
                };
                let InsertKind::Backdrop(far) = &mut insert.content else {
                    return Err(ArrangeError::NotFar { name }.into());
                };
                let width_px = f64::from(self.solution.width);
                let (soft_px, inverted) = (*soft, *outside);
                far.cutout = outline.map(|outline| Cutout { outline, width_px, soft_px, inverted });
            }
            Arrange::Font { asset } => {
                let font = asset.as_ref().map(|a| self.of_kind(a, "font")).transpose()?;
                lettered(&mut insert)?.lettering.font_file = font;
            }
            Arrange::Material { name, values, maps } => self.material(&mut insert, name, values, maps)?,
            Arrange::PutBack { values } => put_back(&mut insert, values, frame)?,
            Arrange::Key { value: None } => insert.key_at(frame),
            Arrange::Key { value: Some(value) } => {
                let now = kinds::values(&insert, frame).remove(value);
                kinds::set_keyed(&mut insert, frame, value, &now.unwrap_or_default(), None)?;
            }
            Arrange::ForgetKey { value } => insert.each_track(track(value), |t| t.forget_key(frame)),
            Arrange::ForgetKeys { value } => insert.each_track(track(value), |t| t.forget_keys(frame)),
            Arrange::MoveKey { to, value } => insert.each_track(track(value), |t| t.move_key(frame, *to)),
            Arrange::CopyKey { to, value } => insert.each_track(track(value), |t| t.copy_key(frame, *to)),
            Arrange::Ease { ease, value } => insert.each_track(track(value), |t| t.ease_at(frame, *ease)),
        }
        insert.validate()?;
        Ok(Arranged { insert, reading })
    }

    fn spot(&self, at: &Place) -> Result<Vector3<f64>, EngineError> {
        let pixel = Pixel { frame: at.frame, at: at.pixel };
        Ok(spot(self.solution, self.shot.document(), pixel)?.point)
    }

    /// A place of its box, in its own frame, metres as it was made.
    fn own_place(&self, insert: &Insert, at: BoxPlace) -> Result<Vector3<f64>, EngineError> {
        let (low, high) = self.own_box(insert)?;
        let middle = 0.5 * (low + high);
        Ok(match at {
            // Where it stood when it was made.
            BoxPlace::Foot => Vector3::zeros(),
            BoxPlace::Middle => middle,
            BoxPlace::Head => Vector3::new(middle.x, high.y, middle.z),
            BoxPlace::LeftFoot => Vector3::new(low.x, low.y, middle.z),
            BoxPlace::RightFoot => Vector3::new(high.x, low.y, middle.z),
            BoxPlace::LeftHead => Vector3::new(low.x, high.y, middle.z),
            BoxPlace::RightHead => Vector3::new(high.x, high.y, middle.z),
        })
    }

    fn own_box(&self, insert: &Insert) -> Result<(Vector3<f64>, Vector3<f64>), EngineError> {
        let (mesh, _) = RenderScene::shape(insert, &[], self.at(), self.assets)?;
        let name = insert.shown_name();
        let (low, high) = mesh.bounds().ok_or(ArrangeError::NoSize { name })?;
        Ok((low.cast(), high.cast()))
    }

    /// Changes where it stands as seen from the world.
    fn in_world(&self, insert: &mut Insert, change: impl FnOnce(&mut Placement)) {
        let world = self.world(insert);
        insert.placement.move_with(&world);
        change(&mut insert.placement);
        insert.placement.move_with(&world.inverse());
    }

    /// From the world to the frame in which its copies are laid out: along its baseline, its normal, towards the reader.
    fn own_surface(&self, insert: &Insert) -> Similarity {
        let (p, frame) = (&insert.placement, self.at());
        let [turn, ..] = p.anchor.turn.at(frame).turn_lean_roll();
        let level = Rotation::from_turn_lean_roll([turn, 0.0, 0.0]).matrix();
        let rotation: Rotation3<f64> = p.anchor.surface() * level;
        let own = Similarity { scale: 1.0, rotation, translation: p.origin(frame) };
        own.then(&self.world(insert)).inverse()
    }

    fn stand(&self, insert: &mut Insert) -> Result<(), EngineError> {
        let frame = self.at();
        let heading = insert.placement.rotation(frame) * Vector3::z();
        // What comes after would lift it off again.
        insert.each_track(None, |track| {
            let later: Vec<f64> = track.key_frames().into_iter().filter(|f| *f > frame).collect();
            later.into_iter().for_each(|f| track.forget_key(f));
        });
        let moves = insert.placement.moves();
        self.in_world(insert, |p| {
            if moves {
                p.anchor.foot.key_at(frame);
                p.anchor.turn.key_at(frame);
            }
            stand_up(p, frame, heading);
            let [x, _, z] = p.anchor.foot.at(frame);
            p.anchor.foot.set_at(frame, [x, 0.0, z]);
            p.anchor.lift_m.set_at(frame, 0.0);
        });
        Ok(())
    }

    fn face(&self, insert: &mut Insert) -> Result<(), EngineError> {
        let path = CameraPath::new(self.solution, &self.shot.document().datum.world_from_solve);
        let camera = path.at(self.frame).ok_or(SpotError::NoCamera { frame: self.frame })?;
        let eye = self.world(insert).inverse().point(camera.centre());
        let p = &mut insert.placement;
        let facing = std::mem::replace(&mut p.facing, fennik_core::scene::Facing::Upright);
        let wanted = p.rotation_toward(self.at(), eye);
        p.facing = facing;
        p.turn_to(self.at(), &wanted);
        Ok(())
    }

    fn resize(&self, insert: &mut Insert, of: Side, is_m: f64) -> Result<(), EngineError> {
        let (low, high) = self.own_box(insert)?;
        let side = match of {
            Side::Height => high.y - low.y,
            Side::Width => high.x - low.x,
        };
        let now = side * insert.placement.scale.at(self.at()) * self.world(insert).scale;
        if !(now > 1e-9) {
            return Err(ArrangeError::NoSize { name: insert.shown_name() }.into());
        }
        let scale = insert.placement.scale.at(self.at()) * is_m / now;
        insert.placement.scale.set_at(self.at(), scale);
        Ok(())
    }

    /// Pulls the corners of a card; tells by how many px it misses them.
    fn pull(&self, insert: &mut Insert, frames: &[CornersAt]) -> Result<f64, EngineError> {
        let frame = self.at();
        let path = CameraPath::new(self.solution, &self.shot.document().datum.world_from_solve);
        let world = self.world(insert);
        let scale = insert.placement.scale.at(frame);
        let corners: Vec<PulledCorners> = frames
            .iter()
            .map(|f| {
                let camera = path.at(f.frame).ok_or(SpotError::NoCamera { frame: f.frame })?;
                Ok(PulledCorners { camera, at: f.at.map(Vector2::from) })
            })
            .collect::<Result<_, EngineError>>()?;
        let (low, high) = self.own_box(insert)?;
        let middle = insert.placement.own(frame).then(&world).point(0.5 * (low + high));
        let eye = corners.first().map_or_else(Vector3::zeros, |c| c.camera.centre());
        let card = pulled(&corners, (middle - eye).norm()).map_err(ArrangeError::Pull)?;
        // In the frame of what it hangs on.
        let back = world.inverse();
        let [width, height] = card.size.map(|v| v * back.scale / scale);
        let rotation = back.rotation * card.rotation;
        let name = insert.shown_name();
        match &mut insert.content {
            InsertKind::Sign(sign) => fit_sign(sign, width, height),
            InsertKind::Effect(effect) => (effect.height_m, effect.aspect) = (height, width / height),
            _ => return Err(ArrangeError::NoCorners { name }.into()),
        }
        insert.placement.facing = fennik_core::scene::Facing::Stays;
        insert.placement.turn_to(frame, &rotation);
        // Its new box, where it now stands, is moved onto the card.
        let (low, high) = self.own_box(insert)?;
        let own =
            insert.placement.own(frame).point(Vector3::new(0.5 * (low.x + high.x), 0.5 * (low.y + high.y), high.z));
        let by = back.point(card.middle) - own;
        let foot = Vector3::from(insert.placement.anchor.foot.at(frame)) + by;
        insert.placement.anchor.foot.set_at(frame, foot.into());
        Ok(card.misses_px)
    }

    fn of_kind(&self, name: &AssetName, wanted: &'static str) -> Result<Asset, EngineError> {
        let taken = (self.file)(name)?;
        if taken.kind != wanted && !(wanted == "picture" && taken.kind == "clip") {
            let (file, is) = (taken.asset.file, taken.kind);
            return Err(ArrangeError::OtherKind { file, is, wanted }.into());
        }
        Ok(taken.asset)
    }

    fn picture(&self, name: &AssetName) -> Result<Asset, EngineError> {
        self.of_kind(name, "picture")
    }

    /// The shape of a mask of the shot.
    fn outline_of(&self, mask: &str) -> Result<Outline, EngineError> {
        let masks = &self.shot.document().masking.masks.masks;
        let found = masks.iter().find(|m| m.name == mask).map(|m| m.outline.clone());
        let all = || masks.iter().map(|m| m.name.clone()).collect();
        Ok(found.ok_or_else(|| ArrangeError::NoMask { mask: mask.to_owned(), all: all() })?)
    }

    fn material(
        &self,
        insert: &mut Insert,
        material: &str,
        values: &Values,
        maps: &std::collections::BTreeMap<fennik_core::scene::ModelMap, Option<AssetName>>,
    ) -> Result<(), EngineError> {
        let name = insert.shown_name();
        let unknown = |all| ArrangeError::NoMaterial { name: name.clone(), material: material.to_owned(), all };
        let InsertKind::Prop(prop) = &mut insert.content else { return Err(unknown(Vec::new()).into()) };
        let taken = (self.file)(&prop.asset.name)?;
        let mut all = match taken.info {
            AssetInfo::Model { materials, .. } => materials,
            _ => Vec::new(),
        };
        if all.is_empty() {
            // Files that an earlier version took in.
            all = self.assets.model(&prop.asset.name).map(|m| m.names.clone()).unwrap_or_default();
        }
        if !all.iter().any(|m| m == material) {
            return Err(unknown(all).into());
        }
        let mut change = prop.materials.remove(material).unwrap_or_default();
        for (what, value) in values {
            set_material(&mut change, what, value).map_err(|why| why.of(what))?;
        }
        for (map, asset) in maps {
            match asset {
                Some(asset) => drop(change.maps.insert(*map, self.picture(asset)?)),
                None => drop(change.maps.remove(map)),
            }
        }
        if change != Default::default() {
            prop.materials.insert(material.to_owned(), change);
        }
        Ok(())
    }
}

fn track(value: &Option<String>) -> Option<&str> {
    value.as_deref().map(kinds::track_of)
}

/// Upright in the world, looking where it looked as far as that is level.
fn stand_up(p: &mut Placement, frame: f64, heading: Vector3<f64>) {
    p.anchor.normal = [0.0, 1.0, 0.0];
    p.stance = Stance::Standing;
    let turn = heading.x.atan2(heading.z).to_degrees();
    p.anchor.turn.set_at(frame, Rotation::from_turn_lean_roll([turn, 0.0, 0.0]));
}

fn fit_sign(sign: &mut Sign, width: f64, height: f64) {
    let [left, top, right, bottom] = sign.crop;
    sign.height_m = height;
    sign.aspect = width / height * (1.0 - top - bottom) / (1.0 - left - right);
}

fn lettered(insert: &mut Insert) -> Result<&mut fennik_core::scene::Title, EngineError> {
    let name = insert.shown_name();
    match &mut insert.content {
        InsertKind::Title(title) => Ok(title),
        _ => Err(ArrangeError::NoLetters { name }.into()),
    }
}

fn put_back(insert: &mut Insert, wanted: &[String], frame: f64) -> Result<(), EngineError> {
    let began = insert.began.as_deref().ok_or_else(|| ArrangeError::NoBeginning { name: insert.shown_name() })?;
    let values = kinds::values(began, frame);
    let all: Vec<String> = if wanted.is_empty() { values.keys().cloned().collect() } else { wanted.to_vec() };
    for name in all {
        let Some(value) = values.get(&name).cloned() else {
            return Err(ValueError::NotKeyed { name }.into());
        };
        insert.each_track(Some(kinds::track_of(&name)), |t| t.forget_keys(frame));
        kinds::set(insert, frame, &name, &value).map_err(|why| why.of(&name))?;
    }
    Ok(())
}
