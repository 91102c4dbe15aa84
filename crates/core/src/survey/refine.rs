//! A plane adjusted to the pictures themselves.

use super::cloud::CloudPoint;
use super::plane::{Plane, fit_upright, fit_weighted};
use super::views::View;
use super::windows::{Grid, Probe, Reading, cells_on, probe};
use crate::random::SplitMix64;
use nalgebra::{Matrix3, Vector3};

/// How far off the plane things are looked for while it is known roughly, and how far off they may be to count, px.
const ROUGH: (f64, f64) = (5.0, 2.0);
/// The same once it is known well.
const WELL: (f64, f64) = (2.0, 0.8);
/// How far off they may be to count at last, px.
pub(super) const LAST_PX: f64 = 0.45;
/// Windows below which a plane is not adjusted.
const FEWEST: usize = 12;
/// Windows that tell enough of a plane.
const ENOUGH: f64 = 300.0;
/// Draws of three windows in the first round.
const DRAWS: usize = 150;
/// How far the first round may turn the plane, degrees.
const MOST_TURN_DEG: f64 = 15.0;
/// Rounds of weights in each.
const REWEIGHTED: usize = 6;
/// Deviations within which a point counts.
const POINT_REACH: f64 = 3.0;
/// What is flat strays so far from a plane, px.
const ROUGH_PX: f64 = 0.08;
/// Neighbouring windows, and views of one spot, err together: so many count as one.
pub(super) const TOGETHER: f64 = 4.0;

/// A plane with what it rests on.
#[derive(Debug, Clone)]
pub struct Refined {
    /// The plane.
    pub plane: Plane,
    /// All windows that were read.
    pub readings: Vec<Reading>,
    /// Which of them lie on it.
    pub on_it: Vec<usize>,
    /// RMS of those, px.
    pub fit_px: f64,
    /// RMS of those, world units.
    pub fit: f64,
    /// Deviation of the normal, degrees.
    pub normal_deviation_deg: f64,
    /// Deviation of its place along the normal in the middle of its windows, world units.
    pub place_deviation: f64,
}

pub(super) fn error_px(r: &Reading, plane: &Plane) -> f64 {
    plane.distance(r.place) * r.px_per_unit
}

/// How firmly a window tells, as a weight.
pub(super) fn weight(r: &Reading) -> f64 {
    (r.px_per_unit / r.deviation_px.hypot(ROUGH_PX)).powi(2)
}

/// Tukey's biweight (Beaton & Tukey 1974).
fn biweight(error: f64, reach: f64) -> f64 {
    let x = error / reach;
    if x.abs() < 1.0 { (1.0 - x * x).powi(2) } else { 0.0 }
}

/// Of planes that are drawn, with `first`, that which most windows lie on, among those near `near`.
fn most_agreed(
    readings: &[Reading],
    near: &Plane,
    reach_px: f64,
    first: Option<Plane>,
    mut draw: impl FnMut() -> Option<Plane>,
) -> Option<Plane> {
    let score = |plane: &Plane| -> f64 { readings.iter().map(|r| biweight(error_px(r, plane), reach_px)).sum() };
    let mut best = first.map(|plane| (score(&plane), plane));
    for _ in 0..DRAWS {
        let Some(plane) = draw().filter(|p| p.angle_deg(near) <= MOST_TURN_DEG) else { continue };
        let found = score(&plane);
        if best.is_none_or(|(most, _)| found > most) {
            best = Some((found, plane));
        }
    }
    best.map(|(_, plane)| plane.turned_like(near))
}

/// The plane that most windows lie on, among those near the one that was asked for.
fn consensus(readings: &[Reading], near: &Plane, reach_px: f64) -> Option<Plane> {
    let mut random = SplitMix64::new(41);
    most_agreed(readings, near, reach_px, Some(*near), || {
        let places = random.distinct::<3>(readings.len())?.map(|i| (readings[i].place, 1.0));
        fit_weighted(places.into_iter())
    })
}

/// The upright plane that most windows lie on, among those near the one that was found.
fn upright_consensus(readings: &[Reading], near: &Plane, up: &Vector3<f64>) -> Option<Plane> {
    let mut random = SplitMix64::new(47);
    most_agreed(readings, near, LAST_PX, None, || {
        let [a, b] = random.distinct::<2>(readings.len())?.map(|i| readings[i].place);
        Some(Plane { point: a, normal: up.cross(&(b - a)).try_normalize(1e-9)? })
    })
}

/// The plane through the windows and points near `start`, by weights that let go of what lies off it.
fn fitted(
    readings: &[Reading],
    points: &[&CloudPoint],
    start: &Plane,
    reach_px: f64,
    upright: Option<&Vector3<f64>>,
) -> Option<Plane> {
    let mut plane = *start;
    for _ in 0..REWEIGHTED {
        let by_windows =
            readings.iter().map(|r| (r.place, weight(r) / TOGETHER * biweight(error_px(r, &plane), reach_px)));
        let by_points = points.iter().map(|p| {
            let s = p.deviation(&plane.normal);
            (p.position, biweight(plane.distance(p.position), POINT_REACH * s) / (s * s))
        });
        let weighed = by_windows.chain(by_points).filter(|(_, w)| *w > 0.0);
        let next = match upright {
            Some(up) => fit_upright(weighed, up),
            None => fit_weighted(weighed),
        }?;
        plane = next.turned_like(&plane);
    }
    Some(plane)
}

/// How well a plane is known beforehand.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Known {
    /// Within some px.
    Roughly,
    /// Within a px.
    Well,
}

/// Adjusts a plane to all views: windows where `here` says so of places on the plane are carried over by it,
/// and it is moved until they agree; points of the cloud have their say. `grid` tells how densely.
/// `None` where too little of the pictures tells of it.
pub fn refine(
    views: &[View],
    points: &[&CloudPoint],
    start: &Plane,
    known: Known,
    grid: Grid,
    here: impl Fn(Vector3<f64>) -> bool + Sync,
) -> Option<Refined> {
    let mut plane = *start;
    if known == Known::Roughly {
        let readings = probe(views, &plane, Probe { range_px: ROUGH.0, grid }, &here);
        if readings.len() < FEWEST {
            return None;
        }
        plane = consensus(&readings, &plane, ROUGH.1)?;
        plane = fitted(&readings, points, &plane, ROUGH.1, None)?;
    }
    let readings = probe(views, &plane, Probe { range_px: WELL.0, grid }, &here);
    if readings.len() < FEWEST {
        return None;
    }
    plane = consensus(&readings, &plane, WELL.1)?;
    plane = fitted(&readings, points, &plane, WELL.1, None)?;
    plane = fitted(&readings, points, &plane, LAST_PX, None)?;
    told(plane, readings, None)
}

/// How densely windows are taken of a part of the pictures so that there are enough of them.
pub fn grid_for(views: &[View], plane: &Plane, here: impl Fn(Vector3<f64>) -> bool + Sync) -> Grid {
    let cells = cells_on(views, plane, here) as f64;
    if cells > 2.0 * ENOUGH {
        Grid { every: 2, finer: 1.0 }
    } else {
        Grid { every: 1, finer: (ENOUGH / cells.max(1.0)).sqrt().clamp(1.0, 3.0) }
    }
}

/// Degrees, and deviations, from upright within which a plane is taken to stand upright.
const UPRIGHT: (f64, f64) = (2.5, 3.0);
/// A plane that leans by no more than this, degrees, may be two upright ones that it goes through.
const MAY_STAND_DEG: f64 = 15.0;
/// Part of a leaning plane's windows with which an upright one is believed instead: walls stand upright, and what truly
/// leans shares no more than a strip with one that does.
const UPRIGHT_SHARE: f64 = 0.65;

/// The same plane held upright, where nothing speaks against that; or the upright one that most of its windows lie on.
pub fn held_upright(found: Refined, points: &[&CloudPoint], up: &Vector3<f64>) -> Refined {
    let leans_deg = found.plane.normal.dot(up).clamp(-1.0, 1.0).asin().abs().to_degrees();
    if leans_deg > MAY_STAND_DEG {
        return found;
    }
    let held = |start: &Plane, points: &[&CloudPoint]| {
        let plane = fitted(&found.readings, points, start, LAST_PX, Some(up))?;
        told(plane, found.readings.clone(), Some(up))
    };
    if leans_deg <= UPRIGHT.0 && leans_deg <= UPRIGHT.1 * found.normal_deviation_deg.max(0.1) {
        return held(&found.plane, points).unwrap_or(found);
    }
    let instead = upright_consensus(&found.readings, &found.plane, up).and_then(|p| held(&p, &[]));
    let enough = UPRIGHT_SHARE * found.on_it.len() as f64;
    instead.filter(|r| r.on_it.len() as f64 >= enough).unwrap_or(found)
}

/// Another plane among the windows that do not lie on the one found: two walls, one a little behind the other.
pub fn beside(found: &Refined) -> Option<Refined> {
    let left: Vec<Reading> = (0..found.readings.len())
        .filter(|i| found.on_it.binary_search(i).is_err())
        .map(|i| found.readings[i])
        .collect();
    if left.len() < FEWEST {
        return None;
    }
    let plane = consensus(&left, &found.plane, LAST_PX)?;
    let plane = fitted(&left, &[], &plane, LAST_PX, None)?;
    told(plane, left, None)
}

/// The plane of its own that a part of the windows tells of.
pub(super) fn part_of(
    found: &Refined,
    here: impl Fn(Vector3<f64>) -> bool,
    upright: Option<&Vector3<f64>>,
) -> Option<Refined> {
    let readings: Vec<Reading> = found.readings.iter().filter(|r| here(r.place)).copied().collect();
    let plane = fitted(&readings, &[], &found.plane, LAST_PX, upright)?;
    told(plane, readings, upright)
}

/// The plane near another that windows alone tell of.
#[cfg(test)]
pub(super) fn of_readings(readings: Vec<Reading>, near: &Plane, upright: Option<&Vector3<f64>>) -> Option<Refined> {
    let plane = fitted(&readings, &[], near, ROUGH.1, upright)?;
    told(plane, readings, upright)
}

fn told(plane: Plane, readings: Vec<Reading>, upright: Option<&Vector3<f64>>) -> Option<Refined> {
    let belongs = |r: &Reading| {
        let error = error_px(r, &plane).abs();
        error < LAST_PX && error < 4.0 * r.deviation_px.hypot(ROUGH_PX)
    };
    let on_it: Vec<usize> = (0..readings.len()).filter(|&i| belongs(&readings[i])).collect();
    if on_it.len() < FEWEST {
        return None;
    }
    let n = on_it.len() as f64;
    let mean = |value: &dyn Fn(&Reading) -> f64| on_it.iter().map(|&i| value(&readings[i])).sum::<f64>() / n;
    let fit_px = mean(&|r| error_px(r, &plane).powi(2)).sqrt();
    let fit = mean(&|r| plane.distance(r.place).powi(2)).sqrt();
    // Unknowns: two tilts and the place, about the middle of the windows.
    let [a, b] = match upright {
        Some(up) => [up.cross(&plane.normal), *up],
        None => plane.across(),
    };
    let total: f64 = on_it.iter().map(|&i| weight(&readings[i])).sum();
    let middle = on_it.iter().map(|&i| readings[i].place * weight(&readings[i])).sum::<Vector3<f64>>() / total;
    let mut normal_matrix = Matrix3::zeros();
    let mut chi = 0.0;
    for &i in &on_it {
        let (r, w) = (&readings[i], weight(&readings[i]));
        let away = r.place - middle;
        let row = Vector3::new(away.dot(&a), away.dot(&b), 1.0);
        normal_matrix += row * row.transpose() * w;
        chi += w * plane.distance(r.place).powi(2);
    }
    if upright.is_some() {
        // Its lean is not asked.
        for k in [0, 2] {
            (normal_matrix[(1, k)], normal_matrix[(k, 1)]) = (0.0, 0.0);
        }
        normal_matrix[(1, 1)] = 1e30;
    }
    let inflated = (chi / n).max(1.0) * TOGETHER;
    let covariance = normal_matrix.try_inverse()? * inflated;
    let normal_deviation_deg = (covariance[(0, 0)] + covariance[(1, 1)]).max(0.0).sqrt().to_degrees();
    let place_deviation = covariance[(2, 2)].max(0.0).sqrt();
    let plane = Plane { point: plane.foot(middle), ..plane };
    Some(Refined { plane, readings, on_it, fit_px, fit, normal_deviation_deg, place_deviation })
}
