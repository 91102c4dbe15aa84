//! What pictures of an effect are shot on, told by their rim.

use serde::{Deserialize, Serialize};

/// What lies round what is shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ShotOn {
    /// Any picture.
    #[default]
    Anything,
    /// Nothing: it has alpha.
    Clear,
    /// Black.
    Black,
    /// A colour, as of a green screen; display values.
    Colour([u8; 3]),
}

/// Levels below which a picture is black.
const BLACK: u8 = 24;
/// How strong a colour is, of 255, to be a screen.
const STRONG: i32 = 60;
/// So much of the rim must be of a kind.
const MOST_OF_IT: f64 = 0.85;

/// Tells it by the rim of a picture, RGBA, display values.
pub fn shot_on(rgba: &[u8], width: usize, height: usize) -> ShotOn {
    if rgba.len() < 4 * width * height || width == 0 || height == 0 {
        return ShotOn::Anything;
    }
    if rgba.chunks_exact(4).any(|p| p[3] < 250) {
        return ShotOn::Clear;
    }
    let at = |x: usize, y: usize| {
        let p = &rgba[4 * (y * width + x)..];
        [p[0], p[1], p[2]]
    };
    let across = (0..width).flat_map(|x| [at(x, 0), at(x, height - 1)]);
    let rim: Vec<[u8; 3]> = across.chain((0..height).flat_map(|y| [at(0, y), at(width - 1, y)])).collect();
    let share = |is: &dyn Fn(&[u8; 3]) -> bool| rim.iter().filter(|p| is(p)).count() as f64 / rim.len() as f64;
    if share(&|p| p.iter().all(|v| *v < BLACK)) > MOST_OF_IT {
        return ShotOn::Black;
    }
    let middle = |k: usize| {
        let mut all: Vec<u8> = rim.iter().map(|p| p[k]).collect();
        all.sort_unstable();
        all[all.len() / 2]
    };
    let colour = [middle(0), middle(1), middle(2)];
    let strength = |p: &[u8; 3]| i32::from(p[1].max(p[2])) - i32::from(p[0].max(p[1].min(p[2])));
    let near = |p: &[u8; 3]| (0..3).all(|k| (i32::from(p[k]) - i32::from(colour[k])).abs() < 50);
    if strength(&colour) > STRONG && share(&|p| near(p)) > MOST_OF_IT {
        ShotOn::Colour(colour)
    } else {
        ShotOn::Anything
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn picture(rim: [u8; 4], middle: [u8; 4]) -> Vec<u8> {
        (0..20 * 10)
            .flat_map(|i| if (4..16).contains(&(i % 20)) && (3..7).contains(&(i / 20)) { middle } else { rim })
            .collect()
    }

    #[test]
    fn the_rim_tells() {
        let of = |rim, middle| shot_on(&picture(rim, middle), 20, 10);
        assert_eq!(of([4, 3, 6, 255], [255, 120, 0, 255]), ShotOn::Black);
        assert_eq!(of([20, 180, 60, 255], [200, 150, 120, 255]), ShotOn::Colour([20, 180, 60]));
        assert_eq!(of([20, 40, 200, 255], [200, 150, 120, 255]), ShotOn::Colour([20, 40, 200]));
        assert_eq!(of([90, 90, 90, 0], [200, 150, 120, 255]), ShotOn::Clear);
        assert_eq!(of([120, 130, 110, 255], [9, 9, 9, 255]), ShotOn::Anything);
        assert_eq!(shot_on(&[], 0, 0), ShotOn::Anything);
    }
}
