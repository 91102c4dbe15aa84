//! How far a camera can be trusted, with the reasons.

use crate::solve::outlier::OutlierReason;
use crate::solve::solution::{Grade, Motion, Reason, Solution, SolvedFrame, SolvedPoint, Verdict};
use crate::track::TrackId;

/// Error limits in px of a picture 1280 wide.
const GOOD_PX: f64 = 0.5;
const FAIR_PX: f64 = 1.0;
/// Points used on a frame.
const GOOD_POINTS: u32 = 40;
const FAIR_POINTS: u32 = 20;
/// Points that hold two neighbouring frames together.
const GOOD_LINKS: usize = 30;
const FAIR_LINKS: usize = 15;
/// Median widest angle between rays, degrees.
const GOOD_PARALLAX_DEG: f64 = 2.0;
const FAIR_PARALLAX_DEG: f64 = 0.8;
/// Deviation of the focal length, percent.
const GOOD_FOCAL_PERCENT: f64 = 1.0;
const FAIR_FOCAL_PERCENT: f64 = 4.0;
/// How far the error of one frame may stand above the average.
const BAD_FRAME: f64 = 3.0;

/// Part of the cost that what was ruled out would take away, from which a camera is weak.
const WEAK_GAIN: f64 = 0.2;
/// Part of their distance from the camera within which nine in ten points of a flat scene lie from one plane.
pub const FLAT: f64 = 0.02;
/// How far a given focal length may lie from the one of the tracks: in its deviations, in percent, and in percent from
/// where on the camera is weak.
const GIVEN_DEVIATIONS: f64 = 4.0;
const GIVEN_PERCENT: f64 = 0.7;
const FAR_GIVEN_PERCENT: f64 = 6.0;
/// Part of what was tracked that must follow the camera.
const GOOD_FOLLOWING: f64 = 0.65;
const FAIR_FOLLOWING: f64 = 0.35;
/// Expected slip of a frame, px of a picture 1280 wide.
const GOOD_SLIP_PX: f64 = 0.25;
const FAIR_SLIP_PX: f64 = 0.8;
/// Of the nine parts of the frame, those that must hold points.
const GOOD_PARTS: usize = 6;
const FAIR_PARTS: usize = 4;
/// How far the error of one track may stand above the average.
const BAD_TRACK: f64 = 2.5;

impl Reason {
    fn new(grade: Grade, text: String) -> Self {
        Self { grade, text, frames: None, tracks: Vec::new() }
    }

    fn at(self, first: u32, last: u32) -> Self {
        Self { frames: Some((first, last)), ..self }
    }

    fn of(self, tracks: Vec<TrackId>) -> Self {
        Self { tracks, ..self }
    }
}

/// Weighs a solution's readings; `scale` is the picture's width over 1280.
pub fn verdict(solution: &Solution, scale: f64) -> Verdict {
    let mut reasons = vec![of_error(solution, scale), of_frames(solution), of_parallax(solution)];
    reasons.extend(of_move(solution));
    reasons.extend(of_lens(solution));
    reasons.extend(of_points(solution));
    reasons.extend(of_firmness(solution, scale));
    reasons.extend(of_following(solution));
    reasons.extend(of_strays(solution));
    let grade = reasons.iter().map(|r| r.grade).max().unwrap_or(Grade::Weak);
    reasons.sort_by_key(|r| std::cmp::Reverse(r.grade));
    Verdict { grade, reasons }
}

fn of_error(solution: &Solution, scale: f64) -> Reason {
    let g = Grade::of(solution.rms_px / scale, GOOD_PX, FAIR_PX);
    let advice = if g == Grade::Good { "" } else { "; drop the worst tracks or keep moving things out" };
    let text = format!("reprojection error {:.2} px RMS, {:.2} px median{advice}", solution.rms_px, solution.median_px);
    let bad = |p: &&SolvedPoint| p.rms_px > BAD_TRACK * solution.rms_px && p.rms_px > 0.3 * scale;
    Reason::new(g, text).of(solution.points.iter().filter(bad).map(|p| p.id).collect())
}

fn of_frames(solution: &Solution) -> Reason {
    let missing = solution.frames_total - solution.frames.len() as u32;
    if missing == 0 {
        return Reason::new(Grade::Good, format!("all {} frames solved", solution.frames_total));
    }
    let g = if missing * 20 <= solution.frames_total { Grade::Fair } else { Grade::Weak };
    let gaps = solution.gaps();
    let spans: Vec<String> =
        gaps.iter().take(4).map(|(a, b)| if a == b { a.to_string() } else { format!("{a} to {b}") }).collect();
    let text = format!(
        "{missing} of {} frames could not be solved (frames {}); too few points hold there. What lies beyond is \
            joined only where tracks reach across",
        solution.frames_total,
        spans.join(", ")
    );
    let reason = Reason::new(g, text);
    match gaps.first() {
        Some(&(a, b)) => reason.at(a, b),
        None => reason,
    }
}

fn of_parallax(solution: &Solution) -> Reason {
    if solution.motion == Motion::Nodal {
        let text =
            "the camera turns on the spot: there are directions but no depths, so things can only be placed far away";
        return Reason::new(Grade::Good, text.to_owned());
    }
    let g = Grade::of(-solution.parallax_deg, -GOOD_PARALLAX_DEG, -FAIR_PARALLAX_DEG);
    let advice = if g == Grade::Good {
        ""
    } else {
        ": the camera travels little for the distance, so depth is uncertain; a longer part of the clip may help"
    };
    Reason::new(g, format!("parallax {:.1} degrees (median){advice}", solution.parallax_deg))
}

/// What speaks for the kind of move, in numbers.
fn of_move(solution: &Solution) -> Vec<Reason> {
    let mut reasons = Vec::new();
    if let Some(turning) = solution.turning_px {
        let text = match solution.motion {
            Motion::Free | Motion::Planar => format!(
                "the camera travels: one that only turns misses by {turning:.2} px (median), this one by {:.2} px",
                solution.median_px
            ),
            Motion::Nodal => format!("turning alone explains the points to {turning:.2} px (median)"),
        };
        reasons.push(Reason::new(Grade::Good, text));
    }
    if let Some(flatness) = solution.flatness.filter(|_| solution.motion == Motion::Planar) {
        let text = format!(
            "the scene is nearly flat: nine in ten points lie within {:.1} % of their distance from one plane",
            100.0 * flatness
        );
        reasons.push(Reason::new(Grade::Good, text));
    }
    if solution.asked.flat && solution.motion == Motion::Free {
        let text = "the scene is not as flat as was said; the points lie where the tracks put them".to_owned();
        reasons.push(Reason::new(Grade::Good, text));
    }
    reasons
}

fn of_lens(solution: &Solution) -> Vec<Reason> {
    let mut reasons = Vec::new();
    if solution.zoom {
        let focal = |f: &SolvedFrame| f.lens.focal_px;
        let (low, high) =
            solution.frames.iter().map(focal).fold((f64::INFINITY, 0.0f64), |(l, h), f| (l.min(f), h.max(f)));
        reasons.push(Reason::new(Grade::Good, format!("the lens zooms from {low:.0} to {high:.0} px")));
    }
    let asked = solution.asked;
    let doubt = |gain: f64| if gain < WEAK_GAIN { Grade::Fair } else { Grade::Weak };
    if let Some(gain) = asked.zoom_gain {
        let text = format!(
            "the tracks ask for a zoom: a focal length for each frame leaves {:.0} % less error than a fixed one. \
                Let the lens be found by itself",
            100.0 * gain
        );
        reasons.push(Reason::new(doubt(gain), text));
    }
    if let Some([gain, readout]) = asked.roll {
        let text = format!(
            "the tracks speak for a readout over {:.2} of the frame time, which leaves {:.0} % less error than \
                {:.2}. Let it be found by itself",
            readout,
            100.0 * gain,
            solution.readout
        );
        reasons.push(Reason::new(doubt(gain), text));
    }
    if solution.readout != 0.0 {
        let text = format!("rolling shutter: the rows are read over {:.2} of the frame time", solution.readout);
        reasons.push(Reason::new(Grade::Good, text));
    }
    reasons.push(if solution.focal_deviation_percent == 0.0 {
        of_given_focal(solution)
    } else {
        let g = Grade::of(solution.focal_deviation_percent, GOOD_FOCAL_PERCENT, FAIR_FOCAL_PERCENT);
        let advice = if g == Grade::Good { "" } else { "; give the focal length if it is known" };
        Reason::new(g, format!("focal length known to {:.2} %{advice}", solution.focal_deviation_percent))
    });
    reasons
}

/// Whether the tracks agree with the focal length that was given.
fn of_given_focal(solution: &Solution) -> Reason {
    let given = solution.frames.first().map_or(0.0, |f| f.lens.focal_px);
    match solution.focal_by_tracks {
        Some([px, percent]) if 100.0 * (px / given).ln().abs() > (GIVEN_DEVIATIONS * percent).max(GIVEN_PERCENT) => {
            let off = 100.0 * (given / px - 1.0);
            let g = if off.abs() > FAR_GIVEN_PERCENT { Grade::Weak } else { Grade::Fair };
            Reason::new(
                g,
                format!(
                    "focal length as given, but the tracks speak for about {px:.0} px (it is {off:+.1} % from that); \
                        leave it open if it was a guess"
                ),
            )
        }
        _ => Reason::new(Grade::Good, "focal length as given".to_owned()),
    }
}

/// Whether there are points enough, everywhere and all through.
fn of_points(solution: &Solution) -> Vec<Reason> {
    let mut reasons = Vec::new();
    if let Some(thin) = solution.frames.iter().min_by_key(|f| f.points).filter(|f| f.points < GOOD_POINTS) {
        let g = if thin.points < FAIR_POINTS { Grade::Weak } else { Grade::Fair };
        let text = format!("only {} points on frame {}; a higher density gives more", thin.points, thin.frame);
        reasons.push(Reason::new(g, text).at(thin.frame, thin.frame));
    }
    if let Some((a, b, links)) = solution.weakest_link().filter(|l| l.2 < GOOD_LINKS) {
        let g = if links < FAIR_LINKS { Grade::Weak } else { Grade::Fair };
        let text = format!(
            "only {links} points hold frames {a} and {b} together; what lies before and after may slip against each \
                other"
        );
        let across = |p: &&SolvedPoint| p.first_frame <= a && p.last_frame >= b;
        reasons.push(Reason::new(g, text).at(a, b).of(solution.points.iter().filter(across).map(|p| p.id).collect()));
    }
    let parts = solution.regions_px.iter().flatten().filter(|r| r.is_some()).count();
    if parts > 0 && parts < GOOD_PARTS {
        let g = if parts < FAIR_PARTS { Grade::Weak } else { Grade::Fair };
        let text = format!(
            "points in {parts} of nine parts of the frame only; elsewhere nothing holds the camera. A lower \
                threshold finds more"
        );
        reasons.push(Reason::new(g, text));
    }
    reasons
}

/// Frames that stand out, by their error or by what the adjustment leaves open.
fn of_firmness(solution: &Solution, scale: f64) -> Vec<Reason> {
    let mut reasons = Vec::new();
    let worst = solution.frames.iter().max_by(|a, b| a.rms_px.total_cmp(&b.rms_px));
    if let Some(bad) = worst.filter(|f| f.rms_px > BAD_FRAME * solution.rms_px && f.rms_px > GOOD_PX * scale) {
        let text = format!("frame {} stands out with {:.2} px; look at it", bad.frame, bad.rms_px);
        reasons.push(Reason::new(Grade::Fair, text).at(bad.frame, bad.frame));
    }
    if let Some(loose) =
        solution.frames.iter().max_by(|a, b| a.slip_px.total_cmp(&b.slip_px)).filter(|f| f.slip_px > 0.0)
    {
        let g = Grade::of(loose.slip_px / scale, GOOD_SLIP_PX, FAIR_SLIP_PX);
        let advice = if g == Grade::Good { "" } else { "; more points near it would hold it" };
        let text =
            format!("every frame is held to {:.2} px or better (frame {} least){advice}", loose.slip_px, loose.frame);
        reasons.push(Reason::new(g, text).at(loose.frame, loose.frame));
    }
    reasons
}

/// Where much moves on its own, a camera that is bent to some of it may explain as much as the right one.
fn of_following(solution: &Solution) -> Option<Reason> {
    let grade = Grade::of(1.0 - solution.following, 1.0 - GOOD_FOLLOWING, 1.0 - FAIR_FOLLOWING);
    let text = || {
        let part = 100.0 * solution.following;
        format!(
            "only {part:.0} % of what was tracked follows this camera: another may explain as much; keep-outs round \
                what moves make it sure"
        )
    };
    (grade != Grade::Good).then(|| {
        let moving =
            solution.outliers.iter().filter(|a| a.reason == OutlierReason::IndependentMotion).map(|a| a.id).collect();
        Reason::new(grade, text()).of(moving)
    })
}

fn of_strays(solution: &Solution) -> Vec<Reason> {
    let of_kind = |(why, one, many): (OutlierReason, &str, &str)| {
        let tracks: Vec<TrackId> = solution.outliers.iter().filter(|a| a.reason == why).map(|a| a.id).collect();
        let text = match tracks.len() {
            0 => return None,
            1 => format!("1 track {one}"),
            n => format!("{n} tracks {many}"),
        };
        Some(Reason::new(Grade::Good, text).of(tracks))
    };
    [
        (
            OutlierReason::Far,
            "too far off for a depth holds the turn of the camera",
            "too far off for a depth hold the turn of the camera",
        ),
        (OutlierReason::IndependentMotion, "is not used: it moves on its own", "are not used: they move on their own"),
        (
            OutlierReason::ImageStatic,
            "is not used: it stands still on the frame",
            "are not used: they stand still on the frame",
        ),
    ]
    .into_iter()
    .filter_map(of_kind)
    .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Lens, Pose};
    use crate::solve::outlier::Outlier;
    use nalgebra::Vector3;

    fn solution(spans: &[(u32, u32, usize)]) -> Solution {
        let lens = Lens::centred(900.0, 1280, 720);
        let mut points = Vec::new();
        for &(first, last, count) in spans {
            let from = points.len();
            points.extend(
                (from..from + count)
                    .map(|i| SolvedPoint::new(TrackId(i as u32), Vector3::z(), 0.1, (first, last), 5.0)),
            );
        }
        Solution {
            frames: (0..20).map(|frame| SolvedFrame::new(frame, Pose::identity(), lens, 0.1, 100)).collect(),
            points,
            rms_px: 0.1,
            median_px: 0.08,
            parallax_deg: 5.0,
            focal_deviation_percent: 0.1,
            ..Solution::empty(1280, 720, 20)
        }
    }

    #[test]
    fn two_stretches_that_hang_by_a_thread_are_not_called_good() {
        let firm = solution(&[(0, 19, 200)]);
        assert_eq!(firm.weakest_link().map(|l| l.2), Some(200));
        assert_eq!(verdict(&firm, 1.0).grade, Grade::Good);
        let thread = solution(&[(0, 9, 200), (10, 19, 200), (5, 15, 8)]);
        assert_eq!(thread.weakest_link(), Some((9, 10, 8)));
        let said = verdict(&thread, 1.0);
        assert!(said.grade == Grade::Weak && said.reasons[0].frames == Some((9, 10)), "{said:?}");
        assert_eq!(verdict(&solution(&[(0, 9, 200), (10, 19, 200), (5, 15, 20)]), 1.0).grade, Grade::Fair);
        assert_eq!(verdict(&solution(&[(0, 9, 200), (10, 19, 200)]), 1.0).grade, Grade::Weak);
    }

    #[test]
    fn a_reading_past_its_limit_pulls_the_verdict_down_and_says_so() {
        let good = solution(&[(0, 19, 200)]);
        for (change, word) in [
            (Box::new(|s: &mut Solution| s.rms_px = 0.8) as Box<dyn Fn(&mut Solution)>, "reprojection"),
            (Box::new(|s: &mut Solution| s.parallax_deg = 0.5), "parallax"),
            (Box::new(|s: &mut Solution| s.focal_deviation_percent = 9.0), "focal length"),
            (Box::new(|s: &mut Solution| s.frames.truncate(12)), "could not be solved"),
            (Box::new(|s: &mut Solution| s.frames[3].points = 9), "points on frame 3"),
            (Box::new(|s: &mut Solution| s.frames[7].slip_px = 0.6), "frame 7 least"),
            (Box::new(|s: &mut Solution| s.regions_px[1] = [Some(0.1); 3]), "3 of nine parts"),
        ] {
            let mut worse = good.clone();
            change(&mut worse);
            let said = verdict(&worse, 1.0);
            assert!(said.grade != Grade::Good && said.reasons[0].text.contains(word), "{word}: {said:?}");
        }
        let mut holed = good.clone();
        holed.frames.retain(|f| !(5..8).contains(&f.frame) && f.frame != 12);
        assert_eq!(holed.gaps(), [(5, 7), (12, 12)]);
        assert!(verdict(&holed, 1.0).reasons[0].text.contains("frames 5 to 7, 12"), "{:?}", verdict(&holed, 1.0));
        let mut doubtful = good.clone();
        doubtful.outliers = vec![Outlier { id: TrackId(400), reason: OutlierReason::ImageStatic, error_px: Some(9.0) }];
        doubtful.points[4].rms_px = 2.0;
        let said = verdict(&doubtful, 1.0);
        assert_eq!(said.grade, Grade::Good, "what is not used does no harm");
        let tracks = |word: &str| said.reasons.iter().find(|r| r.text.contains(word)).map(|r| r.tracks.clone());
        assert_eq!(
            (tracks("stands still"), tracks("reprojection")),
            (Some(vec![TrackId(400)]), Some(vec![TrackId(4)]))
        );
        // The same error weighs less in a larger picture.
        let mut large = good;
        large.rms_px = 0.8;
        assert_eq!(verdict(&large, 3.0).grade, Grade::Good);
    }
}
