//! `fennik accuracy`: solves clips whose cameras are known and prints how far off each camera is.

use super::error::CliError;
use super::{Progress, Scratch};
use crate::engine::analyse::seen_frame;
use fennik_core::camera::Camera;
use fennik_core::check::{
    ByEdges, LockError, by_edges, by_hand, card_error, datum_score, lock_error, turning_lock_error,
};
use fennik_core::image::PictureSettings;
use fennik_core::survey::{Plane, PlaneKind, edge_along};
use fennik_demo::encode::{TRIAL, film};
use fennik_demo::flight::QUAY;
use fennik_demo::trials::{TRIALS, trial};
use fennik_demo::truth::Truth;
use fennik_demo::uprights::uprights;
use fennik_media::{CameraDocument, ClipInfo};
use nalgebra::Vector2;
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

/// Between these lines of a document the table of cameras stands.
const MARKS: [&str; 2] = ["<!-- accuracy -->", "<!-- /accuracy -->"];
/// And that of datums.
const DATUM_MARKS: [&str; 2] = ["<!-- datum -->", "<!-- /datum -->"];
/// And that of what makes inserts belong.
const BELONGS_MARKS: [&str; 2] = ["<!-- belongs -->", "<!-- /belongs -->"];
/// Truth points from which a wall is asked for.
const WALL_POINTS: usize = 12;

/// Frames between those in which edges are drawn along.
const EDGE_STEP: usize = 10;
/// Seed of what is drawn by hand.
const HAND_SEED: u64 = 11;

/// Options of `fennik accuracy`.
#[derive(clap::Args)]
pub struct AccuracyArguments {
    /// Where the made-up clips are kept; those that are not there yet are made, which takes minutes each.
    #[arg(long, value_name = "DIR", default_value = "target/accuracy")]
    made: PathBuf,
    /// More clips: a folder with NAME.mp4 and NAME.truth.json.
    #[arg(long, value_name = "DIR")]
    clips: Option<PathBuf>,
    /// These clips alone, by their names.
    #[arg(long, value_name = "NAME,NAME", value_delimiter = ',')]
    only: Vec<String>,
    /// Solve each clip in several ways and print how far what is placed moves between any two of them.
    #[arg(long, conflicts_with = "write")]
    carry: bool,
    /// What makes inserts belong instead: the sun from shadows, colours drawn to the plate, grain.
    #[arg(long, conflicts_with_all = ["carry", "only"])]
    belongs: bool,
    /// A text file in which the table is replaced.
    #[arg(long, value_name = "FILE", conflicts_with = "only")]
    write: Option<PathBuf>,
}

/// Makes what is missing, solves every clip in a process of its own, and prints one table.
pub fn run(arguments: &AccuracyArguments) -> Result<(), CliError> {
    // Those who ask for some clips alone ask for those alone.
    let asked = arguments.only.is_empty() && !arguments.carry;
    let belongs = if asked { super::belongs::table(&super::belongs::rows()?) } else { String::new() };
    if arguments.belongs {
        println!("{belongs}");
        return arguments.write.as_ref().map_or(Ok(()), |path| replace_between(path, &BELONGS_MARKS, &belongs));
    }
    let scratch = Scratch::new()?;
    let mut pairs = vec![demo_clip(scratch.path())?];
    pairs.extend(TRIALS.iter().map(|t| clip_and_truth(&arguments.made, t.name)));
    if let Some(folder) = &arguments.clips {
        pairs.extend(known_clips(folder)?);
    }
    if let Some(stranger) = arguments.only.iter().find(|name| pairs.iter().all(|(clip, _)| name_of(clip) != **name)) {
        let all = pairs.iter().map(|(clip, _)| name_of(clip)).collect();
        return Err(CliError::NoClip { clip: stranger.clone(), all });
    }
    pairs.retain(|(clip, _)| arguments.only.is_empty() || arguments.only.contains(&name_of(clip)));
    let mut progress = Progress::default();
    make_clips(&arguments.made, &pairs, &mut progress)?;
    if arguments.carry {
        let clips: Vec<(String, PathBuf)> = pairs.into_iter().map(|(clip, _)| (name_of(&clip), clip)).collect();
        let table = super::carry::table(&clips, scratch.path(), &mut progress)?;
        progress.end();
        println!("{table}");
        return Ok(());
    }
    let mut lines = vec![
        "| clip | frames | lock error RMS | 95th percentile | focal length off (said) | track + solve | of its \
            length | peak memory | corners of signs: RMS, 95th percentile |"
            .to_owned(),
        "| --- | --- | --- | --- | --- | --- | --- | --- | --- |".to_owned(),
    ];
    let mut datums = vec![
        "| clip | floor tilt | floor height | walls with 12 points: found, worst | looked for in | by hand: \
            vertical | by hand: scale of 2 m | along edges of the picture |"
            .to_owned(),
        "| --- | --- | --- | --- | --- | --- | --- | --- |".to_owned(),
    ];
    for (clip, truth) in pairs {
        let name = name_of(&clip);
        progress.line(&format!("solving {name}"));
        let (camera, datum) = judge(&clip, &truth, scratch.path())?;
        lines.push(format!("| {name} | {camera} |"));
        datums.extend(datum.map(|d| format!("| {name} | {d} |")));
    }
    progress.end();
    let (table, datums) = (lines.join("\n"), datums.join("\n"));
    println!("{table}\n\n{datums}\n\n{belongs}");
    match &arguments.write {
        Some(path) => {
            replace_between(path, &MARKS, &table)?;
            replace_between(path, &DATUM_MARKS, &datums)?;
            replace_between(path, &BELONGS_MARKS, &belongs)
        }
        None => Ok(()),
    }
}

fn demo_clip(folder: &Path) -> Result<(PathBuf, PathBuf), CliError> {
    let pair = clip_and_truth(folder, "demo");
    fs::write(&pair.0, fennik_demo::QUAY_CLIP).and_then(|()| fs::write(&pair.1, fennik_demo::QUAY_TRUTH))?;
    Ok(pair)
}

fn clip_and_truth(folder: &Path, name: &str) -> (PathBuf, PathBuf) {
    (folder.join(format!("{name}.mp4")), folder.join(format!("{name}.truth.json")))
}

fn name_of(clip: &Path) -> String {
    clip.file_stem().map(|s| s.to_string_lossy().into_owned()).unwrap_or_default()
}

fn known_clips(folder: &Path) -> Result<Vec<(PathBuf, PathBuf)>, CliError> {
    let entries = fs::read_dir(folder).map_err(|why| CliError::Unread { path: folder.to_owned(), why })?;
    let mut pairs: Vec<_> = entries
        .flatten()
        .filter_map(|e| {
            e.file_name().to_string_lossy().strip_suffix(".truth.json").map(|name| clip_and_truth(folder, name))
        })
        .filter(|(clip, _)| clip.exists())
        .collect();
    pairs.sort();
    Ok(pairs)
}

/// Makes those of the wanted clips that are the project's own and not there yet.
fn make_clips(folder: &Path, wanted: &[(PathBuf, PathBuf)], progress: &mut Progress) -> Result<(), CliError> {
    fs::create_dir_all(folder).map_err(|why| CliError::Unwritten { path: folder.to_owned(), why })?;
    for take in &TRIALS {
        let (clip, truth_path) = clip_and_truth(folder, take.name);
        if (clip.exists() && truth_path.exists()) || wanted.iter().all(|w| w.0 != clip) {
            continue;
        }
        film(take, folder, &TRIAL, |done| progress.frames(&format!("filming {}", take.name), done, take.frames))
            .map_err(|e| CliError::Unmade { clip: clip.clone(), why: e.to_string() })?;
    }
    Ok(())
}

/// The figures of one clip, as cells of the two tables; no datum is asked of a camera that only turns.
fn judge(clip: &Path, truth: &Path, scratch: &Path) -> Result<(String, Option<String>), CliError> {
    let read = |p: &Path| fs::read(p).map_err(|why| CliError::Unread { path: p.to_owned(), why });
    let truth: Truth =
        serde_json::from_slice(&read(truth)?).map_err(|why| CliError::NoJson { path: truth.to_owned(), why })?;
    let out = scratch.join("camera.json");
    let program = std::env::current_exe()?;
    let run = Command::new(program).arg("solve").arg(clip).arg("--datum").arg("--out").arg(&out).output()?;
    if !run.status.success() {
        let why = String::from_utf8_lossy(&run.stderr).trim().to_owned();
        return Ok((format!("declined: {why} | | | | | | |"), None));
    }
    let said = String::from_utf8_lossy(&run.stdout).into_owned();
    let number = |before: &str| {
        said.rsplit(before).next().and_then(|s| s.split_whitespace().next()).and_then(|s| s.parse::<f64>().ok())
    };
    let (tracked, solved) = (number("tracked in ").unwrap_or(f64::NAN), number("solved in ").unwrap_or(f64::NAN));
    let camera: CameraDocument = serde_json::from_slice(&read(&out)?)?;
    let has_floor = camera.surfaces.iter().any(|s| s.kind == PlaneKind::Floor.word());
    let found = if camera.solve.motion == "nodal" {
        None
    } else {
        datum_cells(&truth, &camera, has_floor, number("found in "))
    };
    let datum = found.map(|cells| format!("{cells} | {}", hand_cells(&truth, &camera, clip)));
    let lock = slip(&truth, &camera).ok_or_else(|| CliError::NoTruth { clip: clip.to_owned() })?;
    let cells = format!(
        "{}/{} | {:.3} px | {:.3} px | {:.2} % ({:.2}) | {:.1} + {:.1} s | {:.1} x | {:.0} MB | {}",
        camera.frames.len(),
        truth.frames.len(),
        lock.rms_px,
        lock.p95_px,
        100.0 * focal_error(&truth, &camera),
        number("focal length known to ").unwrap_or(f64::NAN),
        tracked,
        solved,
        (tracked + solved) * truth.fps / truth.frames.len() as f64,
        number("peak memory ").unwrap_or(f64::NAN),
        sign_cell(&truth, &camera).unwrap_or_default(),
    );
    Ok((cells, datum))
}

/// How far off the datum, where a floor was found, and the walls are.
fn datum_cells(truth: &Truth, camera: &CameraDocument, has_floor: bool, seconds: Option<f64>) -> Option<String> {
    let pairs: Vec<_> =
        camera.frames.iter().filter_map(|f| Some((f.camera().0, truth.frames.get(f.frame as usize)?.pose()))).collect();
    let planes: Vec<Plane> =
        camera.surfaces.iter().map(|s| Plane { point: s.point.into(), normal: s.normal.into() }).collect();
    let score = datum_score(&pairs, &planes, &truth.surfaces())?;
    let walls: Vec<_> = score.surfaces.iter().filter(|s| s.points >= WALL_POINTS && s.name != "ground").collect();
    let good = walls.iter().filter(|s| s.angle_deg <= 0.5).count();
    let worst = walls.iter().max_by(|a, b| a.angle_deg.total_cmp(&b.angle_deg));
    let worst = worst.map_or_else(|| "none there".to_owned(), |w| format!("{:.2} deg ({})", w.angle_deg, w.name));
    let floor = if has_floor {
        format!("{:.3} deg | {:.2} %", score.tilt_deg, 100.0 * score.height_share)
    } else {
        "none found | ".to_owned()
    };
    Some(format!("{floor} | {good} of {}, {worst} | {:.2} s", walls.len(), seconds.unwrap_or(f64::NAN)))
}

/// How far the corners of signs are from their true places that were pulled onto them on two frames.
fn sign_cell(truth: &Truth, camera: &CameraDocument) -> Option<String> {
    let size = [truth.width, truth.height].map(f64::from);
    let card = card_error(&cameras_of(truth, camera), &truth.surfaces(), size)?;
    Some(format!("{:.3} px, {:.3} px ({} signs)", card.rms_px, card.p95_px, card.cards))
}

/// Frames with their solved and their true cameras.
fn cameras_of(truth: &Truth, camera: &CameraDocument) -> Vec<(u32, Camera, Camera)> {
    let both = |f: &fennik_media::CameraFrame| {
        let (pose, lens) = f.camera();
        Some((f.frame, Camera::new(pose, lens, camera.height), truth.camera(f.frame)?))
    };
    camera.frames.iter().filter_map(both).collect()
}

/// How far off what is laid by hand would be: the median, and what 95 of 100 trials stay within.
fn hand_cells(truth: &Truth, camera: &CameraDocument, clip: &Path) -> String {
    let cameras = cameras_of(truth, camera);
    let places = truth.points.iter().map(|p| p.position.into()).zip(truth.sightings());
    let edges = edge_cell(&cameras, &name_of(clip), clip).unwrap_or_default();
    let Some(hand) = by_hand(&cameras, &places.collect::<Vec<_>>(), HAND_SEED) else { return format!(" | | {edges}") };
    let [middle, most] = hand.vertical_deg;
    let scale =
        hand.scale_share.map_or_else(String::new, |[m, p]| format!("{:.2} %, 95 %: {:.2} %", 100.0 * m, 100.0 * p));
    format!("{middle:.2} deg, 95 %: {most:.2} deg | {scale} | {edges}")
}

/// How far off a vertical is that is drawn along true edges, as drawn and moved onto what the pictures show; `None` for a
/// clip that is not the project's own, or shows too few edges.
fn edge_cell(cameras: &[(u32, Camera, Camera)], name: &str, path: &Path) -> Option<String> {
    let take = if name == "demo" { &QUAY } else { trial(name)? };
    let scene = take.scene();
    let scratch = Scratch::new().ok()?;
    let clip = ClipInfo::open(path, scratch.path()).ok()?;
    let (mut edges, mut pictures) = (Vec::new(), BTreeMap::new());
    for frame in (0..take.frames).step_by(EDGE_STEP) {
        let seen = uprights(scene.as_ref(), take, frame);
        if !seen.is_empty() {
            pictures.insert(frame, seen_frame(&clip, frame, &PictureSettings::default()).ok()?);
        }
        edges.extend(seen.into_iter().map(|ends| (frame, ends)));
    }
    let to_edge = |frame: u32, ends: [Vector2<f64>; 2]| {
        let lens = &cameras.iter().find(|c| c.0 == frame)?.1.lens;
        edge_along(pictures.get(&frame)?, lens, ends)
    };
    let ByEdges { drawn_deg, moved_deg, found_share } = by_edges(cameras, &edges, &to_edge, HAND_SEED)?;
    let [drawn, moved] = [drawn_deg, moved_deg].map(|[m, p]| format!("{m:.2} deg, 95 %: {p:.2} deg"));
    Some(format!("{drawn}; moved onto the edge ({:.0} % found): {moved}", 100.0 * found_share))
}

fn slip(truth: &Truth, camera: &CameraDocument) -> Option<LockError> {
    let at = |frame: u32| camera.frames.iter().find(|c| c.frame == frame).map(fennik_media::CameraFrame::camera);
    if camera.solve.motion == "nodal" {
        turning_lock_error(&truth.sightings(), at)
    } else {
        lock_error(&truth.sightings(), at)
    }
}

/// Median over the frames of the relative error of the focal length.
fn focal_error(truth: &Truth, camera: &CameraDocument) -> f64 {
    let of_frame = |c: &fennik_media::CameraFrame| {
        let right = truth.frames.get(c.frame as usize)?.focal_length_px;
        Some((c.focal_length_px / right - 1.0).abs())
    };
    let mut errors: Vec<f64> = camera.frames.iter().filter_map(of_frame).collect();
    errors.sort_by(f64::total_cmp);
    errors.get(errors.len() / 2).copied().unwrap_or(f64::NAN)
}

fn replace_between(path: &Path, marks: &[&'static str; 2], table: &str) -> Result<(), CliError> {
    let text = fs::read_to_string(path).map_err(|why| CliError::Unread { path: path.to_owned(), why })?;
    let missing = |mark| move || CliError::NoMark { path: path.to_owned(), mark };
    let (before, rest) = text.split_once(marks[0]).ok_or_else(missing(marks[0]))?;
    let (_, after) = rest.split_once(marks[1]).ok_or_else(missing(marks[1]))?;
    let text = format!("{before}{}\n{table}\n{}{after}", marks[0], marks[1]);
    fs::write(path, text).map_err(|why| CliError::Unwritten { path: path.to_owned(), why })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_is_replaced_and_the_rest_stays() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("numbers.md");
        fs::write(&path, format!("before\n{}\nold\n{}\nafter\n", MARKS[0], MARKS[1])).unwrap();
        replace_between(&path, &MARKS, "| new |").unwrap();
        assert_eq!(fs::read_to_string(&path).unwrap(), format!("before\n{}\n| new |\n{}\nafter\n", MARKS[0], MARKS[1]));
        fs::write(&path, "nothing").unwrap();
        assert!(replace_between(&path, &MARKS, "x").unwrap_err().to_string().contains("has no line"));
    }

    #[test]
    fn the_true_camera_has_no_error_and_a_longer_lens_has() {
        let truth: Truth = serde_json::from_slice(fennik_demo::QUAY_TRUTH).unwrap();
        let frames = truth.frames.iter().map(|c| {
            serde_json::json!({ "frame": c.frame, "source_frame": c.frame,
                "world_to_camera": { "rotation": c.rotation, "translation": c.translation },
                "focal_length_px": c.focal_length_px, "principal_point_px": c.principal_point_px, "k1": c.k1,
                    "k2": c.k2, "rms_px": 0.0 })
        });
        let mut camera: CameraDocument = serde_json::from_value(serde_json::json!({
            "format": "fennik-camera", "version": 1, "width": 1280, "height": 720, "frame_rate": [25, 1],
            "solve": { "rms_px": 0.0, "motion": "free", "zoom": false, "frames_solved": 250, "frames": 250 },
            "frames": frames.collect::<Vec<_>>(), "points": [],
        }))
        .unwrap();
        assert!(slip(&truth, &camera).unwrap().rms_px < 1e-3 && focal_error(&truth, &camera) < 1e-12);
        camera.frames.iter_mut().for_each(|c| c.focal_length_px *= 1.02);
        assert!(slip(&truth, &camera).unwrap().rms_px > 0.1 && (focal_error(&truth, &camera) - 0.02).abs() < 1e-9);
    }
}
