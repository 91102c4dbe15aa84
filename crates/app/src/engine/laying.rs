//! Laying the datum and the surfaces: what a person does in the page, and a recipe with numbers.

use super::place::{Pixel, spot};
use super::{EngineError, OpenShot, ShotError};
use fennik_core::camera::CameraPath;
use fennik_core::image::Plane as Picture;
use fennik_core::scene::{
    Datum, DatumEdit, DrawnLine, Edit, Follow, LineRole, Proposal, ScaleBasis, Surface, SurfaceEditError, SurfaceId,
    SurfacingEdit, points_inside, propose,
};
use fennik_core::solve::{Motion, Solution};
use fennik_core::survey::{Plane, PlaneKind, Survey, View, mean_up, plane_through};
use fennik_core::track::TrackId;
use nalgebra::{Vector2, Vector3};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// A place of the scene: a track, or what lies under a pixel.
#[derive(Debug, Clone, Copy, PartialEq, Deserialize)]
#[serde(untagged)]
pub enum End {
    /// A solved track.
    Track(TrackId),
    /// What lies under a pixel of a frame of the trimmed clip.
    Place {
        /// The frame.
        frame: u32,
        /// Full-resolution px.
        pixel: [f64; 2],
    },
}

/// A part of the datum that can be put back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Part {
    /// Everything.
    All,
    /// Where the origin is.
    Origin,
    /// Which way is ahead.
    Heading,
    /// How large it is.
    Scale,
    /// Which way is up.
    Upright,
}

/// An axis of the datum's world as it is now.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Axis {
    /// To the right.
    X,
    /// Up.
    Y,
    /// To the viewer.
    Z,
}

/// What to do with a surface; other planes are meant by their names, `floor` among them.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "change")]
pub enum SurfaceChange {
    /// Calls it something else.
    Rename {
        /// Its name.
        name: String,
        /// What it is.
        kind: PlaneKind,
    },
    /// Moves it along its normal.
    Push {
        /// Metres.
        by_m: f64,
    },
    /// Turns it about the edge that it shares with another plane.
    Hinge {
        /// The other.
        to: String,
        /// The angle between the two.
        angle_deg: f64,
    },
    /// Turns it about its middle, at right angles to another plane.
    Square {
        /// The other.
        to: String,
    },
}

/// What to do with the datum or the surfaces.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "action")]
pub enum Lay {
    /// Takes the datum that is proposed, with the likeliest floor or another.
    Take {
        /// Which floor, from 0.
        #[serde(default)]
        floor: usize,
    },
    /// Lays the floor through tracks.
    Floor {
        /// Three or more.
        points: Vec<TrackId>,
    },
    /// Lays a surface through tracks.
    Surface {
        /// Three or more.
        points: Vec<TrackId>,
        /// What it is called; the next free name where it is left out.
        #[serde(default)]
        name: Option<String>,
    },
    /// Lays a surface under four corners on the plate.
    Corners {
        /// The frame on which they are drawn.
        frame: u32,
        /// Full-resolution px, in their order round it.
        corners: Vec<[f64; 2]>,
        /// What it is called.
        #[serde(default)]
        name: Option<String>,
    },
    /// Changes a surface.
    Change {
        /// Which.
        surface: SurfaceId,
        /// How.
        #[serde(flatten)]
        change: SurfaceChange,
    },
    /// Makes a place, or the middle of several, the origin.
    Origin {
        /// At least one.
        at: Vec<End>,
    },
    /// Turns about the upright.
    Heading {
        /// From here.
        from: End,
        /// To there lies ahead.
        to: End,
    },
    /// Sets the scale by a distance.
    Scale {
        /// One end.
        from: End,
        /// The other.
        to: End,
        /// Metres.
        distance_m: f64,
        /// Whether distances measured before count as well.
        #[serde(default)]
        more: bool,
    },
    /// Lets a measured distance go.
    ForgetDistance {
        /// Which, from 0.
        index: usize,
    },
    /// Draws a line along something.
    Line {
        /// Where and along what.
        line: DrawnLine,
        /// Whether it is moved onto the edge of the picture that it runs along, where there is one.
        #[serde(default)]
        to_edge: bool,
    },
    /// Takes a drawn line away.
    ForgetLine {
        /// Which, from 0.
        index: usize,
    },
    /// Turns the world upright by the lines along uprights and the horizon.
    UprightByLines,
    /// Turns the world by the lines along level edges.
    HeadingByLines,
    /// Turns and shifts.
    Nudge {
        /// About X, Y, Z, degrees.
        turn_deg: [f64; 3],
        /// Then, metres.
        shift_m: [f64; 3],
    },
    /// Makes the world larger.
    ScaleBy {
        /// By so many times.
        factor: f64,
    },
    /// Sets the scale, or for a camera that only turns the floor, by the camera's height over it.
    CameraHeight {
        /// Metres.
        height_m: f64,
    },
    /// Turns the world upside down.
    Flip,
    /// Makes an axis point up.
    UpAxis {
        /// Which.
        axis: Axis,
    },
    /// Puts a part back.
    Reset {
        /// Which.
        part: Part,
    },
}

impl Lay {
    /// Whether it speaks of tracks.
    pub fn picks_tracks(&self) -> bool {
        let track = |e: &End| matches!(e, End::Track(_));
        match self {
            Self::Floor { .. } | Self::Surface { .. } => true,
            Self::Origin { at } => at.iter().any(track),
            Self::Heading { from, to } | Self::Scale { from, to, .. } => track(from) || track(to),
            _ => false,
        }
    }
}

/// A shot as it is laid: what is known of it, fetched where it is wanted.
pub struct Ground<'a> {
    /// The shot.
    pub shot: &'a OpenShot,
    /// The solve in use.
    pub solution: &'a Solution,
    /// Its pictures with their cameras.
    pub views: &'a dyn Fn() -> Arc<Vec<View>>,
    /// The picture of a frame of the trimmed clip.
    pub picture: &'a dyn Fn(u32) -> Result<Arc<Picture>, EngineError>,
    /// What was found in it.
    pub survey: &'a dyn Fn() -> Result<Arc<Survey>, EngineError>,
}

impl Ground<'_> {
    fn datum(&self) -> &Datum {
        &self.shot.document().datum
    }

    /// A place in the world of the solve.
    fn in_solve(&self, end: End) -> Result<Vector3<f64>, EngineError> {
        match end {
            End::Track(id) => {
                let found = self.solution.points.binary_search_by_key(&id, |p| p.id);
                Ok(found.map(|i| self.solution.points[i].position).map_err(|_| ShotError::NoPoint)?)
            }
            End::Place { frame, pixel } => {
                let spot = spot(self.solution, self.shot.document(), Pixel { frame, at: pixel })?;
                Ok(self.datum().world_from_solve.inverse().point(spot.point))
            }
        }
    }

    fn up_in_solve(&self) -> Vector3<f64> {
        self.datum().world_from_solve.rotation.inverse() * Vector3::y()
    }

    fn free_name(&self, wanted: Option<&str>, kind: PlaneKind) -> String {
        let surfacing = &self.shot.document().surfacing;
        let word = match kind {
            PlaneKind::Wall => "wall A",
            PlaneKind::Slope => "slope A",
            PlaneKind::Floor | PlaneKind::Other => "level A",
        };
        wanted.map_or_else(|| surfacing.free_name(word), |n| n.trim().to_owned())
    }

    /// A surface through points, named and told what it is.
    fn surface(&self, points: &[TrackId], name: Option<&str>) -> Result<Surface, EngineError> {
        let up = self.up_in_solve();
        let views = (self.views)();
        let laid = plane_through(self.solution, &views, points, PlaneKind::Other, Some(&up))?;
        let world = &self.datum().world_from_solve;
        let kind = fennik_core::survey::kind_of(&laid.found.plane, Some(&up));
        Ok(Surface::through(self.free_name(name, kind), kind, &laid, world))
    }

    fn by_corners(&self, frame: u32, corners: &[[f64; 2]], name: Option<&str>) -> Result<Surface, EngineError> {
        let inside = points_inside(self.solution, frame, corners);
        let surface = self.surface(&inside, name)?;
        let path = CameraPath::new(self.solution, &self.datum().world_from_solve);
        let camera = path.at(frame).ok_or(fennik_core::scene::SpotError::NoCamera { frame })?;
        let plane = surface.plane();
        let met = corners.iter().map(|c| plane.meet(&camera.ray(Vector2::from(*c))).map(Into::into));
        let outline: Option<Vec<[f64; 3]>> = met.collect();
        Ok(Surface { outline: outline.ok_or(ShotError::CornersBehind)?, ..surface })
    }

    fn changed(&self, id: SurfaceId, change: &SurfaceChange) -> Result<Surface, EngineError> {
        let surfacing = &self.shot.document().surfacing;
        let surface = surfacing.surface(id).ok_or(SurfaceEditError::None { id })?;
        Ok(match change {
            SurfaceChange::Rename { name, kind } => {
                Surface { name: name.trim().to_owned(), kind: *kind, ..surface.clone() }
            }
            SurfaceChange::Push { by_m } => surface.pushed(*by_m),
            SurfaceChange::Hinge { to, angle_deg } => surface.hinged(&plane_named(self.shot, to)?, *angle_deg)?,
            SurfaceChange::Square { to } => surface.squared(&plane_named(self.shot, to)?)?,
        })
    }

    /// The edit that it comes to.
    ///
    /// # Errors
    /// [`EngineError`] that says what is missing or would do better.
    pub fn edit(&self, lay: &Lay, follow: Follow) -> Result<Edit, EngineError> {
        let laid = |datum| Ok(Edit::Datum(DatumEdit::Datum { datum, follow }));
        let (datum, solution) = (self.datum(), self.solution);
        match lay {
            Lay::Take { floor } => {
                let mut survey = (*(self.survey)()?).clone();
                // Without a floor, what else was found is taken.
                if *floor >= survey.floors.len().max(1) {
                    return Err(ShotError::NoFloor { why: why_no_floor(&survey) }.into());
                }
                if !survey.floors.is_empty() {
                    survey.floors.swap(0, *floor);
                }
                let nothing = || ShotError::NoFloor { why: why_no_floor(&survey) };
                let proposal = propose(solution, &survey, datum).ok_or_else(nothing)?;
                let (datum, surfaces) = (proposal.datum, proposal.surfaces);
                Ok(Edit::Datum(DatumEdit::TakeDatum { datum, surfaces, follow }))
            }
            Lay::Floor { points } => {
                let views = (self.views)();
                let up = self.up_in_solve();
                let by_points = plane_through(solution, &views, points, PlaneKind::Floor, Some(&up))?;
                laid(datum.with_floor_through(solution, &by_points))
            }
            Lay::Surface { points, name } => {
                let surface = self.surface(points, name.as_deref())?;
                Ok(Edit::Surfacing(SurfacingEdit::AddSurface { surface }))
            }
            Lay::Corners { frame, corners, name } => {
                let surface = self.by_corners(*frame, corners, name.as_deref())?;
                Ok(Edit::Surfacing(SurfacingEdit::AddSurface { surface }))
            }
            Lay::Change { surface, change } => {
                let surface = self.changed(*surface, change)?;
                Ok(Edit::Surfacing(SurfacingEdit::ChangeSurface { surface }))
            }
            Lay::Origin { at } => {
                let places = at.iter().map(|e| self.in_solve(*e)).collect::<Result<Vec<_>, _>>()?;
                if places.is_empty() {
                    return Err(ShotError::NoPoint.into());
                }
                laid(datum.with_origin(places.iter().sum::<Vector3<f64>>() / places.len() as f64))
            }
            Lay::Heading { from, to } => {
                let world = &datum.world_from_solve;
                laid(datum.with_heading(world.point(self.in_solve(*from)?), world.point(self.in_solve(*to)?))?)
            }
            Lay::Scale { from, to, distance_m, more } => {
                let (a, b) = (self.in_solve(*from)?, self.in_solve(*to)?);
                laid(if *more {
                    datum.with_another_distance(a, b, *distance_m)?
                } else {
                    datum.with_distance(a, b, *distance_m)?
                })
            }
            Lay::ForgetDistance { index } => laid(datum.without_distance(*index)?),
            Lay::Line { line, to_edge } => {
                line.validate(solution)?;
                let drawn = DrawnLine { at_edge: false, ..*line };
                laid(datum.with_line(if *to_edge {
                    drawn.to_edge(&*(self.picture)(line.frame)?, solution)
                } else {
                    drawn
                }))
            }
            Lay::ForgetLine { index } => laid(datum.without_line(*index)?),
            Lay::UprightByLines => laid(datum.with_up(datum.up_by_lines(solution)?.0)?),
            Lay::HeadingByLines => {
                let (way, _) = datum.heading_by_lines(solution)?;
                laid(datum.with_heading(Vector3::zeros(), way)?)
            }
            Lay::Nudge { turn_deg, shift_m } => laid(datum.nudged(*turn_deg, *shift_m)),
            Lay::ScaleBy { factor } => laid(datum.with_scale_by(*factor)?),
            Lay::CameraHeight { height_m } if solution.motion == Motion::Nodal => {
                laid(datum.with_height_of_pan(solution, *height_m)?)
            }
            Lay::CameraHeight { height_m } => laid(datum.with_camera_height(&solution.centres(), *height_m, false)?),
            Lay::Flip => laid(datum.flipped()),
            Lay::UpAxis { axis } => laid(datum.with_up(match axis {
                Axis::X => Vector3::x(),
                Axis::Y => -Vector3::y(),
                Axis::Z => Vector3::z(),
            })?),
            Lay::Reset { part } => laid(self.reset(*part)?),
        }
    }

    fn reset(&self, part: Part) -> Result<Datum, EngineError> {
        let (datum, solution) = (self.datum(), self.solution);
        let back = datum.world_from_solve.inverse();
        Ok(match part {
            Part::All => Datum::default(),
            Part::Origin => {
                // The middle of the floor, or the first camera's foot where none is laid.
                let corners = datum.floor.as_ref().map_or(&[][..], |f| f.outline.as_slice());
                let middle =
                    corners.iter().map(|c| Vector3::from(*c)).sum::<Vector3<f64>>() / corners.len().max(1) as f64;
                let first = solution.frames.first().map_or_else(Vector3::zeros, |f| f.pose.centre());
                datum.with_origin(if corners.is_empty() { first } else { back.point(middle) })
            }
            Part::Heading => {
                let first = solution.frames.first().ok_or(ShotError::NoCamera)?;
                let way = first.pose.rotation.inverse() * Vector3::z();
                datum.with_heading(Vector3::zeros(), datum.world_from_solve.rotation * way)?
            }
            Part::Scale => {
                let scaled = datum.with_scale_by(1.0 / datum.world_from_solve.scale)?;
                Datum { scale: ScaleBasis::Unset, ..scaled }
            }
            Part::Upright => {
                let held = mean_up(solution).ok_or(ShotError::NoCamera)?;
                datum.with_up(datum.world_from_solve.rotation * held)?
            }
        })
    }
}

/// What a shot is proposed now; surfaces without a floor are taken once.
pub fn proposed(shot: &OpenShot, solution: &Solution, survey: &Survey) -> Option<Proposal> {
    let document = shot.document();
    propose(solution, survey, &document.datum)
        .filter(|p| p.datum.floor.is_some() || document.surfacing.surfaces.is_empty())
}

/// Why there is no floor, and what to click.
pub fn why_no_floor(survey: &Survey) -> &'static str {
    use fennik_core::survey::NoFloor;
    match survey.no_floor {
        Some(NoFloor::Nodal) => {
            "the camera turns on the spot, which gives directions and no depths. Type the camera's height over the \
                ground, and draw along the horizon or an upright to level it"
        }
        Some(NoFloor::Points) => "too few points have a depth. Track more points on the ground, then solve again",
        Some(NoFloor::HeadOn) => {
            "what fills the frame is seen head on and looks like a wall. If it is the ground from above, select three \
                points or more on it and lay the floor from them; else draw along an upright"
        }
        Some(NoFloor::NothingLevel) | None => {
            "nothing lies level under the camera. If the ground is seen, select three points or more on it, on any \
                frame, and lay the floor from them; else draw along an upright"
        }
        Some(NoFloor::NothingHolds) => {
            "something level was found, but neither points nor the picture hold it (water, grass in the wind, a blank \
                ground do not). Select three points or more on the ground and lay the floor from them"
        }
    }
}

/// Which planes of the datum's world a name means: the floor, or a surface.
///
/// # Errors
/// A message that names those that there are.
pub fn plane_named(shot: &OpenShot, name: &str) -> Result<Plane, EngineError> {
    if name.eq_ignore_ascii_case("floor") {
        return Ok(Plane { point: Vector3::zeros(), normal: Vector3::y() });
    }
    let surface =
        shot.document().surfacing.named(name).ok_or_else(|| ShotError::NoSurface { name: name.to_owned() })?;
    Ok(surface.plane())
}

/// Lines of a role that are drawn.
pub fn lines_of(datum: &Datum, role: LineRole) -> usize {
    datum.lines.iter().filter(|l| l.role == role).count()
}
