//! Floor, walls and further planes of a solved clip, found by themselves.

use super::cloud::{CloudPoint, cloud};
use super::extent::{Inside, hull, outline};
use super::flats::{Flat, flats};
use super::floor::{Candidate, candidates};
use super::head_on::is_wall_like;
use super::plane::Plane;
use super::refine::{Known, Refined, beside, grid_for, held_upright, refine};
use super::sky::shows_sky;
use super::split::split;
use super::upright::Held;
use super::views::View;
use super::windows::{Grid, Reading, cell_px};
use crate::solve::{Motion, Solution};
use crate::track::TrackId;
use nalgebra::Vector3;
use serde::{Deserialize, Serialize};

/// Floors that the picture is asked about.
const ASKED: usize = 3;
/// What a floor must have of the score of the best to be asked about.
const RIVALS: f64 = 0.15;
/// Where windows lie while floors are compared, and for the one that is found.
const COMPARED: Grid = Grid { every: 4, finer: 1.0 };
const FOUND: Grid = Grid { every: 2, finer: 1.0 };
/// Windows on a floor, and part of all that could be read, from which the picture confirms it.
const CONFIRMED: (usize, f64) = (20, 0.1);
/// Points that stand for a floor without the picture.
const BY_POINTS: f64 = 12.0;
/// Part of the windows inside a plane's outline that must lie on it: of one that stands upright or lies level, and of
/// any other, as planes that touch round things, or go through two walls, are.
const SHARE: (f64, f64) = (0.5, 0.7);
/// Points from which a flat part is known well before the picture is asked.
const MANY_POINTS: usize = 25;
/// How firmly the normal of a plane must be known, degrees.
const LEAST_FIRM_DEG: f64 = 1.5;
/// Deviations of points off the floor, beyond which they can be of something else.
const OFF_FLOOR: f64 = 3.0;
/// A camera that looks down by more than this should see no sky, degrees.
const LOOKS_DOWN_DEG: f64 = 35.0;
/// How far an outline of points is grown before the picture is asked, of the distance to the camera.
const GROWN: f64 = 0.03;
/// A plane within so many degrees of upright is a wall, of level a level.
const WALL_DEG: f64 = 12.0;
const LEVEL_DEG: f64 = 6.0;

/// What a plane is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum PlaneKind {
    /// What the scene stands on.
    Floor,
    /// Upright.
    Wall,
    /// Neither upright nor level.
    Slope,
    /// Level, but not the floor; or anything, where no floor is known.
    Other,
}

impl PlaneKind {
    /// The word of the camera file.
    pub fn word(self) -> &'static str {
        match self {
            Self::Floor => "floor",
            Self::Wall => "wall",
            Self::Slope => "slope",
            Self::Other => "other",
        }
    }
}

/// A plane with what it rests on, in the world of the solve.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FoundPlane {
    /// What it is.
    pub kind: PlaneKind,
    /// The plane, its normal towards the cameras.
    pub plane: Plane,
    /// Its corners, in their order round what was seen of it.
    pub outline: Vec<Vector3<f64>>,
    /// Solved points on it, by rising id.
    pub points: Vec<TrackId>,
    /// Windows of the pictures on it; 0 where the pictures did not tell.
    pub windows: usize,
    /// Part of the windows that could be read there and lie on it.
    pub share: f64,
    /// RMS of its windows, or of its points, px of the full picture.
    pub fit_px: f64,
    /// The same, world units.
    pub fit: f64,
    /// Deviation of its normal, degrees.
    pub normal_deviation_deg: f64,
    /// Deviation of its place along the normal, world units.
    pub place_deviation: f64,
}

/// Why no floor is proposed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum NoFloor {
    /// The camera turns on the spot: there are no depths.
    Nodal,
    /// Too few points with depth.
    Points,
    /// Nothing lies level under the cameras.
    NothingLevel,
    /// Something does, but neither points nor the picture hold it.
    NothingHolds,
    /// What fills the frame is seen head on and looks like a wall.
    HeadOn,
}

/// What was found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Survey {
    /// Floors, the likeliest first.
    pub floors: Vec<FoundPlane>,
    /// Everything else, the largest first.
    pub planes: Vec<FoundPlane>,
    /// Why there is no floor, where there is none.
    pub no_floor: Option<NoFloor>,
}

struct Scene<'a> {
    solution: &'a Solution,
    views: &'a [View],
    cloud: Vec<CloudPoint>,
    eye: Vector3<f64>,
}

/// Looks for floor, walls and further planes. `views` may be empty; then the points alone tell.
pub fn survey(solution: &Solution, views: &[View]) -> Survey {
    let none = |why| Survey { floors: Vec::new(), planes: Vec::new(), no_floor: Some(why) };
    if solution.motion == Motion::Nodal {
        return none(NoFloor::Nodal);
    }
    let eyes = solution.centres();
    let cloud = cloud(solution);
    let Some(held) = Held::of(solution).filter(|_| cloud.len() >= 3) else { return none(NoFloor::Points) };
    let eye = eyes.iter().sum::<Vector3<f64>>() / eyes.len() as f64;
    let scene = Scene { solution, views, cloud, eye };
    let (floors, no_floor) = match scene.floors(&held, &eyes) {
        Ok(floors) => (floors, None),
        Err(why) => (Vec::new(), Some(why)),
    };
    let planes = scene.others(floors.first().map(|f| f.plane));
    Survey { floors, planes, no_floor }
}

impl Scene<'_> {
    fn floors(&self, held: &Held, eyes: &[Vector3<f64>]) -> Result<Vec<FoundPlane>, NoFloor> {
        let all = candidates(&self.cloud, held, eyes);
        let (views, all_points) = (self.views, self.cloud.iter().collect::<Vec<_>>());
        let best = all.first().ok_or(NoFloor::NothingLevel)?.score;
        let mut asked: Vec<(f64, &Candidate, Option<Refined>)> = all
            .iter()
            .filter(|c| c.score >= RIVALS * best)
            .take(ASKED)
            .map(|c| {
                let refined = refine(views, &all_points, &c.plane, Known::Roughly, COMPARED, |_| true);
                let windows = refined.as_ref().map_or(0.0, |r| r.on_it.len() as f64);
                // What the points say and what the picture says, by how likely that way is up.
                let trust = c.score / c.support.max(1e-9);
                (trust * (c.support + windows), c, refined)
            })
            .collect();
        asked.sort_by(|a, b| b.0.total_cmp(&a.0));
        let mut found: Vec<FoundPlane> = Vec::new();
        let mut head_on = false;
        for (_, candidate, rough) in asked {
            let confirmed = |r: &Refined| {
                r.on_it.len() >= CONFIRMED.0 && r.on_it.len() as f64 >= CONFIRMED.1 * r.readings.len() as f64
            };
            let refined = rough
                .filter(confirmed)
                .and_then(|r| refine(views, &all_points, &r.plane, Known::Well, FOUND, |_| true));
            let upright = held.judge(&candidate.plane.normal);
            let plane_now = refined.as_ref().map_or(candidate.plane, |r| r.plane);
            let wall_like = |r: &Refined| is_wall_like(self.solution, views, r);
            let wall = || upright.is_steep() && refined.as_ref().is_some_and(wall_like);
            let under_sky = || upright.pitch_deg < -LOOKS_DOWN_DEG && shows_sky(views, &plane_now);
            if found.is_empty() && (wall() || under_sky()) {
                head_on = true;
                break;
            }
            let plane = match refined {
                Some(r) => self.by_picture(&r, PlaneKind::Floor, None),
                None if candidate.support >= BY_POINTS => self.by_points(candidate.plane, PlaneKind::Floor, None),
                None => continue,
            };
            if !(plane.normal_deviation_deg < LEAST_FIRM_DEG) || plane.outline.len() < 3 {
                continue;
            }
            let again = |f: &FoundPlane| super::floor::alike(&f.plane, &plane.plane, eyes);
            if !found.iter().any(again) {
                found.push(plane);
            }
        }
        if head_on {
            Err(NoFloor::HeadOn)
        } else if found.is_empty() {
            Err(NoFloor::NothingHolds)
        } else {
            Ok(found)
        }
    }

    fn points_on(&self, plane: &Plane) -> impl Iterator<Item = &CloudPoint> {
        let plane = *plane;
        self.cloud.iter().filter(move |p| plane.distance(p.position).abs() < 2.5 * p.deviation(&plane.normal))
    }

    fn by_picture(&self, r: &Refined, kind: PlaneKind, up: Option<&Vector3<f64>>) -> FoundPlane {
        let mut found = of_refined(self.views, r, kind, up, self.eye);
        found.points = self.points_on(&found.plane).map(|p| p.id).collect();
        found.points.sort_unstable();
        found
    }

    fn by_points(&self, plane: Plane, kind: PlaneKind, up: Option<&Vector3<f64>>) -> FoundPlane {
        let plane = plane.facing(self.eye);
        let on_it: Vec<&CloudPoint> = self.points_on(&plane).collect();
        of_points(plane, kind, &on_it, up)
    }

    fn others(&self, floor: Option<Plane>) -> Vec<FoundPlane> {
        let up = floor.map(|f| f.normal);
        let off_floor =
            |p: &CloudPoint| floor.is_none_or(|f| f.distance(p.position).abs() > OFF_FLOOR * p.deviation(&f.normal));
        let free: Vec<bool> = self.cloud.iter().map(off_floor).collect();
        let mut found: Vec<FoundPlane> = Vec::new();
        for flat in flats(&self.cloud, &free, up.as_ref(), self.eye) {
            found.extend(self.flat(&flat, up.as_ref()));
        }
        // What tells most first.
        found.sort_by_key(|f| std::cmp::Reverse(f.windows + f.points.len()));
        found
    }

    /// One flat part of the points, or two that the points alone cannot tell apart.
    fn flat(&self, flat: &Flat, up: Option<&Vector3<f64>>) -> Vec<FoundPlane> {
        let members: Vec<&CloudPoint> = flat.members.iter().map(|&i| &self.cloud[i]).collect();
        let depth = members.iter().map(|p| p.depth).sum::<f64>() / members.len() as f64;
        let places: Vec<Vector3<f64>> = members.iter().map(|p| flat.plane.foot(p.position)).collect();
        let inside = Inside::new(&flat.plane, &hull(&flat.plane, &places, GROWN * depth, up));
        let grid = grid_for(self.views, &flat.plane, |p| inside.holds(p));
        // Many points tell of it within a px; few may be farther off.
        let known = if members.len() >= MANY_POINTS { Known::Well } else { Known::Roughly };
        let refined = refine(self.views, &members, &flat.plane, known, grid, |p| inside.holds(p));
        let upright = |r: Refined| match up {
            Some(up) => held_upright(r, &members, up),
            None => r,
        };
        let refined = refined.map(upright);
        let second = refined.as_ref().and_then(beside).map(upright);
        let all = refined.as_ref().map_or(1, |r| r.readings.len());
        // Those of a plane that is cut in two answer for their own side alone.
        let parted: Vec<(Refined, usize)> = refined
            .iter()
            .chain(&second)
            .flat_map(|r| match split(r, up) {
                Some(two) => two.map(|r| (r.readings.len(), upright(r))).map(|(n, r)| (r, n)).to_vec(),
                None => vec![(r.clone(), all)],
            })
            .collect();
        let least = |r: &Refined| if kind_of(&r.plane, up) == PlaneKind::Slope { SHARE.1 } else { SHARE.0 };
        let enough = |(r, all): &(Refined, usize)| r.on_it.len() as f64 >= least(r) * *all as f64;
        let parts: Vec<&Refined> = parted.iter().filter(|p| enough(p)).map(|(r, _)| r).collect();
        let mut found: Vec<FoundPlane> = parts
            .iter()
            .map(|r| {
                let mut plane = self.by_picture(r, kind_of(&r.plane, up), up);
                // The infinite plane meets much that is not of it.
                let nearest = |p: &&&CloudPoint| {
                    let off = |q: &&Refined| q.plane.distance(p.position).abs();
                    parts.iter().min_by(|a, b| off(a).total_cmp(&off(b))).is_some_and(|q| std::ptr::eq(*q, *r))
                };
                plane.points = members.iter().filter(nearest).map(|p| p.id).collect();
                plane.points.sort_unstable();
                plane
            })
            .collect();
        if refined.is_none() && members.len() >= BY_POINTS as usize {
            found.push(of_points(flat.plane, kind_of(&flat.plane, up), &members, up));
        }
        found.retain(|f| f.normal_deviation_deg < LEAST_FIRM_DEG && f.outline.len() >= 3);
        found
    }
}

/// A plane as the pictures tell of it, its normal towards `eye`; its points are not filled in.
pub fn of_refined(
    views: &[View],
    r: &Refined,
    kind: PlaneKind,
    up: Option<&Vector3<f64>>,
    eye: Vector3<f64>,
) -> FoundPlane {
    let plane = r.plane.facing(eye);
    let on_it: Vec<&Reading> = r.on_it.iter().map(|&i| &r.readings[i]).collect();
    FoundPlane {
        kind,
        plane,
        outline: outline(views, &plane, &on_it, cell_px(views), up),
        points: Vec::new(),
        windows: r.on_it.len(),
        share: r.on_it.len() as f64 / r.readings.len().max(1) as f64,
        fit_px: r.fit_px * views.first().map_or(1.0, View::full),
        fit: r.fit,
        normal_deviation_deg: r.normal_deviation_deg,
        place_deviation: r.place_deviation,
    }
}

/// A plane as points alone tell of it.
pub fn of_points(plane: Plane, kind: PlaneKind, on_it: &[&CloudPoint], up: Option<&Vector3<f64>>) -> FoundPlane {
    let n = on_it.len().max(1) as f64;
    let mean = |value: &dyn Fn(&CloudPoint) -> f64| on_it.iter().map(|p| value(p)).sum::<f64>() / n;
    let fit = mean(&|p| plane.distance(p.position).powi(2)).sqrt();
    // How much worse its sightings would be met if it lay on the plane.
    let fit_px = mean(&|p| (p.error_px * plane.distance(p.position) / p.deviation(&plane.normal)).powi(2)).sqrt();
    let places: Vec<Vector3<f64>> = on_it.iter().map(|p| plane.foot(p.position)).collect();
    let mut points: Vec<TrackId> = on_it.iter().map(|p| p.id).collect();
    points.sort_unstable();
    let (normal_deviation_deg, place_deviation) = deviations(&plane, on_it);
    FoundPlane {
        kind,
        plane,
        outline: hull(&plane, &places, 0.0, up),
        points,
        windows: 0,
        share: 0.0,
        fit_px,
        fit,
        normal_deviation_deg,
        place_deviation,
    }
}

/// Deviation of the normal, degrees, and of the place, world units, of a plane through points.
fn deviations(plane: &Plane, on_it: &[&CloudPoint]) -> (f64, f64) {
    let [a, b] = plane.across();
    let n = on_it.len().max(1) as f64;
    let middle = on_it.iter().map(|p| p.position).sum::<Vector3<f64>>() / n;
    let mut matrix = nalgebra::Matrix3::zeros();
    let mut chi = 0.0;
    for p in on_it {
        let w = p.deviation(&plane.normal).powi(-2);
        let away = p.position - middle;
        let row = Vector3::new(away.dot(&a), away.dot(&b), 1.0);
        matrix += row * row.transpose() * w;
        chi += w * plane.distance(p.position).powi(2) / n;
    }
    let Some(covariance) = matrix.try_inverse() else { return (90.0, f64::INFINITY) };
    let covariance = covariance * chi.max(1.0);
    ((covariance[(0, 0)] + covariance[(1, 1)]).max(0.0).sqrt().to_degrees(), covariance[(2, 2)].max(0.0).sqrt())
}

/// What a plane is by its tilt.
pub fn kind_of(plane: &Plane, up: Option<&Vector3<f64>>) -> PlaneKind {
    let Some(up) = up else { return PlaneKind::Other };
    let tilt = plane.normal.dot(up).abs().clamp(0.0, 1.0).acos().to_degrees();
    if tilt > 90.0 - WALL_DEG {
        PlaneKind::Wall
    } else if tilt < LEVEL_DEG {
        PlaneKind::Other
    } else {
        PlaneKind::Slope
    }
}
