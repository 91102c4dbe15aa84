//! Light from all round: even for matt faces, mirrored and blurred for those that shine.

use fennik_core::colour::Grade;
use nalgebra::{Rotation3, Vector3};
use rayon::prelude::*;
use std::f32::consts::PI;
use std::sync::{Arc, Mutex, PoisonError};

type V = Vector3<f32>;

/// Columns of the picture at most: more is not seen in what mirrors it.
const MOST_ACROSS: usize = 1024;
/// Steps of roughness for which it is blurred, and columns of each beyond the first.
const STEPS: usize = 6;
const ACROSS: [usize; STEPS] = [0, 256, 128, 96, 64, 48];
/// Directions that are looked at for a blurred one.
const LOOKS: usize = 96;

/// A picture all round in linear light: as far across as all bearings, its top straight up, its middle towards -Z.
#[derive(Debug, Clone, PartialEq)]
pub struct Panorama {
    /// Columns.
    pub width: usize,
    /// Rows.
    pub height: usize,
    /// Light, row by row.
    pub light: Vec<[f32; 3]>,
    ready: Ready,
}

/// What was made ready to light last, and for which grade: scenes are built anew with each edit, and this takes longer.
#[derive(Debug, Default)]
struct Ready(Mutex<Option<(Grade, Arc<Around>)>>);

impl Clone for Ready {
    fn clone(&self) -> Self {
        Self::default()
    }
}

impl PartialEq for Ready {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl Panorama {
    /// From the light of each pixel; a large one is made smaller.
    ///
    /// # Panics
    /// When there is no pixel, or not one for each place.
    pub fn new(width: usize, height: usize, light: Vec<[f32; 3]>) -> Self {
        assert!(width > 0 && height > 0 && light.len() == width * height, "one light a pixel");
        let mut made = Self { width, height, light, ready: Ready::default() };
        while made.width > MOST_ACROSS && made.height > 1 {
            made = made.halved();
        }
        made
    }

    fn halved(&self) -> Self {
        let (width, height) = ((self.width / 2).max(1), (self.height / 2).max(1));
        let light = (0..width * height)
            .into_par_iter()
            .map(|i| {
                let (x, y) = (i % width * 2, i / width * 2);
                let mut sum = [0.0; 3];
                for (dx, dy) in [(0, 0), (1, 0), (0, 1), (1, 1)] {
                    let p = self.light[(y + dy).min(self.height - 1) * self.width + (x + dx).min(self.width - 1)];
                    (0..3).for_each(|k| sum[k] += 0.25 * p[k]);
                }
                sum
            })
            .collect();
        Self { width, height, light, ready: Ready::default() }
    }

    /// The same with something done to its light.
    #[must_use]
    pub fn graded(&self, grade: &Grade) -> Self {
        let light = self.light.par_iter().map(|c| grade.apply(*c)).collect();
        Self { light, ..self.clone() }
    }

    /// Made ready to light, with something done to its light; once for each grade that is asked for in a row.
    pub(crate) fn lighting(&self, grade: &Grade) -> Arc<Around> {
        let held = || self.ready.0.lock().unwrap_or_else(PoisonError::into_inner);
        let kept = held().as_ref().filter(|(of, _)| of == grade).map(|(_, made)| made.clone());
        kept.unwrap_or_else(|| {
            let made = Arc::new(Around::new(&self.graded(grade)));
            *held() = Some((grade.clone(), made.clone()));
            made
        })
    }

    /// The direction of a pixel, unit.
    fn direction(&self, x: usize, y: usize) -> V {
        let bearing = ((x as f32 + 0.5) / self.width as f32 - 0.5) * 2.0 * PI;
        let (sin, cos) = ((y as f32 + 0.5) / self.height as f32 * PI).sin_cos();
        V::new(bearing.sin() * sin, cos, -bearing.cos() * sin)
    }

    /// Light from a unit direction.
    pub fn look(&self, d: V) -> V {
        let u = d.x.atan2(-d.z) / (2.0 * PI) + 0.5;
        let v = d.y.clamp(-1.0, 1.0).acos() / PI;
        let (x, y) = (u * self.width as f32 - 0.5, (v * self.height as f32 - 0.5).clamp(0.0, self.height as f32 - 1.0));
        let (x0, y0) = (x.floor(), y.floor());
        let (s, t) = (x - x0, y - y0);
        let column = |x: f32| x.rem_euclid(self.width as f32) as usize % self.width;
        let row = |y: f32| (y as usize).min(self.height - 1);
        let at = |x: f32, y: f32| V::from(self.light[row(y) * self.width + column(x)]);
        let (top, low) =
            (at(x0, y0) * (1.0 - s) + at(x0 + 1.0, y0) * s, at(x0, y0 + 1.0) * (1.0 - s) + at(x0 + 1.0, y0 + 1.0) * s);
        top * (1.0 - t) + low * t
    }
}

/// Surroundings that are ready to light.
#[derive(Debug)]
pub(crate) struct Around {
    /// What comes from everywhere on a matt face, by the harmonics of its direction (Ramamoorthi and Hanrahan, "An
    /// Efficient Representation for Irradiance Environment Maps", 2001).
    harmonics: [V; 9],
    /// Ever more blurred for rougher faces, evenly from a mirror to the roughest.
    levels: Vec<Panorama>,
}

/// The harmonics of a unit direction.
fn harmonics(d: V) -> [f32; 9] {
    let (x, y, z) = (d.x, d.y, d.z);
    [
        0.282_095,
        0.488_603 * y,
        0.488_603 * z,
        0.488_603 * x,
        1.092_548 * x * y,
        1.092_548 * y * z,
        0.315_392 * (3.0 * z * z - 1.0),
        1.092_548 * x * z,
        0.546_274 * (x * x - y * y),
    ]
}

impl Around {
    pub fn new(picture: &Panorama) -> Self {
        let mut small = picture.clone();
        while small.width > 128 && small.height > 1 {
            small = small.halved();
        }
        let row = |y: usize| {
            let mut sum = [V::zeros(); 9];
            // The solid angle of a pixel.
            let share = 2.0 * PI / small.width as f32 * PI / small.height as f32
                * ((y as f32 + 0.5) / small.height as f32 * PI).sin();
            for x in 0..small.width {
                let light = V::from(small.light[y * small.width + x]) * share;
                for (sum, part) in sum.iter_mut().zip(harmonics(small.direction(x, y))) {
                    *sum += light * part;
                }
            }
            sum
        };
        let rows: Vec<_> = (0..small.height).into_par_iter().map(row).collect();
        let mut sum = [V::zeros(); 9];
        rows.iter().for_each(|row| (0..9).for_each(|k| sum[k] += row[k]));
        // Even light of 1 lights white with 1.
        let bands = [1.0, 2.0 / 3.0, 2.0 / 3.0, 2.0 / 3.0, 0.25, 0.25, 0.25, 0.25, 0.25];
        (0..9).for_each(|k| sum[k] *= bands[k]);
        Self { harmonics: sum, levels: blurred(picture) }
    }

    /// Light on a matt white face of a normal.
    pub fn even(&self, normal: V) -> V {
        let sum: V = harmonics(normal).iter().zip(self.harmonics).map(|(part, of)| of * *part).sum();
        sum.map(|v| v.max(0.0))
    }

    /// Light that a face of a roughness mirrors from a direction.
    pub fn mirrored(&self, toward: V, rough: f32) -> V {
        let at = rough.clamp(0.0, 1.0) * (STEPS - 1) as f32;
        let k = (at as usize).min(STEPS - 2);
        let part = at - k as f32;
        self.levels[k].look(toward) * (1.0 - part) + self.levels[k + 1].look(toward) * part
    }
}

/// Blurred as rough faces mirror, that are looked at head-on (Karis in the course "Physically Based Shading in Theory and
/// Practice", SIGGRAPH 2013; looked up less sharply where a look stands for more, Colbert and Krivanek 2007).
fn blurred(picture: &Panorama) -> Vec<Panorama> {
    let mut halves = vec![picture.clone()];
    while let Some(last) = halves.last().filter(|p| p.width > 8 && p.height > 4) {
        let next = last.halved();
        halves.push(next);
    }
    let texel = 4.0 * PI / (picture.width * picture.height) as f32;
    let level = |step: usize| {
        if step == 0 {
            return picture.clone();
        }
        let rough = step as f32 / (STEPS - 1) as f32;
        let a2 = rough.powi(4);
        let width = ACROSS[step].min(picture.width);
        let blank = Panorama { width, height: (width / 2).max(1), light: Vec::new(), ready: Ready::default() };
        let look = |i: usize| {
            let normal = blank.direction(i % width, i / width);
            let side = if normal.y.abs() < 0.9 { V::y() } else { V::x() };
            let u = normal.cross(&side).normalize();
            let v = normal.cross(&u);
            let (mut sum, mut weight) = (V::zeros(), 0.0);
            for k in 0..LOOKS {
                // Hammersley's places; half-way directions as the micro facets lie.
                let (p, q) = ((k as f32 + 0.5) / LOOKS as f32, (k as u32).reverse_bits() as f32 / 4_294_967_296.0);
                let cos2 = (1.0 - q) / (1.0 + (a2 - 1.0) * q);
                let (cos, sin) = (cos2.sqrt(), (1.0 - cos2).max(0.0).sqrt());
                let (ps, pc) = (2.0 * PI * p).sin_cos();
                let half = u * (pc * sin) + v * (ps * sin) + normal * cos;
                let toward = half * (2.0 * normal.dot(&half)) - normal;
                let facing = normal.dot(&toward);
                if facing <= 0.0 {
                    continue;
                }
                let spread = a2 / (PI * (cos2 * (a2 - 1.0) + 1.0).powi(2));
                let stands_for = 4.0 / (LOOKS as f32 * spread.max(1e-6));
                let at = (0.5 * (stands_for / texel).max(1.0).log2()).min((halves.len() - 1) as f32);
                sum += halves[at.round() as usize].look(toward) * facing;
                weight += facing;
            }
            (sum / f32::max(weight, 1e-6)).into()
        };
        let light = (0..width * blank.height).into_par_iter().map(look).collect();
        Panorama { light, ..blank }
    };
    (0..STEPS).map(level).collect()
}

/// Surroundings where they stand at one time.
#[derive(Debug, Clone)]
pub(crate) struct AroundNow {
    around: Arc<Around>,
    /// The picture from the world.
    turn: Rotation3<f32>,
}

impl AroundNow {
    pub fn new(around: Arc<Around>, world_from_picture: &Rotation3<f64>) -> Self {
        Self { around, turn: world_from_picture.inverse().cast() }
    }

    /// Light on a matt white face of a normal, world.
    pub fn even(&self, normal: V) -> V {
        self.around.even(self.turn * normal)
    }

    /// Light that a face of a roughness mirrors from a direction, world.
    pub fn mirrored(&self, toward: V, rough: f32) -> V {
        self.around.mirrored(self.turn * toward, rough)
    }
}

impl PartialEq for AroundNow {
    fn eq(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.around, &other.around) && self.turn == other.turn
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Bright above, dark below, with a red patch towards -Z.
    fn sky() -> Panorama {
        let mut sky = Panorama::new(256, 128, vec![[0.0; 3]; 256 * 128]);
        for y in 0..128 {
            for x in 0..256 {
                let d = sky.direction(x, y);
                let red = d.dot(&-V::z()) > 0.98;
                sky.light[y * 256 + x] = if red { [4.0, 0.0, 0.0] } else { [if d.y > 0.0 { 1.0 } else { 0.0 }; 3] };
            }
        }
        sky
    }

    #[test]
    fn even_light_lights_white_with_itself_and_half_a_sky_with_half() {
        let even = Around::new(&Panorama::new(64, 32, vec![[0.7, 0.5, 0.3]; 64 * 32]));
        for d in [V::y(), V::x(), V::new(0.6, -0.8, 0.0)] {
            assert!((even.even(d) - V::new(0.7, 0.5, 0.3)).norm() < 0.01, "{d}");
            for rough in [0.0, 0.3, 1.0] {
                assert!((even.mirrored(d, rough) - V::new(0.7, 0.5, 0.3)).norm() < 1e-3);
            }
        }
        let half = Around::new(&sky());
        // The exact light: the share of the sky that each sees, by the cosine.
        for (d, wanted) in [(V::y(), 1.0), (V::z(), 0.5), (-V::y(), 0.0)] {
            assert!((half.even(d).y - wanted).abs() < 0.06, "{d} {}", half.even(d).y);
        }
    }

    #[test]
    fn it_is_made_ready_once_for_a_grade() {
        let sky = sky();
        let plain = Grade::default();
        let mut brighter = plain.clone();
        brighter.light = [[2.0, 0.0, 0.0], [0.0, 2.0, 0.0], [0.0, 0.0, 2.0]];
        let made = sky.lighting(&plain);
        assert!(Arc::ptr_eq(&made, &sky.lighting(&plain)));
        let bright = sky.lighting(&brighter);
        assert!((bright.even(V::y()).y / made.even(V::y()).y - 2.0).abs() < 1e-3);
        assert!(Arc::ptr_eq(&bright, &sky.lighting(&brighter)));
    }

    #[test]
    fn a_mirror_shows_where_the_picture_lies_and_what_is_rough_blurs_it() {
        let around = Arc::new(Around::new(&sky()));
        let now = |turn: f64| AroundNow::new(around.clone(), &Rotation3::from_axis_angle(&Vector3::y_axis(), turn));
        assert!(now(0.0).mirrored(-V::z(), 0.0).x > 3.5 && now(0.0).mirrored(V::x(), 0.0).x < 1.5);
        // Turned by a quarter to the left the patch lies towards -X.
        assert!(now(std::f64::consts::FRAC_PI_2).mirrored(-V::x(), 0.0).x > 3.5);
        let red = |rough| now(0.0).mirrored(-V::z(), rough).x;
        assert!(red(0.0) > red(0.4) && red(0.4) > red(0.9), "{} {} {}", red(0.0), red(0.4), red(0.9));
        let off = V::new(0.35, 0.0, -1.0).normalize();
        let beside = |rough: f32| {
            let m = now(0.0).mirrored(off, rough);
            m.x - m.y
        };
        assert!(beside(0.0).abs() < 1e-3 && beside(0.5) > 0.05, "{} {}", beside(0.0), beside(0.5));
    }
}
