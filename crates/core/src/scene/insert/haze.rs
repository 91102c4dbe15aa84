//! A soft outline of an insert in its own frame: beyond it less and less of the insert is left.

use super::{InsertError, within};
use serde::{Deserialize, Serialize};

/// The form of the outline.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum HazeForm {
    /// None: all of it is seen.
    #[default]
    None,
    /// An ellipse that touches the four sides.
    Oval,
    /// A rectangle.
    Box,
    /// From below up: its foot is lost in the haze.
    Foot,
    /// From above down.
    Head,
}

/// What is left of an insert by where a place of it lies, of its width and height as seen from the front.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Haze {
    /// The form.
    #[serde(default)]
    pub form: HazeForm,
    /// Where the middle of the edge runs: of the way from the middle to the side, or from foot to head.
    #[serde(default = "reach")]
    pub reach: f64,
    /// How wide the edge is, of the same.
    #[serde(default = "soft")]
    pub soft: f64,
}

fn reach() -> f64 {
    0.75
}

fn soft() -> f64 {
    0.5
}

impl Default for Haze {
    fn default() -> Self {
        Self { form: HazeForm::default(), reach: reach(), soft: soft() }
    }
}

impl Haze {
    /// How much is left at a place: x and y from -1 to 1 over the insert's width and height.
    pub fn share_at(&self, x: f64, y: f64) -> f64 {
        let way = match self.form {
            HazeForm::None => return 1.0,
            HazeForm::Oval => x.hypot(y),
            HazeForm::Box => x.abs().max(y.abs()),
            HazeForm::Foot => 0.5 - 0.5 * y,
            HazeForm::Head => 0.5 + 0.5 * y,
        };
        let t = ((self.reach - way) / self.soft.max(1e-4) + 0.5).clamp(0.0, 1.0);
        t * t * (3.0 - 2.0 * t)
    }

    /// Checks every number.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        within("the haze's reach", self.reach, 0.0, 4.0)?;
        within("the haze's softness", self.soft, 0.0, 4.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn less_is_left_toward_the_outline() {
        let haze = |form| Haze { form, reach: 0.5, soft: 0.5 };
        for form in [HazeForm::Oval, HazeForm::Box] {
            let h = haze(form);
            assert_eq!([0.0, 0.25, 0.5, 0.75, 1.0].map(|x| h.share_at(x, 0.0)), [1.0, 1.0, 0.5, 0.0, 0.0]);
        }
        assert!(haze(HazeForm::Oval).share_at(0.45, 0.45) < haze(HazeForm::Box).share_at(0.45, 0.45));
        assert_eq!((haze(HazeForm::Foot).share_at(0.9, -1.0), haze(HazeForm::Foot).share_at(0.9, 1.0)), (0.0, 1.0));
        assert_eq!(haze(HazeForm::Head).share_at(0.0, 1.0), 0.0);
        assert_eq!(Haze::default().share_at(1.0, 1.0), 1.0);
    }
}
