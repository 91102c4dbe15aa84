//! What is told of a clip as it comes in.

use serde::{Deserialize, Serialize};

/// Something that was changed on the way in, to be told to the person.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Note {
    /// The picture was turned upright by the file's own rotation.
    Rotated(i32),
    /// Pixels were made square.
    SquarePixels,
    /// The rate varied; frames were dropped or repeated to make it constant.
    ConstantRate,
    /// More than eight bits a channel, or chroma finer than 4:2:0.
    FinePixels(String),
    /// The times of the frames cannot be believed; every frame is taken once.
    BrokenTimes,
    /// Numbers that are missing among the names of the stills.
    MissingNumbers(String),
    /// Stills of another size than the first were scaled to it.
    MixedSizes(String),
    /// Brighter than a screen shows.
    HighRange(String),
}

impl Note {
    /// For people.
    pub fn text(&self) -> String {
        match self {
            Self::Rotated(degrees) => format!("turned upright by the {degrees} degrees that the file asks for"),
            Self::SquarePixels => "pixels were not square; the picture was widened to make them so".to_owned(),
            Self::ConstantRate => {
                "the frame rate varies; frames were repeated or left out to make it constant".to_owned()
            }
            Self::FinePixels(format) => format!("{format} pictures; shown and delivered with 8 bits"),
            Self::BrokenTimes => {
                "the times of its frames jump; each frame is taken once, evenly spaced, and sound may not fit"
                    .to_owned()
            }
            Self::MissingNumbers(which) => {
                format!("numbers are missing among its pictures: {which}; the pictures there are follow one another")
            }
            Self::MixedSizes(which) => {
                format!("not all its pictures have one size: {which}; they are scaled to that of the first")
            }
            Self::HighRange(what) => format!("{what}: light beyond white is cut off at white"),
        }
    }
}
