//! A few frames of a clip.

use super::decode::{FrameReader, PixelKind};
use super::info::ClipInfo;
use crate::error::MediaError;
use std::collections::VecDeque;

/// Some frames of a clip, one after the other. Those between which decoding cannot begin anew are decoded in one go.
pub struct ChosenFrames<'a> {
    clip: &'a ClipInfo,
    kind: PixelKind,
    passes: VecDeque<Vec<u32>>,
    open: Option<(FrameReader, VecDeque<u32>)>,
}

impl<'a> ChosenFrames<'a> {
    /// Frames of the file, each of which comes once, by rising number.
    pub fn new(clip: &'a ClipInfo, frames: impl IntoIterator<Item = u32>, kind: PixelKind) -> Self {
        let mut frames: Vec<u32> = frames.into_iter().collect();
        frames.sort_unstable();
        frames.dedup();
        Self { clip, kind, passes: clip.passes(&frames).into(), open: None }
    }

    /// In how many goes those that are left will be decoded.
    pub fn passes(&self) -> usize {
        self.passes.len()
    }

    /// The next of them with its number, or `None` behind the last.
    ///
    /// # Errors
    /// [`MediaError`] as of [`FrameReader`].
    pub fn next_frame(&mut self) -> Result<Option<(u32, &[u8])>, MediaError> {
        if self.open.as_ref().is_none_or(|(_, left)| left.is_empty()) {
            let Some(pass) = self.passes.pop_front() else { return Ok(None) };
            self.open = Some((FrameReader::open_chosen(self.clip, &pass, self.kind)?, pass.into()));
        }
        let Some((reader, left)) = &mut self.open else { return Ok(None) };
        let Some(frame) = left.pop_front() else { return Ok(None) };
        Ok(reader.next_frame()?.map(|bytes| (frame, bytes)))
    }
}
