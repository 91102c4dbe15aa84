//! How what is placed is mixed with what lies behind it.

use serde::{Deserialize, Serialize};

/// Blend modes by their names in the standard (W3C, "Compositing and Blending Level 1", section 10; `plus-lighter` from
/// Level 2).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Blend {
    /// What is placed covers what lies behind.
    #[default]
    Normal,
    /// Darker by what is placed.
    Multiply,
    /// Brighter by what is placed: for what was shot on black.
    Screen,
    /// Multiply where it is dark behind, screen where it is bright.
    Overlay,
    /// The darker of both.
    Darken,
    /// The brighter of both.
    Lighten,
    /// What lies behind, brightened.
    ColorDodge,
    /// What lies behind, darkened.
    ColorBurn,
    /// Multiply where what is placed is dark, screen where it is bright.
    HardLight,
    /// The same, softly.
    SoftLight,
    /// How far both differ.
    Difference,
    /// The same with less contrast.
    Exclusion,
    /// Light is added.
    PlusLighter,
}

impl Blend {
    /// All, as they are offered.
    pub const ALL: [Self; 13] = [
        Self::Normal,
        Self::Screen,
        Self::PlusLighter,
        Self::Multiply,
        Self::Overlay,
        Self::Darken,
        Self::Lighten,
        Self::ColorDodge,
        Self::ColorBurn,
        Self::HardLight,
        Self::SoftLight,
        Self::Difference,
        Self::Exclusion,
    ];

    /// Its name in the standard.
    pub fn word(self) -> &'static str {
        match self {
            Self::Normal => "normal",
            Self::Multiply => "multiply",
            Self::Screen => "screen",
            Self::Overlay => "overlay",
            Self::Darken => "darken",
            Self::Lighten => "lighten",
            Self::ColorDodge => "color-dodge",
            Self::ColorBurn => "color-burn",
            Self::HardLight => "hard-light",
            Self::SoftLight => "soft-light",
            Self::Difference => "difference",
            Self::Exclusion => "exclusion",
            Self::PlusLighter => "plus-lighter",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_mode_is_written_by_its_word() {
        for blend in Blend::ALL {
            assert_eq!(serde_json::to_value(blend).unwrap(), blend.word());
        }
    }
}
