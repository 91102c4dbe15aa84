//! Keys: what a picture itself tells of what stands in front.

use super::Coverage;
use crate::colour::{luminance, oklab_of};
use serde::{Deserialize, Serialize};

/// What is kept of a picture as standing in front.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum KeyBy {
    /// What is brighter.
    #[default]
    Brighter,
    /// What is darker.
    Darker,
    /// What is of a colour, light or dark.
    Colour,
    /// What differs from another picture of the same place.
    Difference,
}

/// A key on the plate.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct PlateKey {
    /// By what.
    pub by: KeyBy,
    /// The colour, as encoded for display, 0 to 255.
    #[serde(default)]
    pub colour: [u8; 3],
    /// From where on: display values of brightness, or distances of colour, 0 to 1.
    pub from: f64,
    /// Over how much it fades in, half of it on either side.
    pub soft: f64,
    /// The frame that it is told from, of the trimmed clip.
    #[serde(default)]
    pub clean_frame: u32,
}

impl Default for PlateKey {
    fn default() -> Self {
        Self { by: KeyBy::default(), colour: [64, 96, 160], from: 0.5, soft: 0.1, clean_frame: 0 }
    }
}

/// Distance of colours in OKLab that counts as 1.
const WHOLE_DISTANCE: f32 = 0.35;

/// A picture in linear light, row by row.
#[derive(Debug, Clone, Copy)]
pub struct LightPicture<'a> {
    /// Columns.
    pub width: usize,
    /// Rows.
    pub height: usize,
    /// Of each pixel.
    pub light: &'a [[f32; 3]],
}

impl PlateKey {
    /// What of a picture stands in front. `clean` is the picture of the place alone, of the same size, where the key asks
    /// for one; without it nothing differs.
    pub fn coverage(&self, picture: LightPicture, clean: Option<LightPicture>) -> Coverage {
        use rayon::prelude::*;
        let (from, soft) = (self.from as f32, (self.soft as f32).max(1e-3));
        let ramp = move |v: f32| ((v - from) / soft + 0.5).clamp(0.0, 1.0);
        let of = oklab_of(self.colour.map(|v| crate::colour::decode(f32::from(v) / 255.0)));
        let bright = |c: &[f32; 3]| crate::colour::encode(luminance(*c));
        let parts = match (self.by, clean) {
            (KeyBy::Brighter, _) => picture.light.par_iter().map(|c| ramp(bright(c))).collect(),
            (KeyBy::Darker, _) => picture.light.par_iter().map(|c| 1.0 - ramp(bright(c))).collect(),
            (KeyBy::Colour, _) => {
                picture.light.par_iter().map(|c| 1.0 - ramp(apart_in_colour(oklab_of(*c), of))).collect()
            }
            (KeyBy::Difference, Some(clean)) if clean.light.len() == picture.light.len() => {
                let pairs = picture.light.par_iter().zip(clean.light);
                pairs.map(|(a, b)| ramp(apart(oklab_of(*a), oklab_of(*b)))).collect()
            }
            (KeyBy::Difference, _) => vec![0.0; picture.light.len()],
        };
        Coverage { width: picture.width, height: picture.height, parts }
    }
}

/// How far apart two colours are, whatever their lightness, which counts a little.
fn apart_in_colour(a: [f32; 3], b: [f32; 3]) -> f32 {
    // Dark colours are weak ones: they are taken as strong as they would be in the light.
    let lit = |[l, x, y]: [f32; 3]| [x / l.max(0.1), y / l.max(0.1)];
    let ([ax, ay], [bx, by]) = (lit(a), lit(b));
    let light = 0.25 * (a[0] - b[0]);
    (ax - bx).hypot(ay - by).hypot(light) / WHOLE_DISTANCE
}

fn apart(a: [f32; 3], b: [f32; 3]) -> f32 {
    (a[0] - b[0]).hypot(a[1] - b[1]).hypot(a[2] - b[2]) / WHOLE_DISTANCE
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::decode;

    fn picture(colours: &[[u8; 3]]) -> Vec<[f32; 3]> {
        colours.iter().map(|c| c.map(|v| decode(f32::from(v) / 255.0))).collect()
    }

    fn parts(key: PlateKey, light: &[[f32; 3]], clean: Option<&[[f32; 3]]>) -> Vec<f32> {
        let of = |light| LightPicture { width: light_width(light), height: 1, light };
        key.coverage(of(light), clean.map(of)).parts
    }

    fn light_width(light: &[[f32; 3]]) -> usize {
        light.len()
    }

    #[test]
    fn each_key_tells_what_it_says() {
        let light = picture(&[[20, 20, 20], [128, 128, 128], [240, 240, 240], [40, 90, 200], [20, 45, 100]]);
        let by = |by| PlateKey { by, colour: [40, 90, 200], from: 0.5, soft: 0.1, ..PlateKey::default() };
        let bright = parts(by(KeyBy::Brighter), &light, None);
        assert!(bright[0] == 0.0 && (bright[1] - 0.5196).abs() < 1e-3 && bright[2] == 1.0, "{bright:?}");
        assert_eq!(parts(by(KeyBy::Darker), &light, None)[0], 1.0);
        let blue = parts(by(KeyBy::Colour), &light, None);
        assert_eq!((blue[1], blue[2], blue[3]), (0.0, 0.0, 1.0));
        assert!(blue[4] > 0.9, "the same blue in the shade: {}", blue[4]);
        let clean = picture(&[[20, 20, 20], [20, 20, 20], [20, 20, 20], [40, 90, 200], [20, 45, 100]]);
        let differs = parts(by(KeyBy::Difference), &light, Some(&clean));
        assert_eq!((differs[0], differs[1], differs[3]), (0.0, 1.0, 0.0));
        assert_eq!(parts(by(KeyBy::Difference), &light, None), vec![0.0; 5]);
    }
}
