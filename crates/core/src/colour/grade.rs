//! A grade: what is done to the light of a picture, one step after the other.

use super::{Matrix3, decode, encode, hue_weights, linear_of_oklab, oklab_of};

/// Places of a curve, evenly from black to white.
pub const CURVE_NODES: usize = 5;
/// Contrast turns about this display value, that of middle grey (18 % of the light).
const PIVOT: f32 = 0.461;
/// Steps in which curves are kept.
const STEPS: usize = 1024;

/// What is done to one of the six hues.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct HueChange {
    /// Turned by degrees.
    pub turn_deg: f32,
    /// Times as strong.
    pub saturation: f32,
    /// Times as bright.
    pub brightness: f32,
}

impl HueChange {
    /// None.
    pub const PLAIN: Self = Self { turn_deg: 0.0, saturation: 1.0, brightness: 1.0 };
}

/// A grade at one time, ready for many pixels. Light is first scaled and its white turned; then display values are
/// lifted, bent, scaled, contrasted and drawn through curves; then colours are made stronger and hues turned.
#[derive(Debug, Clone, PartialEq)]
pub struct Grade {
    /// Light is times this.
    pub light: Matrix3,
    /// Of red, green and blue: what black becomes.
    pub lift: [f32; 3],
    /// Of red, green and blue: above 1 the middle is brighter.
    pub gamma: [f32; 3],
    /// Of red, green and blue: what white becomes.
    pub gain: [f32; 3],
    /// Above 1 display values go apart about middle grey.
    pub contrast: f32,
    /// Times as strong colours.
    pub saturation: f32,
    /// Of the six hues.
    pub hues: [HueChange; 6],
    /// Of red, green and blue, by display value; `None` where none is bent.
    curves: Option<Box<[[f32; STEPS + 1]; 3]>>,
}

impl Default for Grade {
    fn default() -> Self {
        Self {
            light: [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]],
            lift: [0.0; 3],
            gamma: [1.0; 3],
            gain: [1.0; 3],
            contrast: 1.0,
            saturation: 1.0,
            hues: [HueChange::PLAIN; 6],
            curves: None,
        }
    }
}

impl Grade {
    /// With curves through display values at [`CURVE_NODES`] places: of all, of red, of green, of blue. Between the places
    /// they go smoothly and nowhere beyond them (Fritsch and Carlson 1980).
    #[must_use]
    pub fn with_curves(self, nodes: &[[f32; CURVE_NODES]; 4]) -> Self {
        let straight: [f32; CURVE_NODES] = std::array::from_fn(|k| k as f32 / (CURVE_NODES - 1) as f32);
        if nodes.iter().all(|n| *n == straight) {
            return Self { curves: None, ..self };
        }
        let own = |k: usize| -> [f32; STEPS + 1] {
            std::array::from_fn(|i| through(&nodes[k + 1], through(&nodes[0], i as f32 / STEPS as f32)))
        };
        Self { curves: Some(Box::new([own(0), own(1), own(2)])), ..self }
    }

    /// Whether it leaves everything as it is.
    pub fn is_plain(&self) -> bool {
        *self == Self::default()
    }

    /// The light of a pixel after it.
    pub fn apply(&self, light: [f32; 3]) -> [f32; 3] {
        let mut c: [f32; 3] = self.light.map(|row| row[0] * light[0] + row[1] * light[1] + row[2] * light[2]);
        if self.bends() {
            c = std::array::from_fn(|k| decode(self.bent(k, encode(c[k].max(0.0)))));
        }
        if self.colours() {
            c = self.coloured(c);
        }
        c.map(|v| v.max(0.0))
    }

    fn bends(&self) -> bool {
        self.curves.is_some()
            || self.contrast != 1.0
            || self.lift != [0.0; 3]
            || self.gamma != [1.0; 3]
            || self.gain != [1.0; 3]
    }

    fn colours(&self) -> bool {
        self.saturation != 1.0 || self.hues != [HueChange::PLAIN; 6]
    }

    /// A display value of a channel.
    fn bent(&self, k: usize, v: f32) -> f32 {
        let lifted = self.gain[k] * (v + self.lift[k] * (1.0 - v));
        let mut v = if self.gamma[k] == 1.0 { lifted } else { lifted.max(0.0).powf(1.0 / self.gamma[k]) };
        v = PIVOT + (v - PIVOT) * self.contrast;
        if let Some(curves) = &self.curves {
            let at = v.clamp(0.0, 1.0) * STEPS as f32;
            let i = (at as usize).min(STEPS - 1);
            let (a, b) = (curves[k][i], curves[k][i + 1]);
            // What is beyond white stays as far beyond.
            v = a + (b - a) * (at - i as f32) + (v - 1.0).max(0.0);
        }
        v.max(0.0)
    }

    fn coloured(&self, light: [f32; 3]) -> [f32; 3] {
        let [l, a, b] = oklab_of(light);
        let chroma = a.hypot(b);
        if chroma < 1e-5 {
            return light;
        }
        let angle = b.atan2(a).to_degrees();
        let weights = hue_weights(angle);
        let mixed = |of: fn(&HueChange) -> f32| self.hues.iter().zip(weights).map(|(h, w)| of(h) * w).sum::<f32>();
        let (sin, cos) = (angle + mixed(|h| h.turn_deg)).to_radians().sin_cos();
        let strong = chroma * self.saturation * mixed(|h| h.saturation);
        // Greys have no hue, so that what is nearly grey is made brighter the less.
        let bright = 1.0 + (mixed(|h| h.brightness) - 1.0) * (chroma / 0.1).min(1.0);
        linear_of_oklab([l * bright.cbrt(), strong * cos, strong * sin])
    }
}

/// A curve through places that lie evenly from 0 to 1.
fn through(nodes: &[f32; CURVE_NODES], x: f32) -> f32 {
    let step = 1.0 / (CURVE_NODES - 1) as f32;
    let x = x.clamp(0.0, 1.0);
    let i = ((x / step) as usize).min(CURVE_NODES - 2);
    let slope = |k: usize| (nodes[k + 1] - nodes[k]) / step;
    // Steep as both sides are in the mean, and level where one rises and the other falls.
    let tangent = |k: usize| match k {
        0 => slope(0),
        k if k == CURVE_NODES - 1 => slope(k - 1),
        k => {
            let (a, b) = (slope(k - 1), slope(k));
            if a * b <= 0.0 { 0.0 } else { 2.0 * a * b / (a + b) }
        }
    };
    let t = (x - i as f32 * step) / step;
    let (t2, t3) = (t * t, t * t * t);
    nodes[i] * (2.0 * t3 - 3.0 * t2 + 1.0)
        + tangent(i) * step * (t3 - 2.0 * t2 + t)
        + nodes[i + 1] * (3.0 * t2 - 2.0 * t3)
        + tangent(i + 1) * step * (t3 - t2)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const STRAIGHT: [f32; 5] = [0.0, 0.25, 0.5, 0.75, 1.0];

    /// By hand; the page's own curve is held to the same.
    #[test]
    fn a_curve_between_its_places_is_the_page_s() {
        let found = through(&[0.0, 0.15, 0.5, 0.85, 1.0], 0.3);
        assert!((found - 0.20208).abs() < 1e-6, "{found}");
    }

    #[test]
    fn each_step_does_what_it_says() {
        let grey = |v: f32| [decode(v); 3];
        let of = |g: &Grade, v: f32| encode(g.apply(grey(v))[0]);
        let lifted = Grade { lift: [0.1; 3], ..Grade::default() };
        assert!((of(&lifted, 0.0) - 0.1).abs() < 1e-4 && (of(&lifted, 1.0) - 1.0).abs() < 1e-4);
        let gained = Grade { gain: [0.8; 3], ..Grade::default() };
        assert!((of(&gained, 1.0) - 0.8).abs() < 1e-4 && of(&gained, 0.0).abs() < 1e-6);
        let bright = Grade { gamma: [2.0; 3], ..Grade::default() };
        assert!((of(&bright, 0.25) - 0.5).abs() < 1e-4);
        let hard = Grade { contrast: 2.0, ..Grade::default() };
        assert!((of(&hard, PIVOT) - PIVOT).abs() < 1e-4 && of(&hard, 0.3) < 0.3 && of(&hard, 0.7) > 0.7);
        let curved = Grade::default().with_curves(&[[0.0, 0.15, 0.5, 0.85, 1.0], STRAIGHT, STRAIGHT, STRAIGHT]);
        assert!((of(&curved, 0.25) - 0.15).abs() < 1e-3 && (of(&curved, 0.5) - 0.5).abs() < 1e-3);
        let red = Grade::default().with_curves(&[STRAIGHT, [0.0, 0.25, 0.5, 0.75, 0.5], STRAIGHT, STRAIGHT]);
        let [r, g, _] = red.apply([1.0; 3]);
        assert!((encode(r) - 0.5).abs() < 1e-3 && (g - 1.0).abs() < 1e-4);
        assert!(Grade::default().with_curves(&[STRAIGHT; 4]).is_plain());
    }

    #[test]
    fn hues_are_changed_apart_and_greys_not_at_all() {
        let mut hues = [HueChange::PLAIN; 6];
        hues[2] = HueChange { turn_deg: 40.0, saturation: 0.5, brightness: 1.0 };
        let grade = Grade { hues, ..Grade::default() };
        let near = |a: [f32; 3], b: [f32; 3]| (0..3).all(|k| (a[k] - b[k]).abs() < 2e-3);
        assert!(near(grade.apply([0.3; 3]), [0.3; 3]));
        assert!(near(grade.apply([0.6, 0.1, 0.6]), [0.6, 0.1, 0.6]), "magenta is far from green");
        let [r, g, b] = grade.apply([0.1, 0.6, 0.1]);
        assert!(b > 0.15 && g < 0.6 && r > 0.1, "{r} {g} {b}");
        let grey = Grade { saturation: 0.0, ..Grade::default() }.apply([0.1, 0.6, 0.1]);
        assert!((grey[0] - grey[1]).abs() < 1e-3 && (grey[1] - grey[2]).abs() < 1e-3);
    }

    proptest! {
        #[test]
        fn a_plain_grade_changes_nothing(c in prop::array::uniform3(0f32..3.0)) {
            prop_assert_eq!(Grade::default().apply(c), c);
        }

        #[test]
        fn a_curve_whose_places_rise_never_falls(mut nodes in prop::array::uniform5(0f32..1.0), x in 0f32..0.99) {
            nodes.sort_by(f32::total_cmp);
            prop_assert!(through(&nodes, x + 0.01) >= through(&nodes, x) - 1e-5);
        }
    }
}
