//! What stands where: the places that takes are filmed at.

pub use crate::basin::{About, Air};
use crate::form::Form;
use crate::paint::{Colour, Skin};
use crate::scenery::WATER_Y;
use nalgebra::Vector3;

type V = Vector3<f64>;

/// Where a take is filmed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Place {
    /// Sheds on a quay beside water.
    Quay,
    /// A paved yard before a hillside.
    Hillside,
    /// A paved yard with a stair to a terrace.
    Steps,
    /// A paved yard of two levels.
    Levels,
    /// A room with furniture.
    Room,
    /// A yard between tall houses.
    Court,
    /// The basin of the demo, with who is about and the sky over it.
    Basin(About, Air),
}

/// A body that stands or drifts somewhere.
#[derive(Clone, Copy)]
pub(crate) struct Thing {
    pub(crate) middle: V,
    pub(crate) form: Form,
    pub(crate) skin: Skin,
    /// Metres per frame.
    pub(crate) drift: V,
    pub(crate) bounding: f64,
    pub(crate) seed: u64,
}

#[derive(Default)]
struct Things(Vec<Thing>);

impl Things {
    fn add(&mut self, middle: V, form: Form, skin: Skin, drift: V) {
        let seed = 100 + 17 * self.0.len() as u64;
        self.0.push(Thing { middle, form, skin, drift, bounding: form.bounding(), seed });
    }

    fn stand(&mut self, middle: [f64; 3], form: Form, skin: Skin) {
        self.add(middle.into(), form, skin, V::zeros());
    }

    /// A shed with its roof: where its middle stands, half sizes, turn.
    fn shed(&mut self, [x, y, z]: [f64; 3], [hx, hy, hz]: [f64; 3], deg: f64, tone: Colour) {
        self.stand([x, y + hy, z], boxed(hx, hy, hz, deg), Skin::Planks(tone));
        let roof = boxed(hx + 0.35, 0.14, hz + 0.35, deg);
        self.stand([x, y + 2.0 * hy + 0.14, z], roof, Skin::Corrugated([0.20, 0.21, 0.22]));
    }

    /// Crates: where the middle of each stands, half size, turn.
    fn crates(&mut self, all: &[(f64, f64, f64, f64, f64)]) {
        for &(x, y, z, s, deg) in all {
            self.stand([x, y + s, z], boxed(s, s, s, deg), Skin::Crate);
        }
    }
}

/// An upright box by its half sizes, turned about Y.
pub(crate) fn boxed(hx: f64, hy: f64, hz: f64, deg: f64) -> Form {
    leant(hx, hy, hz, deg, 0.0)
}

fn leant(hx: f64, hy: f64, hz: f64, deg: f64, lean: f64) -> Form {
    Form::Box { half: V::new(hx, hy, hz), turn: deg.to_radians().sin_cos(), lean: lean.to_radians().sin_cos() }
}

/// Everything that stands at a place, and so many people who walk to and fro.
pub(crate) fn things(place: Place, crowd: usize) -> Vec<Thing> {
    let mut to = Things::default();
    match place {
        Place::Quay => quay(&mut to),
        Place::Hillside => hillside(&mut to),
        Place::Steps => steps(&mut to),
        Place::Levels => levels(&mut to),
        Place::Room => room(&mut to),
        Place::Court => court(&mut to),
        Place::Basin(..) => {}
    }
    people(&mut to, crowd);
    to.0
}

/// The hill rises behind the yard at 14 degrees.
fn hillside(to: &mut Things) {
    let (sin, cos) = 14f64.to_radians().sin_cos();
    let (long, deep) = (17.0, 1.0);
    let middle = [0.0, long * sin - deep * cos, -4.0 - long * cos - deep * sin];
    to.stand(middle, leant(30.0, deep, long, 0.0, 14.0), Skin::Grass);
    to.shed([-6.5, 0.0, -1.5], [2.2, 1.5, 2.0], 6.0, [0.34, 0.09, 0.06]);
    to.stand([5.5, 0.45, -1.0], boxed(0.18, 0.45, 4.0, -4.0), Skin::Concrete);
    to.crates(&[(1.5, 0.0, -1.6, 0.4, 20.0), (2.5, 0.0, -2.2, 0.5, -11.0), (-2.8, 0.0, 1.2, 0.35, 40.0)]);
    for i in 0..7 {
        let f = f64::from(i);
        let up = 3.0 + 3.4 * (f * 1.9).sin().abs() + f;
        let r = 0.5 + 0.25 * (f * 2.3).sin();
        let at = [-9.0 + 3.1 * f, up * sin + 0.4 * r, -4.0 - up * cos];
        to.stand(at, Form::Ellipsoid { radii: V::new(r, 0.8 * r, r) }, Skin::Grass);
    }
}

/// Eight steps of 17 cm, the last of them a terrace.
fn steps(to: &mut Things) {
    for i in 0..8 {
        let (top, front) = (0.17 * f64::from(i + 1), -3.0 - 0.34 * f64::from(i));
        let half = if i < 7 { 0.17 } else { 6.0 };
        to.stand([0.0, top / 2.0, front - half], boxed(4.0, top / 2.0, half, 0.0), Skin::Setts);
    }
    for x in [-4.3, 4.3] {
        to.stand([x, 0.9, -8.0], boxed(0.3, 0.9, 5.2, 0.0), Skin::Concrete);
    }
    to.shed([-1.0, 1.36, -12.0], [2.6, 1.7, 2.0], 3.0, [0.12, 0.20, 0.26]);
    to.crates(&[(2.4, 0.0, -0.8, 0.35, 15.0), (-3.0, 0.0, -1.4, 0.4, -20.0), (2.3, 1.36, -7.4, 0.4, 33.0)]);
}

/// To the right the yard lies 1.1 m higher.
fn levels(to: &mut Things) {
    to.stand([9.0, 0.55, -6.0], boxed(8.5, 0.55, 14.0, 0.0), Skin::Setts);
    to.shed([-5.5, 0.0, -9.0], [2.6, 1.7, 2.2], 5.0, [0.34, 0.09, 0.06]);
    to.shed([6.0, 1.1, -11.0], [2.8, 1.9, 2.2], -4.0, [0.42, 0.36, 0.24]);
    to.crates(&[
        (-1.8, 0.0, -3.0, 0.5, 18.0),
        (-3.4, 0.0, 0.4, 0.4, -9.0),
        (3.0, 1.1, -2.0, 0.45, 33.0),
        (5.2, 1.1, 1.0, 0.4, 8.0),
    ]);
}

/// Walls with pictures, a carpet's worth of boards between cupboards and a table.
fn room(to: &mut Things) {
    to.stand([0.0, 1.35, -3.1], boxed(3.7, 1.35, 0.1, 0.0), Skin::Papered([0.50, 0.44, 0.34]));
    to.stand([-3.6, 1.35, 0.5], boxed(0.1, 1.35, 3.7, 0.0), Skin::Papered([0.36, 0.44, 0.42]));
    to.stand([3.6, 1.35, 0.5], boxed(0.1, 1.35, 3.7, 0.0), Skin::Papered([0.46, 0.40, 0.36]));
    to.stand([0.0, 2.8, 0.5], boxed(3.7, 0.1, 3.7, 0.0), Skin::Concrete);
    to.stand([-1.9, 0.95, -2.7], boxed(0.6, 0.95, 0.28, 0.0), Skin::Planks([0.30, 0.19, 0.10]));
    to.stand([2.6, 0.45, -2.5], boxed(0.7, 0.45, 0.4, 0.0), Skin::Planks([0.16, 0.20, 0.22]));
    to.stand([0.7, 0.73, -1.1], boxed(0.8, 0.03, 0.45, 12.0), Skin::Planks([0.42, 0.30, 0.18]));
    for (x, z) in [(0.05, -1.28), (1.48, -1.28), (0.02, -0.82), (1.36, -0.85)] {
        to.stand([x, 0.35, z], boxed(0.035, 0.35, 0.035, 12.0), Skin::Iron);
    }
    to.crates(&[(-0.9, 0.0, -0.4, 0.22, 25.0), (0.6, 0.76, -1.15, 0.12, 40.0), (-2.9, 0.0, 0.2, 0.3, 5.0)]);
}

/// Fronts of 14 m on three sides.
fn court(to: &mut Things) {
    to.stand([0.0, 7.0, -11.0], boxed(9.0, 7.0, 3.0, 0.0), Skin::Planks([0.42, 0.36, 0.24]));
    to.stand([-10.0, 7.0, -2.0], boxed(3.0, 7.0, 8.0, 4.0), Skin::Planks([0.34, 0.14, 0.10]));
    to.stand([10.5, 5.5, -2.0], boxed(3.0, 5.5, 8.0, -5.0), Skin::Planks([0.20, 0.24, 0.26]));
    for (x, y) in [(-4.0, 6.2), (0.5, 9.4), (4.4, 6.2)] {
        to.stand([x, y, -7.7], boxed(0.9, 0.1, 0.35, 0.0), Skin::Concrete);
    }
}

/// Sheds, crates and bollards; boats drift by.
fn quay(to: &mut Things) {
    let v = V::new;
    let still = V::zeros();
    // Sheds with their roofs.
    for (x, z, hx, hy, hz, deg, tone) in [
        (-7.5, -9.0, 3.2, 1.7, 2.4, 4.0, [0.34, 0.09, 0.06]),
        (0.2, -11.0, 3.0, 2.1, 2.6, -3.0, [0.12, 0.20, 0.26]),
        (-14.5, -2.5, 2.6, 1.6, 3.4, 12.0, [0.42, 0.36, 0.24]),
        (-15.0, -16.0, 4.5, 2.6, 3.0, 8.0, [0.25, 0.27, 0.24]),
        (5.6, -19.0, 3.0, 2.4, 3.4, 2.0, [0.40, 0.38, 0.34]),
    ] {
        to.add(v(x, hy, z), boxed(hx, hy, hz, deg), Skin::Planks(tone), still);
        to.add(
            v(x, 2.0 * hy + 0.14, z),
            boxed(hx + 0.35, 0.14, hz + 0.35, deg),
            Skin::Corrugated([0.20, 0.21, 0.22]),
            still,
        );
    }
    // A low wall along the grass, crates, a container.
    to.add(v(-7.0, 0.45, 3.5), boxed(0.18, 0.45, 6.0, 0.0), Skin::Concrete, still);
    for (x, y, z, s, deg) in [
        (3.4, 0.5, -6.2, 0.5, 18.0),
        (4.5, 0.45, -5.7, 0.45, -9.0),
        (3.9, 1.4, -6.0, 0.4, 33.0),
        (-3.6, 0.4, 1.4, 0.4, 50.0),
        (-4.4, 0.55, -4.6, 0.55, 8.0),
        (5.5, 0.4, 4.4, 0.4, 21.0),
    ] {
        to.add(v(x, y, z), boxed(s, s, s, deg), Skin::Crate, still);
    }
    to.add(v(5.4, 1.25, -11.8), boxed(1.2, 1.25, 3.0, 3.0), Skin::Corrugated([0.05, 0.16, 0.20]), still);
    // Bollards along the edge, lamp posts.
    for i in 0..8 {
        let z = 10.0 - 4.2 * f64::from(i);
        to.add(v(8.4, 0.28, z), Form::Cylinder { radius: 0.2, half: 0.28 }, Skin::Iron, still);
        to.add(v(8.4, 0.60, z), Form::Ellipsoid { radii: v(0.28, 0.09, 0.28) }, Skin::Iron, still);
    }
    for z in [4.5, -6.0, -16.0] {
        to.add(v(-5.6, 1.9, z), Form::Cylinder { radius: 0.06, half: 1.9 }, Skin::Iron, still);
        to.add(v(-5.6, 3.85, z), Form::Ellipsoid { radii: v(0.22, 0.12, 0.22) }, Skin::Concrete, still);
    }
    // Bushes behind the wall.
    for i in 0..9 {
        let f = f64::from(i);
        let r = 0.7 + 0.3 * (f * 2.3).sin();
        to.add(
            v(-9.5 - 1.1 * (f * 1.7).sin(), 0.4 * r, 8.5 - 2.6 * f),
            Form::Ellipsoid { radii: v(r, 0.8 * r, r) },
            Skin::Grass,
            still,
        );
    }
    // People who walk, and boats that drift by.
    for (x, z, dx, dz, coat) in [
        (-1.5, 1.0, 0.035, -0.012, [0.45, 0.07, 0.05]),
        (4.2, -3.0, -0.026, 0.028, [0.06, 0.10, 0.28]),
        (1.5, -7.5, 0.0, 0.036, [0.42, 0.40, 0.12]),
    ] {
        let drift = v(dx, 0.0, dz);
        to.add(v(x, 0.42, z), Form::Ellipsoid { radii: v(0.16, 0.44, 0.16) }, Skin::Cloth([0.03, 0.035, 0.05]), drift);
        to.add(v(x, 1.10, z), Form::Ellipsoid { radii: v(0.24, 0.36, 0.19) }, Skin::Cloth(coat), drift);
        to.add(v(x, 1.60, z), Form::Ellipsoid { radii: v(0.11, 0.14, 0.11) }, Skin::Cloth([0.45, 0.28, 0.20]), drift);
    }
    for (x, z, dz, tone) in [(12.4, -16.0, 0.045, [0.55, 0.53, 0.48]), (15.5, 2.0, -0.03, [0.08, 0.22, 0.30])] {
        let drift = v(0.0, 0.0, dz);
        to.add(v(x, WATER_Y + 0.15, z), Form::Ellipsoid { radii: v(0.9, 0.45, 3.4) }, Skin::Hull(tone), drift);
        to.add(v(x, WATER_Y + 0.75, z - 0.6), boxed(0.5, 0.4, 0.9, 0.0), Skin::Hull([0.6, 0.6, 0.58]), drift);
    }
}

/// People in patterned coats.
fn people(to: &mut Things, crowd: usize) {
    let v = V::new;
    for i in 0..crowd {
        let f = i as f64;
        let part = |g: f64| (f * g + 0.3).fract();
        let side = if i % 2 == 0 { 1.0 } else { -1.0 };
        let middle = v(-9.0 + 16.0 * part(0.618), 0.0, 9.2 - 6.5 * part(0.4143));
        let drift = v(side * (0.02 + 0.03 * part(0.27)), 0.0, 0.014 * (part(0.733) - 0.5));
        let coat: [f32; 3] = std::array::from_fn(|k| 0.05 + 0.4 * part(0.37 + 0.19 * k as f64) as f32);
        to.add(
            middle + v(0.0, 0.45, 0.0),
            Form::Ellipsoid { radii: v(0.19, 0.47, 0.19) },
            Skin::Cloth([0.06, 0.06, 0.09]),
            drift,
        );
        to.add(middle + v(0.0, 1.15, 0.0), Form::Ellipsoid { radii: v(0.30, 0.42, 0.24) }, Skin::Coat(coat), drift);
        to.add(
            middle + v(0.0, 1.68, 0.0),
            Form::Ellipsoid { radii: v(0.12, 0.15, 0.12) },
            Skin::Cloth([0.45, 0.28, 0.20]),
            drift,
        );
    }
}
