//! What a person can tell the solve.

use serde::{Deserialize, Serialize};

/// What can be wrong with the settings of a solve.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum SettingsError {
    /// A word that is none of the choices.
    #[error("{text:?} is no {what}; write one of: {}", words.join(", "))]
    Word {
        /// As it was written.
        text: String,
        /// What was asked for.
        what: &'static str,
        /// The choices.
        words: &'static [&'static str],
    },
    /// A readout that is none.
    #[error("{text:?} is no readout; write a part of the frame time as 0.6, none, or auto to have it found")]
    NoReadout {
        /// As it was written.
        text: String,
    },
    /// A principal point that is none.
    #[error("{text:?} is no principal point; write it in px as 642.5, 358, or middle, or found")]
    NoCentre {
        /// As it was written.
        text: String,
    },
    /// A focal length that cannot be.
    #[error("the focal length must be a number of px above 1")]
    Focal,
    /// A readout that cannot be.
    #[error("the readout is a part of the frame time, from {} to {MOST_READOUT}", -MOST_READOUT)]
    Readout,
    /// A principal point that cannot be.
    #[error("the principal point is a pixel near the middle of the picture")]
    Centre,
}

/// The words of an enum of choices, both ways.
macro_rules! choice_words {
    ($name:ident, $what:literal, $($variant:ident = $word:literal),+) => {
        impl $name {
            /// The word for it.
            pub fn word(self) -> &'static str {
                match self { $(Self::$variant => $word),+ }
            }
        }

        impl std::str::FromStr for $name {
            type Err = SettingsError;

            fn from_str(text: &str) -> Result<Self, SettingsError> {
                match text {
                    $($word => Ok(Self::$variant),)+
                    other => Err(SettingsError::Word { text: other.to_owned(), what: $what, words: &[$($word),+] }),
                }
            }
        }
    };
}

/// How the camera moves.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum MotionChoice {
    /// Decided from the tracks.
    #[default]
    Auto,
    /// It travels.
    Free,
    /// It turns on the spot.
    Nodal,
    /// It travels, and the scene is near-planar.
    Planar,
}

choice_words!(MotionChoice, "kind of move", Auto = "auto", Free = "free", Nodal = "nodal", Planar = "planar");

/// What the lens does.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LensChoice {
    /// Decided from the tracks.
    #[default]
    Auto,
    /// One focal length for all frames.
    Fixed,
    /// A focal length for every frame.
    Zoom,
}

choice_words!(LensChoice, "kind of lens", Auto = "auto", Fixed = "fixed", Zoom = "zoom");

/// How the sensor is read.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ReadoutChoice {
    /// Decided from the tracks.
    #[default]
    Auto,
    /// All rows at once.
    None,
    /// Row by row, over this part of the frame time.
    Given(f64),
}

impl std::str::FromStr for ReadoutChoice {
    type Err = SettingsError;

    /// Nothing or `auto`, `none` or 0, or a part of the frame time.
    fn from_str(text: &str) -> Result<Self, SettingsError> {
        match text.trim() {
            "" | "auto" => Ok(Self::Auto),
            "0" | "none" => Ok(Self::None),
            other => other.parse().map(Self::Given).map_err(|_| SettingsError::NoReadout { text: other.to_owned() }),
        }
    }
}

/// Where the axis of the lens meets the picture.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum CentreChoice {
    /// In the middle of the picture.
    #[default]
    Middle,
    /// Found with the camera.
    Found,
    /// At this pixel.
    Given([f64; 2]),
}

impl std::str::FromStr for CentreChoice {
    type Err = SettingsError;

    /// Nothing or `middle`, `found`, or two numbers of px.
    fn from_str(text: &str) -> Result<Self, SettingsError> {
        match text.trim() {
            "" | "middle" => Ok(Self::Middle),
            "found" => Ok(Self::Found),
            other => {
                let numbers: Vec<f64> =
                    other.split([',', ' ']).filter(|p| !p.is_empty()).filter_map(|p| p.parse().ok()).collect();
                match numbers.as_slice() {
                    [x, y] => Ok(Self::Given([*x, *y])),
                    _ => Err(SettingsError::NoCentre { text: other.to_owned() }),
                }
            }
        }
    }
}

impl std::fmt::Display for CentreChoice {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Middle => f.write_str("middle"),
            Self::Found => f.write_str("found"),
            Self::Given([x, y]) => write!(f, "{x}, {y}"),
        }
    }
}

/// The longest readout that makes sense, as a part of the frame time.
pub const MOST_READOUT: f64 = 1.2;

/// All of it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct SolveSettings {
    /// The focal length in px, where it is known; else it is found.
    pub focal_px: Option<f64>,
    /// How it was written, to be shown again.
    pub focal_said: String,
    /// A focal length in px to begin with, as the file tells it; it is not relied on.
    pub focal_hint_px: Option<f64>,
    /// How the camera moves.
    pub motion: MotionChoice,
    /// What the lens does.
    pub lens: LensChoice,
    /// How the sensor is read.
    pub readout: ReadoutChoice,
    /// Where the axis of the lens meets the picture.
    pub centre: CentreChoice,
}

impl SolveSettings {
    /// Checks every value.
    ///
    /// # Errors
    /// The first [`SettingsError`].
    pub fn validate(&self) -> Result<(), SettingsError> {
        if [self.focal_px, self.focal_hint_px].into_iter().flatten().any(|f| !(f > 1.0 && f < 1e6)) {
            return Err(SettingsError::Focal);
        }
        if matches!(self.readout, ReadoutChoice::Given(r) if !(-MOST_READOUT..=MOST_READOUT).contains(&r)) {
            return Err(SettingsError::Readout);
        }
        if matches!(self.centre, CentreChoice::Given(at) if !at.iter().all(|c| (-1e5..1e5).contains(c))) {
            return Err(SettingsError::Centre);
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_read_back_and_others_refused() {
        for choice in [MotionChoice::Auto, MotionChoice::Free, MotionChoice::Nodal] {
            assert_eq!(choice.word().parse(), Ok(choice));
        }
        for choice in [LensChoice::Auto, LensChoice::Fixed, LensChoice::Zoom] {
            assert_eq!(choice.word().parse(), Ok(choice));
        }
        assert!("sideways".parse::<MotionChoice>().unwrap_err().to_string().contains("auto, free, nodal"));
        let read = |text: &str| text.parse::<ReadoutChoice>();
        assert_eq!(
            (read(""), read("none"), read(" 0.6 ")),
            (Ok(ReadoutChoice::Auto), Ok(ReadoutChoice::None), Ok(ReadoutChoice::Given(0.6)))
        );
        for choice in [CentreChoice::Middle, CentreChoice::Found, CentreChoice::Given([640.5, -3.0])] {
            assert_eq!(choice.to_string().parse(), Ok(choice));
        }
        assert!("640".parse::<CentreChoice>().is_err() && "a, b".parse::<CentreChoice>().is_err());
        assert!(read("slow").unwrap_err().to_string().contains("no readout"));
    }
}
