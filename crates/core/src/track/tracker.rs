//! The track run: one frame in, all points one frame further.

use super::active_track::ActiveTrack;
use super::align::{Template, Warp};
use super::blank_interval::BlankInterval;
use super::corner_search::{CornerSearch, REPLENISH_EVERY, coverage};
use super::motion::AffineMotion;
use super::occluded::{OccludedTrack, surroundings};
use super::propagate::{Scratch, Windows, follow, predict};
use super::settings::{TrackError, TrackSettings};
use super::track_set::{Track, TrackId, TrackSet};
use crate::image::{Plane, Pyramid};
use crate::matte::{Masks, MasksAtFrame};
use rayon::prelude::*;

/// References that a track may use one after the other; each adds the error of one alignment.
const MAX_RENEWALS: u8 = 4;
/// Levels of the pyramids at most.
const MAX_LEVELS: usize = 8;
/// Points fewer than this say nothing about a cut.
const CUT_MIN_POINTS: usize = 24;
/// Less than this part of the points surviving one step, with nothing else changed, is a cut.
const CUT_SURVIVORS: f64 = 0.12;

/// What one frame came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TrackStep {
    /// The frame.
    pub frame: u32,
    /// Points propagated from the frame before.
    pub carried: usize,
    /// Points lost on the way here.
    pub lost: usize,
    /// Points found anew.
    pub found: usize,
}

/// Follows points through a clip that is handed in frame by frame.
pub struct Tracker {
    settings: TrackSettings,
    masks: Masks,
    windows: Windows,
    active: Vec<ActiveTrack>,
    occluded: Vec<OccludedTrack>,
    done: Vec<Track>,
    cuts: Vec<u32>,
    previous: Option<Pyramid>,
    /// The one before that, whose memory the next one takes.
    spare: Option<Pyramid>,
    /// The coarse motion of the frame before.
    motion: AffineMotion,
    size: (usize, usize),
    blank: BlankInterval,
    frame: u32,
    next_id: u32,
    corners: CornerSearch,
}

impl Tracker {
    /// A run that has seen no frame yet.
    ///
    /// # Errors
    /// [`TrackError::Setting`] when a setting is out of range.
    pub fn new(settings: TrackSettings, masks: Masks) -> Result<Self, TrackError> {
        settings.validate()?;
        let windows = Windows::new(settings.window_half_px as usize);
        Ok(Self {
            corners: CornerSearch::new(&settings),
            settings,
            masks,
            windows,
            active: Vec::new(),
            occluded: Vec::new(),
            done: Vec::new(),
            cuts: Vec::new(),
            previous: None,
            spare: None,
            motion: AffineMotion::shift(0.0, 0.0),
            size: (0, 0),
            blank: BlankInterval::default(),
            frame: 0,
            next_id: 0,
        })
    }

    /// Begins at another frame than 0, for masks that move.
    pub fn beginning_at(self, frame: u32) -> Self {
        Self { frame, ..self }
    }

    /// Takes in the next frame.
    ///
    /// # Errors
    /// [`TrackError::Size`] when it is of another size than the first.
    pub fn push(&mut self, picture: &Plane) -> Result<TrackStep, TrackError> {
        let begins = self.previous.is_none();
        self.check_size(picture)?;
        let frame = self.frame;
        let pyramid = self.pyramid_of(picture);
        if self.blank.takes(&pyramid) && self.has_points() {
            self.pass_over(pyramid);
            self.frame += 1;
            return Ok(TrackStep { frame, carried: 0, lost: 0, found: 0 });
        }
        let masks = self.masks.at(frame);
        let before = self.active.len();
        let mut lost = 0;
        if let Some(previous) = self.previous.take() {
            lost = self.propagate(&previous, &pyramid, &masks);
            self.spare = Some(previous);
        }
        let carried = self.active.len();
        let cut = before >= CUT_MIN_POINTS && (carried as f64) < CUT_SURVIVORS * before as f64;
        if cut {
            for active in std::mem::take(&mut self.active) {
                self.terminate(active, true);
            }
            for occluded in std::mem::take(&mut self.occluded) {
                self.terminate(occluded.active, false);
            }
            self.corners.forget();
        }
        let due = begins || frame.is_multiple_of(REPLENISH_EVERY) || cut || lost * 8 > before.max(1);
        let found = if due { self.replenish(&pyramid, &masks) } else { 0 };
        // Only a picture that has points of its own is another picture; a dip to black is none.
        if cut && self.active.len() >= CUT_MIN_POINTS {
            self.cuts.push(frame);
        }
        self.previous = Some(pyramid);
        self.frame += 1;
        Ok(TrackStep { frame, carried, lost, found })
    }

    /// Takes in the frame before, with points that begin there; none is found anew.
    pub(super) fn push_back(
        &mut self,
        picture: &Plane,
        frame: u32,
        seeds: &[(TrackId, [f32; 2])],
    ) -> Result<(), TrackError> {
        self.check_size(picture)?;
        self.frame = frame;
        let pyramid = self.pyramid_of(picture);
        if self.blank.takes(&pyramid) && self.has_points() {
            self.pass_over(pyramid);
            return Ok(());
        }
        let masks = self.masks.at(frame);
        if let Some(previous) = self.previous.take() {
            self.propagate(&previous, &pyramid, &masks);
            self.spare = Some(previous);
        }
        for (id, at) in seeds {
            let at = at.map(f64::from);
            let begun = ActiveTrack::begin(id.0, frame, at, pyramid.level(0), &self.windows.fine);
            self.active.extend(begun);
        }
        self.previous = Some(pyramid);
        Ok(())
    }

    fn has_points(&self) -> bool {
        !self.active.is_empty() || !self.occluded.is_empty()
    }

    /// Leaves all points where they were on the last picture that shows anything.
    fn pass_over(&mut self, picture: Pyramid) {
        self.spare = Some(picture);
        if self.blank.is_too_long() {
            self.terminate_all();
            return;
        }
        self.active.iter_mut().for_each(|active| active.positions.push([f32::NAN; 2]));
        self.occluded.iter_mut().for_each(OccludedTrack::pass_over);
    }

    fn pyramid_of(&mut self, picture: &Plane) -> Pyramid {
        match self.spare.take() {
            Some(spare) => spare.rebuilt(picture, MAX_LEVELS),
            None => Pyramid::new(picture, MAX_LEVELS),
        }
    }

    /// Ends all tracks.
    pub(super) fn terminate_all(&mut self) {
        for active in std::mem::take(&mut self.active)
            .into_iter()
            .chain(std::mem::take(&mut self.occluded).into_iter().map(|a| a.active))
        {
            self.terminate(active, false);
        }
    }

    /// Ends the tracks of which it is so.
    pub(super) fn terminate_where(&mut self, is_so: impl Fn(TrackId, [f64; 2]) -> bool) {
        let (gone, kept): (Vec<ActiveTrack>, Vec<ActiveTrack>) =
            std::mem::take(&mut self.active).into_iter().partition(|l| is_so(TrackId(l.id), [l.warp.x, l.warp.y]));
        self.active = kept;
        gone.into_iter().for_each(|l| self.terminate(l, false));
    }

    /// Notes the size of the first frame and refuses any other.
    fn check_size(&mut self, picture: &Plane) -> Result<(), TrackError> {
        let found = (picture.width(), picture.height());
        if self.previous.is_none() {
            self.size = found;
        } else if self.size != found {
            return Err(TrackError::Size {
                frame: self.frame,
                found_width: found.0,
                found_height: found.1,
                width: self.size.0,
                height: self.size.1,
            });
        }
        Ok(())
    }

    /// Where the points of the newest frame are, px.
    pub fn points(&self) -> Vec<[f64; 2]> {
        self.active.iter().map(|l| [l.warp.x, l.warp.y]).collect()
    }

    /// Where the points of the newest frame are, px, by their ids.
    pub(super) fn places(&self) -> std::collections::BTreeMap<u32, [f64; 2]> {
        self.active.iter().map(|l| (l.id, [l.warp.x, l.warp.y])).collect()
    }

    /// Uses other masks from here on.
    pub(super) fn look_inside(&mut self, masks: Masks) {
        self.masks = masks;
    }

    /// Lets go of the points that lie outside.
    pub(super) fn drop_outside(&mut self, masks: &Masks) {
        let masks = masks.at(0);
        self.active.retain(|l| masks.allows(l.warp.x, l.warp.y, 0.0));
        self.occluded.clear();
    }

    /// How evenly the newest frame is covered: the part of its squares, 32 across whatever the settings, that hold a
    /// point or border on one that does.
    pub fn coverage(&self) -> f64 {
        coverage(&self.points(), self.size)
    }

    /// Ends the run.
    pub fn finish(mut self) -> TrackSet {
        self.terminate_all();
        self.done.sort_by_key(|t| t.id);
        TrackSet {
            width: self.size.0 as u32,
            height: self.size.1 as u32,
            frames: self.frame,
            cuts: self.cuts,
            tracks: self.done,
        }
    }

    /// Keeps a finished track if it was seen at least twice. After a cut its last view is of another
    /// picture and goes.
    fn terminate(&mut self, mut active: ActiveTrack, after_cut: bool) {
        if after_cut && active.positions.len() + active.first_frame as usize > self.frame as usize {
            active.positions.pop();
        }
        while active.positions.last().is_some_and(|p| !p[0].is_finite()) {
            active.positions.pop();
        }
        if active.positions.len() >= 2 {
            self.done.push(Track {
                id: TrackId(active.id),
                first_frame: active.first_frame,
                positions: active.positions,
            });
        }
    }

    /// Moves all points from `previous` to `current`; returns how many were lost.
    fn propagate(&mut self, previous: &Pyramid, current: &Pyramid, masks: &MasksAtFrame) -> usize {
        let expected = predict(&self.active, &self.motion, (previous, current), &self.windows);
        let motion = &expected.motion;
        let back = self.reacquire_occluded(motion, current, masks);
        let (settings, windows) = (&self.settings, &self.windows);
        let moved: Vec<Option<(Warp, bool)>> = self
            .active
            .par_iter()
            .map_init(
                || Scratch::new(windows),
                |scratch, active| follow(active, previous, current, &expected, masks, settings, scratch),
            )
            .collect();
        let mut lost = 0;
        let mut kept = Vec::with_capacity(self.active.len());
        for (mut active, moved) in std::mem::take(&mut self.active).into_iter().zip(moved) {
            let Some((warp, renew)) = moved else {
                lost += 1;
                match surroundings(&active, previous, &self.windows.coarse, &mut Vec::new()) {
                    // This frame is the first that it misses.
                    Some(surroundings) => self.keep_occluded(OccludedTrack::new(active, surroundings), motion),
                    None => self.terminate(active, false),
                }
                continue;
            };
            active.positions.push([warp.x as f32, warp.y as f32]);
            let (dx, dy) = motion.at(active.warp.x, active.warp.y);
            let own = (warp.x - active.warp.x - dx, warp.y - active.warp.y - dy);
            active.surprise_px = (own.0 - active.own_motion.0).hypot(own.1 - active.own_motion.1);
            active.own_motion = own;
            active.warp = warp;
            if renew {
                let fresh = Template::cut(current.level(0), warp.x, warp.y, &self.windows.fine, &mut Vec::new());
                if let Some(template) = fresh.filter(|_| active.renewals < MAX_RENEWALS) {
                    active.template = template;
                    active.warp = Warp::shift(warp.x, warp.y);
                    active.renewals += 1;
                } else {
                    self.terminate(active, false);
                    continue;
                }
            }
            kept.push(active);
        }
        kept.extend(back);
        self.active = kept;
        self.motion = expected.motion;
        lost
    }

    /// Lets a point that is out of sight wait one frame more, or gives it up.
    fn keep_occluded(&mut self, mut occluded: OccludedTrack, motion: &AffineMotion) {
        if occluded.wait(motion, self.size.0, self.size.1) {
            self.occluded.push(occluded);
        } else {
            self.terminate(occluded.active, false);
        }
    }

    /// Looks for points that are out of sight; hands back those that were found.
    fn reacquire_occluded(
        &mut self,
        motion: &AffineMotion,
        current: &Pyramid,
        masks: &MasksAtFrame,
    ) -> Vec<ActiveTrack> {
        for occluded in std::mem::take(&mut self.occluded) {
            self.keep_occluded(occluded, motion);
        }
        let waiting = std::mem::take(&mut self.occluded);
        let half = f64::from(self.settings.window_half_px);
        let found: Vec<Option<Warp>> = waiting
            .par_iter()
            .map_init(Vec::new, |buffer, occluded| {
                let warp = if occluded.is_due() { occluded.find(current, buffer) } else { None };
                warp.filter(|w| masks.allows(w.x, w.y, half))
            })
            .collect();
        let mut back = Vec::new();
        for (occluded, warp) in waiting.into_iter().zip(found) {
            match warp {
                Some(warp) => back.push(occluded.reacquire(warp)),
                None => self.occluded.push(occluded),
            }
        }
        back
    }

    /// Begins tracks where there are none; returns how many.
    fn replenish(&mut self, current: &Pyramid, masks: &MasksAtFrame) -> usize {
        let picture = current.level(0);
        let corners = self.corners.search(picture, self.frame, &self.points(), masks);
        let before = self.active.len();
        for at in corners {
            if let Some(track) = ActiveTrack::begin(self.next_id, self.frame, at, picture, &self.windows.fine) {
                self.active.push(track);
                self.next_id += 1;
            }
        }
        self.active.len() - before
    }
}

#[cfg(test)]
mod tests {
    use super::super::corner_search::SPARSE_SPACING;
    use super::super::synthetic::{frame, texture};
    use super::*;

    #[test]
    fn forty_frames_of_zoom_and_shake_drift_less_than_a_tenth_of_a_pixel() {
        let mut tracker = Tracker::new(TrackSettings::default(), Masks::default()).unwrap();
        let camera = |f: u32| {
            let t = f64::from(f);
            (1.0 + 0.008 * t, 14.0 * (0.9 * t).sin(), 9.0 * (1.3 * t).cos())
        };
        for f in 0..40 {
            let (s, dx, dy) = camera(f);
            tracker.push(&frame(|x, y| (240.0 + (x - 240.0 - dx) / s, 150.0 + (y - 150.0 - dy) / s))).unwrap();
        }
        let set = tracker.finish();
        assert!(set.cuts.is_empty(), "{:?}", set.cuts);
        let long: Vec<_> = set.tracks.iter().filter(|t| t.positions.len() >= 25).collect();
        assert!(long.len() > 40, "{} long tracks of {}", long.len(), set.tracks.len());
        let mut errors: Vec<f64> = Vec::new();
        for track in long {
            let (s0, dx0, dy0) = camera(track.first_frame);
            let p = track.at(track.first_frame).unwrap();
            let world = [240.0 + (p[0] - 240.0 - dx0) / s0, 150.0 + (p[1] - 150.0 - dy0) / s0];
            for f in track.first_frame..=track.last_frame() {
                let (s, dx, dy) = camera(f);
                let q = track.at(f).unwrap();
                let e = [240.0 + (world[0] - 240.0) * s + dx - q[0], 150.0 + (world[1] - 150.0) * s + dy - q[1]];
                errors.push(e[0].hypot(e[1]));
            }
        }
        let rms = (errors.iter().map(|e| e * e).sum::<f64>() / errors.len() as f64).sqrt();
        assert!(rms < 0.1, "rms {rms}");
    }

    #[test]
    fn looking_first_tells_where_points_would_land_and_how_much_they_cover() {
        let look = |density: f64, spacing_px: f64, half: bool| {
            let settings = TrackSettings { density, spacing_px, ..TrackSettings::default() };
            let mut tracker = Tracker::new(settings, Masks::default()).unwrap();
            tracker.push(&frame(|x, y| if half && x > 160.0 { (0.0, 0.0) } else { (x, y) })).unwrap();
            (tracker.points(), tracker.coverage())
        };
        let ((few, _), (many, even), (left, part)) =
            (look(400.0, 34.0, false), look(2304.0, 14.0, false), look(2304.0, 14.0, true));
        assert!(many.len() > 2 * few.len() && even > 0.8, "{} {} {even}", few.len(), many.len());
        assert!(part < 0.75 * even && left.iter().all(|p| p[0] < 175.0), "a bare half is seen as such: {part}");
        // However many are wanted, they keep their distance.
        let (apart, _) = look(2304.0, 80.0, false);
        let nearest = |p: &[f64; 2]| {
            apart.iter().filter(|q| *q != p).map(|q| (p[0] - q[0]).hypot(p[1] - q[1])).fold(f64::MAX, f64::min)
        };
        assert!(
            apart.len() > 20 && apart.iter().all(|p| nearest(p) >= 0.375 * 80.0 * SPARSE_SPACING),
            "{}",
            apart.len()
        );
    }

    #[test]
    fn what_was_barren_is_searched_again_soon() {
        let mut tracker = Tracker::new(TrackSettings::default(), Masks::default()).unwrap();
        let there = |tracker: &Tracker| tracker.points().iter().filter(|p| p[0] > 260.0).count();
        let mut seen = Vec::new();
        for f in 0..12 {
            // The right half is bare until something comes into it.
            tracker.push(&frame(|x, y| if x > 240.0 && f < 7 { (0.0, 0.0) } else { (x, y) })).unwrap();
            seen.push(there(&tracker));
        }
        assert_eq!(seen[..7], [0; 7]);
        assert!(seen[9] > 40, "{seen:?}");
    }

    #[test]
    fn points_are_found_again_behind_what_passes_in_front_of_them() {
        let run = |passer: bool| {
            let mut tracker = Tracker::new(TrackSettings::default(), Masks::default()).unwrap();
            for f in 0..44u32 {
                let drift = 0.7 * f64::from(f);
                // A striped thing of a sixth of the frame's width crosses at 14 px a frame.
                let from = 14.0 * f64::from(f) - 120.0;
                let picture = Plane::from_fn(480, 300, |x, y| {
                    let (x, y) = (x as f64, y as f64);
                    let on = passer && (from..from + 80.0).contains(&x) && y > 30.0;
                    (if on { 60.0 + 40.0 * ((x - from) * 0.4).sin() * (y * 0.21).cos() } else { texture(x + drift, y) })
                        as f32
                });
                tracker.push(&picture).unwrap();
            }
            tracker.finish()
        };
        let set = run(true);
        let gap = |t: &Track| t.positions.iter().any(|p| p[0].is_nan());
        // Those that begin later may sit on the edge of the thing itself.
        let back: Vec<&Track> = set.tracks.iter().filter(|t| t.first_frame == 0 && gap(t)).collect();
        assert!(back.len() >= 15, "{} tracks came back", back.len());
        for t in &back {
            let (start, first) = t.sightings().next().unwrap();
            for (f, p) in t.sightings() {
                let right = [f64::from(first[0]) - 0.7 * f64::from(f - start), f64::from(first[1])];
                let error = (f64::from(p[0]) - right[0]).hypot(f64::from(p[1]) - right[1]);
                assert!(error < 0.25, "track {} on frame {f} is {error} px off", t.id.0);
            }
            assert_eq!(t.at(t.last_frame()).map(|p| p[0].is_finite()), Some(true), "no track ends in a gap");
        }
        assert!(!run(false).tracks.iter().any(gap), "with nothing in front there is no gap");
    }

    #[test]
    fn what_fills_most_of_the_frame_and_jumps_takes_no_points_of_the_rest_along() {
        let mut tracker = Tracker::new(TrackSettings::default(), Masks::default()).unwrap();
        for f in 0..14u32 {
            let drift = 0.8 * f64::from(f);
            // A patterned crowd over the lower two thirds stands still, and rushes off by 90 px on frame 9.
            let rush = if f >= 9 { 90.0 } else { 0.0 };
            let picture = Plane::from_fn(480, 300, |x, y| {
                let (x, y) = (x as f64, y as f64);
                (if y > 100.0 { 1.6 * texture(x - rush + 4000.0, y) - 70.0 } else { texture(x + drift, y) }) as f32
            });
            tracker.push(&picture).unwrap();
        }
        let set = tracker.finish();
        assert!(set.cuts.is_empty(), "{:?}", set.cuts);
        let above = |t: &&Track| t.positions.iter().all(|p| p[1] < 85.0);
        let (there, kept) = (
            set.tracks.iter().filter(above).filter(|t| t.at(8).is_some()).count(),
            set.tracks.iter().filter(above).filter(|t| t.at(8).is_some() && t.at(9).is_some()).count(),
        );
        assert!(there >= 20 && kept * 10 >= there * 9, "{kept} of {there}");
    }

    #[test]
    fn a_hard_cut_is_named_and_no_track_crosses_it() {
        let mut tracker = Tracker::new(TrackSettings::default(), Masks::default()).unwrap();
        for f in 0..10 {
            let t = f64::from(f);
            let picture = frame(|x, y| if f < 5 { (x + 2.0 * t, y) } else { (y + 5000.0, x + 2.0 * t) });
            tracker.push(&picture).unwrap();
        }
        let set = tracker.finish();
        assert_eq!(set.cuts, [5]);
        assert!(set.tracks.iter().all(|t| t.last_frame() < 5 || t.first_frame >= 5));
    }

    #[test]
    fn black_and_one_pixel_wide_frames_have_no_tracks() {
        for (w, h) in [(320, 200), (1, 200), (200, 1), (1, 1)] {
            let mut tracker = Tracker::new(TrackSettings::default(), Masks::default()).unwrap();
            for _ in 0..4 {
                tracker.push(&Plane::from_fn(w, h, |_, _| 0.0)).unwrap();
            }
            let set = tracker.finish();
            assert_eq!((set.tracks.len(), set.frames), (0, 4));
        }
    }

    #[test]
    fn a_frame_of_another_size_is_refused() {
        let mut tracker = Tracker::new(TrackSettings::default(), Masks::default()).unwrap();
        tracker.push(&Plane::from_fn(64, 64, |_, _| 0.0)).unwrap();
        assert!(matches!(tracker.push(&Plane::from_fn(64, 65, |_, _| 0.0)), Err(TrackError::Size { frame: 1, .. })));
    }

    #[test]
    fn one_thread_or_many_give_the_same_bits() {
        let run = |threads: usize| {
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
            pool.install(|| {
                let mut tracker = Tracker::new(TrackSettings::default(), Masks::default()).unwrap();
                for f in 0..6 {
                    tracker.push(&frame(|x, y| (x + 3.0 * f64::from(f), y))).unwrap();
                }
                tracker.finish()
            })
        };
        assert_eq!(run(1), run(3));
    }

    #[test]
    fn a_keep_out_stays_empty() {
        use crate::matte::{Mask, MaskMode, OutlineKey};
        let outline = vec![[100.0, 50.0], [300.0, 50.0], [300.0, 250.0], [100.0, 250.0]];
        let masks = Masks { masks: vec![Mask::new(MaskMode::KeepOut, vec![OutlineKey::new(0, outline)])] };
        let mut tracker = Tracker::new(TrackSettings::default(), masks).unwrap();
        for f in 0..5 {
            tracker.push(&frame(|x, y| (x + 4.0 * f64::from(f), y))).unwrap();
        }
        let set = tracker.finish();
        assert!(set.tracks.len() > 20);
        for p in set.tracks.iter().flat_map(|t| &t.positions) {
            assert!(!(90.0..310.0).contains(&p[0]) || !(40.0..260.0).contains(&p[1]), "{p:?}");
        }
    }
}
