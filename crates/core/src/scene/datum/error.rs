//! Why a datum cannot be laid so.

/// Why a datum cannot be laid so.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum DatumError {
    /// Numbers that are none, a mirror, no size.
    #[error("the datum must have finite numbers, a turn that is one, and a scale above zero; choose other points")]
    NotSound,
    /// The same of the way to another camera.
    #[error("the way from the old camera to the new one is none; solve again")]
    NoWay,
    /// A distance that is none.
    #[error("type the real distance in metres, above 0")]
    NoDistance,
    /// No distance between two points.
    #[error("the two points are in one place; choose two that are apart")]
    OnePlace,
    /// No way along the ground between two places.
    #[error("the two places lie over each other; choose two that are apart on the ground")]
    OverEachOther,
    /// A line that is none.
    #[error("a line needs two ends at least {least_px:.0} px apart, on a frame with a camera")]
    Line {
        /// Shortest line, px.
        least_px: f64,
    },
    /// A measured distance that there is not.
    #[error("there is no measured distance {index} any more; reload the page")]
    NoSuchDistance {
        /// Which, from 0.
        index: usize,
    },
    /// A drawn line that there is not.
    #[error("there is no drawn line {index} any more; reload the page")]
    NoSuchLine {
        /// Which, from 0.
        index: usize,
    },
}
