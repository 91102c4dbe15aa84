//! What a track run hands on: points over spans of frames.

use serde::{Deserialize, Serialize};

/// Names a track within its run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct TrackId(pub u32);

/// One point over a span of frames.
#[derive(Debug, Clone, PartialEq)]
pub struct Track {
    /// Its name.
    pub id: TrackId,
    /// First frame on which it was seen.
    pub first_frame: u32,
    /// Pixels, one for each frame from the first on; no numbers where the point was out of sight.
    pub positions: Vec<[f32; 2]>,
}

impl Track {
    /// The last frame on which it was seen.
    pub fn last_frame(&self) -> u32 {
        self.first_frame + self.positions.len().saturating_sub(1) as u32
    }

    /// Where it was at `frame`, px.
    pub fn at(&self, frame: u32) -> Option<[f64; 2]> {
        let i = frame.checked_sub(self.first_frame)? as usize;
        self.positions.get(i).filter(|p| is_seen(p)).map(|p| [f64::from(p[0]), f64::from(p[1])])
    }

    /// The frames on which it was seen, with its pixels.
    pub fn sightings(&self) -> impl Iterator<Item = (u32, [f32; 2])> + '_ {
        (self.first_frame..).zip(&self.positions).filter(|(_, p)| is_seen(p)).map(|(f, p)| (f, *p))
    }
}

fn is_seen(position: &[f32; 2]) -> bool {
    position[0].is_finite() && position[1].is_finite()
}

/// All tracks of a run.
#[derive(Debug, Clone, PartialEq)]
pub struct TrackSet {
    /// Size of the frames that were tracked, px.
    pub width: u32,
    /// Size of the frames that were tracked, px.
    pub height: u32,
    /// Number of frames that were looked at.
    pub frames: u32,
    /// Frames on which the picture changed altogether.
    pub cuts: Vec<u32>,
    /// By rising id.
    pub tracks: Vec<Track>,
}

/// What can be wrong with the bytes of a track run.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TrackBytesError {
    /// The bytes do not begin as a track run does.
    #[error("these bytes are no track run of version 1; run the tracking again")]
    NotTracks,
    /// There are fewer bytes than the header tells.
    #[error("the track run is cut off at byte {at}; run the tracking again")]
    Truncated {
        /// Bytes that were there.
        at: usize,
    },
    /// What the bytes say cannot be.
    #[error("the track run is damaged ({what}); run the tracking again")]
    Damaged {
        /// The first thing that cannot be.
        what: &'static str,
    },
}

/// Largest side of a picture, and frames of a clip, that a run can be of.
const MOST_SIDE: u32 = 16_384;
const MOST_FRAMES: u32 = 10_000_000;

const MAGIC: &[u8; 8] = b"FNKTRK\x00\x01";

impl TrackSet {
    /// Little-endian bytes: magic, width, height, frames, cuts, then each track as id, first frame,
    /// length and its positions as f32 pairs (NaN where it was out of sight).
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut out = MAGIC.to_vec();
        let mut put = |v: u32| out.extend_from_slice(&v.to_le_bytes());
        for v in [self.width, self.height, self.frames, self.cuts.len() as u32] {
            put(v);
        }
        self.cuts.iter().for_each(|&c| put(c));
        put(self.tracks.len() as u32);
        for track in &self.tracks {
            put(track.id.0);
            put(track.first_frame);
            put(track.positions.len() as u32);
            for p in &track.positions {
                put(p[0].to_bits());
                put(p[1].to_bits());
            }
        }
        out
    }

    /// Reads what [`TrackSet::to_bytes`] wrote.
    ///
    /// # Errors
    /// [`TrackBytesError`] on other or missing bytes, and on what cannot be a run of tracks.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, TrackBytesError> {
        let body = bytes.strip_prefix(MAGIC).ok_or(TrackBytesError::NotTracks)?;
        let mut words = body.chunks_exact(4).map(|c| u32::from_le_bytes([c[0], c[1], c[2], c[3]]));
        let mut take = || words.next().ok_or(TrackBytesError::Truncated { at: bytes.len() });
        let (width, height, frames, cut_count) = (take()?, take()?, take()?, take()?);
        let mut cuts = Vec::new();
        for _ in 0..cut_count {
            cuts.push(take()?);
        }
        let count = take()?;
        let mut tracks = Vec::new();
        for _ in 0..count {
            let (id, first_frame, length) = (TrackId(take()?), take()?, take()?);
            let mut positions = Vec::new();
            for _ in 0..length {
                positions.push([f32::from_bits(take()?), f32::from_bits(take()?)]);
            }
            tracks.push(Track { id, first_frame, positions });
        }
        let set = Self { width, height, frames, cuts, tracks };
        set.check().map_err(|what| TrackBytesError::Damaged { what })?;
        Ok(set)
    }

    /// What every reader of a run counts on.
    fn check(&self) -> Result<(), &'static str> {
        if !(1..=MOST_SIDE).contains(&self.width) || !(1..=MOST_SIDE).contains(&self.height) {
            return Err("its picture has no size");
        }
        if self.frames > MOST_FRAMES || self.cuts.iter().any(|c| *c >= self.frames.max(1)) {
            return Err("it has more frames than any clip");
        }
        if self.tracks.windows(2).any(|p| p[0].id >= p[1].id) {
            return Err("its tracks are out of order");
        }
        let inside = |t: &Track| {
            !t.positions.is_empty() && u64::from(t.first_frame) + t.positions.len() as u64 <= u64::from(self.frames)
        };
        if !self.tracks.iter().all(inside) {
            return Err("a track passes the last frame");
        }
        Ok(())
    }

    /// The number of tracks on each frame.
    pub fn counts(&self) -> Vec<u32> {
        let mut counts = vec![0; self.frames as usize];
        for track in &self.tracks {
            for (frame, _) in track.sightings() {
                if let Some(c) = counts.get_mut(frame as usize) {
                    *c += 1;
                }
            }
        }
        counts
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample() -> TrackSet {
        let track = |id, first_frame, n: u32| Track {
            id: TrackId(id),
            first_frame,
            positions: (0..n).map(|i| [i as f32 + 0.25, 7.5]).collect(),
        };
        TrackSet { width: 640, height: 360, frames: 10, cuts: vec![4], tracks: vec![track(0, 0, 4), track(3, 2, 8)] }
    }

    #[test]
    fn bytes_read_back_and_cut_off_bytes_are_refused() {
        let bytes = sample().to_bytes();
        assert_eq!(TrackSet::from_bytes(&bytes), Ok(sample()));
        for n in 8..bytes.len() {
            assert_eq!(TrackSet::from_bytes(&bytes[..n]), Err(TrackBytesError::Truncated { at: n }));
        }
        assert_eq!(TrackSet::from_bytes(b"something else"), Err(TrackBytesError::NotTracks));
    }

    /// Fault: a run whose first track passes the last frame made the solver panic, and with it the queue of jobs.
    #[test]
    fn a_run_that_cannot_be_is_refused() {
        let broken = |change: fn(&mut TrackSet)| {
            let mut set = sample();
            change(&mut set);
            TrackSet::from_bytes(&set.to_bytes())
        };
        assert!(broken(|_| {}).is_ok());
        for change in [
            (|s| s.tracks[0].first_frame = 8) as fn(&mut TrackSet),
            |s| s.tracks[0].first_frame = u32::MAX,
            |s| s.tracks[0].positions.clear(),
            |s| s.tracks[1].id = TrackId(0),
            |s| s.width = 0,
            |s| s.height = u32::MAX,
            |s| s.frames = u32::MAX,
            |s| s.cuts = vec![10],
        ] {
            assert!(matches!(broken(change), Err(TrackBytesError::Damaged { .. })));
        }
    }

    #[test]
    fn counts_and_positions_follow_the_spans() {
        let set = sample();
        assert_eq!(set.counts(), [1, 1, 2, 2, 1, 1, 1, 1, 1, 1]);
        assert_eq!(set.tracks[1].at(4), Some([2.25, 7.5]));
        assert_eq!((set.tracks[1].at(1), set.tracks[1].at(10)), (None, None));
    }
}
