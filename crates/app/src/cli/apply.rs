//! `fennik apply` and `fennik show`: a shot without a page.

use super::error::CliError;
use super::{Progress, Stopper, find_shot, open_existing, open_store};
use crate::engine::recipe::{self, Cook};
use std::path::{Path, PathBuf};

/// Options of `fennik apply`.
#[derive(clap::Args)]
pub struct ApplyArguments {
    /// The recipe (docs/formats.md). Its paths count from its own folder.
    recipe: PathBuf,
    /// The shot's number or name, for a recipe that does not take in a clip.
    #[arg(long, value_name = "SHOT")]
    shot: Option<String>,
    /// The data folder; made when it is not there.
    #[arg(long, value_name = "DIR")]
    data: Option<PathBuf>,
}

/// Does the steps in order; the first that does not hold ends the run, those before it stay.
pub fn run(arguments: &ApplyArguments) -> Result<(), CliError> {
    let path = &arguments.recipe;
    let bytes = std::fs::read(path).map_err(|why| CliError::Unread { path: path.to_owned(), why })?;
    let recipe = recipe::read(&bytes)?;
    let store = open_store(arguments.data.as_ref())?;
    let shot = arguments.shot.as_deref().map(|name| find_shot(&store, name)).transpose()?;
    let (mut progress, stopper) = (Progress::default(), Stopper::new()?);
    let mut cook = Cook::new(&store, path.parent().unwrap_or(Path::new("")), shot);
    let steps = recipe.steps.len();
    let outcome = cook.cook(&recipe, |number, verb, done, total, message| {
        let percent = (100 * u64::from(done) / u64::from(total.max(1))) as u32;
        progress.percent(&format!("step {number} of {steps}, {verb}: {message}"), percent);
        !stopper.asked()
    });
    progress.end();
    outcome?;
    match cook.shot().map(|id| store.shot(id)).transpose()? {
        Some(state) => println!("{steps} steps done: shot {} {:?}", state.shot.id.0, state.shot.name),
        None => println!("{steps} steps done"),
    }
    Ok(())
}

/// Options of `fennik show`.
#[derive(clap::Args)]
pub struct ShowArguments {
    /// The shot's number or name; all shots where none is named.
    shot: Option<String>,
    /// As JSON.
    #[arg(long)]
    json: bool,
    /// The data folder.
    #[arg(long, value_name = "DIR")]
    data: Option<PathBuf>,
}

/// Prints what there is.
pub fn show(arguments: &ShowArguments) -> Result<(), CliError> {
    let told = |value: &serde_json::Value| serde_json::to_string_pretty(value);
    let Some(name) = &arguments.shot else {
        let store = super::open_shots(arguments.data.as_ref())?;
        let shots = store.shots()?;
        if arguments.json {
            let all: Vec<_> = shots.iter().map(|s| serde_json::json!({ "shot": s.id, "name": s.name })).collect();
            println!("{}", told(&serde_json::json!({ "shots": all }))?);
        } else {
            shots.iter().for_each(|s| println!("{} {:?}", s.id.0, s.name));
        }
        return Ok(());
    };
    let (store, shot) = open_existing(arguments.data.as_ref(), name)?;
    let value = recipe::show::of_shot(&store, &shot)?;
    if arguments.json {
        println!("{}", told(&value)?);
        return Ok(());
    }
    println!(
        "shot {} {:?}: {}, {}x{} px, frames {} to {}",
        value["shot"],
        shot.state.shot.name,
        shot.clip_row.name,
        shot.clip.width,
        shot.clip.height,
        shot.document().trim.first,
        shot.document().trim.last
    );
    let readings = &value["readings"];
    if let Some(rms) = readings["solve"]["rms_px"].as_f64() {
        println!(
            "solve: {rms:.3} px · {} · {} of {} frames",
            readings["solve"]["verdict"].as_str().unwrap_or(""),
            readings["solve"]["frames_solved"],
            readings["solve"]["frames"]
        );
    }
    if let Some(fit) = readings["datum"]["floor"]["fit_px"].as_f64() {
        println!("floor: {fit:.2} px · {} points", readings["datum"]["floor"]["points"]);
    }
    for insert in value["inserts"].as_array().into_iter().flatten() {
        println!("{}: {}", insert["kind"].as_str().unwrap_or(""), insert["name"].as_str().unwrap_or(""));
    }
    Ok(())
}
