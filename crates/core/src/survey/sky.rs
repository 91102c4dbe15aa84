//! Sky where a floor should go on: the top of the picture bright and smooth, the rest not.
//!
//! A wall with sky over it, filmed from below, gives the same points as ground filmed steeply from above. But ground
//! that fills the picture up to its top has no bright smooth band there.

use super::plane::Plane;
use super::views::View;
use crate::image::Plane as Picture;
use crate::solve::stats::median;
use nalgebra::Vector2;

/// Cells that a picture is cut into, across and down.
const CELLS: (usize, usize) = (16, 9);
/// Rows of cells at the very top where sky is looked for, and at the foot that it is held against.
const TOP: usize = 1;
const FOOT: usize = 5;
/// The level of the pyramids that is looked at: small enough that noise is gone.
const LEVEL: usize = 2;
/// Slopes against those of the foot up to which a cell is smooth.
const SMOOTH: f64 = 0.3;
/// Part of the cells of the top that sky must be, and of the foot that may be smooth.
const SHARES: (f64, f64) = (0.4, 0.2);
/// Beyond so many times the distance of the plane from the eye it is seen too flat to tell.
const FAR: f64 = 30.0;

struct Cell {
    slope: f64,
    tone: f64,
    middle: Vector2<f64>,
}

fn cell(picture: &Picture, column: usize, row: usize) -> Cell {
    let span = |k: usize, n: usize, size: usize| (k * (size - 1) / n, (k + 1) * (size - 1) / n);
    let ((x0, x1), (y0, y1)) = (span(column, CELLS.0, picture.width()), span(row, CELLS.1, picture.height()));
    let (mut slope, mut tone) = (0.0f64, 0.0f64);
    for y in y0..y1 {
        for x in x0..x1 {
            let here = picture.at(x, y);
            let (dx, dy) = (picture.at(x + 1, y) - here, picture.at(x, y + 1) - here);
            slope += f64::from(dx * dx + dy * dy);
            tone += f64::from(here);
        }
    }
    let n = ((x1 - x0) * (y1 - y0)).max(1) as f64;
    let middle = Vector2::new((x0 + x1) as f64, (y0 + y1) as f64) * (0.5 * f64::from(1u32 << LEVEL));
    Cell { slope: (slope / n).sqrt(), tone: tone / n, middle }
}

/// Whether a view shows sky where `plane` should be.
fn in_view(view: &View, plane: &Plane) -> bool {
    let picture = view.pyramid.level(LEVEL);
    let rows = |from: usize, to: usize| -> Vec<Cell> {
        (from..to).flat_map(|row| (0..CELLS.0).map(move |column| cell(picture, column, row))).collect()
    };
    let (top, foot) = (rows(0, TOP), rows(CELLS.1 - FOOT, CELLS.1));
    let middle = |of: fn(&Cell) -> f64| median(&foot.iter().map(of).collect::<Vec<_>>()).unwrap_or_default();
    let (slope, tone) = (SMOOTH * middle(|c| c.slope), middle(|c| c.tone));
    let height = plane.distance(view.camera.centre()).abs();
    let on_plane = |c: &Cell| {
        let met = plane.meet(&view.camera.ray(c.middle));
        met.is_some_and(|at| (at - view.camera.centre()).norm() < FAR * height)
    };
    let sky = top.iter().filter(|c| c.slope < slope && c.tone > tone && on_plane(c)).count() as f64;
    let smooth = foot.iter().filter(|c| c.slope < slope).count() as f64;
    sky > SHARES.0 * top.len() as f64 && smooth < SHARES.1 * foot.len() as f64
}

/// Whether most views show sky where `plane` should be.
pub fn shows_sky(views: &[View], plane: &Plane) -> bool {
    2 * views.iter().filter(|v| in_view(v, plane)).count() > views.len()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Lens, Pose};
    use crate::matte::Masks;
    use crate::solve::{Solution, SolvedFrame};
    use crate::survey::views::views;
    use nalgebra::Vector3;

    /// A camera that looks at a plane from above, its pictures speckled below a row and of one tone above it.
    fn seen(sky_rows: usize, tone: f32) -> Vec<View> {
        let mut solution = Solution::empty(640, 360, 4);
        let pose = |i: u32| {
            let eye = Vector3::new(0.3 * f64::from(i), 5.0, 4.0);
            Pose::look_at(eye, eye + Vector3::new(0.0, -1.4, -1.0), Vector3::y()).unwrap()
        };
        let lens = Lens::centred(520.0, 640, 360);
        solution.frames = (0..4).map(|i| SolvedFrame::new(i, pose(i), lens, 0.1, 50)).collect();
        let picture = Picture::from_fn(640, 360, |x, y| {
            let speckle = ((x / 4 * 37 + y / 4 * 91) % 17) as f32 * 8.0;
            if y < sky_rows { tone } else { 30.0 + speckle }
        });
        let pictures: Vec<_> = (0..4).map(|i| (i, picture.clone())).collect();
        views(&solution, &pictures, &Masks::default())
    }

    #[test]
    fn a_bright_smooth_top_is_sky_and_a_dark_one_or_none_is_not() {
        let ground = Plane { point: Vector3::zeros(), normal: Vector3::y() };
        assert!(shows_sky(&seen(90, 220.0), &ground));
        assert!(!shows_sky(&seen(0, 220.0), &ground), "speckled up to the top");
        assert!(!shows_sky(&seen(90, 20.0), &ground), "a shadow");
        assert!(!shows_sky(&seen(340, 220.0), &ground), "nearly everything is smooth");
        // The top lies over the horizon of a plane that falls away from the camera.
        let normal = Vector3::new(0.0, 1.0, -1.0).normalize();
        let falling = Plane { point: Vector3::new(0.0, 5.0, 4.0) - normal * 3.0, normal };
        assert!(!shows_sky(&seen(90, 220.0), &falling));
    }
}
