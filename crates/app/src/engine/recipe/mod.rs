//! A shot written down as steps (docs/formats.md): its words, read strictly.

mod run;
pub mod show;
pub mod write;

pub use run::{Cook, CookError, StepError};

pub use super::arrange::Place;
use super::light::Shadow;

use super::arrange::Arrange;
use super::kinds::Values;
use super::laying::{Axis, Part};
use super::quantity::Amount;
use fennik_core::colour::{Primaries, Transfer};
use fennik_core::image::Channel;
use fennik_core::matte::{MaskMode, OutlineKey};
use fennik_core::scene::anim::Ease;
use fennik_core::scene::{AssetName, Follow, LineRole, Stance};
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// What a recipe's first lines say.
pub const FORMAT: &str = "fennik-recipe";
/// The version that is written, and the latest that is read.
pub const VERSION: u32 = 3;
/// From this version on a model's foot is what touches the ground, where nothing else is said.
const GROUND_FROM: u32 = 2;
/// From this version on a title lies against a wall, where nothing else is said; before, it stood out from it.
const AGAINST_FROM: u32 = 3;
/// Steps that one recipe may have.
const MOST_STEPS: usize = 10_000;

fn is_none(px: &f64) -> bool {
    *px == 0.0
}

/// A part of the picture.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Region {
    /// The frame on which it is drawn.
    pub frame: u32,
    /// Its corners, px.
    pub outline: Vec<[f64; 2]>,
}

/// One of something, or a list.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(untagged)]
pub enum OneOrMore<T> {
    /// One.
    One(T),
    /// Several.
    More(Vec<T>),
}

// By hand, so that what is wrong is told of the one that was meant.
impl<'de, T: serde::de::DeserializeOwned> Deserialize<'de> for OneOrMore<T> {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let value = Value::deserialize(from)?;
        let read = match value {
            Value::Array(_) => serde_json::from_value(value).map(Self::More),
            one => serde_json::from_value(one).map(Self::One),
        };
        read.map_err(serde::de::Error::custom)
    }
}

impl<T> OneOrMore<T> {
    /// Something of each.
    pub fn each<U>(&self, of: impl FnMut(&T) -> U) -> Vec<U> {
        match self {
            Self::One(one) => std::iter::once(one).map(of).collect(),
            Self::More(all) => all.iter().map(of).collect(),
        }
    }
}

/// How the camera moves, in the words of a recipe.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Move {
    /// Decided from the tracks.
    Found,
    /// It travels.
    Travels,
    /// It travels, and the scene is near-planar.
    Flat,
    /// It turns on the spot.
    Turns,
}

/// What the lens does, in the words of a recipe.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LensKind {
    /// Decided from the tracks.
    Found,
    /// One focal length.
    Fixed,
    /// It zooms.
    Zoom,
}

/// What can be written to a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ExportFormat {
    /// The camera file.
    CameraJson,
    /// glTF 2.0 binary.
    Gltf,
}

/// One step.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "do", rename_all = "kebab-case", rename_all_fields = "snake_case", deny_unknown_fields)]
pub enum Step {
    /// Takes in a clip and makes the shot that the next steps work on.
    TakeIn {
        /// A video, a zip or a folder, from the recipe's folder.
        clip: String,
        /// The shot's name; the file's where there is none.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        name: Option<String>,
    },
    /// Uses a part of the clip.
    Trim {
        /// First frame of the file.
        first: u32,
        /// Last frame of the file.
        last: u32,
    },
    /// Says what the code values of the plate mean; what is left out is as the file says.
    PlateColour {
        /// The transfer function.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        transfer: Option<Transfer>,
        /// The primaries.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        primaries: Option<Primaries>,
        /// A `.cube` file beside the recipe that makes display values of them, as comes with footage in log.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        file: Option<String>,
        /// Or one that was taken in before, by its content.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        asset: Option<AssetName>,
    },
    /// Draws a mask of the analysis.
    Mask {
        /// Its name; one of this name is replaced.
        name: String,
        /// Which side is used.
        mode: MaskMode,
        /// Outlines at frames.
        keys: Vec<OutlineKey>,
        /// Whether each corner is smooth.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        smooth: Vec<bool>,
        /// Frames whose keys were set by hand: what follows the picture goes from one to the next and leaves them.
        #[serde(default, skip_serializing_if = "Vec::is_empty", rename = "by-hand")]
        by_hand: Vec<u32>,
        /// Whether inside and outside change places.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        inverted: bool,
        /// Frames on which it counts.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        span: Option<(u32, u32)>,
        /// Over how many px its edge fades.
        #[serde(default, skip_serializing_if = "is_none")]
        feather: f64,
        /// How much more at each corner.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        feathers: Vec<f64>,
    },
    /// Holds out what stands in front: told by a mask, a surface, a key on the plate, or a picture or clip. One of this
    /// name is replaced.
    HoldOut {
        /// Its name.
        name: String,
        /// A mask's name.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        mask: Option<String>,
        /// Or a surface's: it hides what lies behind it.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        surface: Option<String>,
        /// Or what of the plate is in front: `brighter`, `darker`, `colour` or `difference`.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        key: Option<String>,
        /// Or a picture or clip beside the recipe.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        file: Option<String>,
        /// Or one that was taken in before, by its content.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        asset: Option<AssetName>,
        /// What it stands in front of; everything where this is left out.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        of: Vec<String>,
        /// Frames on which it counts.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        span: Option<(u32, u32)>,
        /// Its values.
        #[serde(default, skip_serializing_if = "Values::is_empty")]
        values: Values,
    },
    /// Has a mask follow what it was drawn round, both ways from a frame.
    FollowMask {
        /// Which.
        mask: String,
        /// Frame of the trimmed clip on which it is right.
        frame: u32,
    },
    /// Has a mask go with the camera, as what stands still at its foot, both ways from a frame.
    StandMask {
        /// Which.
        mask: String,
        /// Frame of the trimmed clip on which it is right.
        frame: u32,
    },
    /// Puts a picture all round, which lights and is mirrored, or none.
    Surroundings {
        /// A file beside the recipe: HDR, EXR, JPEG, PNG.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        file: Option<String>,
        /// Or one that was taken in before, by its content.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        asset: Option<AssetName>,
        /// Or an item of the library, by its name.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        library: Option<String>,
    },
    /// Puts a table of colours over all, or none.
    Table {
        /// A `.cube` file beside the recipe.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        file: Option<String>,
        /// Or one that was taken in before, by its content.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        asset: Option<AssetName>,
    },
    /// Measures grain and sharpness of the plate, for what is placed to have them as well.
    MeasurePlate {},
    /// Draws the colours of a thing towards the plate about it.
    Draw {
        /// Which.
        thing: String,
        /// Whether it follows what the plate becomes over the shot.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        follows: bool,
    },
    /// Keeps the finish, or the grade of a thing, as a look.
    KeepLook {
        /// What the look is called; one of this name is replaced.
        name: String,
        /// Of which thing; of the finish where this is left out.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        thing: Option<String>,
    },
    /// Uses a look on the finish, or on a thing.
    UseLook {
        /// Which.
        name: String,
        /// On which thing; on the finish where this is left out.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        thing: Option<String>,
    },
    /// Writes what stands in front as stills of the matte into a folder.
    Matte {
        /// Where to, from the recipe's folder.
        out: String,
        /// First and last frame.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        frames: Option<[u32; 2]>,
    },
    /// Tracks; settings left out stay as they are.
    Track {
        /// Points aimed at on a frame.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        density: Option<f64>,
        /// Least distance between two, px of a picture 1280 wide.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        spacing: Option<f64>,
        /// How weak a corner may be, 0 to 1.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        threshold: Option<f64>,
        /// Whether the clip is run through backwards as well.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        there_and_back: Option<bool>,
        /// What the tracker sees: the channel.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        channel: Option<Channel>,
        /// What the tracker sees: radius of the denoising, px.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        denoise: Option<f64>,
        /// What the tracker sees: local contrast, 0 to 1.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        local_contrast: Option<f64>,
        /// What the tracker sees: sharpening, 0 to 3.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        sharpen: Option<f64>,
    },
    /// Solves the camera; settings left out stay as they are.
    Solve {
        /// How it moves.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        motion: Option<Move>,
        /// What the lens does.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        lens: Option<LensKind>,
        /// The focal length with its unit, or `found`.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        focal: Option<String>,
        /// The readout of a rolling shutter: a part of the frame time, `none` or `found`.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        readout: Option<String>,
        /// The principal point: px, `middle` or `found`.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        centre: Option<String>,
    },
    /// Solves on from the camera in use.
    SolveOn {},
    /// Takes the datum that is proposed, with its surfaces.
    ProposeDatum {
        /// Another floor than the likeliest, from 0.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        floor: Option<usize>,
    },
    /// What becomes of what is placed in the steps that follow: it stays on the picture, or goes with the numbers.
    Follow {
        /// Which.
        placed: Follow,
    },
    /// Makes the world so many times as large.
    ScaleBy {
        /// How many.
        factor: f64,
    },
    /// Makes an axis of the world point up.
    UpAxis {
        /// Which.
        axis: Axis,
    },
    /// Puts a part of the datum back.
    Reset {
        /// Which.
        part: Part,
    },
    /// Makes a place, or the middle of several, the origin.
    Origin {
        /// Where.
        at: OneOrMore<Place>,
    },
    /// Lays a surface through the points of a region.
    Surface {
        /// Its name; the next free one where it is left out.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        name: Option<String>,
        /// Where.
        region: Region,
    },
    /// Lays a surface whose corners are those of a region, on the plane of the points in it.
    Corners {
        /// Its name; the next free one where it is left out.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        name: Option<String>,
        /// Where.
        region: Region,
    },
    /// Lays the floor through the points of a region.
    Floor {
        /// Where.
        region: Region,
    },
    /// Turns the world about its upright so that it looks from one place to another (along -Z).
    Heading {
        /// From here.
        from: Place,
        /// To there.
        to: Place,
    },
    /// Puts the sun where a shadow on the plate says that it stands: drawn from the foot of an upright thing to the tip of
    /// its shadow on the floor, and with its top for the height.
    Sun(Shadow),
    /// Turns a surface at right angles to another, or to the `floor`.
    Square {
        /// Which.
        surface: String,
        /// To what.
        to: String,
    },
    /// Turns a surface about the edge that it shares with another, or with the `floor`.
    Hinge {
        /// Which.
        surface: String,
        /// About its edge with what.
        to: String,
        /// The angle between the two, degrees or with its unit.
        angle: Amount,
    },
    /// Sets the scale.
    Scale {
        /// One end.
        from: Place,
        /// The other.
        to: Place,
        /// Their distance, metres or with its unit.
        distance: Amount,
        /// Whether distances measured before count as well.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        more: bool,
    },
    /// Sets the scale, or for a camera that only turns the floor, by the camera's height over it.
    CameraHeight {
        /// Metres or with its unit.
        height: Amount,
    },
    /// Draws a line along an upright, a level edge or the horizon.
    Line {
        /// Along what.
        along: LineRole,
        /// Frame of the trimmed clip.
        frame: u32,
        /// One end, full-resolution px.
        from: [f64; 2],
        /// The other.
        to: [f64; 2],
        /// Whether it is moved onto the edge of the picture that it runs along, where there is one.
        #[serde(default)]
        to_edge: bool,
    },
    /// Turns the world upright by the lines along uprights and the horizon.
    Upright {},
    /// Turns the world by the lines along level edges.
    HeadingByLines {},
    /// Turns about X, Y, Z and then shifts.
    Nudge {
        /// Degrees.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        turn: Option<[f64; 3]>,
        /// Metres.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        shift: Option<[f64; 3]>,
    },
    /// Turns the world upside down.
    Flip {},
    /// Places something.
    Place {
        /// `title`, `sign`, `prop`, `effect`, `backdrop` or `marker`.
        kind: String,
        /// Its name.
        name: String,
        /// What a title says.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        text: Option<String>,
        /// The file that it shows, beside the recipe.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        file: Option<String>,
        /// Or one that was taken in before, by its content.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        asset: Option<AssetName>,
        /// Or an item of the library, by its name.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        library: Option<String>,
        /// Where.
        at: Place,
        /// In the air, so far from the camera, metres or with its unit.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        depth: Option<Amount>,
        /// Standing or lying.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        stance: Option<Stance>,
        /// The surface: `floor`, a surface's name, `far`, or what lies under the place where this is left out.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        on: Option<String>,
    },
    /// Shows another file and keeps everything else.
    Swap {
        /// What.
        thing: String,
        /// The file, beside the recipe.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        file: Option<String>,
        /// Or one that was taken in before, by its content.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        asset: Option<AssetName>,
    },
    /// Changes values of a thing, a surface or a holdout (by its name), of the `light`, the `floor`, the `surroundings`,
    /// the `lens` or the `finish`.
    Set {
        /// Which.
        thing: String,
        /// What.
        values: Values,
        /// A key at this frame instead.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        frame: Option<u32>,
        /// How it goes on from that key: `smooth`, `linear` or `hold`.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        ease: Option<Ease>,
    },
    /// Does something with a thing beyond setting its values, on a frame: pivot, stand, face, upright, flat, size,
    /// between, corners, path, cover, font, material, put-back, and what is done with keys.
    Arrange {
        /// Which.
        thing: String,
        /// On which frame; the first where it is left out.
        #[serde(default)]
        frame: u32,
        /// What.
        does: Arrange,
    },
    /// Dresses letters or a model in a material of the library.
    Dress {
        /// Which.
        thing: String,
        /// The material's name in the library.
        with: String,
        /// One of the model's materials; all where it is left out.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        material: Option<String>,
    },
    /// Hangs a thing on another, or on nothing; it stays where it is.
    Hang {
        /// Which.
        thing: String,
        /// On what.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        on: Option<String>,
        /// When it stays where it is.
        #[serde(default)]
        frame: u32,
    },
    /// Hangs several things on a marker in their middle.
    Group {
        /// Which.
        things: Vec<String>,
        /// What the marker is called.
        name: String,
    },
    /// Moves a thing to another place of the list, from 0: of two in one plane the later is seen.
    Order {
        /// Which.
        thing: String,
        /// Where to.
        to: usize,
    },
    /// Makes a copy a thing of its own.
    TakeOut {
        /// Of which.
        thing: String,
        /// Its number, from 1.
        copy: u32,
        /// What it is called.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        name: Option<String>,
    },
    /// The same once more, beside it.
    Duplicate {
        /// Which.
        thing: String,
        /// What it is called.
        name: String,
    },
    /// The same in another shot, by that shot's name.
    CopyTo {
        /// Which.
        thing: String,
        /// Where to.
        shot: String,
    },
    /// Takes a thing away.
    Remove {
        /// Which.
        thing: String,
    },
    /// Renders a video, or stills of some frames into a folder.
    Render {
        /// Where to, from the recipe's folder.
        out: String,
        /// First and last frame of stills.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        frames: Option<[u32; 2]>,
    },
    /// Writes the camera or the scene to a file.
    Export {
        /// What.
        format: ExportFormat,
        /// Where to, from the recipe's folder.
        out: String,
    },
}

impl Step {
    /// Its verb, as it is written.
    pub fn verb(&self) -> &'static str {
        match self {
            Self::TakeIn { .. } => "take-in",
            Self::Trim { .. } => "trim",
            Self::PlateColour { .. } => "plate-colour",
            Self::Mask { .. } => "mask",
            Self::HoldOut { .. } => "hold-out",
            Self::FollowMask { .. } => "follow-mask",
            Self::StandMask { .. } => "stand-mask",
            Self::Surroundings { .. } => "surroundings",
            Self::Table { .. } => "table",
            Self::MeasurePlate {} => "measure-plate",
            Self::Draw { .. } => "draw",
            Self::KeepLook { .. } => "keep-look",
            Self::UseLook { .. } => "use-look",
            Self::Matte { .. } => "matte",
            Self::Track { .. } => "track",
            Self::Solve { .. } => "solve",
            Self::SolveOn {} => "solve-on",
            Self::ProposeDatum { .. } => "propose-datum",
            Self::Follow { .. } => "follow",
            Self::ScaleBy { .. } => "scale-by",
            Self::UpAxis { .. } => "up-axis",
            Self::Reset { .. } => "reset",
            Self::Origin { .. } => "origin",
            Self::Floor { .. } => "floor",
            Self::Heading { .. } => "heading",
            Self::Sun(_) => "sun",
            Self::Scale { .. } => "scale",
            Self::Surface { .. } => "surface",
            Self::Square { .. } => "square",
            Self::Hinge { .. } => "hinge",
            Self::Corners { .. } => "corners",
            Self::CameraHeight { .. } => "camera-height",
            Self::Line { .. } => "line",
            Self::Upright {} => "upright",
            Self::HeadingByLines {} => "heading-by-lines",
            Self::Nudge { .. } => "nudge",
            Self::Flip {} => "flip",
            Self::Place { .. } => "place",
            Self::Swap { .. } => "swap",
            Self::Set { .. } => "set",
            Self::Arrange { .. } => "arrange",
            Self::Dress { .. } => "dress",
            Self::Hang { .. } => "hang",
            Self::Group { .. } => "group",
            Self::Order { .. } => "order",
            Self::TakeOut { .. } => "take-out",
            Self::Duplicate { .. } => "duplicate",
            Self::CopyTo { .. } => "copy-to",
            Self::Remove { .. } => "remove",
            Self::Render { .. } => "render",
            Self::Export { .. } => "export",
        }
    }
}

/// A whole recipe.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Recipe {
    /// [`FORMAT`].
    pub format: String,
    /// [`VERSION`].
    pub version: u32,
    /// In their order.
    pub steps: Vec<Step>,
}

/// Why a recipe cannot be read. Nothing of it was done.
#[derive(Debug, PartialEq, thiserror::Error)]
pub enum RecipeError {
    /// No JSON, or none of this shape.
    #[error(
        "the recipe cannot be read: {0}. It must hold {{ \"format\": \"fennik-recipe\", \"version\": 3, \"steps\": [ \
            ... ] }} as in docs/formats.md"
    )]
    Shape(String),
    /// Another format or version.
    #[error("this is {format:?}, version {version}; recipes are {FORMAT:?}, up to version {VERSION}")]
    Other {
        /// The format.
        format: String,
        /// The version.
        version: u32,
    },
    /// Too many steps.
    #[error("the recipe has {0} steps; at most {MOST_STEPS} are taken")]
    TooLong(usize),
    /// One step.
    #[error("step {number} ({verb}) cannot be read: {why}")]
    Step {
        /// Counted from 1.
        number: usize,
        /// Its verb.
        verb: String,
        /// What was expected.
        why: String,
    },
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Shape {
    format: String,
    version: u32,
    steps: Vec<Value>,
}

/// Reads a recipe, all of it before anything is done.
///
/// # Errors
/// [`RecipeError`] that names the step.
pub fn read(bytes: &[u8]) -> Result<Recipe, RecipeError> {
    let Shape { format, version, steps } =
        serde_json::from_slice(bytes).map_err(|e| RecipeError::Shape(e.to_string()))?;
    if format != FORMAT || !(1..=VERSION).contains(&version) {
        return Err(RecipeError::Other { format, version });
    }
    if steps.len() > MOST_STEPS {
        return Err(RecipeError::TooLong(steps.len()));
    }
    let step = |(i, value): (usize, Value)| {
        let verb = value.get("do").and_then(Value::as_str).unwrap_or("without a verb").to_owned();
        serde_json::from_value(value).map_err(|e| RecipeError::Step { number: i + 1, verb, why: e.to_string() })
    };
    let steps = steps.into_iter().enumerate().map(step).collect::<Result<_, _>>()?;
    Ok(Recipe { format, version, steps })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn with(steps: &str) -> Result<Recipe, RecipeError> {
        read(format!(r#"{{"format":"fennik-recipe","version":1,"steps":[{steps}]}}"#).as_bytes())
    }

    #[test]
    fn the_steps_of_the_documentation_are_read_and_written_back() {
        let text = include_str!("../../../../../docs/formats.md");
        let (_, from) = text.split_once("<!-- recipe -->").expect("the example stands between its marks");
        let (example, _) = from.split_once("<!-- /recipe -->").unwrap();
        let json: String =
            example.lines().map(|l| l.trim().split(" //").next().unwrap_or_default()).collect::<Vec<_>>().join("\n");
        let recipe = read(json.as_bytes()).unwrap();
        assert!(recipe.steps.len() >= 18, "every verb is shown");
        let back = serde_json::to_vec(&recipe).unwrap();
        assert_eq!(read(&back), Ok(recipe));
    }

    #[test]
    fn unknown_verbs_and_fields_are_named_with_their_step() {
        let good = r#"{"do":"trim","first":0,"last":9}"#;
        assert_eq!(with(good).unwrap().steps.len(), 1);
        for (step, reason) in [
            (r#"{"do":"explode"}"#, "explode"),
            (r#"{"first":0}"#, "do"),
            (r#"{"do":"trim","first":0}"#, "last"),
            (r#"{"do":"trim","first":0,"last":9,"middle":4}"#, "middle"),
            (r#"{"do":"track","dense":300}"#, "dense"),
            (r#"{"do":"flip","twice":true}"#, "twice"),
            (r#"{"do":"origin","at":{"frame":0,"pixel":[1,2],"depth":3}}"#, "depth"),
            (r#"{"do":"solve","motion":"sideways"}"#, "sideways"),
            (r#"{"do":"trim","first":-1,"last":9}"#, "-1"),
        ] {
            let error = with(&format!("{good},{step}")).unwrap_err();
            assert!(matches!(error, RecipeError::Step { number: 2, .. }), "{step}: {error:?}");
            assert!(error.to_string().contains(reason), "{step}: {error}");
        }
        assert!(matches!(read(b"[]"), Err(RecipeError::Shape(_))));
        assert!(matches!(read(br#"{"format":"other","version":1,"steps":[]}"#), Err(RecipeError::Other { .. })));
        assert!(matches!(
            read(br#"{"format":"fennik-recipe","version":4,"steps":[]}"#),
            Err(RecipeError::Other { .. })
        ));
    }
}
