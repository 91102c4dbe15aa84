//! A shot written down as a recipe: what a person would do, by the picture, to get there again or on the next clip.

use super::{FORMAT, LensKind, Move, OneOrMore, Place, Recipe, Region, Step, VERSION};
use crate::engine::arrange::{Arrange, LetterPart};
use crate::engine::kinds::{self, ToldKey, Values};
use crate::engine::quantity::Amount;
use crate::engine::{
    EngineError, OpenShot, SolveRecord, finishing, grading, holding, light, matching, surroundings, survey,
};
use fennik_core::camera::CameraPath;
use fennik_core::geometry::Similarity;
use fennik_core::scene::{
    Datum, Drawn, Holdout, HoldoutBy, Insert, InsertKind, Light, Placing, PlateColour, ShotDocument, Stance, Surface,
    points_inside, propose, spot_at, world_of,
};
use fennik_core::solve::{LensChoice, Motion, MotionChoice, ReadoutChoice, Solution, SolveSettings};
use fennik_core::survey::{Plane, PlaneKind, Survey, View, plane_through};
use fennik_core::track::{TrackDirection, TrackId, TrackSettings};
use fennik_store::Store;
use nalgebra::{Vector2, Vector3};
use serde_json::json;

/// Part of the picture's shorter side that places keep from its edge.
const MARGIN: f64 = 0.04;
/// Pixels are written to this part of one.
const WRITTEN: f64 = 1e4;
/// How far from where it is meant a place may lead, as a part of its distance; and places that are tried.
const MISSED: f64 = 1e-4;
const MOST_TRIES: usize = 16;
/// Turns, degrees, and shifts, metres, below which the steps have led to the datum.
const SAME_TURN_DEG: f64 = 0.005;
const SAME_SHIFT_M: f64 = 0.0005;
/// Floors that are one: degrees, and a part of the camera's height.
const SAME_FLOOR: (f64, f64) = (0.3, 0.01);

/// The recipe of a shot, JSON.
///
/// # Errors
/// [`EngineError`] when its camera cannot be read.
pub fn of_shot(store: &Store, shot: &OpenShot) -> Result<Vec<u8>, EngineError> {
    let recipe = Recipe { format: FORMAT.to_owned(), version: VERSION, steps: steps(store, shot)? };
    Ok(serde_json::to_vec_pretty(&recipe)?)
}

fn steps(store: &Store, shot: &OpenShot) -> Result<Vec<Step>, EngineError> {
    let document = shot.document();
    let mut steps = vec![Step::TakeIn { clip: shot.clip_row.name.clone(), name: Some(shot.state.shot.name.clone()) }];
    if document.trim.count() != shot.clip.frames {
        steps.push(Step::Trim { first: document.trim.first, last: document.trim.last });
    }
    if document.plate != PlateColour::default() {
        let of = &document.plate;
        let asset = of.table.as_ref().map(|t| t.name.clone());
        steps.push(Step::PlateColour { transfer: of.transfer, primaries: of.primaries, file: None, asset });
    }
    steps.extend(document.masking.masks.masks.iter().map(|m| Step::Mask {
        name: m.name.clone(),
        mode: m.mode,
        keys: m.outline.keys.clone(),
        smooth: if m.outline.smooth.contains(&true) { m.outline.smooth.clone() } else { Vec::new() },
        by_hand: m.outline.by_hand.clone(),
        inverted: m.inverted,
        span: m.span,
        feather: m.feather_px,
        feathers: m.corner_feathers_px.clone(),
    }));
    // What is in use may have been made with other settings than those that are set for the next run.
    let solve = document.solving.solve.map(|id| store.analysis(id)).transpose()?;
    let run = solve.as_ref().and_then(|row| row.source).or(document.tracking.run);
    let run = run.map(|id| store.analysis(id)).transpose()?;
    if let Some(run) = run {
        let settings: TrackSettings =
            serde_json::from_str(&run.settings).unwrap_or_else(|_| document.tracking.settings.clone());
        let (t, p) = (&settings, &settings.picture);
        steps.push(Step::Track {
            density: Some(t.density),
            spacing: Some(t.spacing_px),
            threshold: Some(t.threshold),
            there_and_back: Some(t.direction == TrackDirection::Both),
            channel: Some(p.channel),
            denoise: Some(p.denoise_px),
            local_contrast: Some(p.local_contrast),
            sharpen: Some(p.sharpen),
        });
    }
    if let Some(row) = solve {
        let made_with = serde_json::from_str(&row.settings).map(|r: SolveRecord| r.settings);
        steps.push(solve_step(&made_with.unwrap_or_else(|_| document.solving.settings.clone())));
        let solution = shot.solution(store)?;
        if document.datum != Datum::default() || !document.surfacing.surfaces.is_empty() {
            let found = survey::of_shot(store, shot, &solution)?;
            let views = survey::views_of(shot, &solution);
            let seen = Seen { solution: &solution, found: &found, views: &views };
            let (laid, proposed) = datum_steps(&document.datum, &seen);
            steps.extend(laid);
            steps.extend(surface_steps(&document.surfacing.surfaces, &proposed, &document.datum, &solution));
        }
        steps.extend(placing_steps(&document.placing.inserts, &document.datum, &solution));
    }
    if document.placing.shutter != Placing::default().shutter {
        let values = named([("angle", json!(360.0 * document.placing.shutter))]);
        steps.push(Step::Set { thing: "shutter".to_owned(), values, frame: None, ease: None });
    }
    if document.light != Light::default() {
        steps.extend(set_steps("light", light::told(&document.light)));
    }
    if let Some(around) = &document.light.surroundings {
        steps.push(Step::Surroundings { file: None, asset: Some(around.asset.name.clone()), library: None });
        steps.extend(set_steps("surroundings", surroundings::told(around)));
    }
    for (name, told) in surroundings::catches_told(&document.light, &document.surfacing.surfaces) {
        steps.extend(set_steps(&name, told));
    }
    if document.lens.measured != Default::default() {
        steps.push(Step::MeasurePlate {});
    }
    steps.extend(set_steps("lens", matching::told(&document.lens)));
    for holdout in &document.holding.holdouts {
        steps.extend(holdout_steps(document, holdout));
    }
    for insert in &document.placing.inserts {
        if let Some(drawn) = &insert.drawn {
            let thing = insert.shown_name();
            steps.push(Step::Draw { thing: thing.clone(), follows: drawn.measured.changes() });
            steps.extend(set_steps(&thing, grading::told(&drawn.strengths)));
        }
    }
    steps.extend(set_steps("finish", finishing::told(&document.finish)));
    if let Some(table) = &document.finish.table {
        steps.push(Step::Table { file: None, asset: Some(table.name.clone()) });
    }
    Ok(steps)
}

/// Steps that give a thing its values: still ones together, then key by key.
fn set_steps(thing: &str, (still, keys): (Values, Vec<ToldKey>)) -> Vec<Step> {
    let mut steps = Vec::new();
    if !still.is_empty() {
        steps.push(Step::Set { thing: thing.to_owned(), values: still, frame: None, ease: None });
    }
    steps.extend(keys.into_iter().map(|key| Step::Set {
        thing: thing.to_owned(),
        values: Values::from([(key.name, key.value)]),
        frame: Some(key.frame.round().max(0.0) as u32),
        ease: Some(key.ease),
    }));
    steps
}

fn holdout_steps(document: &ShotDocument, holdout: &Holdout) -> Vec<Step> {
    let (values, keys) = holding::told(holdout);
    let mut by = (None, None, None, None);
    match &holdout.by {
        HoldoutBy::Mask { mask } => by.0 = document.mask(*mask).map(|m| m.name.clone()),
        HoldoutBy::Surface { surface } => by.1 = document.surfacing.surface(*surface).map(|s| s.name.clone()),
        HoldoutBy::Key { .. } => by.2 = values.get("key").and_then(|v| v.as_str()).map(str::to_owned),
        HoldoutBy::Matte { asset, .. } => by.3 = Some(asset.name.clone()),
    }
    let (mask, surface, key, asset) = by;
    if mask.is_none() && surface.is_none() && key.is_none() && asset.is_none() {
        // What told it is gone.
        return Vec::new();
    }
    let of = holding::of_names(document, holdout);
    let (name, span) = (holdout.name.clone(), holdout.span);
    let mut steps = vec![Step::HoldOut { name, mask, surface, key, file: None, asset, of, span, values }];
    steps.extend(set_steps(&holdout.name, (Values::new(), keys)));
    steps
}

fn named<const N: usize>(values: [(&str, serde_json::Value); N]) -> Values {
    values.into_iter().map(|(name, value)| (name.to_owned(), value)).collect()
}

fn solve_step(s: &SolveSettings) -> Step {
    let focal = match (s.focal_px, s.focal_said.trim()) {
        (None, _) => "found".to_owned(),
        (Some(px), "") => format!("{px} px"),
        (Some(_), said) => said.to_owned(),
    };
    Step::Solve {
        motion: Some(match s.motion {
            MotionChoice::Auto => Move::Found,
            MotionChoice::Free => Move::Travels,
            MotionChoice::Planar => Move::Flat,
            MotionChoice::Nodal => Move::Turns,
        }),
        lens: Some(match s.lens {
            LensChoice::Auto => LensKind::Found,
            LensChoice::Fixed => LensKind::Fixed,
            LensChoice::Zoom => LensKind::Zoom,
        }),
        focal: Some(focal),
        readout: Some(match s.readout {
            ReadoutChoice::Auto => "found".to_owned(),
            ReadoutChoice::None => "none".to_owned(),
            ReadoutChoice::Given(part) => part.to_string(),
        }),
        centre: Some(s.centre.to_string()),
    }
}

/// Where a point of the datum's world is seen well inside the picture, the frames nearest to the middle of the clip
/// first.
fn places_of(solution: &Solution, datum: &Datum, world: Vector3<f64>) -> Vec<Place> {
    let middle = solution.frames_total / 2;
    let (wide, high) = (f64::from(solution.width), f64::from(solution.height));
    let margin = MARGIN * wide.min(high);
    let path = CameraPath::new(solution, &datum.world_from_solve);
    let seen = path.cameras().filter_map(|f| {
        let p = f.project(world)?;
        let inside = (margin..wide - margin).contains(&p.x) && (margin..high - margin).contains(&p.y);
        inside.then(|| Place { frame: f.frame, pixel: [p.x, p.y].map(|v| (v * WRITTEN).round() / WRITTEN) })
    });
    let mut all: Vec<Place> = seen.collect();
    all.sort_by_key(|p| p.frame.abs_diff(middle));
    all
}

/// What the steps are told by.
#[derive(Clone, Copy)]
struct Seen<'a> {
    solution: &'a Solution,
    found: &'a Survey,
    views: &'a [View],
}

/// The datum that the steps so far lead to, with the steps and the surfaces that come with it.
struct Laid<'a> {
    seen: Seen<'a>,
    solution: &'a Solution,
    datum: Datum,
    steps: Vec<Step>,
    surfaces: Vec<Surface>,
}

/// Steps that lead to a datum: by the picture as far as that goes, the rest in numbers; and the surfaces that come with
/// them, in the world of that datum.
fn datum_steps(wanted: &Datum, seen: &Seen) -> (Vec<Step>, Vec<Surface>) {
    if *wanted == Datum::default() {
        return (Vec::new(), Vec::new());
    }
    let mut laid =
        Laid { seen: *seen, solution: seen.solution, datum: Datum::default(), steps: Vec::new(), surfaces: Vec::new() };
    if seen.solution.motion == Motion::Nodal {
        laid.pan(wanted);
    } else if let Some(floor) = &wanted.floor {
        laid.floor(&floor.points, wanted);
        laid.by_the_picture(wanted);
    }
    laid.the_rest(wanted);
    let moved = laid.datum.world_from_solve.inverse().then(&wanted.world_from_solve);
    laid.surfaces.iter_mut().for_each(|s| s.move_with(&moved));
    (laid.steps, laid.surfaces)
}

/// Steps that lead from the surfaces that came with the datum to those that there are.
fn surface_steps(wanted: &[Surface], proposed: &[Surface], datum: &Datum, solution: &Solution) -> Vec<Step> {
    let mut steps = Vec::new();
    let again = |a: &Surface, all: &[Surface]| all.iter().find(|b| a.is_again(b)).cloned();
    for surface in proposed {
        match again(surface, wanted) {
            None => steps.push(Step::Remove { thing: surface.name.clone() }),
            Some(kept) if kept.name != surface.name => {
                let values = named([("name", json!(kept.name))]);
                steps.push(Step::Set { thing: surface.name.clone(), values, frame: None, ease: None });
            }
            Some(_) => {}
        }
    }
    for surface in wanted.iter().filter(|s| again(s, proposed).is_none()) {
        if let Some(region) = region_round(surface, datum, solution) {
            steps.push(Step::Corners { name: Some(surface.name.clone()), region });
        }
    }
    steps
}

/// The corners of a surface on a frame on which all of them are seen, or most.
fn region_round(surface: &Surface, datum: &Datum, solution: &Solution) -> Option<Region> {
    let path = CameraPath::new(solution, &datum.world_from_solve);
    let (wide, high) = (f64::from(solution.width), f64::from(solution.height));
    let inside = |p: &[f64; 2]| (0.0..wide).contains(&p[0]) && (0.0..high).contains(&p[1]);
    let seen = path.cameras().filter_map(|camera| {
        let outline: Option<Vec<[f64; 2]>> =
            surface.corners().iter().map(|c| camera.project(*c).map(Into::into)).collect();
        let outline = outline?;
        Some((outline.iter().filter(|p| inside(p)).count(), Region { frame: camera.frame, outline }))
    });
    seen.max_by_key(|(count, region)| (*count, std::cmp::Reverse(region.frame.abs_diff(solution.frames_total / 2))))
        .map(|s| s.1)
}

impl Laid<'_> {
    /// Goes on with another datum; the surfaces stay where they are in the picture.
    fn take(&mut self, datum: Datum) {
        let moved = self.datum.world_from_solve.inverse().then(&datum.world_from_solve);
        self.surfaces.iter_mut().for_each(|s| s.move_with(&moved));
        self.datum = datum;
    }

    /// Where a point of the solve's world is found again by pointing at it, with the datum as it is by now.
    fn pointed_at(&self, in_solve: Vector3<f64>) -> Option<Place> {
        let here = &self.datum.world_from_solve;
        let lands = |place: &&Place| {
            let surface = spot_at(self.solution, &self.datum, &self.surfaces, place.frame, Vector2::from(place.pixel));
            let eye = CameraPath::new(self.solution, here).at(place.frame).map(|c| c.centre());
            let wanted = here.point(in_solve);
            surface.ok().zip(eye).is_some_and(|(s, eye)| (s.point - wanted).norm() < MISSED * (eye - wanted).norm())
        };
        let all = places_of(self.solution, &self.datum, here.point(in_solve));
        let step = all.len().div_ceil(MOST_TRIES).max(1);
        all.iter().step_by(step).find(lands).copied()
    }

    /// Whether two datums have one floor; what little it differs by is told in numbers.
    fn same_floor(&self, a: &Datum, b: &Datum) -> bool {
        let plane = |d: &Datum| {
            let back = d.world_from_solve.inverse();
            Plane { point: back.translation, normal: back.rotation * Vector3::y() }
        };
        let (a, b) = (plane(a), plane(b));
        let eye = self.solution.frames.first().map_or_else(Vector3::zeros, |f| f.pose.centre());
        let (here, there) = (a.distance(eye), b.distance(eye));
        a.angle_deg(&b) < SAME_FLOOR.0 && (here - there).abs() < SAME_FLOOR.1 * there.abs()
    }

    fn floor(&mut self, points: &[TrackId], wanted: &Datum) {
        let proposed = propose(self.solution, self.seen.found, &self.datum);
        if let Some(proposal) = proposed.filter(|p| {
            let points = p.datum.floor.as_ref().is_some_and(|f| f.points == points);
            p.datum.floor.is_some() && (points || self.same_floor(&p.datum, wanted))
        }) {
            self.datum = proposal.datum;
            self.surfaces = proposal.surfaces;
            self.steps.push(Step::ProposeDatum { floor: None });
        } else if let Some(region) = region_of(self.solution, points) {
            let inside = points_inside(self.solution, region.frame, &region.outline);
            let up = self.datum.world_from_solve.rotation.inverse() * Vector3::y();
            if let Ok(laid) = plane_through(self.solution, self.seen.views, &inside, PlaneKind::Floor, Some(&up)) {
                self.take(self.datum.with_floor(self.solution, &laid.found, None));
                self.steps.push(Step::Floor { region });
            }
        }
    }

    /// A floor under a camera that only turns.
    fn pan(&mut self, wanted: &Datum) {
        let height_m = wanted.world_from_solve.translation.y;
        if wanted.floor.is_some() {
            if let Ok(laid) = self.datum.with_height_of_pan(self.solution, height_m) {
                self.take(laid);
                self.steps.push(Step::CameraHeight { height: Amount::Text(format!("{height_m} m")) });
            }
        }
    }

    /// Origin, heading and scale, where the ends that give them are found again by pointing at them.
    fn by_the_picture(&mut self, wanted: &Datum) {
        let back = wanted.world_from_solve.inverse();
        let origin = back.point(Vector3::zeros());
        if self.datum.world_from_solve.point(origin).norm() > 1e-6 {
            if let Some(at) = self.pointed_at(origin) {
                self.take(self.datum.with_origin(origin));
                self.steps.push(Step::Origin { at: OneOrMore::One(at) });
            }
        }
        let Some((ahead_m, from, to)) = self.seen_ahead(wanted) else { return };
        let ahead = back.point(Vector3::new(0.0, 0.0, -ahead_m));
        let here = self.datum.world_from_solve;
        let way = here.point(ahead) - here.point(origin);
        if way.x.abs() > 1e-6 * way.norm() || way.z > 0.0 {
            if let Ok(turned) = self.datum.with_heading(here.point(origin), here.point(ahead)) {
                self.take(turned);
                self.steps.push(Step::Heading { from, to });
            }
        }
        if wanted.scale.is_known() {
            if let Ok(scaled) = self.datum.with_distance(origin, ahead, ahead_m) {
                self.take(scaled);
                self.steps.push(Step::Scale { from, to, distance: Amount::Text(format!("{ahead_m} m")), more: false });
            }
        }
    }

    /// How far ahead of the origin on the floor a point is seen, metres, with the places of both.
    fn seen_ahead(&self, wanted: &Datum) -> Option<(f64, Place, Place)> {
        let back = wanted.world_from_solve.inverse();
        let from = self.pointed_at(back.point(Vector3::zeros()))?;
        let path = CameraPath::new(self.solution, &wanted.world_from_solve);
        let eye = path.at(from.frame)?.centre().norm();
        // The farther, the better it tells, as long as it is seen.
        [2.0, 1.5, 1.0, 0.7, 0.5, 0.3, 0.2, 0.1].iter().find_map(|part| {
            let ahead_m = part * eye.max(1e-6);
            self.pointed_at(back.point(Vector3::new(0.0, 0.0, -ahead_m))).map(|to| (ahead_m, from, to))
        })
    }

    /// What is missing to the datum that is wanted, in numbers.
    fn the_rest(&mut self, wanted: &Datum) {
        let rest = self.datum.world_from_solve.inverse().then(&wanted.world_from_solve);
        let (x, y, z) = rest.rotation.euler_angles();
        let turn = [x, y, z].map(f64::to_degrees);
        let scaled = self.datum.world_from_solve.then(&Similarity { scale: rest.scale, ..Similarity::identity() });
        if (rest.scale - 1.0).abs() > 1e-6 {
            // Any two points tell a scale; the numbers say which.
            if let Some((from, to, distance)) = self.spread_places(wanted) {
                self.steps.push(Step::Scale { from, to, distance: Amount::Text(format!("{distance} m")), more: false });
            }
        }
        let shift: [f64; 3] = (wanted.world_from_solve.translation - rest.rotation * scaled.translation).into();
        let turns = turn.iter().any(|t| t.abs() > SAME_TURN_DEG);
        let shifts = shift.iter().any(|s| s.abs() > SAME_SHIFT_M);
        if turns || shifts {
            self.steps.push(Step::Nudge { turn: turns.then_some(turn), shift: shifts.then_some(shift) });
        }
    }

    /// Two places on the floor as laid so far, seen on one frame, and their distance in the world that is wanted.
    fn spread_places(&self, wanted: &Datum) -> Option<(Place, Place, f64)> {
        let frame = self.solution.frames.get(self.solution.frames.len() / 2)?;
        let on_floor = |part: [f64; 2]| {
            let pixel =
                Vector2::new(part[0] * f64::from(self.solution.width), part[1] * f64::from(self.solution.height));
            let surface = spot_at(self.solution, &self.datum, &self.surfaces, frame.frame, pixel).ok()?;
            let world = wanted.world_from_solve.point(self.datum.world_from_solve.inverse().point(surface.point));
            Some((Place { frame: frame.frame, pixel: pixel.into() }, world))
        };
        let rows = [0.9, 0.8, 0.7, 0.6, 0.5];
        rows.iter().find_map(|y| {
            let (a, b) = (on_floor([0.25, *y])?, on_floor([0.75, *y])?);
            Some((a.0, b.0, (a.1 - b.1).norm()))
        })
    }
}

/// A region on the frame on which most of some points are seen: their convex outline.
fn region_of(solution: &Solution, points: &[TrackId]) -> Option<Region> {
    let of_these: Vec<_> = solution.points.iter().filter(|p| points.binary_search(&p.id).is_ok()).collect();
    let seen_on = |frame: u32| of_these.iter().filter(|p| (p.first_frame..=p.last_frame).contains(&frame)).count();
    let frame = solution.frames.iter().max_by_key(|f| seen_on(f.frame))?.frame;
    let there = of_these.iter().filter(|p| (p.first_frame..=p.last_frame).contains(&frame));
    let camera = CameraPath::new(solution, &Similarity::identity()).at(frame)?;
    let pixels = there.filter_map(|p| camera.project(p.position).map(Into::into));
    let hull = fennik_core::survey::convex(pixels.collect());
    // A little wider, so that the points on the edge lie inside.
    let middle = hull.iter().fold([0.0; 2], |m, p| [m[0] + p[0] / hull.len() as f64, m[1] + p[1] / hull.len() as f64]);
    let outline: Vec<[f64; 2]> = hull.iter().map(|p| [0, 1].map(|k| middle[k] + 1.01 * (p[k] - middle[k]))).collect();
    (outline.len() >= 3).then_some(Region { frame, outline })
}

/// All are placed first, then hung on one another, then given their values: those are counted from what they hang on.
fn placing_steps(inserts: &[Insert], datum: &Datum, solution: &Solution) -> Vec<Step> {
    let (mut places, mut hung, mut values) = (Vec::new(), Vec::new(), Vec::new());
    for insert in inserts {
        let [place, set] = insert_steps(insert, inserts, datum, solution);
        places.push(place);
        let name = insert.shown_name();
        if let Some(parent) = inserts.iter().find(|i| Some(i.id) == insert.parent) {
            hung.push(Step::Hang { thing: name.clone(), on: Some(parent.shown_name()), frame: 0 });
        }
        values.push(set);
        values.extend(changes(insert));
        values.extend(key_steps(insert));
        if insert.locked {
            let locked = named([("locked", json!(true))]);
            values.push(Step::Set { thing: name, values: locked, frame: None, ease: None });
        }
    }
    places.into_iter().chain(hung).chain(values).collect()
}

/// What of an insert is told by steps of their own.
fn changes(insert: &Insert) -> Vec<Step> {
    let mut all = Vec::new();
    match &insert.content {
        InsertKind::Title(title) => {
            let parts = [LetterPart::Face, LetterPart::Bevel, LetterPart::Side];
            for (part, covering) in parts.into_iter().zip(title.lettering.coverings()) {
                let Some(covering) = covering else { continue };
                let asset = covering.asset.as_ref().map(|a| a.name.clone());
                all.push(Arrange::Cover { part, plate: asset.is_none(), asset, fit: covering.fit });
            }
            if let Some(font) = &title.lettering.font_file {
                all.push(Arrange::Font { asset: Some(font.name.clone()) });
            }
        }
        InsertKind::Backdrop(far) => all.extend(far.cutout.as_ref().map(|cut| Arrange::Outline {
            mask: None,
            outline: Some(cut.outline.clone()),
            soft: cut.soft_px,
            outside: cut.inverted,
        })),
        InsertKind::Prop(prop) => {
            for (name, change) in &prop.materials {
                let number = |v: Option<f64>| v.map(|v| json!(v));
                let colour = change.colour.map(|[r, g, b]| json!(format!("#{r:02x}{g:02x}{b:02x}")));
                let told = [
                    ("colour", colour),
                    ("metal", number(change.metal)),
                    ("rough", number(change.rough)),
                    ("glow", number(change.glow)),
                ];
                let values = told.into_iter().filter_map(|(n, v)| Some((n.to_owned(), v?))).collect();
                let maps = change.maps.iter().map(|(map, asset)| (*map, Some(asset.name.clone()))).collect();
                all.push(Arrange::Material { name: name.clone(), values, maps });
            }
        }
        _ => {}
    }
    let thing = insert.shown_name();
    all.into_iter().map(|does| Step::Arrange { thing: thing.clone(), frame: 0, does }).collect()
}

/// The keys of an insert, frame by frame.
fn key_steps(insert: &Insert) -> Vec<Step> {
    let mut copy = insert.clone();
    let mut steps = Vec::new();
    for frame in insert.key_frames().into_iter().filter(|f| *f >= 0.0 && f.fract() == 0.0) {
        let now = kinds::values(insert, frame);
        // How much of what is measured counts is told when it was measured.
        for (track, of) in copy.all_tracks().into_iter().filter(|(name, _)| Drawn::rule(name).is_none()) {
            let Some(ease) = of.ease_of(frame) else { continue };
            let names: Vec<&str> = match track {
                "place" => vec!["x", "y", "z"],
                "turn" => vec!["turn", "lean"],
                other => vec![other],
            };
            let values = now.iter().filter(|(n, _)| names.contains(&n.as_str())).map(|(n, v)| (n.clone(), v.clone()));
            let (thing, values) = (insert.shown_name(), values.collect());
            steps.push(Step::Set { thing, values, frame: Some(frame as u32), ease: Some(ease) });
        }
    }
    steps
}

fn insert_steps(insert: &Insert, inserts: &[Insert], datum: &Datum, solution: &Solution) -> [Step; 2] {
    let p = &insert.placement;
    let [turn, lean] = p.turn_lean_deg(0.0);
    let foot = Vector3::from(p.anchor.foot.at(0.0));
    let hangs = insert.parent.is_some();
    let on_floor = !hangs && datum.floor.is_some() && p.anchor.normal[1] > 1.0 - 1e-9 && foot.y.abs() < 1e-9;
    let foot_in_world = world_of(inserts, insert, 0.0).point(foot);
    let name = insert.shown_name();
    let mut values = kinds::content_values(&insert.content);
    // What it says is told where it is placed.
    let text = values.remove("text").and_then(|t| t.as_str().map(str::to_owned));
    values.extend(named([
        ("turn", json!(turn)),
        ("lean", json!(lean)),
        ("lift", json!(p.anchor.lift_m.at(0.0))),
        ("scale", json!(p.scale.at(0.0))),
        ("stance", json!(p.stance)),
    ]));
    // What is as usual goes without saying.
    let usual = kinds::values(
        &Insert::new(insert.content.clone(), fennik_core::scene::Placement::on([0.0; 3], [0.0, 1.0, 0.0], p.stance)),
        0.0,
    );
    let place = kinds::PLACE_FIELDS.map(|f| f.name);
    let own = kinds::values(insert, 0.0).into_iter();
    values.extend(
        // How much of what is measured counts is told when it was measured.
        own.filter(|(name, v)| usual.get(name) != Some(v) && name != "text" && !place.contains(&name.as_str()))
            .filter(|(name, _)| Drawn::rule(name).is_none()),
    );
    if insert.hidden {
        values.insert("hidden".to_owned(), json!(true));
    }
    if insert.solo {
        values.insert("solo".to_owned(), json!(true));
    }
    let seen = places_of(solution, datum, foot_in_world).first().copied();
    if seen.is_none() || !on_floor {
        for (axis, value) in ["x", "y", "z"].iter().zip(p.anchor.foot.at(0.0)) {
            values.insert((*axis).to_owned(), json!(value));
        }
    }
    // What is never seen is placed somewhere and moved by numbers.
    let anywhere = || {
        let frame = solution.frames.get(solution.frames.len() / 2).map_or(0, |f| f.frame);
        Place { frame, pixel: [0.5 * f64::from(solution.width), 0.75 * f64::from(solution.height)] }
    };
    let at = seen.unwrap_or_else(anywhere);
    let stance: Stance = p.stance;
    [
        Step::Place {
            kind: insert.content.word().to_owned(),
            name: name.clone(),
            text,
            file: None,
            asset: insert.content.asset().map(|a| a.name.clone()),
            library: None,
            at,
            depth: None,
            stance: Some(stance),
            on: on_floor.then(|| "floor".to_owned()),
        },
        Step::Set { thing: name, values, frame: None, ease: None },
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_steps_of_the_demo_lead_to_its_datum() {
        let solution: Solution = serde_json::from_slice(crate::engine::plain::REEL.solve).unwrap();
        let found = fennik_core::survey::survey(&solution, &[]);
        let seen = Seen { solution: &solution, found: &found, views: &[] };
        let (finished, _) = crate::engine::plain::staging(&solution).unwrap();
        let by_hand =
            Datum::default().with_floor(&solution, &found.floors[0], None).nudged([0.0, 25.0, 0.0], [1.5, 0.0, -2.0]);
        let tilted = finished.nudged([3.0, -20.0, 1.0], [0.5, 0.2, 0.0]);
        for wanted in [finished, by_hand, tilted] {
            let (steps, _) = datum_steps(&wanted, &seen);
            let led_to = done(&steps, &seen);
            let gap = |p: Vector3<f64>| (led_to.world_from_solve.point(p) - wanted.world_from_solve.point(p)).norm();
            let most = solution.points.iter().map(|p| gap(p.position)).fold(0.0, f64::max);
            assert!(most < 0.02, "{most} m off after {steps:?}");
        }
    }

    /// What a cook makes of steps of the datum.
    fn done(steps: &[Step], seen: &Seen) -> Datum {
        let solution = seen.solution;
        let proposal = propose(solution, seen.found, &Datum::default()).unwrap();
        let at = |datum: &Datum, place: &Place| {
            let mut surfaces = proposal.surfaces.clone();
            let moved = proposal.datum.world_from_solve.inverse().then(&datum.world_from_solve);
            surfaces.iter_mut().for_each(|s| s.move_with(&moved));
            spot_at(solution, datum, &surfaces, place.frame, Vector2::from(place.pixel)).unwrap().point
        };
        steps.iter().fold(Datum::default(), |datum, step| match step {
            Step::ProposeDatum { floor: None } => proposal.datum.clone(),
            Step::Origin { at: OneOrMore::One(place) } => {
                datum.with_origin(datum.world_from_solve.inverse().point(at(&datum, place)))
            }
            Step::Heading { from, to } => datum.with_heading(at(&datum, from), at(&datum, to)).unwrap(),
            Step::Scale { from, to, distance, more: false } => {
                let back = datum.world_from_solve.inverse();
                let distance = distance.value(crate::engine::quantity::Measure::Length).unwrap();
                datum.with_distance(back.point(at(&datum, from)), back.point(at(&datum, to)), distance).unwrap()
            }
            Step::Nudge { turn, shift } => datum.nudged(turn.unwrap_or_default(), shift.unwrap_or_default()),
            other => panic!("{other:?} is no step of the datum"),
        })
    }
}
