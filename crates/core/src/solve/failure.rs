//! Why there is no camera.

/// What a solve lacks to begin with.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum StartError {
    /// Of a moving camera.
    #[error("no two frames share enough points that agree on one motion")]
    NoSharedMotion,
    /// Of those that were grown over the keyframes.
    #[error("no start holds")]
    NoneHolds,
    /// Of a turning camera.
    #[error("no chain of frames shares enough points")]
    NoChain,
}

/// Why there is no camera. Each text tells what was found and what to try.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum SolveFailure {
    /// Too few frames.
    #[error(
        "the clip has {found} frames; a camera needs at least {needed} with motion between them. Choose a longer \
            part of the clip"
    )]
    TooFewFrames {
        /// Frames there are.
        found: usize,
        /// Frames needed.
        needed: usize,
    },
    /// Too few points.
    #[error(
        "only {found} points could be followed over the clip (on frame {frame} there are {there}); at least {needed} \
            are needed. The picture may be black, blurred or without texture: try a lower threshold, a higher \
            density, or another part of the clip"
    )]
    TooFewTracks {
        /// Tracks of useful length.
        found: usize,
        /// Frame with the fewest points.
        frame: u32,
        /// Points on that frame.
        there: u32,
        /// Tracks needed.
        needed: usize,
    },
    /// The picture changes altogether.
    #[error("the picture changes altogether between frames {before} and {after}: a hard cut. Trim the clip to one \
        side of it", before = frame - 1, after = frame)]
    HardCut {
        /// First frame after the cut.
        frame: u32,
    },
    /// Nothing moves.
    #[error(
        "the picture hardly moves ({motion_px:.2} px at most): the camera stood still. There is nothing to solve; a \
            still shot needs no camera track"
    )]
    Still {
        /// Largest median motion of the points from any frame to any other, px.
        motion_px: f64,
    },
    /// The camera only turned.
    #[error(
        "the camera turned on the spot: turning alone explains the points to {nodal_px:.2} px (median), so there is \
            no parallax and depth cannot be known. A free move cannot be solved from this clip; choose a part in \
            which the camera travels"
    )]
    PureRotation {
        /// Median reprojection error of the turning camera, px.
        nodal_px: f64,
    },
    /// No geometry was found.
    #[error(
        "no camera explains the points: {why}. Things that move on their own, blur or too few points are the usual \
            causes; keep moving things out of the analysis or choose another part of the clip"
    )]
    NoStart {
        /// What was missing.
        why: StartError,
    },
    /// A camera was found, but it cannot be trusted.
    #[error("no trustworthy camera: {why}. {advice}")]
    NotTrustworthy {
        /// What was found, with its figure.
        why: String,
        /// What to try.
        advice: String,
    },
    /// A solve was to go on from one of another kind.
    #[error("the camera so far is of another kind of move or lens than the settings now ask for; solve afresh")]
    OtherMove,
    /// The caller asked to stop.
    #[error("the solve was stopped")]
    Stopped,
}
