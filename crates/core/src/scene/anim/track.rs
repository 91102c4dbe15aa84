//! A value over time, whatever it is of.

use super::{Animated, Ease, Interpolate};

/// A value over time, whatever it is of.
pub trait Track {
    /// Times of its keys, frames; none where it stays.
    fn key_frames(&self) -> Vec<f64>;
    /// Gives it a key with the value that it has then.
    fn key_at(&mut self, frame: f64);
    /// Lets the key at a time go.
    fn forget_key(&mut self, frame: f64);
    /// Lets all keys go; the value of a time stays.
    fn forget_keys(&mut self, frame: f64);
    /// Moves the key at a time to another; one that is there already gives way.
    fn move_key(&mut self, from: f64, to: f64);
    /// Sets what is there at a time once more at another, with how it goes on.
    fn copy_key(&mut self, from: f64, to: f64);
    /// Says how it goes on from the key at a time.
    fn ease_at(&mut self, frame: f64, ease: Ease);
    /// How it goes on from the key at a time, where there is one.
    fn ease_of(&self, frame: f64) -> Option<Ease>;
}

impl<T: Interpolate> Track for Animated<T> {
    fn key_frames(&self) -> Vec<f64> {
        Animated::key_frames(self).collect()
    }

    fn key_at(&mut self, frame: f64) {
        Animated::key_at(self, frame);
    }

    fn forget_key(&mut self, frame: f64) {
        Animated::forget_key(self, frame);
    }

    fn forget_keys(&mut self, frame: f64) {
        Animated::forget_keys(self, frame);
    }

    fn move_key(&mut self, from: f64, to: f64) {
        if from != to && self.ease_of(from).is_some() {
            Track::copy_key(self, from, to);
            Animated::forget_key(self, from);
        }
    }

    fn copy_key(&mut self, from: f64, to: f64) {
        if let Some(ease) = self.ease_of(from) {
            self.set_at(to, self.at(from));
            Animated::ease_at(self, to, ease);
        }
    }

    fn ease_at(&mut self, frame: f64, ease: Ease) {
        Animated::ease_at(self, frame, ease);
    }

    fn ease_of(&self, frame: f64) -> Option<Ease> {
        Animated::ease_of(self, frame)
    }
}
