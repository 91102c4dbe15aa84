//! Sums with polygons, px.

/// Parts of a px within which two places are one.
const SAME: f64 = 1024.0;

/// Even-odd rule (Shimrat, "Algorithm 112", 1962).
pub fn contains(outline: &[[f64; 2]], x: f64, y: f64) -> bool {
    let mut inside = false;
    for (i, a) in outline.iter().enumerate() {
        let b = outline[(i + 1) % outline.len()];
        if (a[1] > y) != (b[1] > y) && x < (b[0] - a[0]) * (y - a[1]) / (b[1] - a[1]) + a[0] {
            inside = !inside;
        }
    }
    inside
}

/// The edges of an outline, but for those that are there twice, whichever way they go: by the even-odd rule there is the
/// same on both sides of them.
pub(super) fn bounding(outline: &[[f64; 2]]) -> Vec<usize> {
    let spot = |p: [f64; 2]| p.map(|v| (v * SAME).round() as i64);
    let ends = |k: usize| {
        let [a, b] = [outline[k], outline[(k + 1) % outline.len()]].map(spot);
        (a.min(b), a.max(b))
    };
    let mut all: Vec<_> = (0..outline.len()).map(|k| (ends(k), k)).collect();
    all.sort_unstable();
    let alike = all.chunk_by(|a, b| a.0 == b.0);
    let mut once: Vec<usize> = alike.filter(|same| same.len() % 2 == 1).map(|same| same[0].1).collect();
    once.sort_unstable();
    once
}

/// Whether any edge of the outline crosses the window (clipping by Liang & Barsky 1984).
pub(super) fn touches_window(outline: &[[f64; 2]], x: f64, y: f64, half: f64) -> bool {
    outline.iter().enumerate().any(|(i, a)| {
        let b = outline[(i + 1) % outline.len()];
        let (mut t0, mut t1) = (0.0f64, 1.0f64);
        for axis in 0..2 {
            let centre = if axis == 0 { x } else { y };
            let (low, high, from, d) = (centre - half, centre + half, a[axis], b[axis] - a[axis]);
            if d.abs() < 1e-12 {
                if from < low || from > high {
                    return false;
                }
                continue;
            }
            let (u, v) = ((low - from) / d, (high - from) / d);
            t0 = t0.max(u.min(v));
            t1 = t1.min(u.max(v));
        }
        t0 <= t1
    })
}
