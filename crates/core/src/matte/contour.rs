//! From what is covered to an outline round it.

use super::coverage::{Coverage, Window, bounds};

/// Twice the area inside an outline; above zero where it runs from x towards y.
pub fn doubled_area(outline: &[[f64; 2]]) -> f64 {
    outline.iter().zip(outline.iter().cycle().skip(1)).map(|(a, b)| a[0] * b[1] - b[0] * a[1]).sum()
}

/// The middle of the area inside an outline, and that area.
pub fn centroid(outline: &[[f64; 2]]) -> ([f64; 2], f64) {
    let doubled = doubled_area(outline);
    let mut middle = [0.0; 2];
    for (a, b) in outline.iter().zip(outline.iter().cycle().skip(1)) {
        let cross = a[0] * b[1] - b[0] * a[1];
        (0..2).for_each(|k| middle[k] += cross * (a[k] + b[k]));
    }
    if doubled.abs() < 1e-9 {
        let n = outline.len().max(1) as f64;
        return (std::array::from_fn(|k| outline.iter().map(|c| c[k]).sum::<f64>() / n), 0.0);
    }
    (middle.map(|m| m / (3.0 * doubled)), 0.5 * doubled.abs())
}

/// Takes out the corners that matter least until `most` are left (Visvalingam & Whyatt 1993).
pub fn simplified(outline: Vec<[f64; 2]>, most: usize) -> Vec<[f64; 2]> {
    without_least(outline, |left, _| left > most)
}

/// Takes out corners whose triangle with their neighbours has less than an area, the smallest first; three stay.
pub fn thinned(outline: Vec<[f64; 2]>, area: f64) -> Vec<[f64; 2]> {
    without_least(outline, |_, doubled| doubled < 2.0 * area)
}

/// Takes out the corner whose triangle with its neighbours is the smallest, as long as that is said of how many are left
/// and of twice its area.
fn without_least(mut outline: Vec<[f64; 2]>, goes: impl Fn(usize, f64) -> bool) -> Vec<[f64; 2]> {
    let cost = |o: &[[f64; 2]], i: usize| {
        let n = o.len();
        doubled_area(&[o[(i + n - 1) % n], o[i], o[(i + 1) % n]]).abs()
    };
    let mut costs: Vec<f64> = (0..outline.len()).map(|i| cost(&outline, i)).collect();
    while outline.len() > 3 {
        let least = (0..outline.len()).min_by(|&a, &b| costs[a].total_cmp(&costs[b]));
        let Some(least) = least.filter(|i| goes(outline.len(), costs[*i])) else { break };
        outline.remove(least);
        costs.remove(least);
        let n = outline.len();
        for i in [(least + n - 1) % n, least % n] {
            costs[i] = cost(&outline, i);
        }
    }
    outline
}

/// Pixels of a picture that touch one another with a side and are of one kind: of each pixel which part it belongs to,
/// from 1 on and 0 where it is not of that kind, and how many pixels each part has.
fn connected(width: usize, height: usize, is: impl Fn(usize) -> bool) -> (Vec<u32>, Vec<usize>) {
    let mut part_of = vec![0u32; width * height];
    let mut counts = Vec::new();
    let mut open = Vec::new();
    for seed in 0..width * height {
        if !is(seed) || part_of[seed] > 0 {
            continue;
        }
        let part = counts.len() as u32 + 1;
        let mut count = 0;
        open.push(seed);
        part_of[seed] = part;
        while let Some(at) = open.pop() {
            count += 1;
            let (x, y) = (at % width, at / width);
            let next = [
                (x > 0, at.wrapping_sub(1)),
                (x + 1 < width, at + 1),
                (y > 0, at.wrapping_sub(width)),
                (y + 1 < height, at + width),
            ];
            for (_, to) in next.into_iter().filter(|n| n.0) {
                if is(to) && part_of[to] == 0 {
                    part_of[to] = part;
                    open.push(to);
                }
            }
        }
        counts.push(count);
    }
    (part_of, counts)
}

/// One of the parts of a picture.
fn alone(width: usize, part_of: &[u32], part: u32) -> Coverage {
    let parts = part_of.iter().map(|p| if *p == part { 1.0 } else { 0.0 }).collect();
    Coverage { width, height: part_of.len() / width.max(1), parts }
}

/// What is covered more than half, by pixels that touch one another with a side: the largest such part, the rest left
/// out. `None` where nothing is.
pub fn largest(covered: &Coverage) -> Option<Coverage> {
    let (part_of, counts) = connected(covered.width, covered.height, |k| covered.parts[k] > 0.5);
    let most = counts.iter().max()?;
    let best = counts.iter().position(|count| count == most)?;
    Some(alone(covered.width, &part_of, best as u32 + 1))
}

/// Round each hole of what is covered that has so many pixels at least, px: what is not covered, and is not joined to the
/// edge of the picture.
pub fn holes(covered: &Coverage, least: usize) -> Vec<Vec<[f64; 2]>> {
    let (w, h) = (covered.width, covered.height);
    let (part_of, counts) = connected(w, h, |k| covered.parts[k] <= 0.5);
    let mut is_hole: Vec<bool> = counts.iter().map(|count| *count >= least).collect();
    for k in (0..w * h).filter(|k| k % w == 0 || k % w == w - 1 || k / w == 0 || k / w == h - 1) {
        if let Some(open) = (part_of[k] as usize).checked_sub(1) {
            is_hole[open] = false;
        }
    }
    (1..).zip(is_hole).filter(|(_, is)| *is).map(|(part, _)| contour(&alone(w, &part_of, part))).collect()
}

/// Round the outside of one part, from its topmost pixel on, px: through the middles of the sides of pixels, so that
/// slanted edges come out straight.
pub fn contour(part: &Coverage) -> Vec<[f64; 2]> {
    let (w, h) = (part.width as i32, part.height as i32);
    let covered = |x: i32, y: i32| x >= 0 && y >= 0 && x < w && y < h && part.parts[(y * w + x) as usize] > 0.5;
    let Some(top) = (0..w * h).map(|k| (k % w, k / w)).find(|(x, y)| covered(*x, *y)) else { return Vec::new() };
    // Along the sides of pixels, with what is covered to the right.
    let (mut at, mut way) = (top, (1, 0));
    let mut sides = Vec::new();
    loop {
        sides.push([f64::from(at.0) - 0.5 + 0.5 * f64::from(way.0), f64::from(at.1) - 0.5 + 0.5 * f64::from(way.1)]);
        at = (at.0 + way.0, at.1 + way.1);
        // The pixels ahead, to the left and to the right of the side that would go straight on.
        let (left, right) = match way {
            (1, 0) => (covered(at.0, at.1 - 1), covered(at.0, at.1)),
            (0, 1) => (covered(at.0, at.1), covered(at.0 - 1, at.1)),
            (-1, 0) => (covered(at.0 - 1, at.1), covered(at.0 - 1, at.1 - 1)),
            _ => (covered(at.0 - 1, at.1 - 1), covered(at.0, at.1 - 1)),
        };
        way = match (left, right) {
            (true, _) => (way.1, -way.0),
            (false, true) => way,
            (false, false) => (-way.1, way.0),
        };
        if at == top && way == (1, 0) {
            return sides;
        }
    }
}

/// Intersection over union of what is covered more than half.
///
/// # Panics
/// Where both are not of one size.
pub fn agreement(a: &Coverage, b: &Coverage) -> f64 {
    assert_eq!((a.width, a.height), (b.width, b.height), "coverages of one size");
    let (mut both, mut any) = (0u32, 0u32);
    for (p, q) in a.parts.iter().zip(&b.parts) {
        both += u32::from(*p > 0.5 && *q > 0.5);
        any += u32::from(*p > 0.5 || *q > 0.5);
    }
    f64::from(both) / f64::from(any.max(1))
}

/// Intersection over union of what lies inside two outlines, by the pixels of a picture of a size whose middles they cover.
pub fn agree(a: &[[f64; 2]], b: &[[f64; 2]], picture: (usize, usize)) -> f64 {
    let window = Window::about(bounds(a.iter().chain(b)), 0.0).within(picture);
    agreement(&Coverage::of_outline(a, &window, 0.0), &Coverage::of_outline(b, &window, 0.0))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn picture(rows: &[&str]) -> Coverage {
        let parts = rows.iter().flat_map(|r| r.bytes().map(|b| if b == b'#' { 1.0 } else { 0.0 })).collect();
        Coverage { width: rows[0].len(), height: rows.len(), parts }
    }

    #[test]
    fn the_largest_part_is_what_is_drawn_round() {
        let seen = picture(&["#..####", "#..#..#", "...####", "##....."]);
        let part = largest(&seen).unwrap();
        assert_eq!(part, picture(&["...####", "...#..#", "...####", "......."]));
        assert_eq!(largest(&picture(&["..", ".."])), None);
        let round = contour(&part);
        assert_eq!(round.len(), 14, "a hole is no part of it");
        assert_eq!(round[0], [3.0, -0.5]);
    }

    #[test]
    fn a_hole_is_what_the_edge_does_not_reach() {
        let seen = picture(&["........", ".######.", ".#..#.#.", ".#..####", ".#####..", "......#."]);
        assert_eq!(
            holes(&seen, 2),
            [contour(&picture(&["........", "........", "..##....", "..##....", "........", "........"]))]
        );
        assert_eq!(holes(&seen, 1).len(), 2);
        assert!(holes(&picture(&["##", "#."]), 1).is_empty() && holes(&picture(&["..", ".."]), 1).is_empty());
    }

    proptest! {
        #[test]
        fn a_contour_covers_what_it_was_drawn_round(cx in 12f64..20.0, cy in 12f64..20.0, r in 3f64..11.0) {
            let inside = |k: usize| ((k % 32) as f64 - cx).hypot((k / 32) as f64 - cy) < r;
            let parts: Vec<f32> = (0..32 * 32).map(|k| if inside(k) { 1.0 } else { 0.0 }).collect();
            let disc = Coverage { width: 32, height: 32, parts };
            let whole = Window { left: 0, top: 0, width: 32, height: 32 };
            let again = |corners: Vec<[f64; 2]>| Coverage::of_outline(&corners, &whole, 0.0);
            let round = contour(&disc);
            prop_assert!(agreement(&again(round.clone()), &disc) > 0.999);
            let few = simplified(round.clone(), 16);
            prop_assert_eq!(few.len(), 16.min(round.len()));
            prop_assert!(agreement(&again(few), &disc) > 0.85);
            let (middle, area) = centroid(&round);
            // An eighth of a pixel is cut off at corners that stand out and put in at others, which are four fewer.
            let count = f64::from(disc.parts.iter().sum::<f32>());
            prop_assert!((middle[0] - cx).hypot(middle[1] - cy) < 0.5 && (area - (count - 0.5)).abs() < 1e-6);
        }
    }
}
