//! Outlines made solid: extruded, with a bevel round the front.
//!
//! The bevel's inner outline is the outer one moved inwards as a whole (polygon offset), so that it neither folds nor
//! crosses itself where a stroke is narrower than two bevels: there it splits or vanishes.

use crate::Mesh;
use fennik_core::scene::Profile;
use i_overlay::core::fill_rule::FillRule;
use i_overlay::float::simplify::SimplifyShape;
use i_overlay::mesh::float::outline::offset::OutlineOffset;
use i_overlay::mesh::float::style::{LineJoin, OutlineStyle};
use i_triangle::float::triangulatable::Triangulatable;
use nalgebra::Vector3;
use std::collections::HashSet;

pub type Point = [f64; 2];
pub type Contour = Vec<Point>;
/// An outer contour, counter-clockwise, and its holes, clockwise: what is filled lies on the left.
pub type Region = Vec<Contour>;

/// Levels in which a bevel rises where the outline loses corners on the way, or strokes are narrower than two of it.
const LEVELS: usize = 10;
/// Smallest angle of a corner that stays sharp when it is moved inwards, radians.
const SHARPEST: f64 = 0.35;
/// Corners nearer to one another than this part of the whole are one.
const SAME: f64 = 1e-7;

/// What contours enclose, whatever way they run and however they overlap (non-zero winding).
pub fn regions(contours: &[Contour]) -> Vec<Region> {
    contours.to_vec().simplify_shape(FillRule::NonZero)
}

/// A region moved inwards by `width`.
fn inset(region: &Region, width: f64) -> Vec<Region> {
    region.outline(&OutlineStyle::new(-width).line_join(LineJoin::Miter(SHARPEST)))
}

/// Parts of a solid: its front, the bevel round it, and what is left.
pub const FACE: u16 = 0;
pub const BEVEL: u16 = 1;
pub const SIDE: u16 = 2;

/// The way of a bevel: how far in it is and how far up, each of the whole, from the side to the front.
fn way(profile: Profile, levels: usize) -> Vec<[f64; 2]> {
    let quarter = |n: usize| (n as f64 / levels as f64 * std::f64::consts::FRAC_PI_2).sin_cos();
    match profile {
        Profile::Straight => (0..=levels).map(|n| [n as f64 / levels as f64; 2]).collect(),
        Profile::Round => (0..=levels).map(quarter).map(|(sin, cos)| [1.0 - cos, sin]).collect(),
        Profile::Hollow => (0..=levels).map(quarter).map(|(sin, cos)| [sin, 1.0 - cos]).collect(),
        Profile::Stepped => vec![[0.0, 0.0], [0.0, 0.34], [0.5, 0.34], [0.5, 0.67], [1.0, 0.67], [1.0, 1.0]],
    }
}

/// Solids of the regions between z = 0 and `depth`, with a bevel as wide as it is high round the front. Places of
/// pictures are x and y on the front and the bevel, and the way round and z on the sides, metres.
pub fn extrude(regions: &[Region], depth: f64, bevel: f64, profile: Profile) -> Mesh {
    let mut mesh = Mesh::default();
    for region in regions {
        fill(&mut mesh, region, 0.0, false);
        let below = depth - bevel;
        if depth > 0.0 {
            region.iter().for_each(|c| stitch(&mut mesh, (c, 0.0), (c, below), SIDE));
        }
        if bevel <= 0.0 {
            fill(&mut mesh, region, depth, true);
            continue;
        }
        // Where the outline keeps every corner, one slope leads all the way.
        let kept = |found: Vec<&Contour>| region.iter().zip(found).all(|(a, b)| a.len() == b.len());
        let one = profile == Profile::Straight && pairs(region, &inset(region, bevel)).is_some_and(kept);
        let way = way(profile, if one { 1 } else { LEVELS });
        let mut lower = vec![region.clone()];
        for pair in way.windows(2) {
            let heights = pair_map(pair, |p| below + bevel * p[1]);
            if pair[0][0] == pair[1][0] {
                let contours = lower.iter().flatten();
                contours.for_each(|c| stitch(&mut mesh, (c, heights[0]), (c, heights[1]), BEVEL));
                continue;
            }
            let upper = inset(region, bevel * pair[1][0]);
            for part in &lower {
                let own: Vec<Region> = upper.iter().filter(|u| contains(&part[0], u[0][0])).cloned().collect();
                slope(&mut mesh, (part, heights[0]), (&own, heights[1]));
            }
            lower = upper;
        }
        lower.iter().for_each(|part| fill(&mut mesh, part, depth, true));
    }
    mesh
}

fn pair_map(pair: &[[f64; 2]], of: impl Fn(&[f64; 2]) -> f64) -> [f64; 2] {
    [of(&pair[0]), of(&pair[1])]
}

/// Which contour of the one inner region belongs to each of the outer's; `None` where the outline changed its shape.
fn pairs<'a>(outer: &Region, inner: &'a [Region]) -> Option<Vec<&'a Contour>> {
    let [inner] = inner else { return None };
    if inner.len() != outer.len() {
        return None;
    }
    let gap = |a: &Contour, b: &Contour| {
        b.iter().map(|p| (p[0] - a[0][0]).hypot(p[1] - a[0][1])).fold(f64::INFINITY, f64::min)
    };
    let mut found = vec![&inner[0]];
    for hole in &outer[1..] {
        found.push(inner[1..].iter().min_by(|a, b| gap(hole, a).total_cmp(&gap(hole, b)))?);
    }
    let each_once = |c: &&Contour| found.iter().filter(|f| std::ptr::eq(**f, *c)).count() == 1;
    found.iter().all(each_once).then_some(found)
}

/// The surface from a region up to those that are left of it further in. What has none of them over it stays level.
fn slope(mesh: &mut Mesh, (outer, low): (&Region, f64), (inner, high): (&[Region], f64)) {
    if let Some(found) = pairs(outer, inner) {
        outer.iter().zip(found).for_each(|(a, b)| stitch(mesh, (a, low), (b, high), BEVEL));
        return;
    }
    let reversed = |c: &Contour| c.iter().rev().copied().collect::<Contour>();
    let mut ring = outer.clone();
    ring.extend(inner.iter().flatten().map(reversed));
    let grid = size(outer) * SAME;
    let cell = |p: &Point| (((p[0] / grid).round()) as i64, ((p[1] / grid).round()) as i64);
    let raised: HashSet<(i64, i64)> = inner.iter().flatten().flatten().map(cell).collect();
    // A corner that was rounded to the triangulation's own grid lies in a cell beside.
    let is_raised = |p: &Point| {
        let (x, y) = cell(p);
        (-1..=1).any(|dx| (-1..=1).any(|dy| raised.contains(&(x + dx, y + dy))))
    };
    triangulate(mesh, &ring, (true, BEVEL), |p| if is_raised(p) { high } else { low });
}

/// A region at one height, facing up or down.
fn fill(mesh: &mut Mesh, region: &Region, z: f64, up: bool) {
    triangulate(mesh, region, (up, if up { FACE } else { SIDE }), |_| z);
}

fn triangulate(mesh: &mut Mesh, region: &Region, (up, part): (bool, u16), height: impl Fn(&Point) -> f64) {
    let filled = region.as_slice().triangulate().to_triangulation::<u32>();
    let base = mesh.positions.len() as u32;
    mesh.positions.extend(filled.points.iter().map(|p| Vector3::new(p[0], p[1], height(p)).cast::<f32>()));
    mesh.uvs.extend(filled.points.iter().map(|p| [p[0] as f32, p[1] as f32]));
    for t in filled.indices.chunks_exact(3) {
        let t = if up { [t[0], t[1], t[2]] } else { [t[0], t[2], t[1]] };
        mesh.indices.push(t.map(|i| i + base));
        mesh.parts.push(part);
    }
}

/// A flat polygon as triangles, counter-clockwise: its corners, and three of them for each triangle. Nothing for one that
/// encloses nothing.
pub fn triangulated(outline: &[Point]) -> (Vec<Point>, Vec<u32>) {
    let (mut corners, mut indices) = (Vec::new(), Vec::new());
    if outline.iter().flatten().all(|v| v.is_finite()) {
        for region in regions(&[outline.to_vec()]) {
            let filled = region.as_slice().triangulate().to_triangulation::<u32>();
            let base = corners.len() as u32;
            corners.extend(filled.points.iter().copied());
            indices.extend(filled.indices.iter().map(|i| i + base));
        }
    }
    (corners, indices)
}

/// A band between two contours that run the same way, each at its height: it goes ahead on the side whose next corner
/// is nearer.
fn stitch(mesh: &mut Mesh, (low, low_z): (&Contour, f64), (high, high_z): (&Contour, f64), part: u16) {
    let base = mesh.positions.len() as u32;
    let (n, m) = (low.len(), high.len());
    let gap = |a: usize, b: usize| (low[a % n][0] - high[b % m][0]).hypot(low[a % n][1] - high[b % m][1]);
    let start = (0..m).min_by(|a, b| gap(0, *a).total_cmp(&gap(0, *b))).unwrap_or(0);
    // The first corner once more at the end, where pictures have come round.
    let mut corners = |contour: &Contour, start: usize, z: f64| {
        let mut round = 0.0;
        for k in 0..=contour.len() {
            let [x, y] = contour[(start + k) % contour.len()];
            if k > 0 {
                let [px, py] = contour[(start + k - 1) % contour.len()];
                round += (x - px).hypot(y - py);
            }
            mesh.positions.push(Vector3::new(x, y, z).cast::<f32>());
            mesh.uvs.push(if part == SIDE { [round as f32, z as f32] } else { [x as f32, y as f32] });
        }
    };
    corners(low, 0, low_z);
    corners(high, start, high_z);
    let (mut i, mut j) = (0, 0);
    let below = |i: usize| base + i as u32;
    let above = |j: usize| base + (n + 1 + j) as u32;
    while i < n || j < m {
        let go_low = j == m || (i < n && gap(i + 1, start + j) <= gap(i, start + j + 1));
        if go_low {
            mesh.indices.push([below(i), below(i + 1), above(j)]);
            i += 1;
        } else {
            mesh.indices.push([below(i), above(j + 1), above(j)]);
            j += 1;
        }
        mesh.parts.push(part);
    }
}

fn size(region: &Region) -> f64 {
    region.iter().flatten().flatten().fold(1e-9, |m: f64, v| m.max(v.abs()))
}

/// Even-odd rule (Shimrat, "Algorithm 112", 1962).
fn contains(contour: &Contour, [x, y]: Point) -> bool {
    let edges = contour.iter().zip(contour.iter().cycle().skip(1));
    let crossed =
        edges.filter(|(a, b)| (a[1] > y) != (b[1] > y) && x < (b[0] - a[0]) * (y - a[1]) / (b[1] - a[1]) + a[0]);
    crossed.count() % 2 == 1
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Volume by the divergence theorem; negative when faces look inwards.
    fn volume(mesh: &Mesh) -> f64 {
        let of = |i| {
            let [a, b, c] = mesh.triangle(i).map(|p| p.cast::<f64>());
            a.dot(&b.cross(&c)) / 6.0
        };
        (0..mesh.indices.len()).map(of).sum()
    }

    /// Area seen from the front, and from the back: of a closed solid that folds nowhere both are that of its outline.
    fn areas(mesh: &Mesh) -> (f64, f64) {
        let of = |i: usize| {
            let [a, b, c] = mesh.triangle(i).map(|p| p.cast::<f64>());
            0.5 * ((b.x - a.x) * (c.y - a.y) - (b.y - a.y) * (c.x - a.x))
        };
        let all: Vec<f64> = (0..mesh.indices.len()).map(of).collect();
        (all.iter().filter(|a| **a > 0.0).sum(), -all.iter().filter(|a| **a < 0.0).sum::<f64>())
    }

    fn rectangle(x: f64, y: f64, w: f64, h: f64) -> Contour {
        vec![[x, y], [x + w, y], [x + w, y + h], [x, y + h]]
    }

    #[test]
    fn a_bevelled_block_has_the_volume_of_its_formula() {
        let plain = extrude(&regions(&[rectangle(0.0, 0.0, 4.0, 2.0)]), 1.0, 0.0, Profile::Straight);
        assert!((volume(&plain) - 8.0).abs() < 1e-5);
        let bevelled = extrude(&regions(&[rectangle(0.0, 0.0, 4.0, 2.0)]), 1.0, 0.2, Profile::Straight);
        // Under the bevel a block, over it a frustum: h/3 (A + B + (ab + cd terms)), by integrating (4-2t)(2-2t).
        let frustum = 8.0 * 0.2 - 12.0 * 0.04 / 2.0 + 4.0 * 0.008 / 3.0;
        assert!((volume(&bevelled) - (8.0 * 0.8 + frustum)).abs() < 1e-4, "{}", volume(&bevelled));
        assert_eq!(bevelled.bounds().map(|(a, b)| (a.z, b.z)), Some((0.0, 1.0)));
    }

    #[test]
    fn a_bevel_wider_than_half_a_stroke_splits_and_vanishes_but_folds_nowhere() {
        // A thick block and a thin one with a thinner bar between them, and a hole in the first.
        let mut hole = rectangle(0.6, 0.6, 0.8, 0.8);
        hole.reverse();
        let shape = [rectangle(0.0, 0.0, 2.0, 2.0), hole, rectangle(1.9, 0.9, 2.2, 0.2), rectangle(4.0, 0.0, 0.5, 2.0)];
        let whole = regions(&shape);
        let area: f64 = whole.iter().flatten().map(signed_area).sum();
        for bevel in [0.01, 0.08, 0.15, 0.24, 0.3, 0.6] {
            let mesh = extrude(&whole, 0.7, bevel, Profile::Straight);
            let (front, back) = areas(&mesh);
            assert!((back - area).abs() < 1e-3 && (front - area).abs() < 1e-3, "{bevel}: {front} and {back} of {area}");
            let filled = volume(&mesh);
            assert!(filled < area * 0.7 + 1e-4 && filled > area * (0.7 - bevel), "{bevel}: {filled}");
        }
    }

    fn signed_area(c: &Contour) -> f64 {
        c.iter().zip(c.iter().cycle().skip(1)).map(|(a, b)| 0.5 * (a[0] * b[1] - b[0] * a[1])).sum()
    }

    #[test]
    fn outlines_that_overlap_or_run_the_wrong_way_are_one_region() {
        let mut second = rectangle(1.0, 0.0, 2.0, 1.0);
        second.reverse();
        let found = regions(&[rectangle(0.0, 0.0, 2.0, 1.0), rectangle(1.0, 0.0, 2.0, 1.0)]);
        assert_eq!(found.len(), 1);
        assert!((signed_area(&found[0][0]) - 3.0).abs() < 1e-6, "counter-clockwise");
        assert!(regions(&[vec![[0.0, 0.0], [1.0, 0.0], [2.0, 0.0]]]).is_empty(), "a line encloses nothing");
    }

    #[test]
    fn a_flat_polygon_is_covered_by_triangles_that_face_one_way() {
        // Given clockwise, and not convex.
        let (corners, indices) = triangulated(&[[0.0, 0.0], [0.0, 3.0], [1.0, 1.0], [3.0, 0.0]]);
        let area = |t: &[u32]| {
            let [a, b, c] = [0, 1, 2].map(|k| corners[t[k] as usize]);
            0.5 * ((b[0] - a[0]) * (c[1] - a[1]) - (c[0] - a[0]) * (b[1] - a[1]))
        };
        assert!(indices.chunks_exact(3).all(|t| area(t) > 0.0));
        assert!((indices.chunks_exact(3).map(area).sum::<f64>() - 3.0).abs() < 1e-6);
        assert!(triangulated(&[[0.0, f64::NAN], [1.0, 0.0], [0.0, 1.0]]).1.is_empty());
    }
}
