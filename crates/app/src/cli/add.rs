//! `fennik add`: takes clips into a data folder, as the page does.

use super::error::CliError;
use super::{Progress, Stopper, open_store};
use crate::engine::{OpenShot, import};
use std::path::PathBuf;

/// Options of `fennik add`.
#[derive(clap::Args)]
pub struct AddArguments {
    /// Videos, zip archives of pictures, pictures, or folders of all of these.
    #[arg(required = true)]
    files: Vec<PathBuf>,
    /// The data folder; made when it is not there.
    #[arg(long, value_name = "DIR")]
    data: Option<PathBuf>,
}

/// Copies the files in, looks into the clips and makes their preview frames.
pub fn run(arguments: &AddArguments) -> Result<(), CliError> {
    let store = open_store(arguments.data.as_ref())?;
    let (mut progress, stopper) = (Progress::default(), Stopper::new()?);
    let staged = import::stage(&store, &arguments.files, &mut |done, total| {
        progress.percent("copying", (100 * done / total.max(1)) as u32);
        !stopper.asked()
    })?;
    let taken = staged.take_in(&store)?;
    let decoded = import::decode_all(&store, &taken.shots, &mut |done, total, _| {
        progress.frames("decoding", done, total);
        !stopper.asked()
    });
    progress.end();
    decoded?;
    for id in taken.shots {
        let shot = OpenShot::load(&store, id)?;
        for note in &shot.clip.notes {
            println!("note: {}", note.text());
        }
        println!(
            "shot {} {:?}: {}x{} px, {} frames",
            id.0, shot.state.shot.name, shot.clip.width, shot.clip.height, shot.clip.frames
        );
    }
    for (name, why) in taken.refused {
        eprintln!("not taken: {name}: {why}");
    }
    Ok(())
}
