//! The white of light: warmer, colder, greener, more magenta.

/// Rows of a matrix that is to be times red, green and blue.
pub type Matrix3 = [[f32; 3]; 3];

/// D65, kelvin.
const D65_K: f64 = 6504.0;
/// How far a whole step of tint is off the line of daylight, in v of CIE 1960.
const TINT_STEP: f64 = 0.02;

/// The chromaticity x, y of daylight of a colour temperature (CIE 15:2004), kelvin, 4000 to 25000; and of what glows
/// below (Kim et al. 2002), from 1667.
fn daylight(kelvin: f64) -> [f64; 2] {
    let t = kelvin.clamp(1667.0, 25_000.0);
    if t < 4000.0 {
        let x = -0.266_123_9e9 / t.powi(3) - 0.234_358_9e6 / t.powi(2) + 0.877_695_6e3 / t + 0.179_910;
        let y = if t < 2222.0 {
            -1.106_381_4 * x.powi(3) - 1.348_110_2 * x * x + 2.185_558_32 * x - 0.202_196_83
        } else {
            -0.954_947_6 * x.powi(3) - 1.374_185_93 * x * x + 2.091_370_15 * x - 0.167_488_67
        };
        return [x, y];
    }
    let x = if t <= 7000.0 {
        -4.607e9 / t.powi(3) + 2.9678e6 / t.powi(2) + 0.099_11e3 / t + 0.244_063
    } else {
        -2.0064e9 / t.powi(3) + 1.9018e6 / t.powi(2) + 0.247_48e3 / t + 0.237_040
    };
    [x, -3.0 * x * x + 2.87 * x - 0.275]
}

/// X and Z of a white of which Y is 1, moved off by v of CIE 1960: up is greener.
fn white([x, y]: [f64; 2], off_v: f64) -> [f64; 3] {
    let d = -2.0 * x + 12.0 * y + 3.0;
    let (u, v) = (4.0 * x / d, 6.0 * y / d + off_v);
    let e = 2.0 * u - 8.0 * v + 4.0;
    let (x, y) = (3.0 * u / e, 2.0 * v / e);
    [x / y, 1.0, (1.0 - x - y) / y]
}

type M = nalgebra::Matrix3<f64>;

/// What makes white as warm as `warmth` says, in mired (a millionth over kelvin; more is warmer), and as magenta as `tint`
/// says, a whole step either way being much. By cones (von Kries, with those of Lam 1985, "Bradford"); white stays as
/// bright as it was.
pub fn white_matrix(warmth_mired: f64, tint: f64) -> Matrix3 {
    // Rows.
    let xyz_of_rgb = M::new(
        0.412_456_4,
        0.357_576_1,
        0.180_437_5,
        0.212_672_9,
        0.715_152_2,
        0.072_175,
        0.019_333_9,
        0.119_192,
        0.950_304_1,
    );
    let cones = M::new(0.8951, 0.2664, -0.1614, -0.7502, 1.7135, 0.0367, 0.0389, -0.0685, 1.0296);
    let kelvin = 1e6 / (1e6 / D65_K + warmth_mired).max(40.0);
    let (from, to) = (white(daylight(D65_K), 0.0), white(daylight(kelvin), -TINT_STEP * tint));
    let (from, to) = (cones * nalgebra::Vector3::from(from), cones * nalgebra::Vector3::from(to));
    let scale = M::from_diagonal(&to.component_div(&from));
    let inverse = |m: &M| m.try_inverse().unwrap_or_else(M::identity);
    let m = inverse(&xyz_of_rgb) * inverse(&cones) * scale * cones * xyz_of_rgb;
    std::array::from_fn(|r| std::array::from_fn(|c| m[(r, c)] as f32))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of_white(warmth: f64, tint: f64) -> [f32; 3] {
        white_matrix(warmth, tint).map(|row| row.iter().sum())
    }

    #[test]
    fn white_turns_as_it_is_asked_and_keeps_its_brightness() {
        let plain = of_white(0.0, 0.0);
        assert!(plain.iter().all(|v| (v - 1.0).abs() < 1e-5), "{plain:?}");
        for (warmth, tint) in [(60.0, 0.0), (-40.0, 0.0), (0.0, 1.0), (0.0, -1.0), (100.0, 0.5)] {
            let white = of_white(warmth, tint);
            assert!((super::super::luminance(white) - 1.0).abs() < 1e-3, "{white:?}");
        }
        let ([r, g, b], [cold_r, _, cold_b]) = (of_white(60.0, 0.0), of_white(-40.0, 0.0));
        assert!(r > g && g > b && cold_b > 1.0 && cold_r < 1.0);
        let ([r, g, b], [_, green, _]) = (of_white(0.0, 1.0), of_white(0.0, -1.0));
        assert!(g < r && g < b && green > 1.0);
    }

    /// Daylight of 5000 and 10000 K as CIE 15 lists it, and the seam at 4000 K.
    #[test]
    fn daylight_is_that_of_the_tables() {
        for (kelvin, x, y) in [(5000.0, 0.3457, 0.3587), (6504.0, 0.3127, 0.3291), (10_000.0, 0.2788, 0.2919)] {
            let [a, b] = daylight(kelvin);
            assert!((a - x).abs() < 3e-4 && (b - y).abs() < 3e-4, "{kelvin}: {a} {b}");
        }
    }
}
