//! `fennik bench`: stage by stage on the demo clip.

use super::error::CliError;
use super::{Scratch, peak_mb};
use crate::engine::survey::pictures_of_clip;
use crate::engine::{EngineError, analyse, plain};
use fennik_core::camera::CameraPath;
use fennik_core::matte::Masks;
use fennik_core::scene::ShotDocument;
use fennik_core::solve::{Solution, SolveSettings, TrackChoice, solve_camera, solve_on};
use fennik_core::survey::{survey, views};
use fennik_core::track::{TrackSet, TrackSettings};
use fennik_media::{ClipInfo, FrameReader, PixelKind};
use fennik_render::{NoAssets, Quality, RenderScene, ShapeCache, composite};
use std::ops::ControlFlow;
use std::time::Instant;

/// Options of `fennik bench`.
#[derive(clap::Args)]
pub struct BenchArguments {
    /// Time tracking and solving on these clips instead.
    #[arg(value_name = "CLIP")]
    clips: Vec<std::path::PathBuf>,
    /// How often each clip is gone through; the least time of each stage is told, which what else the machine does
    /// disturbs least.
    #[arg(long, default_value_t = 1, value_name = "N", requires = "clips")]
    runs: u32,
    /// Print one JSON object instead of a table.
    #[arg(long)]
    json: bool,
    /// Time the adjustment of a disturbed scene instead, and write the scene there for other programs.
    #[arg(long, value_name = "FILE")]
    bundle: Option<std::path::PathBuf>,
    /// Time a scene of inserts over the demo clip instead.
    #[arg(long)]
    inserts: bool,
    /// The same scene with all that makes it belong: surroundings, soft shadow, contact, a holdout, finish.
    #[arg(long)]
    belongs: bool,
    /// With either, keep a picture of it in a folder.
    #[arg(long, value_name = "FOLDER")]
    keep: Option<std::path::PathBuf>,
}

/// Times the stages and prints them with the peak memory of the process.
pub fn run(arguments: &BenchArguments) -> Result<(), CliError> {
    if let Some(path) = &arguments.bundle {
        return Ok(super::bench_bundle::run(path)?);
    }
    if arguments.inserts || arguments.belongs {
        tell(&super::bench_inserts::run(arguments.keep.as_deref(), arguments.belongs)?, arguments.json);
        return Ok(());
    }
    if arguments.clips.is_empty() {
        tell(&measure()?, arguments.json);
    }
    for path in &arguments.clips {
        let mut least = analyse_clip(path)?;
        for _ in 1..arguments.runs {
            for (row, again) in least.iter_mut().zip(analyse_clip(path)?) {
                row.1 = row.1.min(again.1);
            }
        }
        if !arguments.json {
            println!("{}", path.display());
        }
        tell(&least, arguments.json);
    }
    Ok(())
}

/// What was measured: its name, value and unit.
type Row = (&'static str, f64, &'static str);

fn tell(rows: &[Row], json: bool) {
    if json {
        let map: serde_json::Map<String, serde_json::Value> =
            rows.iter().map(|(n, v, _)| ((*n).to_owned(), (*v).into())).collect();
        println!("{}", serde_json::Value::Object(map));
    } else {
        rows.iter().for_each(|(name, value, unit)| println!("{name:<46}{value:>10.3} {unit}"));
    }
}

/// Times decoding, tracking and the stages of solving one clip; the same rows on every run.
fn analyse_clip(path: &std::path::Path) -> Result<Vec<Row>, CliError> {
    let scratch = Scratch::new()?;
    let clip = ClipInfo::open(path, scratch.path())?;
    Ok(analysis(&clip)?.1)
}

/// Tracks and solves a clip: the tracks, how long each stage took, and the camera.
fn analysis(clip: &ClipInfo) -> Result<(TrackSet, Vec<Row>, Solution), EngineError> {
    let seconds = f64::from(clip.frames) / clip.rate.per_second();
    let began = Instant::now();
    let mut reader = FrameReader::open(clip, None, PixelKind::Grey)?;
    while reader.next_frame()?.is_some() {}
    let decode = began.elapsed().as_secs_f64();

    let began = Instant::now();
    let tracks = analyse::track(clip, (0, clip.frames), &TrackSettings::default(), Masks::default(), |_, _| true)?;
    let track = began.elapsed().as_secs_f64();
    let steps: usize = tracks.tracks.iter().map(|t| t.positions.len() - 1).sum();

    let began = Instant::now();
    let mut stages: Vec<(&'static str, f64)> = Vec::new();
    let solution = solve_camera(&tracks, &TrackChoice::default(), &SolveSettings::default(), |step| {
        stages.push((step.stage, began.elapsed().as_secs_f64()));
        ControlFlow::Continue(())
    })?;
    let solve = began.elapsed().as_secs_f64();
    stages.push(("end", solve));
    let mut rows = vec![
        ("clip", seconds, "s"),
        ("decode alone", decode, "s"),
        ("track, decoding included", track, "s"),
        ("track, a point and frame", 1e6 * track / steps.max(1) as f64, "us"),
        ("solve", solve, "s"),
    ];
    rows.extend(stages.windows(2).map(|pair| (pair[0].0, pair[1].1 - pair[0].1, "s")));
    rows.push(("track and solve over clip length", (track + solve) / seconds, "x"));
    let began = Instant::now();
    let pictures = pictures_of_clip(clip, 0, &solution)?;
    rows.push(("pictures of the survey, off the clip", began.elapsed().as_secs_f64(), "s"));
    let began = Instant::now();
    let found = survey(&solution, &views(&solution, &pictures, &Masks::default()));
    rows.push(("survey: floor, walls and further planes", began.elapsed().as_secs_f64(), "s"));
    rows.push(("planes found", (found.floors.len() + found.planes.len()) as f64, "planes"));
    Ok((tracks, rows, solution))
}

fn measure() -> Result<Vec<Row>, CliError> {
    let scratch = Scratch::new()?;
    let path = scratch.path().join("quay.mp4");
    std::fs::write(&path, fennik_demo::QUAY_CLIP).map_err(|why| CliError::Unwritten { path: path.clone(), why })?;
    let clip = ClipInfo::open(&path, scratch.path())?;
    let (tracks, mut rows, solution) = analysis(&clip)?;
    let began = Instant::now();
    solve_on(&tracks, &TrackChoice::default(), &SolveSettings::default(), &solution, |_| ControlFlow::Continue(()))?;
    let on = began.elapsed().as_secs_f64();

    let (datum, insert) = plain::staging(&solution)?;
    let mut document = ShotDocument::new(clip.frames);
    document.datum = datum;
    document.placing.inserts.push(insert);
    let scene =
        RenderScene::build(&document.placing.inserts, &document.light, &ShapeCache::default(), &NoAssets::shared())
            .map_err(EngineError::from)?;
    let path = CameraPath::new(&solution, &document.datum.world_from_solve);
    let (camera, shutter) = (path.at(120).ok_or(EngineError::Fault)?, document.placing.shutter);
    let mut reader = FrameReader::open(&clip, Some((120, 121)), PixelKind::Rgb)?;
    let plate = reader.next_frame()?.unwrap_or_default().to_vec();
    let time = |quality| {
        let began = Instant::now();
        for _ in 0..10 {
            let mut rgb = plate.clone();
            composite(&mut rgb, clip.width as usize, clip.height as usize, &camera, &scene, quality, shutter)
                .map_err(EngineError::from)?;
        }
        Ok::<_, EngineError>(began.elapsed().as_secs_f64() / 10.0)
    };
    let (draft, exact) = (time(Quality::Draft)?, time(Quality::Exact)?);

    let truth: fennik_demo::truth::Truth = serde_json::from_slice(fennik_demo::QUAY_TRUTH)?;
    let lock = fennik_core::check::lock_error(&truth.sightings(), |f| solution.at(f).map(|s| (s.pose, s.lens)));
    let focal = solution.frames.first().map_or(0.0, |f| f.lens.focal_px);
    let true_focal = truth.frames.first().map_or(1.0, |f| f.focal_length_px);

    rows.extend([
        ("solve on from there", on, "s"),
        ("render, draft frame", 1e3 * draft, "ms"),
        ("render, exact frame", 1e3 * exact, "ms"),
        ("peak memory", peak_mb(), "MB"),
        ("frames solved", solution.frames.len() as f64, "frames"),
        ("reprojection error RMS", solution.rms_px, "px"),
        ("lock error RMS (own truth)", lock.map_or(f64::NAN, |l| l.rms_px), "px"),
        ("lock error 95th percentile", lock.map_or(f64::NAN, |l| l.p95_px), "px"),
        ("focal length error", 100.0 * (focal / true_focal - 1.0).abs(), "%"),
    ]);
    Ok(rows)
}
