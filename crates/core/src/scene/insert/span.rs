//! From when to when an insert is seen.

use super::{InsertError, within};
use serde::{Deserialize, Serialize};

/// When an insert is seen; without ends, all the time.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct Span {
    /// First frame of the trimmed clip on which it is seen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first: Option<f64>,
    /// Last frame.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last: Option<f64>,
    /// Frames over which it comes in from the first on.
    #[serde(default)]
    pub fade_in: f64,
    /// Frames over which it goes out up to the last.
    #[serde(default)]
    pub fade_out: f64,
}

impl Span {
    /// How much of it is seen at a time, frames: 0 to 1. With fades it grows by even steps, none of them nothing.
    pub fn share_at(&self, frame: f64) -> f64 {
        let side = |inside: f64, fade: f64| {
            if inside < -0.5 {
                0.0
            } else if fade <= 0.0 {
                1.0
            } else {
                ((inside + 1.0) / (fade + 1.0)).clamp(0.0, 1.0)
            }
        };
        let come = self.first.map_or(1.0, |first| side(frame - first, self.fade_in));
        let gone = self.last.map_or(1.0, |last| side(last - frame, self.fade_out));
        come.min(gone)
    }

    /// Whether it begins or ends at all.
    pub fn is_everywhere(&self) -> bool {
        self.first.is_none() && self.last.is_none()
    }

    /// Moves it in time by frames.
    pub fn shift(&mut self, by: f64) {
        self.first = self.first.map(|f| f + by);
        self.last = self.last.map(|f| f + by);
    }

    /// Checks every number.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        within("the first frame", self.first.unwrap_or(0.0), -1e6, 1e6)?;
        within("the last frame", self.last.unwrap_or(0.0), -1e6, 1e6)?;
        if let (Some(first), Some(last)) = (self.first, self.last) {
            within("the last frame", last, first, 1e6)?;
        }
        within("the fade in", self.fade_in, 0.0, 1e5)?;
        within("the fade out", self.fade_out, 0.0, 1e5)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_comes_in_and_goes_out_by_even_steps() {
        let span = Span { first: Some(10.0), last: Some(20.0), fade_in: 3.0, fade_out: 1.0 };
        let at = |f: f64| span.share_at(f);
        assert_eq!([9.0, 10.0, 11.0, 12.0, 13.0, 19.0, 20.0, 21.0].map(at), [0.0, 0.25, 0.5, 0.75, 1.0, 1.0, 0.5, 0.0]);
        let cut = Span { first: Some(10.0), ..Span::default() };
        assert_eq!([9.4, 9.6, 500.0].map(|f| cut.share_at(f)), [0.0, 1.0, 1.0], "its whole exposure is seen");
        assert_eq!(Span::default().share_at(-40.0), 1.0);
        assert!(Span { first: Some(9.0), last: Some(3.0), ..Span::default() }.validate().is_err());
    }
}
