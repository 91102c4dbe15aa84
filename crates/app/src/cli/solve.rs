//! `fennik solve`: no server, no database.

use super::error::{ArgumentError, CliError};
use super::{Progress, Scratch, TrimArgument, peak_mb};
use crate::engine::laying::why_no_floor;
use crate::engine::recipe::show;
use crate::engine::{analyse, output, survey};
use fennik_core::camera::CameraPath;
use fennik_core::geometry::Similarity;
use fennik_core::image::{Channel, PictureSettings};
use fennik_core::matte::Masks;
use fennik_core::scene::{Datum, propose};
use fennik_core::solve::{
    CentreChoice, LensChoice, MotionChoice, ReadoutChoice, Solution, SolveSettings, TrackChoice, solve_camera,
};
use fennik_core::track::{TrackDirection, TrackSettings};
use fennik_media::{ClipInfo, camera_document, read_masks};
use std::ops::ControlFlow;
use std::path::PathBuf;

/// Options of `fennik solve`.
#[derive(clap::Args)]
pub struct SolveArguments {
    /// A video file, or a folder of PNG, JPEG, TIFF or EXR pictures.
    clip: PathBuf,
    /// Frames to use, first:last.
    #[arg(long, value_name = "A:B")]
    trim: Option<TrimArgument>,
    /// Outlines to keep out of, or inside, the analysis (docs/formats.md).
    #[arg(long, value_name = "FILE")]
    masks: Option<PathBuf>,
    /// The focal length in px of the clip's own size, where it is known.
    #[arg(long, value_name = "PX")]
    focal_px: Option<f64>,
    /// How the camera moves, where it is known.
    #[arg(long, value_name = "auto|free|planar|nodal", default_value = "auto")]
    motion: MotionChoice,
    /// What the lens does, where it is known.
    #[arg(long, value_name = "auto|fixed|zoom", default_value = "auto")]
    lens: LensChoice,
    /// Rolling shutter: the part of the frame time between the first and the last row, `none`, or `auto`.
    #[arg(long, value_name = "PART", default_value = "auto", allow_negative_numbers = true)]
    readout: ReadoutChoice,
    /// The principal point in px as X,Y, `middle`, or `found` to have it found.
    #[arg(long, value_name = "X,Y", default_value = "middle")]
    centre: CentreChoice,
    /// Run through the clip backwards as well.
    #[arg(long)]
    back: bool,
    /// Points aimed at on a frame.
    #[arg(long, value_name = "POINTS", default_value_t = TrackSettings::default().density)]
    density: f64,
    /// Least distance between two points, px of a picture 1280 wide.
    #[arg(long, value_name = "PX", default_value_t = TrackSettings::default().spacing_px)]
    spacing: f64,
    /// How weak a corner may be against the strong ones, 0 to 1.
    #[arg(long, value_name = "PART", default_value_t = TrackSettings::default().threshold)]
    threshold: f64,
    /// What the tracker sees: the channel (brightness, red, green, blue).
    #[arg(long, value_name = "CHANNEL", default_value = "brightness", value_parser = channel)]
    channel: Channel,
    /// What the tracker sees: noise is taken away within this radius, px.
    #[arg(long, value_name = "PX", default_value_t = 0.0)]
    denoise: f64,
    /// What the tracker sees: how far contrast is evened out, 0 to 1.
    #[arg(long, value_name = "PART", default_value_t = 0.0)]
    local_contrast: f64,
    /// What the tracker sees: strength of the sharpening, 0 to 3.
    #[arg(long, value_name = "STRENGTH", default_value_t = 0.0)]
    sharpen: f64,
    /// Look for floor and walls, lay the datum that is proposed, and write the camera file in its world with its
    /// `surfaces`.
    #[arg(long)]
    datum: bool,
    /// Where the camera file goes.
    #[arg(long, value_name = "FILE", allow_hyphen_values = true)]
    out: PathBuf,
    /// Where the tracks go, for looking into a solve.
    #[arg(long, value_name = "FILE", hide = true)]
    tracks_out: Option<PathBuf>,
}

fn channel(word: &str) -> Result<Channel, ArgumentError> {
    let all = [Channel::Brightness, Channel::Red, Channel::Green, Channel::Blue];
    all.into_iter().find(|c| c.word() == word).ok_or_else(|| ArgumentError::NoChannel(word.to_owned()))
}

/// Tracks and solves, telling how far it is.
pub fn run(arguments: &SolveArguments) -> Result<(), CliError> {
    let scratch = Scratch::new()?;
    let clip = ClipInfo::open(&arguments.clip, scratch.path())?;
    let masks = match &arguments.masks {
        Some(path) => {
            let bytes = std::fs::read(path).map_err(|why| CliError::Unread { path: path.to_owned(), why })?;
            read_masks(&bytes)?
        }
        None => Masks::default(),
    };
    let first = arguments.trim.map_or(0, |t| t.first);
    let end = arguments.trim.and_then(|t| t.last).map_or(u32::MAX, |l| l.saturating_add(1));
    println!("{}x{} px, {:.3} frames a second", clip.width, clip.height, clip.rate.per_second());
    for note in &clip.notes {
        println!("note: {}", note.text());
    }
    let track_settings = TrackSettings {
        density: arguments.density,
        spacing_px: arguments.spacing,
        threshold: arguments.threshold,
        direction: if arguments.back { TrackDirection::Both } else { TrackDirection::Forward },
        picture: PictureSettings {
            channel: arguments.channel,
            denoise_px: arguments.denoise,
            local_contrast: arguments.local_contrast,
            sharpen: arguments.sharpen,
        },
        ..TrackSettings::default()
    };
    let choice = TrackChoice {
        masks: masks.clone(),
        window_half_px: f64::from(track_settings.window_half_px),
        ..TrackChoice::default()
    };
    let started = std::time::Instant::now();
    let mut progress = Progress::default();
    let tracks = analyse::track(&clip, (first, end), &track_settings, masks, |frame, total| {
        progress.frames("tracking", frame, total);
        true
    })?;
    let tracked = started.elapsed();
    if let Some(path) = &arguments.tracks_out {
        std::fs::write(path, tracks.to_bytes()).map_err(|why| CliError::Unwritten { path: path.to_owned(), why })?;
    }
    let settings = SolveSettings {
        focal_px: arguments.focal_px,
        focal_said: String::new(),
        focal_hint_px: clip.focal_hint_px(),
        motion: arguments.motion,
        lens: arguments.lens,
        readout: arguments.readout,
        centre: arguments.centre,
    };
    settings.validate()?;
    let solution = solve_camera(&tracks, &choice, &settings, |step| {
        progress.percent(&format!("solving: {}", step.stage), (100.0 * step.fraction) as u32);
        ControlFlow::Continue(())
    });
    progress.end();
    let solution = solution?;
    let solved = started.elapsed() - tracked;
    let found = arguments.datum.then(|| survey::of_clip(&clip, first, &solution, &choice.masks)).transpose()?;
    let laid = found.as_ref().and_then(|found| propose(&solution, found, &Datum::default()));
    let looked = started.elapsed() - tracked - solved;
    let world = laid.as_ref().map_or_else(Similarity::identity, |l| l.datum.world_from_solve);
    let mut document = camera_document(&CameraPath::new(&solution, &world), clip.rate, first);
    if let Some(proposal) = &laid {
        document.surfaces = show::surfaces_of(&proposal.datum, &proposal.surfaces, &solution);
    }
    let json = serde_json::to_string(&document)?;
    output::write_file(&arguments.out, json.as_bytes())?;
    println!("{}", reading(&solution));
    if let Some(found) = found.as_ref().filter(|f| f.floors.is_empty()) {
        println!("no floor was found: {}", why_no_floor(found));
        println!("{} other surfaces · found in {:.2} s", document.surfaces.len(), looked.as_secs_f64());
    }
    if let Some(floor) = laid.as_ref().and_then(|l| l.datum.floor.as_ref()) {
        println!(
            "floor {:.2} px, known to {:.2} deg · {} other surfaces · found in {:.2} s",
            floor.fit_px,
            floor.normal_deviation_deg.unwrap_or_default(),
            document.surfaces.len().saturating_sub(1),
            looked.as_secs_f64(),
        );
    }
    println!(
        "tracked in {:.1} s, solved in {:.1} s, peak memory {:.0} MB",
        tracked.as_secs_f64(),
        solved.as_secs_f64(),
        peak_mb()
    );
    Ok(())
}

fn reading(solution: &Solution) -> String {
    let focals: Vec<f64> = solution.frames.iter().map(|f| f.lens.focal_px).collect();
    let focal = match (focals.first(), focals.last()) {
        (Some(a), Some(b)) if solution.zoom => format!("{a:.1} to {b:.1}"),
        (Some(a), _) => format!("{a:.1}"),
        _ => "unknown".to_owned(),
    };
    let mut text = format!(
        "{:.3} px RMS, {:.3} px median · {}/{} frames · {} points · {} · focal length {focal} px · {}",
        solution.rms_px,
        solution.median_px,
        solution.frames.len(),
        solution.frames_total,
        solution.points.len(),
        solution.motion.word(),
        solution.verdict.grade.word(),
    );
    for reason in &solution.verdict.reasons {
        text.push_str(&format!("\n  {}: {}", reason.grade.word(), reason.text));
    }
    text
}
