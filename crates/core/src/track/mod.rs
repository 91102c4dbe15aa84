//! Point tracks: corners found in an even spread and followed from frame to frame.
//!
//! A point is predicted from a coarse global motion and its neighbours, propagated to the next frame by
//! pyramidal alignment (Lucas & Kanade 1981; Bouguet 2000), checked backwards (Kalal, Mikolajczyk &
//! Matas, "Forward-Backward Error", 2010) and then aligned, under an affine warp and a gain and offset
//! of brightness, with its *first* view (Baker & Matthews, "Lucas-Kanade 20 Years On", 2004, inverse
//! compositional). The last step is what keeps long tracks from drifting: errors do not add up from
//! frame to frame.

mod active_track;
mod align;
mod area;
mod backward;
mod blank_interval;
mod clusters;
mod corner_search;
mod detect;
mod follow;
mod motion;
mod occluded;
mod propagate;
mod settings;
mod surround;
#[cfg(test)]
mod synthetic;
mod track_set;
mod tracker;

pub use backward::BackwardTracker;
pub use clusters::{clusters_of, keep_out_of};
pub use detect::{Corner, best_corner, min_eigenvalues};
pub use follow::{Follower, between};
pub use motion::{AffineMotion, global_shift};
pub use settings::{TrackDirection, TrackError, TrackSettings};
pub use surround::Surround;
pub use track_set::{Track, TrackBytesError, TrackId, TrackSet};
pub use tracker::{TrackStep, Tracker};
