//! How a clip runs that an insert shows.

use super::{InsertError, within};
use serde::{Deserialize, Serialize};

/// What comes after the last frame of a clip, and before its first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Ends {
    /// It begins again.
    #[default]
    Loop,
    /// The last frame stays; before the first one, the first.
    Hold,
    /// Nothing is shown.
    Vanish,
}

/// How a clip runs.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Play {
    /// Frame of the shot at which it begins.
    #[serde(default)]
    pub start: f64,
    /// First frame of the clip that is shown.
    #[serde(default)]
    pub first: u32,
    /// Last frame of the clip that is shown; none: to its end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last: Option<u32>,
    /// Times its own speed.
    #[serde(default = "own_speed")]
    pub speed: f64,
    /// What comes after.
    #[serde(default)]
    pub ends: Ends,
}

fn own_speed() -> f64 {
    1.0
}

impl Default for Play {
    fn default() -> Self {
        Self { start: 0.0, first: 0, last: None, speed: own_speed(), ends: Ends::default() }
    }
}

impl Play {
    /// The frame of a clip of `count` frames that is shown at a frame of the shot, where the clip has `rate` times as many
    /// frames a second as the shot. `None` where nothing is shown.
    pub fn frame_at(&self, frame: f64, count: u32, rate: f64) -> Option<u32> {
        let first = self.first.min(count.checked_sub(1)?);
        let last = self.last.unwrap_or(u32::MAX).clamp(first, count - 1);
        let length = f64::from(last - first + 1);
        // A hair more, so that a frame that begins just then is shown.
        let run = ((frame - self.start) * rate * self.speed + 1e-6).floor();
        let within = match self.ends {
            Ends::Loop => run.rem_euclid(length),
            Ends::Hold => run.clamp(0.0, length - 1.0),
            Ends::Vanish if (0.0..length).contains(&run) => run,
            Ends::Vanish => return None,
        };
        Some(first + within as u32)
    }

    /// The place in a motion of `length` frames that is shown at a time, frames, between frames too; `None` where nothing
    /// is shown any more.
    pub fn position_at(&self, frame: f64, length: f64) -> Option<f64> {
        let first = f64::from(self.first).min(length);
        let last = self.last.map_or(length, |l| f64::from(l).clamp(first, length));
        let span = last - first;
        let run = (frame - self.start) * self.speed;
        Some(
            first
                + match self.ends {
                    Ends::Loop if span > 0.0 => run.rem_euclid(span),
                    Ends::Loop => 0.0,
                    Ends::Hold => run.clamp(0.0, span),
                    Ends::Vanish if (0.0..=span).contains(&run) => run,
                    Ends::Vanish => return None,
                },
        )
    }

    /// Moves it in time by frames.
    pub fn shift(&mut self, by: f64) {
        self.start += by;
    }

    /// Checks every number.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        within("the start", self.start, -1e6, 1e6)?;
        within("the speed", self.speed, 0.01, 100.0)?;
        within("the first frame", f64::from(self.first), 0.0, 1e6)?;
        within("the last frame", f64::from(self.last.unwrap_or(self.first)), f64::from(self.first), 1e6)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(play: Play, frames: &[f64], rate: f64) -> Vec<Option<u32>> {
        frames.iter().map(|f| play.frame_at(*f, 10, rate)).collect()
    }

    #[test]
    fn it_loops_holds_or_vanishes() {
        let play = |ends| Play { start: 5.0, first: 2, last: Some(4), ends, ..Play::default() };
        let frames = [3.0, 5.0, 6.0, 7.0, 8.0, 9.0];
        let some = |v: [u32; 6]| v.map(Some).to_vec();
        assert_eq!(shown(play(Ends::Loop), &frames, 1.0), some([3, 2, 3, 4, 2, 3]));
        assert_eq!(shown(play(Ends::Hold), &frames, 1.0), some([2, 2, 3, 4, 4, 4]));
        assert_eq!(shown(play(Ends::Vanish), &frames, 1.0), [None, Some(2), Some(3), Some(4), None, None]);
    }

    #[test]
    fn a_motion_is_shown_between_its_frames_too() {
        let at = |ends, frame| Play { start: 2.0, speed: 2.0, ends, ..Play::default() }.position_at(frame, 10.0);
        assert_eq!([2.25, 7.5, 0.0].map(|f| at(Ends::Loop, f)), [Some(0.5), Some(1.0), Some(6.0)]);
        assert_eq!([0.0, 4.0, 99.0].map(|f| at(Ends::Hold, f)), [Some(0.0), Some(4.0), Some(10.0)]);
        assert_eq!([0.0, 4.0, 99.0].map(|f| at(Ends::Vanish, f)), [None, Some(4.0), None]);
        assert_eq!(Play::default().position_at(3.0, 0.0), Some(0.0));
    }

    #[test]
    fn rate_and_speed_count_and_a_span_past_the_end_is_cut() {
        let slow = Play { speed: 0.5, ..Play::default() };
        assert_eq!(shown(slow, &[0.0, 1.0, 2.0, 3.0], 1.0), [0, 0, 1, 1].map(Some));
        assert_eq!(shown(slow, &[0.0, 1.0, 2.0, 3.0], 2.0), [0, 1, 2, 3].map(Some));
        let far = Play { first: 8, last: Some(99), ..Play::default() };
        assert_eq!(shown(far, &[0.0, 1.0, 2.0], 1.0), [8, 9, 8].map(Some));
        assert_eq!(Play { first: 50, ..Play::default() }.frame_at(3.0, 10, 1.0), Some(9));
        assert_eq!(Play::default().frame_at(0.0, 0, 1.0), None);
        // A film of 24 frames a second in a shot of 25 skips none and repeats one a second.
        let all: Vec<u32> = (0..25).filter_map(|f| Play::default().frame_at(f64::from(f), 100, 24.0 / 25.0)).collect();
        assert_eq!((all[0], all[24], all.windows(2).filter(|w| w[0] == w[1]).count()), (0, 23, 1));
    }
}
