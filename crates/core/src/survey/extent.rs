//! How far a plane reaches: an outline round what was seen of it.

use super::plane::Plane;
use super::views::View;
use super::windows::Reading;
use crate::matte::{contains, doubled_area, simplified};
use i_overlay::core::fill_rule::FillRule;
use i_overlay::float::simplify::SimplifyShape;
use i_overlay::mesh::float::outline::offset::OutlineOffset;
use i_overlay::mesh::float::style::{LineJoin, OutlineStyle};
use nalgebra::{Vector2, Vector3};

/// Corners that an outline has at most.
const MOST_CORNERS: usize = 14;
/// Gaps that are closed, of the size of a window on the plane.
const CLOSED: f64 = 1.3;
/// How much longer than broad a window may lie on the plane: beyond, it is seen too flat to tell where it ends.
const LONGEST: f64 = 10.0;
/// Smallest angle of a corner that stays sharp as an outline grows, radians.
const SHARPEST: f64 = 1.0;

type Contour = Vec<[f64; 2]>;

/// What the contours cover together, with gaps of twice `gap` closed: the outer contour of the part that most of them
/// are in. (Far off, few windows cover much of a floor.)
fn joined(contours: Vec<Contour>, gap: f64) -> Option<Contour> {
    let middles: Vec<[f64; 2]> = contours.iter().map(|c| middle(c)).collect();
    let style = |by: f64| OutlineStyle::new(by).line_join(LineJoin::Miter(SHARPEST));
    let together: Vec<Vec<Contour>> = contours.simplify_shape(FillRule::NonZero);
    let grown: Vec<Vec<Contour>> = together.outline(&style(gap));
    // Filled before it shrinks again: holes of an outline are no matter here.
    let filled: Vec<Vec<Contour>> = grown.into_iter().map(|mut part| part.drain(..1).collect()).collect();
    let closed: Vec<Vec<Contour>> = filled.outline(&style(-gap));
    let outer = closed.into_iter().filter_map(|part| part.into_iter().next());
    let count = |c: &Contour| middles.iter().filter(|m| contains(c, m[0], m[1])).count();
    outer
        .map(|c| (count(&c), c))
        .max_by(|a, b| a.0.cmp(&b.0).then(doubled_area(&a.1).abs().total_cmp(&doubled_area(&b.1).abs())))
        .map(|c| c.1)
}

fn middle(contour: &[[f64; 2]]) -> [f64; 2] {
    let n = contour.len().max(1) as f64;
    contour.iter().fold([0.0; 2], |m, p| [m[0] + p[0] / n, m[1] + p[1] / n])
}

/// The axes in which a plane is drawn: to the right and up where it stands, with `up` the scene's upright.
fn axes(plane: &Plane, up: Option<&Vector3<f64>>) -> [Vector3<f64>; 2] {
    let upright = up.and_then(|u| (u - plane.normal * u.dot(&plane.normal)).try_normalize(0.1));
    upright.map_or_else(|| plane.across(), |b| [b.cross(&plane.normal), b])
}

/// The outline of windows on a plane, world; empty where there are none.
pub fn outline(
    views: &[View],
    plane: &Plane,
    readings: &[&Reading],
    cell_px: f64,
    up: Option<&Vector3<f64>>,
) -> Vec<Vector3<f64>> {
    let [a, b] = axes(plane, up);
    let flat = |p: Vector3<f64>| [a.dot(&(p - plane.point)), b.dot(&(p - plane.point))];
    let half = 0.5 * cell_px;
    let mut sizes = Vec::new();
    let windows: Vec<Contour> = readings
        .iter()
        .filter_map(|r| {
            let camera = &views[r.view].camera;
            let corner = |x: f64, y: f64| Some(flat(plane.meet(&camera.ray(r.pixel + Vector2::new(x, y)))?));
            let four = [corner(-half, -half)?, corner(half, -half)?, corner(half, half)?, corner(-half, half)?];
            let side = |i: usize| (four[i][0] - four[(i + 1) % 4][0]).hypot(four[i][1] - four[(i + 1) % 4][1]);
            let (across, down) = (side(0), side(1));
            if across.max(down) > LONGEST * across.min(down) {
                return None;
            }
            sizes.push(across.min(down));
            let mut four = four.to_vec();
            if doubled_area(&four) < 0.0 {
                four.reverse();
            }
            Some(four)
        })
        .collect();
    sizes.sort_by(f64::total_cmp);
    let Some(size) = sizes.get(sizes.len() / 2) else { return Vec::new() };
    let contour = joined(windows, 0.5 * CLOSED * size).map(|c| simplified(c, MOST_CORNERS)).unwrap_or_default();
    contour.into_iter().map(|[x, y]| plane.point + a * x + b * y).collect()
}

/// The convex outline of places on a plane, world (A. M. Andrew, "Another efficient algorithm for convex hulls in two
/// dimensions", 1979), grown by `margin`.
pub fn hull(plane: &Plane, places: &[Vector3<f64>], margin: f64, up: Option<&Vector3<f64>>) -> Vec<Vector3<f64>> {
    let [a, b] = axes(plane, up);
    let flat: Contour = places.iter().map(|p| [a.dot(&(p - plane.point)), b.dot(&(p - plane.point))]).collect();
    let round = convex(flat);
    let middle = middle(&round);
    let grown = round.iter().map(|p| {
        let away = Vector2::new(p[0] - middle[0], p[1] - middle[1]);
        let by = away.try_normalize(1e-12).unwrap_or_default() * margin;
        [p[0] + by.x, p[1] + by.y]
    });
    grown.map(|[x, y]| plane.point + a * x + b * y).collect()
}

/// The convex outline of places of a plane, counter-clockwise.
pub fn convex(mut places: Vec<[f64; 2]>) -> Vec<[f64; 2]> {
    places.sort_by(|a, b| a[0].total_cmp(&b[0]).then(a[1].total_cmp(&b[1])));
    let half = |all: &mut dyn Iterator<Item = [f64; 2]>| {
        let mut kept: Contour = Vec::new();
        for p in all {
            while let [.., a, b] = kept[..] {
                if (b[0] - a[0]) * (p[1] - a[1]) - (b[1] - a[1]) * (p[0] - a[0]) > 0.0 {
                    break;
                }
                kept.pop();
            }
            kept.push(p);
        }
        kept.pop();
        kept
    };
    let lower = half(&mut places.iter().copied());
    let upper = half(&mut places.iter().rev().copied());
    lower.into_iter().chain(upper).collect()
}

/// Tells whether places of a plane lie inside an outline on it.
pub struct Inside {
    point: Vector3<f64>,
    axes: [Vector3<f64>; 2],
    corners: Vec<[f64; 2]>,
}

impl Inside {
    /// Of an outline on a plane.
    pub fn new(plane: &Plane, outline: &[Vector3<f64>]) -> Self {
        let mut inside = Self { point: plane.point, axes: plane.across(), corners: Vec::new() };
        inside.corners = outline.iter().map(|p| inside.flat(*p)).collect();
        inside
    }

    fn flat(&self, p: Vector3<f64>) -> [f64; 2] {
        self.axes.map(|a| a.dot(&(p - self.point)))
    }

    /// Whether a place of the plane lies inside.
    pub fn holds(&self, p: Vector3<f64>) -> bool {
        let [x, y] = self.flat(p);
        contains(&self.corners, x, y)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn windows_that_touch_or_nearly_do_are_one_outline() {
        let square = |x: f64, y: f64| vec![[x, y], [x + 1.0, y], [x + 1.0, y + 1.0], [x, y + 1.0]];
        let near = joined(vec![square(0.0, 0.0), square(1.3, 0.0), square(9.0, 9.0)], 0.3).unwrap();
        assert!((doubled_area(&near).abs() / 2.0 - 2.3).abs() < 0.05, "{near:?}");
        let apart = joined(vec![square(0.0, 0.0), square(1.3, 0.0)], 0.1).unwrap();
        assert!((doubled_area(&apart).abs() / 2.0 - 1.0).abs() < 0.01);
    }

    #[test]
    fn the_corners_that_matter_stay() {
        let long = vec![[0.0, 0.0], [1.0, 0.01], [2.0, 0.0], [4.0, 0.0], [4.0, 3.0], [2.0, 3.02], [0.0, 3.0]];
        assert_eq!(simplified(long, 4), [[0.0, 0.0], [4.0, 0.0], [4.0, 3.0], [0.0, 3.0]]);
    }

    #[test]
    fn a_convex_outline_goes_round_all() {
        let places = vec![[0.0, 0.0], [4.0, 0.0], [4.0, 3.0], [0.0, 3.0], [2.0, 1.0], [1.0, 2.0], [4.0, 1.5]];
        assert_eq!(convex(places), [[0.0, 0.0], [4.0, 0.0], [4.0, 3.0], [0.0, 3.0]]);
    }
}
