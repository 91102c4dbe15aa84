//! How well a card keeps its place that was pulled onto the picture.

use super::{TrueSurface, at_share};
use crate::camera::Camera;
use crate::geometry::ascending_eigen;
use crate::scene::{PulledCorners, pulled};
use nalgebra::{Vector2, Vector3};

/// Frames on which all corners must be seen to count.
const MIN_FRAMES: usize = 20;
/// Points that a surface needs.
const MIN_POINTS: usize = 6;

/// How far the corners of cards are from their true places, px.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CardError {
    /// RMS over cards, frames and corners.
    pub rms_px: f64,
    /// 95th percentile over frames and corners.
    pub p95_px: f64,
    /// Cards that counted.
    pub cards: usize,
}

/// On every flat surface with enough points a card is pulled onto its true corners on the first and the last frame that
/// show it, as a person would; on all frames between, its corners are compared with the true ones. `cameras` are frames
/// with the solved and the true camera, the picture is `size` px. `None` where no card is seen for long enough.
pub fn card_error(cameras: &[(u32, Camera, Camera)], surfaces: &[TrueSurface], size: [f64; 2]) -> Option<CardError> {
    let mut off = Vec::new();
    let mut cards = 0;
    for corners in surfaces.iter().filter(|s| s.points.len() >= MIN_POINTS).filter_map(card_on) {
        if let Some(of_card) = errors(cameras, &corners, size) {
            cards += 1;
            off.extend(of_card);
        }
    }
    off.sort_by(f64::total_cmp);
    let p95_px = at_share(&off, 0.95)?;
    let rms_px = (off.iter().map(|e| e * e).sum::<f64>() / off.len() as f64).sqrt();
    Some(CardError { rms_px, p95_px, cards })
}

/// A rectangle about the middle of a surface, as large as its points spread.
fn card_on(surface: &TrueSurface) -> Option<[Vector3<f64>; 4]> {
    let n = surface.points.len() as f64;
    let middle = surface.points.iter().sum::<Vector3<f64>>() / n;
    let spread = surface.points.iter().map(|p| (p - middle) * (p - middle).transpose()).sum::<nalgebra::Matrix3<f64>>();
    let [_, shorter, longer] = ascending_eigen(spread)?;
    let side = |(value, axis): (f64, Vector3<f64>)| {
        let half = (value.max(0.0) / n).sqrt();
        (half > 1e-3).then_some(axis * half)
    };
    let (u, v) = (side(longer)?, side(shorter)?);
    Some([middle - u - v, middle + u - v, middle + u + v, middle - u + v])
}

fn errors(cameras: &[(u32, Camera, Camera)], corners: &[Vector3<f64>; 4], size: [f64; 2]) -> Option<Vec<f64>> {
    let inside = |p: &Vector2<f64>| (0..2).all(|k| (0.0..size[k]).contains(&p[k]));
    let seen = |camera: &Camera| {
        let at = corners.map(|c| camera.project(c));
        let at: Vec<Vector2<f64>> = at.into_iter().flatten().filter(inside).collect();
        <[Vector2<f64>; 4]>::try_from(at).ok()
    };
    let views: Vec<(Camera, [Vector2<f64>; 4])> =
        cameras.iter().filter_map(|(_, solved, truth)| Some((*solved, seen(truth)?))).collect();
    if views.len() < MIN_FRAMES {
        return None;
    }
    let (first, last) = (views.first()?, views.last()?);
    let frames: Vec<PulledCorners> =
        [first, last].into_iter().map(|(camera, at)| PulledCorners { camera: *camera, at: *at }).collect();
    // How far off it is, where both frames see its first corner; a person would have put it about there.
    let (a, b) = (first.0.ray(first.1[0]), last.0.ray(last.1[0]));
    let across = a.along.cross(&b.along);
    let distance = (b.from - a.from).cross(&b.along).dot(&across) / across.norm_squared().max(1e-12) * a.along.norm();
    // The front of a card is read from the side that it is seen from.
    let card = [[0, 1, 2, 3], [1, 0, 3, 2]].into_iter().find_map(|order: [usize; 4]| {
        let frames: Vec<PulledCorners> =
            frames.iter().map(|f| PulledCorners { at: order.map(|k| f.at[k]), ..f.clone() }).collect();
        let card = pulled(&frames, if distance > 0.0 { distance } else { 10.0 }).ok()?;
        (card.misses_px < 5.0).then(|| {
            let at = card.corners();
            order.map(|k| at[k])
        })
    })?;
    let off = |(camera, at): &(Camera, [Vector2<f64>; 4])| {
        (0..4).map(|k| camera.project(card[k]).map_or(f64::INFINITY, |p| (p - at[k]).norm())).collect::<Vec<_>>()
    };
    Some(views.iter().flat_map(off).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Lens, Pose};

    fn cameras(focal_off: f64) -> Vec<(u32, Camera, Camera)> {
        (0..40)
            .map(|f| {
                let t = f64::from(f) / 40.0;
                let eye = Vector3::new(3.0 * t - 1.5, 1.5 + 0.5 * t, 8.0 - t);
                let pose = Pose::look_at(eye, Vector3::new(0.0, 1.0, 0.0), Vector3::y()).unwrap();
                let lens = Lens::centred(900.0, 1280, 720);
                let solved = Lens { focal_px: 900.0 + focal_off, ..lens };
                (f, Camera::new(pose, solved, 720), Camera::new(pose, lens, 720))
            })
            .collect()
    }

    #[test]
    fn a_card_keeps_its_place_through_true_cameras_and_slips_through_wrong_ones() {
        let points = (0..20).map(|i| Vector3::new(f64::from(i % 5) * 0.4 - 0.8, f64::from(i / 5) * 0.4, 0.1)).collect();
        let wall = TrueSurface { name: "wall".into(), points };
        let few = TrueSurface { name: "few".into(), points: vec![Vector3::zeros(); 3] };
        let error = |off| card_error(&cameras(off), &[wall.clone(), few.clone()], [1280.0, 720.0]);
        let exact = error(0.0).unwrap();
        assert!(exact.rms_px < 1e-4 && exact.cards == 1, "{exact:?}");
        let wrong = error(60.0).unwrap();
        assert!(wrong.rms_px > 0.02 && wrong.p95_px > wrong.rms_px, "{wrong:?}");
        assert_eq!(card_error(&cameras(0.0), &[few], [1280.0, 720.0]), None);
    }
}
