//! What can lie between two keys.

/// A value with others between it and the next: steps from one to another form a flat space of three numbers.
pub trait Interpolate: Clone {
    /// The step that leads to another value.
    fn step_to(&self, to: &Self) -> [f64; 3];

    /// The value to which a step leads.
    fn stepped(&self, by: [f64; 3]) -> Self;
}

impl Interpolate for f64 {
    fn step_to(&self, to: &Self) -> [f64; 3] {
        [to - self, 0.0, 0.0]
    }

    fn stepped(&self, by: [f64; 3]) -> Self {
        self + by[0]
    }
}

impl Interpolate for [f64; 3] {
    fn step_to(&self, to: &Self) -> [f64; 3] {
        std::array::from_fn(|k| to[k] - self[k])
    }

    fn stepped(&self, by: [f64; 3]) -> Self {
        std::array::from_fn(|k| self[k] + by[k])
    }
}
