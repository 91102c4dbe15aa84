//! Following a mask through a clip.

use super::EngineError;
use super::analyse::{backwards, forwards};
use fennik_core::image::{PictureSettings, Plane};
use fennik_core::matte::{Inbetween, Mask, MaskMode, Outline, OutlineKey, Part, Trace, agree, bounds};
use fennik_core::scene::{Holdout, HoldoutBy, ShotDocument};
use fennik_core::track::{AffineMotion, Follower, Surround, between};
use fennik_media::{ClipInfo, FrameReader, PixelKind};

/// How well an outline that was carried from one that is known to another that is known has to agree with that one: what
/// does not come out there went its own way in between, and is told by its colours.
const CARRIED: f64 = 0.98;
/// The same for what kept its look all along (normalised correlation): it only went on, and was set a little beside its
/// way.
const CARRIED_ALIKE: f64 = 0.93;
const ALIKE: f64 = 0.7;

/// How a mask went on from the frame on which it was drawn: the outlines of frames that follow one another.
pub struct Followed {
    /// The first of them, a frame of the trimmed clip.
    pub from: u32,
    /// One a frame.
    pub outlines: Run,
    /// Whether some of them were told by their colours, each frame by itself.
    pub told: bool,
}

/// Where an outline is followed from, and how far: frames of the trimmed clip.
pub struct Route<'a> {
    /// Whence, and what it is there, px.
    pub from: (u32, &'a Trace),
    /// As far back as this, and on to this.
    pub span: (u32, u32),
    /// What it is known to be on the first and on the last of these: what lies between goes from one to the other.
    pub known: [Option<&'a Trace>; 2],
    /// Which corners are smooth where nothing is known between them.
    pub smooth: &'a [bool],
}

/// How far an outline goes both ways from one of its frames: through the frames on which it counts, but no farther than the
/// next that somebody set, which it meets.
pub(super) struct Reach {
    pub from: u32,
    pub outline: Trace,
    pub ends: [u32; 2],
    /// The frames that it meets, and what it is there.
    pub known: [Option<(u32, Trace)>; 2],
}

impl Reach {
    pub fn of(document: &ShotDocument, mask: &Mask, from: u32) -> Self {
        let frames = document.trim.count();
        let (first, last) = span_of(document, mask).unwrap_or((0, u32::MAX));
        let (from, last) = (from.min(frames - 1), last.min(frames - 1));
        let (first, last) = (first.min(from), last.max(from));
        let within = |k: &&OutlineKey| (first..=last).contains(&k.frame);
        let (before, after) = mask.outline.set_about(from);
        let known = [before, after].map(|key| key.filter(within).map(|k| (k.frame, k.trace())));
        let end = |way: usize, last: u32| known[way].as_ref().map_or(last, |k| k.0);
        Self { from, outline: mask.outline.trace_at(from), ends: [end(0, first), end(1, last)], known }
    }
}

/// The frames on which a mask counts: its own, or those of the holdouts that it tells where it tells nothing else.
fn span_of(document: &ShotDocument, mask: &Mask) -> Option<(u32, u32)> {
    if mask.span.is_some() || mask.mode != MaskMode::Shape {
        return mask.span;
    }
    let told = |h: &&Holdout| matches!(h.by, HoldoutBy::Mask { mask: id } if id == mask.id);
    let spans = document.holding.holdouts.iter().filter(told).map(|h| h.span).collect::<Option<Vec<_>>>()?;
    spans.into_iter().reduce(|a, b| (a.0.min(b.0), a.1.max(b.1)))
}

/// Outlines of frames that follow one another.
pub type Run = Vec<Trace>;

/// The first frame of all, and their outlines, of two runs that begin at the same frame: one goes back, one on.
pub(super) fn joined(at: u32, behind: Run, ahead: Run) -> (u32, Run) {
    (at + 1 - behind.len() as u32, behind.into_iter().skip(1).rev().chain(ahead).collect())
}

/// Steps that are counted of each frame: carried there; carried back, looked at, and told twice where both ends are known.
const CARRIED_ONCE: u32 = 1;
const ALL_STEPS: u32 = 5;

/// Follows an outline both ways, until nothing inside it can be followed any more.
///
/// # Errors
/// [`EngineError`] when frames cannot be read, or `go_on` said no.
pub fn follow(
    clip: &ClipInfo,
    trim_first: u32,
    route: &Route,
    mut go_on: impl FnMut(u32, u32) -> bool,
) -> Result<Followed, EngineError> {
    let ((first, last), (key, outline)) = (route.span, route.from);
    let steps = |known: Option<&Trace>| if known.is_some() { ALL_STEPS } else { CARRIED_ONCE };
    let ways = [(first, route.known[0]), (last, route.known[1])];
    let total = ways.iter().map(|(to, known)| steps(*known) * (key.abs_diff(*to) + 1)).sum::<u32>();
    let mut told = false;
    let mut before = 0;
    let mut found = Vec::new();
    for (to, known) in ways {
        let frames = key.abs_diff(to) + 1;
        let mut done = 0;
        let mut step = || {
            done += 1;
            if go_on((before + done).min(total), total) { Ok(()) } else { Err(EngineError::Stopped) }
        };
        let stretch = Stretch { clip, frames: (trim_first + key, trim_first + to) };
        found.push(match known {
            _ if to == key => vec![outline.clone()],
            None => stretch.carried(outline, &mut |_, _| step())?.0,
            Some(known) => {
                let (outlines, by_colours) = stretch.between(outline, known, route.smooth, &mut step)?;
                told |= by_colours;
                outlines
            }
        });
        before += steps(known) * frames;
    }
    let ahead = found.pop().unwrap_or_default();
    let behind = found.pop().unwrap_or_default();
    let (from, outlines) = joined(key, behind, ahead);
    Ok(Followed { from, outlines, told })
}

/// Frames of a clip, from one to another, which may lie before it.
#[derive(Clone, Copy)]
struct Stretch<'a> {
    clip: &'a ClipInfo,
    frames: (u32, u32),
}

impl Stretch<'_> {
    fn range(&self) -> (u32, u32) {
        let (from, to) = self.frames;
        (from.min(to), from.max(to) + 1)
    }

    fn picture(&self) -> (usize, usize) {
        (self.clip.width as usize, self.clip.height as usize)
    }

    fn reversed(self) -> Self {
        Self { frames: (self.frames.1, self.frames.0), ..self }
    }

    /// The outline on frame after frame, by the points inside it, until they are lost, and how well its inside stayed what
    /// it was. `step` hears of every picture.
    fn carried(
        &self,
        outline: &Trace,
        step: &mut dyn FnMut(usize, &Plane) -> Result<(), EngineError>,
    ) -> Result<(Run, f64), EngineError> {
        let (mut follower, mut found, mut lost) = (None::<Follower>, vec![outline.clone()], false);
        let mut n = 0;
        let mut take = |plane: &Plane| {
            step(n, plane)?;
            n += 1;
            match &mut follower {
                _ if lost => {}
                None => follower = Some(Follower::new(plane, outline.places().0)?),
                Some(f) => match f.step(plane)? {
                    Some(next) => found.push(outline.at_places(&next)),
                    None => lost = true,
                },
            }
            Ok(())
        };
        let plain = PictureSettings::default();
        if self.frames.0 <= self.frames.1 {
            forwards(self.clip, self.range(), &plain, |plane| take(&plane))?;
        } else {
            backwards(self.clip, self.range(), &plain, take)?;
        }
        Ok((found, follower.map_or(0.0, |f| f.least_likeness())))
    }

    /// What it is from one outline to another, both known, and whether it was told by its colours.
    fn between(
        &self,
        first: &Trace,
        last: &Trace,
        smooth: &[bool],
        step: &mut dyn FnMut() -> Result<(), EngineError>,
    ) -> Result<(Run, bool), EngineError> {
        let frames = self.frames.0.abs_diff(self.frames.1) as usize + 1;
        let mut ground = None::<Surround>;
        let mut motions = Vec::new();
        let about = |n: usize| {
            let t = n as f64 / (frames - 1).max(1) as f64;
            let (a, b) = (bounds(&first.corners), bounds(&last.corners));
            std::array::from_fn(|i| std::array::from_fn(|k| a[i][k] + t * (b[i][k] - a[i][k])))
        };
        let (ahead, like_ahead) = self.carried(first, &mut |n, plane| {
            step()?;
            match &mut ground {
                None => ground = Some(Surround::new(plane, about(n))?),
                Some(ground) => motions.push(ground.step(plane, about(n))?),
            }
            Ok(())
        })?;
        let (behind, like_behind) = self.reversed().carried(last, &mut |_, _| step())?;
        let shape = |trace: &Trace| {
            let keys = vec![OutlineKey::of(0, trace.clone())];
            Outline { smooth: smooth.to_vec(), ..Outline::new(keys) }.shape_at(0)
        };
        let asked = if like_ahead.min(like_behind) >= ALIKE { CARRIED_ALIKE } else { CARRIED };
        let comes_out = |run: &[Trace], known: &Trace| {
            run.len() == frames
                && run.last().is_some_and(|there| agree(&shape(there), &shape(known), self.picture()) >= asked)
        };
        if (comes_out(&ahead, last) && comes_out(&behind, first)) || motions.len() + 1 < frames {
            return Ok((mixed(ahead, behind, frames), false));
        }
        Ok((self.told([first, last], [shape(first), shape(last)], &motions, step)?, true))
    }

    /// What it is from one outline to another, told by its colours.
    fn told(
        &self,
        drawn: [&Trace; 2],
        shapes: [Vec<[f64; 2]>; 2],
        motions: &[AffineMotion],
        step: &mut dyn FnMut() -> Result<(), EngineError>,
    ) -> Result<Run, EngineError> {
        let goes: Vec<_> = motions.iter().map(|motion| move |at: [f64; 2]| motion.moved(at)).collect();
        let [first, last] = &shapes;
        let inbetween = Inbetween::new(drawn, [first, last], &goes, self.picture());
        let count = motions.len() + 1;
        let mut parts: Vec<Part> = Vec::with_capacity(count);
        let mut reader = FrameReader::open(self.clip, Some(self.range()), PixelKind::Rgb)?;
        let reverse = self.frames.0 > self.frames.1;
        for read in 0..count {
            let Some(rgb) = reader.next_frame()? else { break };
            step()?;
            parts.push(inbetween.part(if reverse { count - 1 - read } else { read }, rgb));
        }
        if reverse {
            parts.reverse();
        }
        let mut stopped = Ok(());
        let outlines = inbetween.outlines(&parts, || {
            stopped = step();
            stopped.is_ok()
        });
        stopped?;
        outlines.ok_or(EngineError::Fault)
    }
}

/// Outlines between two that are known, as [`between`] mixes them: those that were carried forwards and those that were
/// carried backwards. What is known between corners stays where both know as much.
pub(super) fn mixed(ahead: Run, behind: Run, frames: usize) -> Run {
    let of_both = ahead.first().zip(behind.first()).filter(|(a, b)| a.is_like(b)).map(|(a, _)| a.clone());
    let places = |run: Run| -> Vec<Vec<[f64; 2]>> {
        let whole = of_both.is_some();
        run.into_iter().map(|trace| if whole { trace.places().0 } else { trace.corners }).collect()
    };
    let back = |line: Vec<[f64; 2]>| match &of_both {
        Some(like) => like.at_places(&line),
        None => line.into(),
    };
    between(places(ahead), places(behind), frames).into_iter().map(back).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_known_between_corners_is_mixed_where_both_know_as_much() {
        let traced = |x: f64| Trace {
            corners: vec![[x, 0.0], [x + 9.0, 0.0], [x, 9.0]],
            along: vec![vec![[x + 4.0, -2.0]], vec![], vec![]],
        };
        let run =
            mixed(vec![traced(0.0), traced(10.0), traced(20.0)], vec![traced(20.0), traced(12.0), traced(0.0)], 3);
        assert_eq!(run, [traced(0.0), traced(11.0), traced(20.0)]);
        let plain = Trace::from(traced(20.0).corners);
        let run = mixed(vec![traced(0.0), traced(10.0), traced(20.0)], vec![plain.clone(); 3], 3);
        assert_eq!((&run[1].corners, run[1].along.len()), (&traced(15.0).corners, 0));
    }

    #[test]
    fn an_outline_goes_as_far_as_it_counts_and_no_farther_than_the_next_that_was_set() {
        let key = |frame| OutlineKey::new(frame, vec![[0.0, 0.0], [9.0, 0.0], [0.0, 9.0]]);
        let mut mask = Mask::new(MaskMode::Shape, [5, 30, 70].map(key).to_vec());
        mask.id = 3;
        let ends = |document: &ShotDocument, mask: &Mask, from| {
            let reach = Reach::of(document, mask, from);
            (reach.ends, reach.known.map(|k| k.map(|k| k.0)))
        };
        let mut document = ShotDocument::new(100);
        assert_eq!(ends(&document, &mask, 20), ([0, 99], [None, None]));
        let holdout = |span, mask| Holdout { span, ..Holdout::new("rail".into(), HoldoutBy::Mask { mask }) };
        document.holding.holdouts = vec![holdout(Some((10, 40)), 3), holdout(None, 4)];
        assert_eq!(ends(&document, &mask, 20), ([10, 40], [None, None]));
        document.holding.holdouts.push(holdout(Some((35, 60)), 3));
        assert_eq!(ends(&document, &mask, 20), ([10, 60], [None, None]), "where either counts");
        mask.outline.by_hand = vec![5, 30, 70];
        assert_eq!(ends(&document, &mask, 20), ([10, 30], [None, Some(30)]), "5 and 70 are outside");
        assert_eq!(ends(&document, &mask, 80).0, [70, 80], "a frame outside goes no farther");
        document.holding.holdouts.push(holdout(None, 3));
        assert_eq!(ends(&document, &mask, 40), ([30, 70], [Some(30), Some(70)]), "one that always counts");
        mask.span = Some((50, 60));
        assert_eq!(ends(&document, &mask, 55), ([50, 60], [None, None]), "its own comes first");
        mask.span = None;
        mask.mode = MaskMode::KeepOut;
        document.holding.holdouts.pop();
        assert_eq!(ends(&document, &mask, 20).0, [5, 30], "the analysis needs it everywhere");
    }
}
