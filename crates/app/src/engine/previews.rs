//! Preview frames of a clip: what the page scrubs and plays.

use super::{EngineError, OpenShot};
use fennik_media::write_proxies;
use fennik_store::Store;

/// Widest preview frame, px.
pub const WIDTH: u32 = 1280;

/// Decodes the clip into preview frames and notes that they are there; returns their number.
///
/// `on_frame` gets the number of frames done; `false` stops.
///
/// # Errors
/// [`EngineError::Stopped`], or what the decoder or the disk said.
pub fn make(store: &Store, shot: &OpenShot, mut on_frame: impl FnMut(u32) -> bool) -> Result<u32, EngineError> {
    let mut stopped = false;
    let frames = write_proxies(&shot.clip, &shot.proxies, WIDTH, |n| {
        stopped = !on_frame(n);
        !stopped
    })?;
    if stopped {
        return Err(EngineError::Stopped);
    }
    store.finish_proxies(shot.state.shot.clip, frames)?;
    Ok(frames)
}
