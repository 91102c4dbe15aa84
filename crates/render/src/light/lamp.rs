//! Lamps where they stand.

use crate::colour::linear_colour;
use fennik_core::geometry::Similarity;
use fennik_core::scene::{Lamp, LampForm};
use nalgebra::Vector3;

type V = Vector3<f32>;

/// Nothing is nearer to a lamp than this, of its own size and world units: light does not grow without end.
const NEAREST: f32 = 0.02;
/// Places on a lamp from which it is looked at for a soft shadow.
pub(crate) const LOOKS: usize = 16;

/// A lamp at one time, in the world.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct LampNow {
    form: LampForm,
    pub at: V,
    /// Where it shines, unit.
    along: V,
    /// Halves of a rectangle.
    halves: [V; 2],
    /// Light on what faces it a world unit away.
    light: V,
    radius: f32,
    /// Cosines of the cone: outside the first nothing is lit, inside the second all is.
    cone: [f32; 2],
    /// How much of it is kept off in the shadow of a thing.
    pub shadow: f32,
    /// How much of a shadow falls on the plate.
    pub floor_shadow: f32,
}

impl LampNow {
    /// Where `own` puts it.
    pub fn new(lamp: &Lamp, own: &Similarity) -> Self {
        let scale = own.scale;
        let axis = |k: usize, length: f64| (own.rotation.matrix().column(k) * length).cast::<f32>();
        let half = 0.5 * lamp.cone_deg.to_radians();
        let [wide, deep] = lamp.size_m.map(|v| 0.5 * v * scale);
        Self {
            form: lamp.form,
            at: own.translation.cast(),
            along: axis(1, -1.0),
            halves: [axis(0, wide), axis(2, deep)],
            light: linear_colour(lamp.colour.map(f64::from)) * (lamp.strength * scale * scale) as f32,
            radius: (lamp.radius_m * scale) as f32,
            cone: [half.cos() as f32, (half * (1.0 - lamp.edge)).cos() as f32],
            shadow: lamp.shadow as f32,
            floor_shadow: lamp.floor_shadow as f32,
        }
    }

    /// Whether it is looked at from several places.
    pub fn is_wide(&self) -> bool {
        self.form == LampForm::Area || self.radius > 0.0
    }

    /// What its shadows are made by.
    pub fn shape_bits(&self) -> [[u32; 3]; 4] {
        let bits = |v: V| <[f32; 3]>::from(v).map(f32::to_bits);
        let form = V::new(self.radius, if self.form == LampForm::Area { 1.0 } else { 0.0 }, 0.0);
        [bits(self.at), bits(self.halves[0]), bits(self.halves[1]), bits(form)]
    }

    /// How large it is, world units.
    pub fn reach(&self) -> f32 {
        match self.form {
            LampForm::Area => self.halves[0].norm().max(self.halves[1].norm()),
            LampForm::Point | LampForm::Spot => self.radius,
        }
    }

    /// One of `of` places spread evenly over it, as it is seen from a place; `turn` 0 to 1 makes the choice another.
    pub fn place(&self, k: usize, of: usize, turn: f32, from: V) -> V {
        if of <= 1 {
            return self.at;
        }
        match self.form {
            LampForm::Area => {
                // A lattice of rank one (Roberts 2018, "R2").
                let lattice = |step: f32| (turn + step * (k as f32 + 0.5)).fract() * 2.0 - 1.0;
                self.at + self.halves[0] * lattice(0.754_877_7) + self.halves[1] * lattice(0.569_840_3)
            }
            LampForm::Point | LampForm::Spot => {
                let toward = (from - self.at).try_normalize(1e-9).unwrap_or_else(V::y);
                let side = if toward.x.abs() < 0.7 { V::x() } else { V::z() };
                let u = toward.cross(&side).normalize();
                let v = toward.cross(&u);
                // Vogel's spiral over the disc.
                let angle = 2.399_963_2 * k as f32 + std::f32::consts::TAU * turn;
                let away = self.radius * ((k as f32 + 0.5) / of as f32).sqrt();
                self.at + (u * angle.cos() + v * angle.sin()) * away
            }
        }
    }

    /// Light of it from one of its places on what faces that at another; with the unit direction to it and how far it is.
    pub fn falling(&self, place: V, at: V) -> (V, V, f32) {
        let way = place - at;
        let far = way.norm();
        let toward = if far > 1e-9 { way / far } else { V::y() };
        let near = far.max(NEAREST).max(0.5 * self.reach());
        let sent = -toward.dot(&self.along);
        let part = match self.form {
            LampForm::Point => 1.0,
            LampForm::Area => sent.max(0.0),
            LampForm::Spot => {
                let [outer, inner] = self.cone;
                let t = ((sent - outer) / (inner - outer).max(1e-4)).clamp(0.0, 1.0);
                t * t * (3.0 - 2.0 * t)
            }
        };
        (self.light * (part / (near * near)), toward, far)
    }
}

/// A number 0 to 1 that differs from place to place without a pattern (Jarzynski and Olano 2020, "PCG").
pub(crate) fn scattered(at: V) -> f32 {
    let mut state = at.x.to_bits().wrapping_mul(747_796_405)
        ^ at.y.to_bits().wrapping_mul(2_891_336_453)
        ^ at.z.to_bits().wrapping_mul(277_803_737);
    state = state.wrapping_mul(747_796_405).wrapping_add(2_891_336_453);
    let word = ((state >> ((state >> 28) + 4)) ^ state).wrapping_mul(277_803_737);
    ((word >> 22) ^ word) as f32 / u32::MAX as f32
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lamp(form: LampForm) -> LampNow {
        let white = Lamp { form, strength: 4.0, colour: [255; 3], radius_m: 0.0, ..Lamp::default() };
        LampNow::new(&white, &Similarity { translation: Vector3::new(0.0, 2.0, 0.0), ..Similarity::identity() })
    }

    #[test]
    fn light_falls_off_with_the_square_and_as_its_form_sends_it() {
        let on = |lamp: &LampNow, x: f32| lamp.falling(lamp.at, V::new(x, 0.0, 0.0)).0.x;
        let point = lamp(LampForm::Point);
        assert!((on(&point, 0.0) - 1.0).abs() < 1e-4 && (on(&point, 2.0) - 0.5).abs() < 1e-4);
        let spot = lamp(LampForm::Spot);
        assert!((on(&spot, 0.0) - 1.0).abs() < 1e-4);
        assert_eq!(on(&spot, 2.0 * 31f32.to_radians().tan()), 0.0, "outside of its cone of 60 degrees");
        let edge = on(&spot, 2.0 * 26f32.to_radians().tan());
        assert!(edge > 0.0 && edge < 0.8, "its edge fades: {edge}");
        let area = lamp(LampForm::Area);
        assert!((on(&area, 2.0) / on(&point, 2.0) - 0.5f32.sqrt()).abs() < 1e-4, "as the cosine");
    }

    #[test]
    fn what_a_lamp_lights_stays_as_bright_when_the_world_grows() {
        let told = Lamp { colour: [255; 3], ..Lamp::default() };
        let small = LampNow::new(&told, &Similarity { translation: Vector3::y(), ..Similarity::identity() });
        let grown = Similarity { scale: 3.0, translation: Vector3::y() * 3.0, ..Similarity::identity() };
        let grown = LampNow::new(&told, &grown);
        let (a, b) = (small.falling(small.at, V::x()).0.x, grown.falling(grown.at, V::x() * 3.0).0.x);
        assert!((a - b).abs() < 1e-4 * a, "{a} {b}");
    }
}
