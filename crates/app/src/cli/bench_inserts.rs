//! `fennik bench --inserts`: a full scene over the demo clip, as the page and the delivery draw it.

use super::error::CliError;
use super::{Scratch, peak_mb};
use crate::engine::assets::{self, ShotAssets, TakenAsset};
use crate::engine::kinds::{self, Wish};
use crate::engine::{EngineError, OpenShot, import, library, picture, plain};
use fennik_core::scene::{Copies, Insert, InsertKind, Placement, Stance};
use fennik_render::{Quality, RenderScene, ShapeCache};
use fennik_store::Store;
use nalgebra::Vector3;
use std::fmt::Write;
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;

/// Frames that are drawn.
const FRAMES: std::ops::Range<u32> = 60..84;
/// Rings and sides of the round model: 20,000 triangles.
const RINGS: u32 = 101;
const SIDES: u32 = 100;

/// What was measured: its name, value and unit.
type Row = (&'static str, f64, &'static str);

/// A ball of 20,000 triangles.
fn ball() -> String {
    let mut text = String::new();
    for i in 0..=RINGS {
        let (s, c) = (f64::from(i) / f64::from(RINGS) * std::f64::consts::PI).sin_cos();
        for j in 0..SIDES {
            let (sj, cj) = (f64::from(j) / f64::from(SIDES) * std::f64::consts::TAU).sin_cos();
            let _ = writeln!(text, "v {} {} {}\nvn {0} {1} {2}", s * sj, -c, s * cj);
        }
    }
    for i in 0..RINGS {
        for j in 0..SIDES {
            let at = |i: u32, j: u32| i * SIDES + j % SIDES + 1;
            let (a, b, c, d) = (at(i, j), at(i, j + 1), at(i + 1, j + 1), at(i + 1, j));
            // The first and the last ring close in a point.
            if i > 0 {
                let _ = writeln!(text, "f {a}//{a} {b}//{b} {c}//{c}");
            }
            if i + 1 < RINGS {
                let _ = writeln!(text, "f {a}//{a} {c}//{c} {d}//{d}");
            }
        }
    }
    text
}

fn placed(kind: &str, shows: Option<&TakenAsset>, foot: [f64; 3], turn: f64) -> Result<Insert, EngineError> {
    let wish = Wish { kind, shows, distance_m: 12.0, toward: -Vector3::z(), frame: 0 };
    let mut placement = Placement::on(foot, [0.0, 1.0, 0.0], Stance::Standing);
    placement.set_turn_lean_deg(0.0, [turn, 0.0]);
    Ok(Insert::new(kinds::first_of(&wish)?, placement))
}

/// One title, two signs (one a clip), a model of 20,000 triangles, an effect, and a row of ten copies, about a place.
fn scene(store: &Store, scratch: &Path, title: Insert) -> Result<Vec<Insert>, EngineError> {
    let item = |name: &str| -> Result<TakenAsset, EngineError> {
        library::take(store, library::item(name)?)?.into_iter().next().ok_or(EngineError::Fault)
    };
    let path = scratch.join("ball.obj");
    std::fs::write(&path, ball()).map_err(|why| assets::AssetsError::NoRoom { why })?;
    let clip = scratch.join("screen.mp4");
    std::fs::write(&clip, fennik_demo::QUAY_CLIP).map_err(|why| assets::AssetsError::NoRoom { why })?;
    let copy = |from: &Path, to: &Path| std::fs::copy(from, to).map(|_| ());
    let ball = assets::take_in(store, &[("ball.obj".to_owned(), path)], copy)?;
    let screen = assets::take_in(store, &[("screen.mp4".to_owned(), clip)], copy)?;
    let [x, _, z] = title.placement.anchor.foot.at(0.0);
    let turn = title.placement.turn_lean_deg(0.0)[0];
    let beside = |right: f64, ahead: f64| {
        let (sin, cos) = turn.to_radians().sin_cos();
        [x + right * cos + ahead * sin, 0.0, z - right * sin + ahead * cos]
    };
    let mut row = placed("prop", Some(&item("bollard")?), beside(-4.0, 1.6), turn)?;
    row.copies = Some(Copies::row(10, [0.9, 0.0, 0.0]));
    let mut model = placed("prop", Some(&ball), beside(3.2, -0.5), turn)?;
    if let InsertKind::Prop(prop) = &mut model.content {
        prop.unit_m = 0.7;
    }
    Ok(vec![
        title,
        placed("sign", Some(&item("regatta")?), beside(-4.5, -2.0), turn)?,
        placed("sign", Some(&screen), beside(0.0, -3.0), turn)?,
        model,
        placed("effect", Some(&item("smoke")?), beside(4.5, 1.0), turn)?,
        row,
    ])
}

/// Times the scene and prints it, with the peak memory of the process.
pub fn run(keep: Option<&Path>) -> Result<Vec<Row>, CliError> {
    let scratch = Scratch::new()?;
    let store = Store::open(&scratch.path().join("data")).map_err(EngineError::from)?;
    plain::ensure(&store)?;
    let found = store.shots().map_err(EngineError::from)?;
    let finished = found.iter().find(|s| s.name.contains("finished")).ok_or(EngineError::Fault)?;
    import::decode_all(&store, &[finished.id], &mut |_, _, _| true)?;
    let shot = OpenShot::load(&store, finished.id)?;
    let solution = shot.solution(&store)?;
    let mut document = shot.document().clone();
    let title = document.placing.inserts.first().cloned().ok_or(EngineError::Fault)?;
    document.placing.inserts = scene(&store, scratch.path(), title)?;
    document.placing.shutter = 0.5;
    // Each has an id of its own.
    for (i, insert) in document.placing.inserts.iter_mut().enumerate() {
        insert.id = fennik_core::scene::InsertId(i as u32 + 1);
    }
    let inserts = &document.placing.inserts;
    let files = ShotAssets::of(&store, &Arc::default(), inserts, Some(&shot))?;
    let built =
        RenderScene::build(inserts, &document.light, &ShapeCache::default(), &files).map_err(EngineError::from)?;
    let plates = picture::Plates::default();
    let draw = |frame, quality| {
        picture::jpeg(&shot, picture::Wanted::frame(frame), &solution, &document, &built, quality, &plates)
    };
    // The first of each reads files and makes what is kept.
    draw(FRAMES.start, Quality::Draft)?;
    let time = |frames: std::ops::Range<u32>, quality| {
        let (began, count) = (Instant::now(), frames.len() as f64);
        for frame in frames {
            draw(frame, quality)?;
        }
        Ok::<_, EngineError>(count / began.elapsed().as_secs_f64())
    };
    let draft = time(FRAMES, Quality::Draft)?;
    let again = time(FRAMES, Quality::Draft)?;
    let first = draw(FRAMES.start, Quality::Exact)?;
    if let Some(folder) = keep {
        let failed = |why| CliError::Unwritten { path: folder.to_owned(), why };
        std::fs::write(folder.join("inserts-exact.jpg"), first).map_err(failed)?;
        std::fs::write(folder.join("inserts-draft.jpg"), draw(FRAMES.start, Quality::Draft)?).map_err(failed)?;
    }
    let exact = time(FRAMES.start..FRAMES.start + 6, Quality::Exact)?;
    // As while something is dragged: the scene is built anew each time.
    let shapes = ShapeCache::default();
    RenderScene::build(inserts, &document.light, &shapes, &files).map_err(EngineError::from)?;
    let drags = 12;
    let dragged = Instant::now();
    for k in 0..drags {
        let mut moved = inserts.clone();
        moved[0].placement.anchor.foot.map(|f| [f[0] + 0.05 * f64::from(k), f[1], f[2]]);
        let built = RenderScene::build(&moved, &document.light, &shapes, &files).map_err(EngineError::from)?;
        picture::jpeg(
            &shot,
            picture::Wanted::frame(FRAMES.start),
            &solution,
            &document,
            &built,
            Quality::Draft,
            &plates,
        )?;
    }
    let drag = dragged.elapsed().as_secs_f64() / f64::from(drags);
    let triangles: usize = built
        .bodies(f64::from(FRAMES.start), Vector3::zeros())
        .map_err(EngineError::from)?
        .iter()
        .map(|b| b.mesh.indices.len())
        .sum();
    Ok(vec![
        ("inserts: triangles, copies included", triangles as f64, "triangles"),
        ("inserts: draft, from preview to JPEG", draft, "frames/s"),
        ("inserts: the same, its clips played once before", again, "frames/s"),
        ("inserts: exact, 16 moments, from preview to JPEG", exact, "frames/s"),
        ("inserts: a step of a drag", 1e3 * drag, "ms"),
        ("inserts: peak memory", peak_mb(), "MB"),
    ])
}
