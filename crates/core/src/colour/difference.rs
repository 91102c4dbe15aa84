//! How different two colours look: CIEDE2000.

/// CIE 1976 L*, a*, b* of linear light, white D65 (CIE 15:2004).
pub fn lab_of(light: [f32; 3]) -> [f64; 3] {
    let [r, g, b] = light.map(f64::from);
    // IEC 61966-2-1, and its white.
    let x = (0.412_456_4 * r + 0.357_576_1 * g + 0.180_437_5 * b) / 0.950_47;
    let y = 0.212_672_9 * r + 0.715_152_2 * g + 0.072_175 * b;
    let z = (0.019_333_9 * r + 0.119_192 * g + 0.950_304_1 * b) / 1.088_83;
    let f = |t: f64| {
        let edge = 6.0 / 29.0;
        if t > edge * edge * edge { t.cbrt() } else { t / (3.0 * edge * edge) + 4.0 / 29.0 }
    };
    [116.0 * f(y) - 16.0, 500.0 * (f(x) - f(y)), 200.0 * (f(y) - f(z))]
}

/// The difference of two colours in CIE L*, a*, b* (Sharma, Wu and Dalal, "The CIEDE2000 Color-Difference Formula", 2005).
pub fn delta_e(one: [f64; 3], other: [f64; 3]) -> f64 {
    let chroma = |c: [f64; 3]| c[1].hypot(c[2]);
    let mean = 0.5 * (chroma(one) + chroma(other));
    let seventh = mean.powi(7);
    let stretch = 1.5 - 0.5 * (seventh / (seventh + 25f64.powi(7))).sqrt();
    let polar = |[l, a, b]: [f64; 3]| {
        let a = a * stretch;
        let hue = if a == 0.0 && b == 0.0 { 0.0 } else { b.atan2(a).to_degrees().rem_euclid(360.0) };
        [l, a.hypot(b), hue]
    };
    let ([l1, c1, h1], [l2, c2, h2]) = (polar(one), polar(other));
    let grey = c1 * c2 == 0.0;
    let way = if grey { 0.0 } else { (h2 - h1 + 180.0).rem_euclid(360.0) - 180.0 };
    // Of two opposite hues the standard takes the way that its formula gives.
    let way = if way == -180.0 && h2 > h1 { 180.0 } else { way };
    let hue = 2.0 * (c1 * c2).sqrt() * (0.5 * way).to_radians().sin();
    let (l, c) = (0.5 * (l1 + l2), 0.5 * (c1 + c2));
    let h = match h1 + h2 {
        sum if grey => sum,
        sum if (h1 - h2).abs() <= 180.0 => 0.5 * sum,
        sum if sum < 360.0 => 0.5 * (sum + 360.0),
        sum => 0.5 * (sum - 360.0),
    };
    let cos = |deg: f64| deg.to_radians().cos();
    let t = 1.0 - 0.17 * cos(h - 30.0) + 0.24 * cos(2.0 * h) + 0.32 * cos(3.0 * h + 6.0) - 0.2 * cos(4.0 * h - 63.0);
    let off = (l - 50.0).powi(2);
    let by_l = 1.0 + 0.015 * off / (20.0 + off).sqrt();
    let (by_c, by_h) = (1.0 + 0.045 * c, 1.0 + 0.015 * c * t);
    let seventh = c.powi(7);
    let turn = 60.0 * (-((h - 275.0) / 25.0).powi(2)).exp();
    let bent = -2.0 * (seventh / (seventh + 25f64.powi(7))).sqrt() * turn.to_radians().sin();
    let (dl, dc, dh) = ((l2 - l1) / by_l, (c2 - c1) / by_c, hue / by_h);
    (dl * dl + dc * dc + dh * dh + bent * dc * dh).max(0.0).sqrt()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Pairs 1, 4, 7, 9, 13, 17, 19, 24, 25, 30 and 34 of table 1 of the paper.
    #[test]
    fn differences_are_those_of_the_paper() {
        let pairs = [
            ([50.0, 2.6772, -79.7751], [50.0, 0.0, -82.7485], 2.0425),
            ([50.0, -1.3802, -84.2814], [50.0, 0.0, -82.7485], 1.0000),
            ([50.0, 0.0, 0.0], [50.0, -1.0, 2.0], 2.3669),
            ([50.0, 2.4900, -0.0010], [50.0, -2.4900, 0.0009], 7.1792),
            ([50.0, -0.0010, 2.4900], [50.0, 0.0009, -2.4900], 4.8045),
            ([50.0, 2.5, 0.0], [73.0, 25.0, -18.0], 27.1492),
            ([50.0, 2.5, 0.0], [56.0, -27.0, -3.0], 31.9030),
            ([50.0, 2.5, 0.0], [50.0, 1.8634, 0.5757], 1.0000),
            ([60.2574, -34.0099, 36.2677], [60.4626, -34.1751, 39.4387], 1.2644),
            ([22.7233, 20.0904, -46.6940], [23.0331, 14.9730, -42.5619], 2.0373),
            ([2.0776, 0.0795, -1.1350], [0.9033, -0.0636, -0.5514], 0.9082),
        ];
        for (one, other, wanted) in pairs {
            let found = delta_e(one, other);
            assert!((found - wanted).abs() < 1.5e-4, "{one:?} {other:?}: {found}, not {wanted}");
            assert!((delta_e(other, one) - found).abs() < 1e-9, "it is the same both ways");
        }
    }

    #[test]
    fn white_and_grey_have_no_colour() {
        for light in [1.0, 0.18, 0.0] {
            let [l, a, b] = lab_of([light; 3]);
            assert!((0.0..100.01).contains(&l) && a.abs() < 0.02 && b.abs() < 0.02, "{l} {a} {b}");
        }
    }
}
