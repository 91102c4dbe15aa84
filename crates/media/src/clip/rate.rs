//! Frame rates.

use serde::{Deserialize, Serialize};

/// A frame rate as a fraction, frames per second.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Rate {
    /// Frames.
    pub frames: u32,
    /// Seconds.
    pub seconds: u32,
}

impl Rate {
    /// Frames per second as a number.
    pub fn per_second(self) -> f64 {
        f64::from(self.frames) / f64::from(self.seconds)
    }

    /// A rate as ffmpeg writes it, frames over seconds; `None` for what no camera or screen has.
    pub(crate) fn parse(text: &str) -> Option<Self> {
        let (a, b) = text.split_once('/')?;
        let (frames, seconds) = (a.parse().ok()?, b.parse().ok()?);
        let rate = Self { frames, seconds };
        (frames > 0 && seconds > 0 && (0.5..=480.0).contains(&rate.per_second())).then_some(rate)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rates_are_read_as_fractions() {
        assert_eq!(Rate::parse("30000/1001"), Some(Rate { frames: 30000, seconds: 1001 }));
        for bad in ["0/0", "25", "1/0", "90000/1", "a/b"] {
            assert_eq!(Rate::parse(bad), None, "{bad}");
        }
    }
}
