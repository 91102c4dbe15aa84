//! Tracks in the form in which they are solved.

use crate::geometry::Lens;
use crate::solve::choice::TrackChoice;
use crate::solve::settings::CentreChoice;
use crate::track::TrackSet;
use nalgebra::Vector2;

/// Tracks in the form that solving uses: for each track the frames and pixels, by rising frame.
#[derive(Debug, Clone)]
pub struct Problem {
    /// Picture width, px.
    pub width: u32,
    /// Picture height, px.
    pub height: u32,
    /// Number of frames.
    pub frames: usize,
    /// One list of (frame, pixel) per track.
    pub tracks: Vec<Vec<(u32, Vector2<f64>)>>,
    /// The id that each track has in its run; rising.
    pub ids: Vec<crate::track::TrackId>,
    /// Whether a person said that a track is to be used, whatever it does.
    pub trusted: Vec<bool>,
    /// Where the axis of the lens meets the picture at first, px.
    pub centre_px: [f64; 2],
}

impl Problem {
    /// The tracks of a run that are at least `min_length` frames long and not left out, as far as the masks allow.
    pub fn new(set: &TrackSet, min_length: usize, choice: &TrackChoice, centre: CentreChoice) -> Self {
        let middle = Lens::centred(1.0, set.width, set.height).centre_px;
        let mut problem = Self {
            width: set.width,
            height: set.height,
            frames: set.frames as usize,
            tracks: Vec::new(),
            ids: Vec::new(),
            trusted: Vec::new(),
            centre_px: if let CentreChoice::Given(at) = centre { at } else { middle },
        };
        let allowed = choice.allowed(set.frames);
        for track in set.tracks.iter().filter(|t| !choice.left_out.contains(&t.id)) {
            let seen = track.sightings().filter(|(f, p)| allowed(*f, *p));
            let seen: Vec<_> = seen.map(|(f, p)| (f, Vector2::new(f64::from(p[0]), f64::from(p[1])))).collect();
            if seen.len() >= min_length {
                problem.tracks.push(seen);
                problem.ids.push(track.id);
                problem.trusted.push(choice.trusted.contains(&track.id));
            }
        }
        problem
    }

    /// An undistorted lens whose axis is where it is at first.
    pub fn lens(&self, focal_px: f64) -> Lens {
        Lens { centre_px: self.centre_px, ..Lens::centred(focal_px, self.width, self.height) }
    }

    /// Size against a picture 1280 wide; thresholds in px grow with it.
    pub fn scale(&self) -> f64 {
        f64::from(self.width.max(self.height)) / 1280.0
    }

    /// Where track `track` is at `frame`, px.
    pub fn at(&self, track: usize, frame: u32) -> Option<Vector2<f64>> {
        let t = &self.tracks[track];
        let guess = frame.checked_sub(t.first()?.0)? as usize;
        // Without gaps the place is known; with them it lies before.
        match t.get(guess) {
            Some(o) if o.0 == frame => Some(o.1),
            _ => t[..guess.min(t.len())].binary_search_by_key(&frame, |o| o.0).ok().map(|i| t[i].1),
        }
    }
}
