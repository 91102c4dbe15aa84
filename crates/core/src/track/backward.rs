//! The way back: points that were found late are followed to where they first came into view.

use super::settings::{TrackError, TrackSettings};
use super::track_set::{TrackId, TrackSet};
use super::tracker::Tracker;
use crate::image::Plane;
use crate::matte::Masks;
use std::collections::BTreeMap;

/// How near another point of the same frame a point may come, as a part of the spacing, before it counts as the same.
const SAME: f64 = 0.17;

/// Takes a finished run and the pictures from the last frame to the first, and makes its tracks longer at their
/// beginnings. No point is found anew.
pub struct BackwardTracker {
    tracker: Tracker,
    set: TrackSet,
    /// By frame, the tracks that begin there and where.
    seeds: BTreeMap<u32, Vec<(TrackId, [f32; 2])>>,
    frame: u32,
    near_px: f64,
}

impl BackwardTracker {
    /// Begins behind the last frame of a run.
    ///
    /// # Errors
    /// [`TrackError::Setting`] when a setting is out of range.
    pub fn new(settings: TrackSettings, masks: Masks, set: TrackSet) -> Result<Self, TrackError> {
        let near_px = SAME * settings.spacing_px * f64::from(set.width) / 1280.0;
        let mut seeds: BTreeMap<u32, Vec<(TrackId, [f32; 2])>> = BTreeMap::new();
        for track in set.tracks.iter().filter(|t| t.first_frame > 0) {
            seeds.entry(track.first_frame).or_default().push((track.id, track.positions[0]));
        }
        Ok(Self { tracker: Tracker::new(settings, masks)?, frame: set.frames, set, seeds, near_px })
    }

    /// The frame whose picture is wanted next; `None` behind the first.
    pub fn wanted(&self) -> Option<u32> {
        self.frame.checked_sub(1)
    }

    /// Takes in the picture of the frame that is wanted.
    ///
    /// # Errors
    /// [`TrackError::Size`] for a picture of another size.
    pub fn push(&mut self, picture: &Plane) -> Result<(), TrackError> {
        let Some(frame) = self.wanted() else { return Ok(()) };
        self.frame = frame;
        if self.set.cuts.contains(&(frame + 1)) {
            self.tracker.terminate_all();
        }
        let seeds = self.seeds.remove(&frame).unwrap_or_default();
        self.tracker.push_back(picture, frame, &seeds)?;
        // Where another track already follows the same thing there is nothing to gain.
        let known: Vec<(TrackId, [f64; 2])> =
            self.set.tracks.iter().filter_map(|t| Some((t.id, t.at(frame)?))).collect();
        let near_px = self.near_px;
        self.tracker.terminate_where(|id, at| {
            known.iter().any(|(other, p)| *other != id && (p[0] - at[0]).hypot(p[1] - at[1]) < near_px)
        });
        Ok(())
    }

    /// The run with its tracks made longer.
    pub fn finish(self) -> TrackSet {
        let mut set = self.set;
        for back in self.tracker.finish().tracks {
            if let Ok(i) = set.tracks.binary_search_by_key(&back.id, |t| t.id) {
                let track = &mut set.tracks[i];
                let more = back.positions.len() - 1;
                let before = back.positions.into_iter().skip(1).rev();
                track.positions = before.chain(std::mem::take(&mut track.positions)).collect();
                track.first_frame -= more as u32;
            }
        }
        set
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Ground that grows by 2 % a frame about the middle, so that what comes near the edge was once in the middle.
    fn picture(frame: u32) -> Plane {
        let s = 1.02f64.powi(frame as i32);
        let hash = |i: i64, j: i64| {
            let v = (i.wrapping_mul(0x9E37_79B9) ^ j.wrapping_mul(0x85EB_CA6B)).wrapping_mul(0x27D4_EB2F) as u64;
            (v >> 20) % 200
        };
        Plane::from_fn(480, 300, |x, y| {
            let (u, v) = ((x as f64 - 240.0) / s / 6.0 + 900.0, (y as f64 - 150.0) / s / 6.0 + 900.0);
            let (i, j) = (u.floor(), v.floor());
            let (fu, fv) = (u - i, v - j);
            let at = |a: i64, b: i64| hash(i as i64 + a, j as i64 + b) as f64;
            let (top, bottom) = (at(0, 0) + fu * (at(1, 0) - at(0, 0)), at(0, 1) + fu * (at(1, 1) - at(0, 1)));
            (30.0 + top + fv * (bottom - top)) as f32
        })
    }

    #[test]
    fn tracks_reach_back_to_where_they_came_into_view_and_stay_true() {
        let mut tracker = Tracker::new(TrackSettings::default(), Masks::default()).unwrap();
        (0..30).for_each(|f| assert_eq!(tracker.push(&picture(f)).unwrap().frame, f));
        let forward = tracker.finish();
        let mut back = BackwardTracker::new(TrackSettings::default(), Masks::default(), forward.clone()).unwrap();
        while let Some(f) = back.wanted() {
            back.push(&picture(f)).unwrap();
        }
        let both = back.finish();
        assert_eq!((both.tracks.len(), both.frames), (forward.tracks.len(), 30));
        let sum = |s: &TrackSet| s.tracks.iter().map(|t| t.positions.len()).sum::<usize>();
        assert!(sum(&both) > sum(&forward) + 100, "{} {}", sum(&both), sum(&forward));
        for (t, was) in both.tracks.iter().zip(&forward.tracks) {
            assert_eq!((t.id, t.last_frame()), (was.id, was.last_frame()));
            let seed = was.at(was.first_frame).unwrap();
            for (f, p) in t.sightings().filter(|(f, _)| *f < was.first_frame) {
                let s = 1.02f64.powi(f as i32 - was.first_frame as i32);
                let right = [240.0 + (seed[0] - 240.0) * s, 150.0 + (seed[1] - 150.0) * s];
                let error = (f64::from(p[0]) - right[0]).hypot(f64::from(p[1]) - right[1]);
                assert!(error < 0.4, "track {} on frame {f} is {error} px off", t.id.0);
            }
        }
    }

    #[test]
    fn no_track_reaches_back_across_a_cut() {
        let film = |f: u32| {
            let plain = picture(f);
            if f < 8 { plain } else { Plane::from_fn(480, 300, |x, y| plain.at((x * 7 + 31 * (y / 3)) % 480, 299 - y)) }
        };
        let pictures: Vec<Plane> = (0..14).map(film).collect();
        let mut tracker = Tracker::new(TrackSettings::default(), Masks::default()).unwrap();
        pictures.iter().for_each(|p| assert!(tracker.push(p).is_ok()));
        let forward = tracker.finish();
        assert_eq!(forward.cuts, [8]);
        let mut back = BackwardTracker::new(TrackSettings::default(), Masks::default(), forward).unwrap();
        while let Some(f) = back.wanted() {
            back.push(&pictures[f as usize]).unwrap();
        }
        assert!(back.finish().tracks.iter().all(|t| t.last_frame() < 8 || t.first_frame >= 8));
    }
}
