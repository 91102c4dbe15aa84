//! `fennik render` and `fennik export`.

use super::error::{ArgumentError, CliError};
use super::{Progress, Stopper, open_existing};
use crate::engine::{output, recipe};
use std::path::PathBuf;

/// Options of `fennik render`.
#[derive(clap::Args)]
pub struct RenderArguments {
    /// The shot's number or name.
    shot: String,
    /// The video file to write, or the folder for stills.
    #[arg(long, value_name = "FILE|DIR", allow_hyphen_values = true)]
    out: PathBuf,
    /// PNG stills of these frames instead of a video: first-last, or one.
    #[arg(long, value_name = "A-B")]
    frames: Option<FramesArgument>,
    /// PNG stills of what stands in front instead of the picture: white is in front.
    #[arg(long)]
    matte: bool,
    /// The data folder.
    #[arg(long, value_name = "DIR")]
    data: Option<PathBuf>,
}

/// Frames of the trimmed clip, as typed: `A-B`, or `A`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FramesArgument {
    first: u32,
    last: u32,
}

impl std::str::FromStr for FramesArgument {
    type Err = ArgumentError;

    fn from_str(text: &str) -> Result<Self, ArgumentError> {
        let wrong = |_| ArgumentError::NoFrames(text.to_owned());
        let (a, b) = text.split_once('-').unwrap_or((text, text));
        let (first, last) = (a.parse().map_err(wrong)?, b.parse().map_err(wrong)?);
        if last < first { Err(ArgumentError::EmptyFrames(text.to_owned())) } else { Ok(Self { first, last }) }
    }
}

/// What can be exported.
#[derive(Clone, Copy, clap::ValueEnum)]
enum Format {
    /// glTF 2.0 binary: camera, points, inserts.
    Gltf,
    /// The camera file.
    CameraJson,
    /// The shot as a recipe for `fennik apply`.
    Recipe,
}

/// Options of `fennik export`.
#[derive(clap::Args)]
pub struct ExportArguments {
    /// The shot's number or name.
    shot: String,
    /// What to write.
    #[arg(long)]
    format: Format,
    /// The file to write.
    #[arg(long, value_name = "FILE", allow_hyphen_values = true)]
    out: PathBuf,
    /// The data folder.
    #[arg(long, value_name = "DIR")]
    data: Option<PathBuf>,
}

/// Renders a shot.
pub fn render(arguments: &RenderArguments) -> Result<(), CliError> {
    let (store, shot) = open_existing(arguments.data.as_ref(), &arguments.shot)?;
    let (mut progress, stopper) = (Progress::default(), Stopper::new()?);
    let tell = |done, total| {
        progress.frames("rendering", done, total);
        !stopper.asked()
    };
    let outcome = match arguments.frames {
        frames if arguments.matte => {
            let end = shot.document().trim.count().saturating_sub(1);
            let range = frames.map_or((0, end), |f| (f.first, f.last));
            output::mattes(&store, &shot, range, &arguments.out, tell)
        }
        Some(FramesArgument { first, last }) => output::stills(&store, &shot, (first, last), &arguments.out, tell),
        None => output::video(&store, &shot, &arguments.out, tell),
    };
    progress.end();
    Ok(outcome?)
}

/// Exports a shot.
pub fn export(arguments: &ExportArguments) -> Result<(), CliError> {
    let (store, shot) = open_existing(arguments.data.as_ref(), &arguments.shot)?;
    let bytes = match arguments.format {
        Format::Gltf => output::scene_glb(&store, &shot),
        Format::CameraJson => output::camera_json(&store, &shot),
        Format::Recipe => recipe::write::of_shot(&store, &shot),
    };
    Ok(output::write_file(&arguments.out, &bytes?)?)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frames_are_read_and_wrong_ones_refused() {
        assert_eq!("3-9".parse(), Ok(FramesArgument { first: 3, last: 9 }));
        assert_eq!("7".parse(), Ok(FramesArgument { first: 7, last: 7 }));
        for bad in ["", "9-3", "a-b", "-1", "1-2-3"] {
            assert!(bad.parse::<FramesArgument>().is_err(), "{bad}");
        }
    }
}
