//! Values of inserts over time, whatever they are.

use super::{Insert, Placement, Slot};
use crate::scene::anim::{Animated, Track};
use serde::{Deserialize, Serialize};

/// A value of what an insert shows, over time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum ContentTrack {
    /// A number.
    Number(Animated<f64>),
    /// A colour, 0 to 255.
    Colour(Animated<[f64; 3]>),
}

impl ContentTrack {
    /// A key with what a slot holds.
    pub fn begun(frame: f64, slot: &Slot) -> Self {
        let mut made = match slot {
            Slot::Number(v) => Self::Number((**v).into()),
            Slot::Colour(v) => Self::Colour(v.map(f64::from).into()),
        };
        made.track_mut().key_at(frame);
        made
    }

    /// Puts what it is at a time into a slot of its own kind.
    pub fn give(&self, frame: f64, slot: Slot) {
        match (self, slot) {
            (Self::Number(v), Slot::Number(slot)) => *slot = v.at(frame),
            (Self::Colour(v), Slot::Colour(slot)) => *slot = v.at(frame).map(|c| c.round().clamp(0.0, 255.0) as u8),
            _ => {}
        }
    }

    /// Takes what a slot of its own kind holds, at a time.
    pub fn take(&mut self, frame: f64, slot: &Slot) {
        match (self, slot) {
            (Self::Number(v), Slot::Number(slot)) => v.set_at(frame, **slot),
            (Self::Colour(v), Slot::Colour(slot)) => v.set_at(frame, slot.map(f64::from)),
            _ => {}
        }
    }

    /// Moves it in time by frames.
    pub fn shift(&mut self, by: f64) {
        match self {
            Self::Number(v) => v.shift(by),
            Self::Colour(v) => v.shift(by),
        }
    }

    /// Times of its keys, frames.
    pub fn key_frames(&self) -> Vec<f64> {
        match self {
            Self::Number(v) => Track::key_frames(v),
            Self::Colour(v) => Track::key_frames(v),
        }
    }

    /// Whatever it is of.
    pub fn track_mut(&mut self) -> &mut dyn Track {
        match self {
            Self::Number(v) => v,
            Self::Colour(v) => v,
        }
    }
}

impl Insert {
    /// All its values over time, by name: `place`, `turn`, `lift`, `scale`, `opacity`, and those of what it shows.
    pub fn all_tracks(&mut self) -> Vec<(&str, &mut dyn Track)> {
        let Placement { anchor, scale, .. } = &mut self.placement;
        let mut all: Vec<(&str, &mut dyn Track)> = vec![
            ("place", &mut anchor.foot),
            ("turn", &mut anchor.turn),
            ("lift", &mut anchor.lift_m),
            ("scale", scale),
            ("opacity", &mut self.opacity),
        ];
        all.extend(self.grade.tracks());
        all.extend(self.drawn.iter_mut().flat_map(|d| d.strengths.tracks()));
        all.extend(self.tracks.iter_mut().map(|(name, track)| (name.as_str(), track.track_mut())));
        all
    }

    /// Does something to every value over time, or to one, by its name; without a key left, one of what it shows stays
    /// what it is.
    pub fn each_track(&mut self, named: Option<&str>, mut act: impl FnMut(&mut dyn Track)) {
        let before = self.tracks.clone();
        for (name, track) in self.all_tracks() {
            if named.is_none_or(|n| n == name) {
                act(track);
            }
        }
        self.tracks.retain(|_, track| !track.key_frames().is_empty());
        for (name, mut gone) in before {
            if !self.tracks.contains_key(&name) {
                act(gone.track_mut());
                if let Some(slot) = self.slot(&name) {
                    gone.give(0.0, slot);
                }
            }
        }
    }

    /// Begins a track of a value of what it shows with a key at a time, where it can change and has none; `false` where
    /// there is no such value.
    pub fn begin_track(&mut self, name: &str, frame: f64) -> bool {
        if self.tracks.contains_key(name) {
            return true;
        }
        if let Some(rule) = Self::grade_rule(name) {
            self.grade.with(rule, |v| v.key_at(frame));
            return true;
        }
        let Some(begun) = self.slot(name).map(|slot| ContentTrack::begun(frame, &slot)) else { return false };
        self.tracks.insert(name.to_owned(), begun);
        true
    }

    /// Gives place, turn, lift, size, opacity, and all that changes already, a key at a time, frames.
    pub fn key_at(&mut self, frame: f64) {
        self.each_track(None, |t| t.key_at(frame));
    }

    /// Lets its keys at a time, frames, go.
    pub fn forget_key(&mut self, frame: f64) {
        self.each_track(None, |t| t.forget_key(frame));
    }

    /// Lets all its keys go; it stays as it is at a time, frames.
    pub fn forget_keys(&mut self, frame: f64) {
        self.each_track(None, |t| t.forget_keys(frame));
    }

    /// Times at which it has a key, frames.
    pub fn key_frames(&self) -> Vec<f64> {
        let mut frames: Vec<f64> = self.clone().all_tracks().into_iter().flat_map(|(_, t)| t.key_frames()).collect();
        frames.sort_by(f64::total_cmp);
        frames.dedup();
        frames
    }
}

#[cfg(test)]
mod tests {
    use crate::scene::anim::Ease;
    use crate::scene::{Insert, InsertKind, Placement, Stance, Title};

    fn title() -> Insert {
        let title = Title {
            text: "A".into(),
            font: "x".into(),
            height_m: 1.0,
            depth_m: 0.2,
            bevel_m: 0.0,
            colour: [0, 100, 200],
            lettering: Default::default(),
        };
        Insert::new(InsertKind::Title(title), Placement::on([0.0; 3], [0.0, 1.0, 0.0], Stance::Standing))
    }

    fn height(insert: &Insert, frame: f64) -> f64 {
        match &insert.resolved(frame).content {
            InsertKind::Title(title) => title.height_m,
            _ => f64::NAN,
        }
    }

    #[test]
    fn what_it_shows_changes_over_time_and_stays_what_it_was_when_its_keys_go() {
        let mut insert = title();
        assert!(
            insert.begin_track("height", 0.0) && insert.begin_track("colour", 0.0) && !insert.begin_track("text", 0.0)
        );
        let mut other = insert.clone();
        let InsertKind::Title(t) = &mut other.content else { panic!("a title") };
        (t.height_m, t.colour) = (3.0, [255, 0, 100]);
        for name in ["height", "colour"] {
            let slot = other.slot(name).unwrap();
            insert.tracks.get_mut(name).unwrap().take(10.0, &slot);
        }
        assert_eq!([height(&insert, 0.0), height(&insert, 5.0), height(&insert, 50.0)], [1.0, 2.0, 3.0]);
        assert_eq!(insert.resolved(5.0).content.base_colour(), [128, 50, 150]);
        assert!(insert.changes() && insert.validate().is_ok());
        assert_eq!(insert.key_frames(), [0.0, 10.0]);
        let text = serde_json::to_string(&insert).unwrap();
        assert_eq!(serde_json::from_str::<Insert>(&text).unwrap(), insert);
        insert.forget_keys(5.0);
        assert!(insert.tracks.is_empty() && height(&insert, 0.0) == 2.0);
    }

    #[test]
    fn keys_are_moved_and_copied_with_how_they_go_on() {
        let mut insert = title();
        insert.key_at(0.0);
        insert.placement.scale.set_at(10.0, 5.0);
        insert.each_track(Some("scale"), |t| t.ease_at(0.0, Ease::Linear));
        insert.each_track(None, |t| t.move_key(10.0, 20.0));
        assert_eq!((insert.placement.scale.at(10.0), insert.placement.scale.at(30.0)), (3.0, 5.0));
        insert.each_track(None, |t| t.copy_key(0.0, 30.0));
        assert_eq!((insert.placement.scale.at(30.0), insert.key_frames()), (1.0, vec![0.0, 20.0, 30.0]));
        insert.each_track(Some("scale"), |t| assert_eq!(t.ease_of(30.0), Some(Ease::Linear)));
        insert.each_track(None, |t| t.move_key(7.0, 8.0));
        assert_eq!(insert.key_frames(), [0.0, 20.0, 30.0], "no key is there");
    }
}
