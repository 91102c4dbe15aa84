//! A plane that goes through two flat parts side by side, told by what its windows leave over.
//!
//! Two walls a little apart can both lie within the reach of one plane. Then what is left over slants against it on
//! either side of a cut. Every cut along and across the plane is tried: each side gets a line of its own, and the cut
//! stands where the two leave significantly less than the one (the F test of a change of regression, Chow 1960).

use super::refine::{LAST_PX, Refined, TOGETHER, error_px, part_of, weight};
use nalgebra::{Matrix3, Vector3};

/// Cuts that are tried along each axis.
const CUTS: usize = 11;
/// Windows on each side of a cut.
const LEAST_WINDOWS: usize = 30;
/// F from which a cut stands, and the part of the squares that it must take away.
const SIGNIFICANT: (f64, f64) = (7.0, 0.15);

/// A window as the plane sees it: where on it, how far off it, how firmly it tells.
struct Seen {
    at: [f64; 2],
    off: f64,
    weight: f64,
}

/// What a plane of its own leaves over of some windows: weighed squares.
fn left_over<'a>(windows: impl Iterator<Item = &'a Seen> + Clone, unknowns: usize) -> Option<f64> {
    let row = |s: &Seen| Vector3::new(1.0, s.at[0], if unknowns > 2 { s.at[1] } else { 0.0 });
    let (mut matrix, mut right) = (Matrix3::zeros(), Vector3::zeros());
    for s in windows.clone() {
        matrix += row(s) * row(s).transpose() * s.weight;
        right += row(s) * (s.weight * s.off);
    }
    if unknowns < 3 {
        matrix[(2, 2)] = 1.0;
    }
    let solved = matrix.try_inverse()? * right;
    Some(windows.map(|s| s.weight * (s.off - row(s).dot(&solved)).powi(2)).sum())
}

/// The two parts, where a plane goes through two.
pub fn split(found: &Refined, up: Option<&Vector3<f64>>) -> Option<[Refined; 2]> {
    let plane = &found.plane;
    let axes = match up {
        Some(up) => {
            let level = up.cross(&plane.normal).try_normalize(1e-6)?;
            [level, plane.normal.cross(&level)]
        }
        None => plane.across(),
    };
    let at = |place: Vector3<f64>| axes.map(|a| a.dot(&(place - plane.point)));
    let seen: Vec<Seen> = found
        .on_it
        .iter()
        .map(|&i| {
            let r = &found.readings[i];
            Seen { at: at(r.place), off: plane.distance(r.place), weight: weight(r) }
        })
        .collect();
    // Held upright, a plane has no lean of its own on either side.
    let unknowns = if up.is_some_and(|u| u.dot(&plane.normal).abs() < 1e-9) { 2 } else { 3 };
    let one = left_over(seen.iter(), unknowns)?;
    let free = seen.len() as f64 / TOGETHER - 2.0 * unknowns as f64;
    if free < 1.0 {
        return None;
    }
    let mut best: Option<(f64, usize, f64)> = None;
    for axis in 0..2 {
        let mut along: Vec<f64> = seen.iter().map(|s| s.at[axis]).collect();
        along.sort_by(f64::total_cmp);
        for k in 1..=CUTS {
            let cut = along[k * along.len() / (CUTS + 1)];
            let below = seen.iter().filter(|s| s.at[axis] < cut);
            let above = seen.iter().filter(|s| s.at[axis] >= cut);
            if below.clone().count().min(above.clone().count()) < LEAST_WINDOWS {
                continue;
            }
            let (Some(a), Some(b)) = (left_over(below, unknowns), left_over(above, unknowns)) else { continue };
            if best.is_none_or(|(least, _, _)| a + b < least) {
                best = Some((a + b, axis, cut));
            }
        }
    }
    let (two, axis, cut) = best?;
    let f = (one - two) / unknowns as f64 / (two / free);
    if f < SIGNIFICANT.0 || one - two < SIGNIFICANT.1 * one {
        return None;
    }
    let part = |below: bool| part_of(found, |place| (at(place)[axis] < cut) == below, up.filter(|_| unknowns == 2));
    let (a, b) = (part(true)?, part(false)?);
    // One plane that is only not quite flat goes on where its other half is.
    let goes_on = |a: &Refined, b: &Refined| {
        let on = b.on_it.iter().filter(|&&i| error_px(&b.readings[i], &a.plane).abs() < LAST_PX).count();
        2 * on > b.on_it.len()
    };
    (!goes_on(&a, &b) || !goes_on(&b, &a)).then_some([a, b])
}

#[cfg(test)]
mod tests {
    use super::super::plane::Plane;
    use super::super::refine::of_readings;
    use super::super::windows::Reading;
    use super::*;
    use crate::random::SplitMix64;

    /// Windows on walls 20 m off, each by its depth at an abscissa, in metres.
    fn found(depth: impl Fn(f64) -> f64) -> Refined {
        let mut random = SplitMix64::new(3);
        let readings = (0..240)
            .map(|i| {
                let (x, y) = (f64::from(i % 24) * 0.3 - 3.5, f64::from(i / 24) * 0.3);
                let place = Vector3::new(x, y, -depth(x) + 0.05 * random.normal());
                let (pixel, offset) = (nalgebra::Vector2::new(x, y), 0.0);
                Reading { view: 0, pixel, place, offset, px_per_unit: 3.0, deviation_px: 0.15, agreement: 0.9 }
            })
            .collect();
        let middle = Plane { point: Vector3::new(0.0, 1.5, -20.0), normal: Vector3::z() };
        of_readings(readings, &middle, Some(&Vector3::y())).unwrap()
    }

    #[test]
    fn two_walls_that_one_plane_goes_through_are_told_apart_and_one_stays_whole() {
        let up = Vector3::y();
        assert!(split(&found(|_| 20.0), Some(&up)).is_none());
        assert!(split(&found(|x| 20.0 + 0.1 * x), Some(&up)).is_none(), "one that slants is one");
        // The second stands 0.3 m behind; each slants against the plane through both.
        let both = found(|x| if x < 0.5 { 20.0 } else { 20.3 });
        assert!(both.plane.normal.z < 0.9995, "{:?}", both.plane.normal);
        let two = split(&both, Some(&up)).expect("they are two");
        for part in &two {
            let turned = part.plane.normal.dot(&Vector3::z()).abs().min(1.0).acos().to_degrees();
            assert!(turned < 0.6, "{turned} deg");
        }
    }
}
