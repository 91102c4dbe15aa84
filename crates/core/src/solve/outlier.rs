//! Tracks that have no place in the scene.

use crate::track::TrackId;
use serde::{Deserialize, Serialize};

/// Why a track has no place in the scene.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum OutlierReason {
    /// It moves by itself: people, cars, water.
    #[serde(alias = "own-way")]
    IndependentMotion,
    /// It stands still on the frame while the picture moves: a caption, a mark on the lens.
    #[serde(alias = "on-frame")]
    ImageStatic,
    /// It agrees now and then: an edge before another, a reflection.
    #[serde(alias = "partly")]
    PartialInlier,
    /// It follows the turn of the camera, but is too far away to have a depth.
    Far,
    /// It is seen on too few frames to tell.
    Short,
}

impl OutlierReason {
    /// All of them.
    pub const ALL: [Self; 5] =
        [Self::IndependentMotion, Self::ImageStatic, Self::PartialInlier, Self::Far, Self::Short];

    /// As the files keep it.
    pub fn word(self) -> &'static str {
        match self {
            Self::IndependentMotion => "independent-motion",
            Self::ImageStatic => "image-static",
            Self::PartialInlier => "partial-inlier",
            Self::Far => "far",
            Self::Short => "short",
        }
    }

    /// What it is, for people.
    pub fn name(self) -> &'static str {
        match self {
            Self::IndependentMotion => "move on their own",
            Self::ImageStatic => "stand still on the frame",
            Self::PartialInlier => "agree now and then",
            Self::Far => "far off",
            Self::Short => "too short to tell",
        }
    }

    /// Why, for people.
    pub fn why(self) -> &'static str {
        match self {
            Self::IndependentMotion => "no fixed place of the scene explains them: people, cars, water",
            Self::ImageStatic => {
                "they keep their place on the frame while the picture moves: captions, marks on the lens"
            }
            Self::PartialInlier => {
                "a fixed place explains a part of their frames: edges before one another, reflections"
            }
            Self::Far => "no parallax is seen of them: they hold the turn of the camera, but have no place",
            Self::Short => "they are seen on too few frames",
        }
    }
}

/// A track that has no place in the scene.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Outlier {
    /// Which.
    pub id: TrackId,
    /// Why.
    #[serde(alias = "why")]
    pub reason: OutlierReason,
    /// Median distance from the best fixed place, px; nothing where there is none.
    #[serde(alias = "miss_px")]
    pub error_px: Option<f64>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_has_words_of_its_own_and_keeps_them_in_files() {
        let words: std::collections::BTreeSet<&str> =
            OutlierReason::ALL.iter().flat_map(|a| [a.word(), a.name(), a.why()]).collect();
        assert_eq!(words.len(), 15);
        for kind in OutlierReason::ALL {
            assert_eq!(serde_json::to_value(kind).unwrap(), kind.word());
        }
    }

    #[test]
    fn solves_of_earlier_versions_are_read_in_their_own_words() {
        for (word, reason) in [
            ("own-way", OutlierReason::IndependentMotion),
            ("on-frame", OutlierReason::ImageStatic),
            ("partly", OutlierReason::PartialInlier),
            ("far", OutlierReason::Far),
            ("short", OutlierReason::Short),
        ] {
            let kept = format!(r#"{{"id":7,"why":"{word}","miss_px":1.5}}"#);
            let read: Outlier = serde_json::from_str(&kept).unwrap();
            assert_eq!(read, Outlier { id: TrackId(7), reason, error_px: Some(1.5) });
        }
    }
}
