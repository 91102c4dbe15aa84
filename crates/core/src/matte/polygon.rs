//! Sums with polygons, px.

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
