//! Drawing colours towards others: which exposure, white, contrast and saturation makes the one lot look like the other.

use super::{Grade, decode, encode, linear_of_oklab, luminance, oklab_of, white_matrix};
use nalgebra::{DMatrix, DVector};

/// What makes one lot of colours look like another.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Likeness {
    /// Stops.
    pub exposure: f64,
    /// Mired.
    pub warmth: f64,
    /// Steps of tint.
    pub tint: f64,
    /// Times.
    pub contrast: f64,
    /// Times.
    pub saturation: f64,
}

impl Likeness {
    /// None.
    pub const PLAIN: Self = Self { exposure: 0.0, warmth: 0.0, tint: 0.0, contrast: 1.0, saturation: 1.0 };

    /// The grade that it is.
    pub fn grade(&self) -> Grade {
        let mut grade = Grade::default();
        grade.light = white_matrix(self.warmth, self.tint);
        let times = self.exposure.exp2() as f32;
        grade.light.as_flattened_mut().iter_mut().for_each(|v| *v *= times);
        (grade.contrast, grade.saturation) = (self.contrast as f32, self.saturation as f32);
        grade
    }

    fn of(p: &DVector<f64>) -> Self {
        Self {
            exposure: p[0].clamp(-6.0, 6.0),
            warmth: (100.0 * p[1]).clamp(-105.0, 250.0),
            tint: p[2].clamp(-2.0, 2.0),
            contrast: p[3].exp().clamp(0.2, 4.0),
            saturation: p[4].exp().clamp(0.0, 4.0),
        }
    }
}

/// Colours that are looked at of each lot at most, and that are needed.
const MOST: usize = 1500;
const LEAST: usize = 30;
/// Parts of the lot, by lightness, of which brightness and colour are compared.
const PARTS: usize = 7;
/// Numbers that tell a lot: lightness of its parts; mean colour of its thirds, and how far colours spread about that.
const FEATURES: usize = PARTS + 9;
/// How far each value may be expected to be from none, before anything is seen: stops, 100 mired, steps, powers of e twice.
const EXPECTED: [f64; 5] = [0.6, 0.4, 0.35, 0.2, 0.25];
/// How exactly lots agree that are of the like, of lightness and of colour in OKLab.
const EXACT: (f64, f64) = (0.004, 0.0015);
/// How far a thing of one tone may lie from what is about it for no other reason than that it is another thing.
const OTHER_THING: (f64, f64) = (0.4, 0.1);
/// Of the tones about it, so much is as good as none, and so much as good as all: a grade may have spread them.
const FEW: (f64, f64) = (0.15, 0.65);
/// How badly lots of the like may agree, in squared deviations on the average.
const MISFIT: f64 = 4.0;
/// Colours that stand for common ground.
const GROUND: usize = 210;
/// How far common ground in daylight lies from the mean of such.
const OTHER_GROUND: (f64, f64) = (0.12, 0.02);

/// What makes `from` look like `to`, both linear light; `None` where there is too little of either. `to` comes in parts that
/// lie apart from each other, as they are seen round a thing: how much these differ tells how much `from` may differ and
/// still be of the like.
///
/// The brightness of each part of the lots by lightness is compared, its mean colour, and how far colours spread about that
/// (after Reinhard et al., "Color Transfer between Images", 2001, with a grade instead of free scales). A thing of few tones
/// tells little of how it should look: the fewer it has, the more it is held to what the same grade makes of common ground
/// in daylight, and to no grade. The most probable grade is sought (Levenberg 1944).
pub fn likeness(from: &[[f32; 3]], to: &[&[[f32; 3]]]) -> Option<Likeness> {
    let count: usize = to.iter().map(|part| part.len()).sum();
    if from.len() < LEAST || count < LEAST {
        return None;
    }
    let thinned = |all: &mut dyn Iterator<Item = [f32; 3]>, count: usize| -> Vec<[f32; 3]> {
        all.step_by(count.div_ceil(MOST)).collect()
    };
    let from = thinned(&mut from.iter().copied(), from.len());
    let about = thinned(&mut to.iter().flat_map(|part| part.iter().copied()), count);
    let wanted = features(&about);
    let parts: Vec<[f64; FEATURES]> = to
        .iter()
        .filter(|part| part.len() >= LEAST.max(count / (4 * to.len())))
        .map(|part| features(&thinned(&mut part.iter().copied(), part.len())))
        .collect();
    let ground = common_ground();
    let spread: [f64; FEATURES] = std::array::from_fn(|k| {
        let mean = parts.iter().map(|p| p[k]).sum::<f64>() / parts.len().max(1) as f64;
        parts.iter().map(|p| (p[k] - mean).powi(2)).sum::<f64>() / parts.len().saturating_sub(1).max(1) as f64
    });
    let of = |k: usize, (light, colour): (f64, f64)| if k < PARTS { light } else { colour };
    // The numbers of a lot go together: they count as some two of lightness and three of colour.
    let together = |k: usize| if k < PARTS { PARTS as f64 / 2.0 } else { 3.0 };
    let graded = |p: &DVector<f64>, lot: &[[f32; 3]]| {
        let grade = Likeness::of(p).grade();
        features(&lot.iter().map(|c| grade.apply(*c)).collect::<Vec<_>>())
    };
    let exactly = |k: usize| (of(k, EXACT).powi(2) + spread[k]).sqrt();
    let found = |variety: (f64, f64)| {
        let deviations: [[f64; 2]; FEATURES] = std::array::from_fn(|k| {
            let other = of(k, OTHER_THING) * (1.0 - of(k, variety));
            let ground = of(k, OTHER_GROUND).powi(2) + spread[k];
            [(together(k) * (exactly(k).powi(2) + other * other)).sqrt(), (together(k) * ground).sqrt()]
        });
        let residual = |p: &DVector<f64>| -> DVector<f64> {
            let (own, common) = (graded(p, &from), graded(p, &ground));
            let apart = (0..FEATURES).map(|k| (own[k] - wanted[k]) / deviations[k][0]);
            let common = (0..FEATURES).map(|k| (common[k] - wanted[k]) / deviations[k][1]);
            let held = (0..5).map(|k| p[k] / EXPECTED[k]);
            DVector::from_vec(apart.chain(common).chain(held).collect())
        };
        least_squares(residual, 5)
    };
    let best = found(variety(&from, &about));
    // Where even then the one is not like the other, it is of other paints: what is about it tells nothing of its own.
    let own = graded(&best, &from);
    let misfit = (0..FEATURES).map(|k| ((own[k] - wanted[k]) / exactly(k)).powi(2)).sum::<f64>() / FEATURES as f64;
    let best = if misfit > MISFIT { found((0.0, 0.0)) } else { best };
    Some(Likeness::of(&best))
}

/// The point of least squares, from zero on.
fn least_squares(residual: impl Fn(&DVector<f64>) -> DVector<f64>, unknowns: usize) -> DVector<f64> {
    let mut best = DVector::zeros(unknowns);
    let mut at = residual(&best);
    let mut damping = 1e-3;
    for _ in 0..40 {
        let mut jacobian = DMatrix::zeros(at.len(), unknowns);
        for k in 0..unknowns {
            let mut moved = best.clone();
            moved[k] += 1e-3;
            jacobian.set_column(k, &((residual(&moved) - &at) / 1e-3));
        }
        let normal = jacobian.transpose() * &jacobian;
        let gradient = jacobian.transpose() * &at;
        let mut damped = normal.clone();
        (0..unknowns).for_each(|k| damped[(k, k)] += damping * normal[(k, k)].max(1e-9));
        let Some(step) = damped.lu().solve(&gradient) else { break };
        let next = &best - &step;
        let there = residual(&next);
        if there.norm_squared() < at.norm_squared() {
            let gained = at.norm_squared() - there.norm_squared();
            let done = gained < 1e-6;
            (best, at, damping) = (next, there, (damping * 0.3).max(1e-9));
            if done {
                break;
            }
        } else {
            damping *= 5.0;
            if damping > 1e6 {
                break;
            }
        }
    }
    best
}

/// How many tones and colours a lot has, of those that another has, 0 to 1. Colours are taken for as bright as white: the
/// same thing in light and in shade has one, and tones without colours that differ are its shading.
fn variety(own: &[[f32; 3]], other: &[[f32; 3]]) -> (f64, f64) {
    let deviation = |all: &[f64]| {
        let mean = all.iter().sum::<f64>() / all.len() as f64;
        (all.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / all.len() as f64).sqrt()
    };
    let tell = |lot: &[[f32; 3]]| {
        let lab: Vec<[f64; 3]> = lot.iter().map(|c| oklab_of(*c).map(f64::from)).collect();
        let of = |k: usize| deviation(&lab.iter().map(|c| c[k] / c[0].max(0.05)).collect::<Vec<_>>());
        (deviation(&lab.iter().map(|c| c[0]).collect::<Vec<_>>()), of(1).hypot(of(2)))
    };
    let (own, other) = (tell(own), tell(other));
    let part = |a: f64, b: f64| ((a / b.max(1e-6) - FEW.0) / (FEW.1 - FEW.0)).clamp(0.0, 1.0);
    let colours = part(own.1, other.1);
    (part(own.0, other.0).min(colours), colours)
}

/// Ground as it is mostly seen in daylight: its tones about a middle one, hardly coloured.
fn common_ground() -> Vec<[f32; 3]> {
    let tone = |k: usize| 0.66 + 0.48 * ((k as f32 + 0.5) / GROUND as f32 - 0.5);
    (0..GROUND)
        .map(|k| {
            let hue = (137.5 * k as f32).to_radians();
            linear_of_oklab([tone(k), 0.02 * hue.cos(), 0.01 + 0.02 * hue.sin()]).map(|v| v.max(0.0))
        })
        .collect()
}

/// Lightness of parts of a lot, mean colours of three of them, and how far colours spread.
fn features(all: &[[f32; 3]]) -> [f64; FEATURES] {
    let mut lab: Vec<[f64; 3]> = all.iter().map(|c| oklab_of(c.map(|v| v.min(4.0))).map(f64::from)).collect();
    lab.sort_by(|a, b| a[0].total_cmp(&b[0]));
    let n = lab.len();
    let part = |k: usize, of: usize| &lab[k * n / of..((k + 1) * n / of).max(k * n / of + 1)];
    let mean = |of: &[[f64; 3]], k: usize| of.iter().map(|c| c[k]).sum::<f64>() / of.len() as f64;
    let mut all = [0.0; FEATURES];
    (0..PARTS).for_each(|k| all[k] = mean(part(k, PARTS), 0));
    for third in 0..3 {
        let of = part(third, 3);
        let (a, b) = (mean(of, 1), mean(of, 2));
        let spread = of.iter().map(|c| (c[1] - a).hypot(c[2] - b)).sum::<f64>() / of.len() as f64;
        all[PARTS + 3 * third..PARTS + 3 * third + 3].copy_from_slice(&[a, b, spread]);
    }
    all
}

/// A grade that counts as much as it is told for dark, middle and bright tones.
#[derive(Debug, Clone, PartialEq)]
pub struct ToneGrade {
    /// The grade.
    pub grade: Grade,
    /// How much of it counts for dark, middle and bright tones, 0 to 1.
    pub tones: [f32; 3],
}

impl ToneGrade {
    /// The light of a pixel after it.
    pub fn apply(&self, light: [f32; 3]) -> [f32; 3] {
        let graded = self.grade.apply(light);
        if self.tones == [1.0; 3] {
            return graded;
        }
        let part: f32 = tone_weights(encode(luminance(light))).iter().zip(self.tones).map(|(w, t)| w * t).sum();
        // Mixed as it is seen.
        std::array::from_fn(|k| {
            let (a, b) = (encode(light[k]), encode(graded[k]));
            decode(a + (b - a) * part)
        })
    }
}

/// How much a display value of brightness is dark, middle and bright; together they are 1.
pub fn tone_weights(v: f32) -> [f32; 3] {
    let smooth = |from: f32, to: f32| {
        let t = ((v - from) / (to - from)).clamp(0.0, 1.0);
        t * t * (3.0 - 2.0 * t)
    };
    let (up, high) = (smooth(0.15, 0.45), smooth(0.55, 0.85));
    [1.0 - up, up - high, high]
}

/// A grade that makes one colour another, both linear light: what an eye-dropper gives.
pub fn likeness_of(from: [f32; 3], to: [f32; 3]) -> Likeness {
    let bright = |c: [f32; 3]| f64::from(luminance(c)).max(1e-4);
    let exposure = (bright(to) / bright(from)).log2().clamp(-6.0, 6.0);
    let lit = from.map(|v| v * exposure.exp2() as f32);
    let wanted = oklab_of(to);
    // White is searched so that the hue comes near; what is then missing is saturation.
    let apart = |warmth: f64, tint: f64| -> f64 {
        let m = white_matrix(warmth, tint);
        let seen = oklab_of(m.map(|row| row[0] * lit[0] + row[1] * lit[1] + row[2] * lit[2]));
        f64::from((seen[1] - wanted[1]).hypot(seen[2] - wanted[2]))
    };
    let (mut warmth, mut tint, mut step) = (0.0f64, 0.0f64, 1.0f64);
    while step > 0.01 {
        let around = [(60.0, 0.0), (-60.0, 0.0), (0.0, 0.8), (0.0, -0.8)];
        let near = around.map(|(w, t)| ((warmth + w * step).clamp(-100.0, 250.0), (tint + t * step).clamp(-2.0, 2.0)));
        let best = near.into_iter().min_by(|a, b| apart(a.0, a.1).total_cmp(&apart(b.0, b.1)));
        match best.filter(|b| apart(b.0, b.1) < apart(warmth, tint)) {
            Some(better) => (warmth, tint) = better,
            None => step *= 0.5,
        }
    }
    Likeness { exposure, warmth, tint, ..Likeness::PLAIN }
}

/// A colour as bright and as strong as it is told in OKLab; for made-up lots.
pub fn oklab_colour(lightness: f32, strength: f32, hue_deg: f32) -> [f32; 3] {
    let (sin, cos) = hue_deg.to_radians().sin_cos();
    linear_of_oklab([lightness, strength * cos, strength * sin]).map(|v| v.max(0.0))
}

#[cfg(test)]
mod tests {
    use super::super::{delta_e, lab_of};
    use super::*;

    fn lot(seed: u32, count: usize) -> Vec<[f32; 3]> {
        let mut state = seed;
        let mut unit = || {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (state >> 8) as f32 / 16_777_216.0
        };
        (0..count).map(|_| oklab_colour(0.2 + 0.65 * unit(), 0.12 * unit() * unit(), 360.0 * unit())).collect()
    }

    #[test]
    fn a_grade_is_found_again_from_what_it_made_of_the_like() {
        let (here, there) = (lot(1, 4000), lot(99, 4000));
        for truth in [
            Likeness { exposure: 0.6, warmth: 40.0, tint: 0.0, contrast: 1.0, saturation: 1.0 },
            Likeness { exposure: -0.8, warmth: -30.0, tint: 0.4, contrast: 1.25, saturation: 0.7 },
            Likeness { exposure: 0.2, warmth: 0.0, tint: -0.5, contrast: 0.75, saturation: 1.3 },
        ] {
            let grade = truth.grade();
            let graded: Vec<[f32; 3]> = there.iter().map(|c| grade.apply(*c)).collect();
            let found = likeness(&here, &[&graded[..2000], &graded[2000..]]).unwrap().grade();
            let mut off: Vec<f64> =
                here.iter().map(|c| delta_e(lab_of(found.apply(*c)), lab_of(grade.apply(*c)))).collect();
            off.sort_by(f64::total_cmp);
            assert!(off[off.len() / 2] < 1.0, "{truth:?}: {}", off[off.len() / 2]);
        }
        assert!(likeness(&here[..5], &[&there]).is_none());
    }

    /// Fault: signs and titles took on the colours of the ground about them.
    #[test]
    fn a_thing_of_other_paints_keeps_its_own_and_goes_with_the_grade() {
        // Ground: hardly coloured, its tones about a middle one.
        let ground: Vec<[f32; 3]> =
            lot(5, 2000).iter().map(|c| oklab_of(*c)).map(|c| oklab_colour(0.5 + 0.3 * c[0], 0.03, 80.0)).collect();
        let crest: Vec<[f32; 3]> = (0..900)
            .map(|i| {
                [[0.02, 0.05, 0.08], [0.15, 0.4, 0.42], [0.7, 0.45, 0.1]][i % 3]
                    .map(|v: f32| v * (0.7 + 0.3 * (i % 7) as f32 / 7.0))
            })
            .collect();
        let red: Vec<[f32; 3]> =
            (0..900).map(|i| [0.5f32, 0.05, 0.04].map(|v| v * (0.7 + 0.3 * (i % 7) as f32 / 7.0))).collect();
        for own in [crest, red] {
            let off = |truth: &Grade| {
                let about: Vec<[f32; 3]> = ground.iter().map(|c| truth.apply(*c)).collect();
                let found = likeness(&own, &[&about[..1000], &about[1000..]]).unwrap().grade();
                let apart = |g: &Grade| {
                    own.iter().map(|c| delta_e(lab_of(g.apply(*c)), lab_of(truth.apply(*c)))).sum::<f64>()
                        / own.len() as f64
                };
                (apart(&found), apart(&Grade::default()))
            };
            let (stays, _) = off(&Grade::default());
            assert!(stays < 6.0, "it stays nearly what it is where nothing was graded: {stays}");
            let (after, before) = off(&Likeness { exposure: 0.8, warmth: 60.0, ..Likeness::PLAIN }.grade());
            assert!(after < 0.7 * before, "it goes with the grade: {after} of {before}");
        }
    }

    #[test]
    fn tones_are_drawn_apart() {
        let grade = Likeness { exposure: 1.0, ..Likeness::PLAIN }.grade();
        let dark_only = ToneGrade { grade: grade.clone(), tones: [1.0, 0.0, 0.0] };
        let (dark, bright) = ([decode(0.1); 3], [decode(0.9); 3]);
        assert!((dark_only.apply(dark)[0] - grade.apply(dark)[0]).abs() < 1e-5);
        assert!((dark_only.apply(bright)[0] - bright[0]).abs() < 1e-5);
        for v in [0.0, 0.3, 0.5, 0.7, 1.0] {
            assert!((tone_weights(v).iter().sum::<f32>() - 1.0).abs() < 1e-6);
        }
    }

    #[test]
    fn the_dropper_makes_one_grey_another() {
        let (from, to) = ([0.2, 0.2, 0.2], [0.5, 0.42, 0.3]);
        let made = likeness_of(from, to).grade().apply(from);
        let off = delta_e(lab_of(made), lab_of(to));
        assert!(off < 2.5, "{off} {made:?}");
    }
}
