//! What can be filmed.

use crate::paint::Colour;
use crate::uprights::Upright;
use fennik_core::geometry::{Lens, Pose};
use nalgebra::Vector3;

type V = Vector3<f64>;

/// What a ray met.
#[derive(Clone)]
pub struct Met {
    /// Distance along the ray.
    pub distance: f64,
    /// Whether it stands still.
    pub still: bool,
    /// Whether it is of the ground on which everything stands.
    pub ground: bool,
    /// Whether it is a thing on the move; water is not one.
    pub moves: bool,
    /// Names the flat surface that was met; `None` for what is round.
    pub surface: Option<String>,
}

/// A place with everything in it. World frame, metres, Y up; times in frames.
pub trait Scene: Sync {
    /// The nearest thing along a ray.
    fn meet(&self, from: V, ray: V, frame: f64) -> Option<Met>;

    /// Who of those who walk is seen along a ray; `None` where it is nobody or cannot be told.
    fn walker(&self, _from: V, _ray: V, _frame: f64) -> Option<u32> {
        None
    }

    /// Light that comes along a ray that can only meet the things `among` (see [`Self::in_rows`]). `spread` is the width of
    /// a pixel at distance one; `unit` are numbers from 0 to 1 by chance.
    fn look(&self, among: &[usize], from: V, ray: V, frame: f64, spread: f64, unit: [f64; 4]) -> Colour;

    /// Those things that the rows of a picture from `top` to `bottom` (px) can see, where that is worth asking.
    fn in_rows(&self, _pose: &Pose, _lens: &Lens, _top: f64, _bottom: f64, _frame: f64) -> Vec<usize> {
        Vec::new()
    }

    /// Those of the things `among` that may be seen from `pose` between two columns of pixels.
    fn in_columns(
        &self,
        _among: &[usize],
        _pose: &Pose,
        _lens: &Lens,
        _columns: (f64, f64),
        _frame: f64,
    ) -> Vec<usize> {
        Vec::new()
    }

    /// The upright edges of what stands still.
    fn uprights(&self) -> Vec<Upright>;
}
