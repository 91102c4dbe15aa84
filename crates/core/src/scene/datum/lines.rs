//! Lines drawn over the picture: along uprights, along parallel edges, along the horizon.

use super::{Datum, DatumError};
use crate::camera::CameraPath;
use crate::image::Plane;
use crate::solve::Solution;
use crate::survey::{Sighted, edge_along, vanishing};
use nalgebra::{Vector2, Vector3};
use serde::{Deserialize, Serialize};

/// Shortest line, px of a picture 1280 wide.
const LEAST_PX: f64 = 12.0;
/// Lines that are kept at most.
const MOST: usize = 200;

/// What a line runs along.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LineRole {
    /// Something upright: the edge of a house, a post.
    Upright,
    /// One of several edges that are level and run the same way; that way becomes the heading.
    Heading,
    /// The horizon.
    Horizon,
}

/// A line drawn over the picture.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct DrawnLine {
    /// What it runs along.
    pub role: LineRole,
    /// Frame of the trimmed clip.
    pub frame: u32,
    /// One end, px of the full picture.
    pub from: [f64; 2],
    /// The other.
    pub to: [f64; 2],
    /// Whether it lies on an edge that was found in the picture.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub at_edge: bool,
}

/// Why lines tell nothing.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum LineError {
    /// None there.
    #[error("no line is drawn along {what} yet; draw one or more")]
    None {
        /// What they would run along.
        what: &'static str,
    },
    /// They leave the direction open.
    #[error(
        "the lines leave the direction open by {deviation_deg:.0} deg: they are short or lie close together. Draw one \
            more, far from the others or on another frame"
    )]
    Open {
        /// How far, degrees.
        deviation_deg: f64,
    },
}

impl DrawnLine {
    /// Checks it against a solve.
    ///
    /// # Errors
    /// [`DatumError::Line`].
    pub fn validate(&self, solution: &Solution) -> Result<(), DatumError> {
        let least_px = LEAST_PX * f64::from(solution.width) / 1280.0;
        let length = (Vector2::from(self.from) - Vector2::from(self.to)).norm();
        let within = [self.from, self.to].iter().flatten().all(|v| v.abs() < 1e5);
        if within && length >= least_px && solution.at(self.frame).is_some() {
            Ok(())
        } else {
            Err(DatumError::Line { least_px })
        }
    }

    /// Moved to the side onto the edge of the picture that it was drawn along, where one stands out near it.
    #[must_use]
    pub fn to_edge(self, picture: &Plane, solution: &Solution) -> Self {
        let ends = [self.from, self.to].map(Vector2::from);
        let found = solution.at(self.frame).and_then(|f| edge_along(picture, &f.lens, ends));
        found.map_or(self, |[from, to]| Self { from: from.into(), to: to.into(), at_edge: true, ..self })
    }
}

impl Datum {
    /// With one more line; of very many the oldest goes.
    pub fn with_line(&self, line: DrawnLine) -> Self {
        let mut datum = self.clone();
        datum.lines.push(line);
        if datum.lines.len() > MOST {
            datum.lines.remove(0);
        }
        datum
    }

    /// With one line less.
    ///
    /// # Errors
    /// [`DatumError::NoSuchLine`].
    pub fn without_line(&self, index: usize) -> Result<Self, DatumError> {
        if index >= self.lines.len() {
            return Err(DatumError::NoSuchLine { index });
        }
        let mut datum = self.clone();
        datum.lines.remove(index);
        Ok(datum)
    }

    fn sighted(&self, solution: &Solution, role: LineRole) -> Vec<Sighted> {
        let path = CameraPath::new(solution, &self.world_from_solve);
        let of = |line: &DrawnLine| {
            let end_px = if line.at_edge { vanishing::EDGE_PX } else { vanishing::DRAWN_PX };
            Sighted::of(&path.at(line.frame)?, [line.from.into(), line.to.into()], end_px)
        };
        self.lines.iter().filter(|l| l.role == role).filter_map(of).collect()
    }

    /// The upright that the lines along uprights and the horizon tell, in the world of the datum, with its deviation,
    /// degrees: near what is up now as far as they leave it open.
    ///
    /// # Errors
    /// [`LineError`] where there are none or they leave it open.
    pub fn up_by_lines(&self, solution: &Solution) -> Result<(Vector3<f64>, f64), LineError> {
        let uprights = self.sighted(solution, LineRole::Upright);
        let horizons = self.sighted(solution, LineRole::Horizon);
        if uprights.is_empty() && horizons.is_empty() {
            return Err(LineError::None { what: "an upright or the horizon" });
        }
        let (up, deviation_deg) = vanishing::upright(&uprights, &horizons, Vector3::y());
        if deviation_deg > vanishing::OPEN_DEG {
            Err(LineError::Open { deviation_deg })
        } else {
            Ok((up, deviation_deg))
        }
    }

    /// The level direction that the lines along parallel edges tell, in the world of the datum, with its deviation,
    /// degrees.
    ///
    /// # Errors
    /// [`LineError`] where there are none or they leave it open.
    pub fn heading_by_lines(&self, solution: &Solution) -> Result<(Vector3<f64>, f64), LineError> {
        let edges = self.sighted(solution, LineRole::Heading);
        if edges.is_empty() {
            return Err(LineError::None { what: "a level edge" });
        }
        let (way, deviation_deg) = vanishing::level(&edges, Vector3::y());
        if deviation_deg > vanishing::OPEN_DEG {
            Err(LineError::Open { deviation_deg })
        } else {
            Ok((way, deviation_deg))
        }
    }

    /// How far the lines along uprights lean against what is up now, degrees, RMS; `None` without any.
    pub fn verticals_deg(&self, solution: &Solution) -> Option<f64> {
        let lines = self.sighted(solution, LineRole::Upright);
        let n = lines.len() as f64;
        (n > 0.0).then(|| (lines.iter().map(|l| l.lean_deg(&Vector3::y()).powi(2)).sum::<f64>() / n).sqrt())
    }
}
