//! `fennik bench`: stage by stage on the demo clip.

use super::{Scratch, peak_mb};
use crate::engine::{EngineError, analyse, demo, picture};
use fennik_core::scene::ShotDocument;
use fennik_core::solve::{SolveSettings, TrackChoice, solve_camera, solve_on};
use fennik_core::track::{Masks, TrackSettings};
use fennik_media::{ClipInfo, FrameReader, PixelKind};
use fennik_render::{Quality, Stage};
use std::ops::ControlFlow;
use std::time::Instant;

/// Options of `fennik bench`.
#[derive(clap::Args)]
pub struct BenchArguments {
    /// Print one JSON object instead of a table.
    #[arg(long)]
    json: bool,
    /// Time the adjustment of a disturbed scene instead, and write the scene there for other programs.
    #[arg(long, value_name = "FILE")]
    bundle: Option<std::path::PathBuf>,
}

/// Times the stages and prints them with the peak memory of the process.
pub fn run(arguments: &BenchArguments) -> Result<(), String> {
    if let Some(path) = &arguments.bundle {
        return super::bench_bundle::run(path).map_err(|e| e.to_string());
    }
    let rows = measure().map_err(|e| e.to_string())?;
    if arguments.json {
        let map: serde_json::Map<String, serde_json::Value> = rows.into_iter().map(|(n, v, _)| (n.to_owned(), v.into())).collect();
        println!("{}", serde_json::Value::Object(map));
    } else {
        for (name, value, unit) in rows {
            println!("{name:<34}{value:>10.3} {unit}");
        }
    }
    Ok(())
}

fn measure() -> Result<Vec<(&'static str, f64, &'static str)>, EngineError> {
    let scratch = Scratch::new().map_err(EngineError::Message)?;
    let path = scratch.path().join("quay.mp4");
    std::fs::write(&path, fennik_demo::QUAY_CLIP).map_err(|e| EngineError::Message(e.to_string()))?;
    let clip = ClipInfo::open(&path, scratch.path())?;
    let seconds = f64::from(clip.frames) / clip.rate.per_second();

    let began = Instant::now();
    let mut reader = FrameReader::open(&clip, None, PixelKind::Grey)?;
    while reader.next_frame()?.is_some() {}
    let decode = began.elapsed().as_secs_f64();

    let began = Instant::now();
    let tracks = analyse::track(&clip, (0, clip.frames), &TrackSettings::default(), Masks::default(), |_, _| true)?;
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
    let began = Instant::now();
    solve_on(&tracks, &TrackChoice::default(), &SolveSettings::default(), &solution, |_| ControlFlow::Continue(()))?;
    let on = began.elapsed().as_secs_f64();

    let (datum, insert) = demo::staging(&solution)?;
    let mut document = ShotDocument::new(clip.frames);
    document.datum = datum;
    document.inserts.push(insert);
    let stage = Stage::build(&document.inserts, &document.light)?;
    let mut reader = FrameReader::open(&clip, Some((120, 121)), PixelKind::Rgb)?;
    let plate = reader.next_frame()?.unwrap_or_default().to_vec();
    let time = |quality| {
        let began = Instant::now();
        for _ in 0..10 {
            let mut rgb = plate.clone();
            picture::draw(&mut rgb, (clip.width, clip.height), 120, &solution, &document, &stage, quality);
        }
        began.elapsed().as_secs_f64() / 10.0
    };
    let (draft, exact) = (time(Quality::Draft), time(Quality::Exact));

    let truth: fennik_demo::truth::Truth =
        serde_json::from_slice(fennik_demo::QUAY_TRUTH).map_err(|e| EngineError::Message(e.to_string()))?;
    let lock = fennik_core::check::lock_error(&truth.sightings(), |f| solution.at(f).map(|s| (s.pose, s.lens)));
    let focal = solution.frames.first().map_or(0.0, |f| f.lens.focal_px);
    let true_focal = truth.frames.first().map_or(1.0, |f| f.focal_length_px);

    let mut rows = vec![
        ("clip", seconds, "s"),
        ("decode alone", decode, "s"),
        ("track, decoding included", track, "s"),
        ("track, a point and frame", 1e6 * track / steps.max(1) as f64, "us"),
        ("solve", solve, "s"),
        ("solve on from there", on, "s"),
    ];
    for pair in stages.windows(2) {
        rows.push((pair[0].0, pair[1].1 - pair[0].1, "s"));
    }
    rows.extend([
        ("track and solve over clip length", (track + solve) / seconds, "x"),
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
