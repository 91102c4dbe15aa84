//! OKLab: lightness and two opponent colours in which steps look even (Ottosson, "A perceptual color space for image
//! processing", 2020).

/// Lightness, green to red, blue to yellow, of linear light.
pub fn oklab_of([r, g, b]: [f32; 3]) -> [f32; 3] {
    let l = (0.412_221_47 * r + 0.536_332_54 * g + 0.051_445_995 * b).cbrt();
    let m = (0.211_903_5 * r + 0.680_699_5 * g + 0.107_396_96 * b).cbrt();
    let s = (0.088_302_46 * r + 0.281_718_85 * g + 0.629_978_7 * b).cbrt();
    [
        0.210_454_26 * l + 0.793_617_8 * m - 0.004_072_047 * s,
        1.977_998_5 * l - 2.428_592_2 * m + 0.450_593_7 * s,
        0.025_904_037 * l + 0.782_771_77 * m - 0.808_675_77 * s,
    ]
}

/// Linear light of a colour of OKLab.
pub fn linear_of_oklab([lightness, a, b]: [f32; 3]) -> [f32; 3] {
    let l = (lightness + 0.396_337_78 * a + 0.215_803_76 * b).powi(3);
    let m = (lightness - 0.105_561_346 * a - 0.063_854_17 * b).powi(3);
    let s = (lightness - 0.089_484_18 * a - 1.291_485_5 * b).powi(3);
    [
        4.076_741_7 * l - 3.307_711_6 * m + 0.230_969_94 * s,
        -1.268_438 * l + 2.609_757_4 * m - 0.341_319_4 * s,
        -0.004_196_086_3 * l - 0.703_418_6 * m + 1.707_614_7 * s,
    ]
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn light_comes_back(c in prop::array::uniform3(0f32..2.0)) {
            let back = linear_of_oklab(oklab_of(c));
            prop_assert!((0..3).all(|k| (back[k] - c[k]).abs() < 2e-4), "{c:?} {back:?}");
        }
    }

    #[test]
    fn white_is_one_and_without_colour() {
        let [l, a, b] = oklab_of([1.0; 3]);
        assert!((l - 1.0).abs() < 1e-4 && a.abs() < 1e-4 && b.abs() < 1e-4, "{l} {a} {b}");
    }
}
