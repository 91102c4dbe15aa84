//! What lies under a pixel: a surface, the floor, or the local plane of the points there.

use super::{Datum, Surface, SurfaceId};
use crate::camera::{Camera, CameraPath, Ray};
use crate::random::SplitMix64;
use crate::solve::{Motion, Solution, SolvedPoint};
use crate::survey::{Plane, PlaneKind, fit_weighted};
use nalgebra::{Vector2, Vector3};
use serde::{Deserialize, Serialize};

/// Points that a local plane is fitted to, at least and at most.
const FEWEST: usize = 6;
const MOST: usize = 40;
/// Radius round the pixel in which points are looked for, of the picture's width; and the wider one where there are few.
const RADIUS: [f64; 3] = [0.06, 0.1, 0.16];
/// Distance from the plane, px, within which a point belongs to it.
const BELONGS_PX: f64 = 2.0;
/// Part of the points near the pixel that must lie on a surface for it to be what is pointed at.
const ON_IT: f64 = 0.5;
/// How far in front of a surface, of its distance, points must lie to stand before it.
const BEFORE: f64 = 0.03;
/// A plane that is seen so flat, sine, is no place to put anything.
const EDGE_ON: f64 = 0.06;
/// Tilt against upright or level within which a local plane counts as a wall or level, degrees.
const WALL_DEG: f64 = 12.0;

/// Distance at which things are placed for a camera that only turns, world units. Any would look the same.
pub const FAR_M: f64 = 100.0;

/// What is under a pixel.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum SpotKind {
    /// The floor of the datum.
    Floor,
    /// Upright.
    Wall,
    /// Neither upright nor level.
    Slope,
    /// Level, but not the floor.
    Other,
    /// No surface: a place far off, for a camera that only turns.
    Far,
}

/// A place under a pixel, in the world of the datum.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Spot {
    /// Which kind.
    pub kind: SpotKind,
    /// The surface that it lies on; nothing for the floor and for local planes.
    pub surface: Option<SurfaceId>,
    /// What it is called: "floor", the surface's name, "local plane", "far off".
    pub name: String,
    /// Where the pixel's ray meets it.
    pub point: Vector3<f64>,
    /// Unit normal, towards the camera.
    pub normal: Vector3<f64>,
    /// Angle between the normal and the world's up, degrees.
    pub tilt_deg: f64,
    /// RMS distance of what lies on it, px; nothing where it was laid by hand.
    pub fit_px: Option<f64>,
    /// Points and windows that tell of it.
    pub support: usize,
}

/// Why there is no place at a pixel.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum SpotError {
    /// Nothing is known of the frame.
    #[error("frame {frame} has no camera")]
    NoCamera {
        /// Of the trimmed clip.
        frame: u32,
    },
    /// Neither a surface nor points enough.
    #[error("{found} points near here and no surface; lay the floor first, or point where there are more points")]
    TooFew {
        /// Points near the pixel.
        found: usize,
    },
    /// The floor is not seen there.
    #[error("above the horizon of the floor, and too few points here for a plane")]
    AboveHorizon,
    /// There is no floor to ask for.
    #[error("no floor is laid yet; lay it first")]
    NoFloor,
    /// The surface that was asked for is not seen there.
    #[error("pixel {x:.0}, {y:.0} of frame {frame} does not look at {name}: its plane lies behind the camera there")]
    NotSeen {
        /// What it is called.
        name: String,
        /// Pixel.
        x: f64,
        /// Pixel.
        y: f64,
        /// Of the trimmed clip.
        frame: u32,
    },
}

/// Distance in px by which a point's image moves when it is put onto a plane; `None` behind the camera.
fn plane_error_px(camera: &Camera, point: Vector3<f64>, plane: &Plane) -> Option<f64> {
    Some((camera.project(point)? - camera.project(plane.foot(point))?).norm())
}

/// A place that could be meant.
struct Candidate<'a> {
    surface: Option<&'a Surface>,
    plane: Plane,
    at: Vector3<f64>,
    distance: f64,
    /// Inside its outline.
    inside: bool,
}

struct Looking<'a> {
    solution: &'a Solution,
    path: CameraPath<'a>,
    camera: Camera,
    sight: Ray,
    frame: u32,
    pixel: Vector2<f64>,
}

/// What lies under a pixel of a frame: the surface or the floor that the points there lie on or whose outline it is
/// in, else the plane through those points. A camera that only turns gets the floor, where one is laid by the camera's
/// height, or a place on a far sphere.
///
/// # Errors
/// [`SpotError`] says what is missing.
pub fn spot_at(
    solution: &Solution,
    datum: &Datum,
    surfaces: &[Surface],
    frame: u32,
    pixel: Vector2<f64>,
) -> Result<Spot, SpotError> {
    let path = CameraPath::new(solution, &datum.world_from_solve);
    let camera = path.at(frame).ok_or(SpotError::NoCamera { frame })?;
    let looking = Looking { solution, path, camera, sight: camera.ray(pixel), frame, pixel };
    looking.spot(datum, surfaces)
}

/// A place far off behind a pixel of a frame, whatever lies before it.
///
/// # Errors
/// [`SpotError::NoCamera`].
pub fn spot_far(solution: &Solution, datum: &Datum, frame: u32, pixel: Vector2<f64>) -> Result<Spot, SpotError> {
    let path = CameraPath::new(solution, &datum.world_from_solve);
    let camera = path.at(frame).ok_or(SpotError::NoCamera { frame })?;
    Ok(Looking { solution, path, camera, sight: camera.ray(pixel), frame, pixel }.far())
}

impl Looking<'_> {
    fn spot(&self, datum: &Datum, surfaces: &[Surface]) -> Result<Spot, SpotError> {
        let candidates = self.candidates(datum, surfaces);
        if self.solution.motion == Motion::Nodal {
            return Ok(self.nearest(&candidates).map_or_else(|| self.far(), |c| self.on(datum, c)));
        }
        let near = self.points_near();
        let scale = f64::from(self.solution.width) / 1280.0;
        let belongs = |p: &Vector3<f64>, plane: &Plane| {
            plane_error_px(&self.camera, *p, plane).is_some_and(|e| e < BELONGS_PX * scale)
        };
        let share = |plane: &Plane| near.iter().filter(|p| belongs(p, plane)).count() as f64 / near.len().max(1) as f64;
        // What the points here lie on.
        let pointed = candidates
            .iter()
            .filter(|c| c.inside || c.surface.is_none())
            .map(|c| (share(&c.plane), c))
            .filter(|(part, _)| near.len() >= FEWEST && *part >= ON_IT)
            .max_by(|a, b| a.0.total_cmp(&b.0).then(b.1.distance.total_cmp(&a.1.distance)));
        if let Some((_, candidate)) = pointed {
            return Ok(self.on(datum, candidate));
        }
        // Whatever outline it is in, unless most points here stand before it.
        let inside = self.nearest(&candidates).filter(|c| {
            let before = |p: &&Vector3<f64>| {
                (**p - self.sight.from).norm() < (1.0 - BEFORE) * c.distance && !belongs(p, &c.plane)
            };
            near.iter().filter(before).count() * 2 <= near.len().max(FEWEST)
        });
        if let Some(candidate) = inside {
            return Ok(self.on(datum, candidate));
        }
        if let Some(local) = self.local(&near, &belongs) {
            return Ok(local);
        }
        match candidates.iter().find(|c| c.surface.is_none()) {
            Some(floor) => Ok(self.on(datum, floor)),
            None if datum.floor.is_none() => Err(SpotError::TooFew { found: near.len() }),
            None => Err(SpotError::AboveHorizon),
        }
    }

    /// Where the ray meets the floor and the surfaces, as far as it does.
    fn candidates<'s>(&self, datum: &Datum, surfaces: &'s [Surface]) -> Vec<Candidate<'s>> {
        let floor = Plane { point: Vector3::zeros(), normal: Vector3::y() };
        let corners: Vec<[f64; 2]> = datum.floor.iter().flat_map(|f| &f.outline).map(|c| [c[0], c[2]]).collect();
        let meet = |surface: Option<&'s Surface>, plane: Plane, holds: &dyn Fn(Vector3<f64>) -> bool| {
            let at = plane.meet(&self.sight)?;
            let inside = holds(at);
            Some(Candidate { surface, plane, at, distance: (at - self.sight.from).norm(), inside })
        };
        let of_floor = datum.floor.is_some().then(|| {
            // A floor without an outline reaches everywhere.
            meet(None, floor, &|p| corners.len() < 3 || crate::matte::contains(&corners, p.x, p.z))
        });
        let of_surfaces = surfaces.iter().filter_map(|s| {
            let plane = s.plane();
            let faces = plane.normal.dot(&self.sight.along).abs() > EDGE_ON;
            meet(Some(s), plane, &|p| s.holds(p)).filter(|c| c.inside && faces)
        });
        of_floor.flatten().into_iter().chain(of_surfaces).collect()
    }

    fn nearest<'c, 's>(&self, candidates: &'c [Candidate<'s>]) -> Option<&'c Candidate<'s>> {
        candidates.iter().filter(|c| c.inside).min_by(|a, b| a.distance.total_cmp(&b.distance))
    }

    /// Points round the pixel, nearest first: those seen on this frame, and where they are few those of other frames.
    fn points_near(&self) -> Vec<Vector3<f64>> {
        let seen = |p: &&SolvedPoint| p.first_frame <= self.frame && self.frame <= p.last_frame;
        for radius in RADIUS {
            for any in [false, true] {
                let reach = radius * f64::from(self.solution.width);
                let mut near: Vec<(f64, Vector3<f64>)> = self
                    .solution
                    .points
                    .iter()
                    .filter(|p| any || seen(p))
                    .filter_map(|p| {
                        let world = self.path.point(p.position);
                        let distance = (self.camera.project(world)? - self.pixel).norm();
                        (distance < reach).then_some((distance, world))
                    })
                    .collect();
                if near.len() >= 2 * FEWEST || (any && radius == RADIUS[RADIUS.len() - 1]) {
                    near.sort_by(|a, b| a.0.total_cmp(&b.0));
                    near.truncate(MOST);
                    return near.into_iter().map(|n| n.1).collect();
                }
            }
        }
        Vec::new()
    }

    fn on(&self, datum: &Datum, candidate: &Candidate) -> Spot {
        let floor = datum.floor.as_ref();
        let (kind, name, fit_px, support) = match candidate.surface {
            Some(s) => {
                let kind = match s.kind {
                    PlaneKind::Floor | PlaneKind::Other => SpotKind::Other,
                    PlaneKind::Wall => SpotKind::Wall,
                    PlaneKind::Slope => SpotKind::Slope,
                };
                (
                    kind,
                    s.name.clone(),
                    s.reading.as_ref().map(|r| r.fit_px),
                    s.reading.as_ref().map_or(0, |r| r.points + r.windows),
                )
            }
            None => (
                SpotKind::Floor,
                "floor".to_owned(),
                floor.map(|f| f.fit_px),
                floor.map_or(0, |f| f.points.len() + f.windows),
            ),
        };
        let id = candidate.surface.map(|s| s.id);
        self.made(kind, id, name, candidate.at, candidate.plane.normal, fit_px, support)
    }

    #[expect(clippy::too_many_arguments, reason = "one argument a field")]
    fn made(
        &self,
        kind: SpotKind,
        surface: Option<SurfaceId>,
        name: String,
        point: Vector3<f64>,
        normal: Vector3<f64>,
        fit_px: Option<f64>,
        support: usize,
    ) -> Spot {
        let normal = if normal.dot(&self.sight.along) > 0.0 { -normal } else { normal };
        let tilt_deg = normal.y.clamp(-1.0, 1.0).acos().to_degrees();
        Spot { kind, surface, name, point, normal, tilt_deg, fit_px, support }
    }

    fn far(&self) -> Spot {
        let point = self.sight.from + self.sight.along * FAR_M;
        let solved = self.solution.at(self.frame);
        let (fit_px, support) = (solved.map(|f| f.rms_px), solved.map_or(0, |f| f.points as usize));
        self.made(SpotKind::Far, None, "far off".to_owned(), point, -self.sight.along, fit_px, support)
    }

    fn local(&self, near: &[Vector3<f64>], belongs: &impl Fn(&Vector3<f64>, &Plane) -> bool) -> Option<Spot> {
        let plane = robust_plane(near, belongs)?;
        let errors: Vec<f64> = near
            .iter()
            .filter(|p| belongs(p, &plane))
            .filter_map(|p| plane_error_px(&self.camera, *p, &plane))
            .collect();
        if errors.len() < FEWEST || plane.normal.dot(&self.sight.along).abs() < EDGE_ON {
            return None;
        }
        let at = plane.meet(&self.sight)?;
        let fit_px = (errors.iter().map(|e| e * e).sum::<f64>() / errors.len() as f64).sqrt();
        let tilt = plane.normal.y.abs().clamp(0.0, 1.0).acos().to_degrees();
        let kind = if tilt > 90.0 - WALL_DEG { SpotKind::Wall } else { SpotKind::Slope };
        Some(self.made(kind, None, "local plane".to_owned(), at, plane.normal, Some(fit_px), errors.len()))
    }
}

/// The floor, or a surface, at a pixel of a frame, whatever stands there.
///
/// # Errors
/// [`SpotError`], where no floor is laid or the pixel does not look at it.
pub fn spot_on(
    solution: &Solution,
    datum: &Datum,
    surface: Option<&Surface>,
    frame: u32,
    pixel: Vector2<f64>,
) -> Result<Spot, SpotError> {
    let path = CameraPath::new(solution, &datum.world_from_solve);
    let camera = path.at(frame).ok_or(SpotError::NoCamera { frame })?;
    if surface.is_none() && datum.floor.is_none() {
        return Err(SpotError::NoFloor);
    }
    let plane = surface.map_or(Plane { point: Vector3::zeros(), normal: Vector3::y() }, Surface::plane);
    let sight = camera.ray(pixel);
    let looking = Looking { solution, path, camera, sight, frame, pixel };
    let name = surface.map_or_else(|| "the floor".to_owned(), |s| s.name.clone());
    let at = plane.meet(&sight).ok_or(SpotError::NotSeen { name, x: pixel.x, y: pixel.y, frame })?;
    let distance = (at - sight.from).norm();
    Ok(looking.on(datum, &Candidate { surface, plane, at, distance, inside: true }))
}

/// The plane that most points belong to, refitted to those (RANSAC over triples).
fn robust_plane(points: &[Vector3<f64>], belongs: &impl Fn(&Vector3<f64>, &Plane) -> bool) -> Option<Plane> {
    if points.len() < FEWEST {
        return None;
    }
    let fit = |points: &mut dyn Iterator<Item = Vector3<f64>>| {
        fit_weighted(points.map(|p| (p, 1.0)).collect::<Vec<_>>().into_iter())
    };
    let mut random = SplitMix64::new(17);
    let mut best: Vec<Vector3<f64>> = Vec::new();
    for _ in 0..80 {
        let pick = random.distinct::<3>(points.len())?;
        let Some(plane) = fit(&mut pick.into_iter().map(|i| points[i])) else { continue };
        let members: Vec<_> = points.iter().filter(|p| belongs(p, &plane)).copied().collect();
        if members.len() > best.len() {
            best = members;
        }
    }
    fit(&mut best.into_iter())
}
