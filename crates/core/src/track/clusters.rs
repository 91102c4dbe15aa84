//! A mask drawn round a cluster of tracks.

use super::track_set::Track;
use crate::matte::{Mask, MaskMode, OutlineKey, Trace};

/// Corners of the outline.
const CORNERS: usize = 8;
/// How far the outline may lie from the keys that are kept of it, px.
const TOLERANCE_PX: f64 = 2.0;
/// Part of the tracks that may stick out, so that one that went astray does not blow it up.
const OUTSIDE: f64 = 0.04;

/// How near one another tracks must stay to belong together, px of a picture 1280 wide.
const TOGETHER_PX: f64 = 70.0;
/// Frames on which two tracks must both be seen for that to be told.
const COMMON: usize = 3;
/// Tracks that make a cluster.
const CLUSTER: usize = 3;

/// Tracks in clusters that stay together while they move, the largest first; what belongs to none is left out.
///
/// Single linkage (Sneath 1957): two tracks are linked where they are never further apart than `TOGETHER_PX` (in a
/// picture `width` px wide) on the frames that they share.
pub fn clusters_of<'a>(tracks: &[&'a Track], width: u32) -> Vec<Vec<&'a Track>> {
    let limit = TOGETHER_PX * f64::from(width) / 1280.0;
    let linked = |a: &Track, b: &Track| {
        let (from, to) = (a.first_frame.max(b.first_frame), a.last_frame().min(b.last_frame()));
        let step = (to.saturating_sub(from) / 12).max(1);
        let apart: Vec<f64> = (from..=to)
            .step_by(step as usize)
            .filter_map(|f| a.at(f).zip(b.at(f)))
            .map(|(p, q)| (p[0] - q[0]).hypot(p[1] - q[1]))
            .collect();
        apart.len() >= COMMON && apart.iter().all(|d| *d < limit)
    };
    let mut cluster_of: Vec<usize> = (0..tracks.len()).collect();
    for i in 0..tracks.len() {
        for j in 0..i {
            if cluster_of[i] != cluster_of[j] && linked(tracks[i], tracks[j]) {
                let (keep, gone) = (cluster_of[i].min(cluster_of[j]), cluster_of[i].max(cluster_of[j]));
                cluster_of.iter_mut().filter(|c| **c == gone).for_each(|c| *c = keep);
            }
        }
    }
    let mut clusters: Vec<Vec<&Track>> = (0..tracks.len())
        .map(|c| (0..tracks.len()).filter(|&i| cluster_of[i] == c).map(|i| tracks[i]).collect())
        .collect();
    clusters.retain(|c| c.len() >= CLUSTER);
    clusters.sort_by_key(|c| std::cmp::Reverse(c.len()));
    clusters
}

/// A keep-out that holds the given tracks with a margin wherever they are seen, and counts over their span. `None`
/// where they are seen nowhere.
///
/// On each frame the outline is the octagon that touches the points on eight sides, so that it has the same corners
/// all the time.
pub fn keep_out_of(tracks: &[&Track], margin_px: f64) -> Option<Mask> {
    let first = tracks.iter().map(|t| t.first_frame).min()?;
    let last = tracks.iter().map(|t| t.last_frame()).max()?;
    let mut outlines: Vec<Option<Vec<[f64; 2]>>> = (first..=last)
        .map(|frame| octagon(&tracks.iter().filter_map(|t| t.at(frame)).collect::<Vec<_>>(), margin_px))
        .collect();
    // On frames without any it stays where it was.
    for i in 1..outlines.len() {
        if outlines[i].is_none() {
            outlines[i] = outlines[i - 1].clone();
        }
    }
    let outlines: Vec<Trace> = outlines.into_iter().flatten().map(Trace::from).collect();
    let mut mask = Mask::new(MaskMode::KeepOut, vec![OutlineKey::of(first, outlines.first()?.clone())]);
    mask.outline.take_run(first, &outlines, TOLERANCE_PX);
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
    use crate::matte::Masks;
    use crate::track::TrackId;

    #[test]
    fn the_keep_out_holds_its_tracks_and_leaves_the_rest_alone() {
        let track = |i: u32| Track {
            id: TrackId(i),
            first_frame: 5 + i % 3,
            positions: (0..30)
                .map(|f| {
                    [
                        100.0 + 4.0 * f as f32 + 9.0 * (i % 5) as f32,
                        80.0 + 8.0 * (i / 5) as f32 + (f as f32 * 0.3).sin() * 6.0,
                    ]
                })
                .collect(),
        };
        let tracks: Vec<Track> = (0..20).map(track).collect();
        let mask = keep_out_of(&tracks.iter().collect::<Vec<_>>(), 12.0).unwrap();
        assert_eq!((mask.mode, mask.span, mask.outline.keys[0].outline.len()), (MaskMode::KeepOut, Some((5, 36)), 8));
        assert!(mask.outline.keys.len() < 20, "{} keys", mask.outline.keys.len());
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

    #[test]
    fn walkers_apart_are_clusters_of_their_own() {
        let walker = |id: u32, x: f32, speed: f32| Track {
            id: TrackId(id),
            first_frame: 0,
            positions: (0..40)
                .map(|f| [x + speed * f as f32 + 10.0 * (id % 4) as f32, 300.0 + 15.0 * (id % 3) as f32])
                .collect(),
        };
        let mut tracks: Vec<Track> =
            (0..7).map(|i| walker(i, 100.0, 4.0)).chain((7..12).map(|i| walker(i, 700.0, -4.0))).collect();
        tracks.push(walker(12, 1200.0, 0.0));
        let clusters = clusters_of(&tracks.iter().collect::<Vec<_>>(), 1280);
        let ids: Vec<Vec<u32>> = clusters.iter().map(|c| c.iter().map(|t| t.id.0).collect()).collect();
        assert_eq!(ids, [(0..7).collect::<Vec<_>>(), (7..12).collect()], "they pass each other, and one stands alone");
    }
}
