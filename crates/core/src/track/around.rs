//! A mask drawn round a cluster of tracks.

use super::mask::{Mask, MaskKey, MaskMode};
use super::track_set::Track;

/// Corners of the outline.
const CORNERS: usize = 8;
/// How far the outline may lie from the keys that are kept of it, px.
const TOLERANCE_PX: f64 = 2.0;
/// Part of the tracks that may stick out, so that one that went astray does not blow it up.
const OUTSIDE: f64 = 0.04;

/// A keep-out that holds the given tracks with a margin wherever they are seen, and counts over their span. `None` where
/// they are seen nowhere.
///
/// On each frame the outline is the octagon that touches the points on eight sides, so that it has the same corners
/// all the time.
pub fn keep_out_of(tracks: &[&Track], margin_px: f64) -> Option<Mask> {
    let first = tracks.iter().map(|t| t.first_frame).min()?;
    let last = tracks.iter().map(|t| t.last_frame()).max()?;
    let mut outlines: Vec<Option<Vec<[f64; 2]>>> =
        (first..=last).map(|frame| octagon(&tracks.iter().filter_map(|t| t.at(frame)).collect::<Vec<_>>(), margin_px)).collect();
    // On frames without any it stays where it was.
    for i in 1..outlines.len() {
        if outlines[i].is_none() {
            outlines[i] = outlines[i - 1].clone();
        }
    }
    let outlines: Vec<Vec<[f64; 2]>> = outlines.into_iter().flatten().collect();
    let mut mask = Mask::new(MaskMode::KeepOut, vec![MaskKey { frame: first, outline: outlines.first()?.clone() }]);
    mask.take_run(first, &outlines, TOLERANCE_PX);
    mask.span = Some((first, last));
    Some(mask)
}

fn octagon(points: &[[f64; 2]], margin_px: f64) -> Option<Vec<[f64; 2]>> {
    if points.is_empty() {
        return None;
    }
    let side = |i: usize| {
        let a = i as f64 * std::f64::consts::TAU / CORNERS as f64;
        let normal = [a.cos(), a.sin()];
        let mut reach: Vec<f64> = points.iter().map(|p| p[0] * normal[0] + p[1] * normal[1]).collect();
        reach.sort_by(f64::total_cmp);
        (normal, reach[((reach.len() - 1) as f64 * (1.0 - OUTSIDE)).round() as usize] + margin_px)
    };
    let corner = |i: usize| {
        let (([a, b], s), ([c, d], t)) = (side(i), side((i + 1) % CORNERS));
        let det = a * d - b * c;
        [(s * d - t * b) / det, (a * t - c * s) / det]
    };
    Some((0..CORNERS).map(corner).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::track::{Masks, TrackId};

    #[test]
    fn the_keep_out_holds_its_tracks_and_leaves_the_rest_alone() {
        let track = |i: u32| Track {
            id: TrackId(i),
            first_frame: 5 + i % 3,
            positions: (0..30)
                .map(|f| [100.0 + 4.0 * f as f32 + 9.0 * (i % 5) as f32, 80.0 + 8.0 * (i / 5) as f32 + (f as f32 * 0.3).sin() * 6.0])
                .collect(),
        };
        let tracks: Vec<Track> = (0..20).map(track).collect();
        let mask = keep_out_of(&tracks.iter().collect::<Vec<_>>(), 12.0).unwrap();
        assert_eq!((mask.mode, mask.span, mask.keys[0].outline.len()), (MaskMode::KeepOut, Some((5, 36)), 8));
        assert!(mask.keys.len() < 20, "{} keys", mask.keys.len());
        let masks = Masks { masks: vec![mask] };
        assert!(masks.validate().is_ok());
        for t in &tracks {
            for (f, p) in t.sightings() {
                assert!(!masks.at(f).allows(f64::from(p[0]), f64::from(p[1]), 3.0), "frame {f}");
            }
        }
        assert!(masks.at(10).allows(40.0, 90.0, 5.0) && masks.at(40).allows(200.0, 90.0, 5.0));
        assert_eq!(keep_out_of(&[], 12.0), None);
    }
}
