//! The whole way, from tracks to a reported camera: afresh, of a camera that turns or one that travels, or going on
//! from a camera that was solved before.

mod afresh;
mod finish;
mod frames;
mod input;
mod moving;
mod resuming;
mod turning;

pub use afresh::solve_camera;
pub use input::SolveStep;
pub use resuming::solve_on;
