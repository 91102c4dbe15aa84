//! The camera: how it is solved, how good it is, and those that are kept.

use super::job_line::JobLine;
use super::view::{ShotView, Station};
use crate::engine::adopt::{kept_solve, use_kept};
use crate::engine::focal::focal_px;
use crate::engine::{EngineError, SolveRecord};
use crate::web::answer::Editor;
use crate::web::{PageError, views};
use actix_web::{Responder, post, web};
use askama::Template;
use fennik_core::scene::{AnalysisId, Edit, SolvingEdit};
use fennik_core::solve::{LensChoice, Motion, MotionChoice, ReadoutChoice, SolveSettings};
use fennik_store::{AnalysisRow, JobKind, RevisionId, ShotId};
use serde::Deserialize;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(change_settings).service(use_solve).service(name_solve);
}

/// Why a solve is as good as it is.
struct ReasonLine {
    grade: &'static str,
    text: String,
    linked: bool,
}

/// A kept solve.
struct KeptSolve {
    id: i64,
    name: String,
    reading: String,
    current: bool,
    /// What it was made from, where that is not what is in use.
    other: Option<String>,
    /// Whether its frames are those of the trim.
    usable: bool,
}

/// How it is solved, as the form shows it.
struct Settings {
    motion: &'static str,
    lens: &'static str,
    focal: String,
    readout: String,
    centre: String,
}

impl Settings {
    fn of(settings: &SolveSettings) -> Self {
        Self {
            motion: settings.motion.word(),
            lens: settings.lens.word(),
            focal: match (&settings.focal_said, settings.focal_px) {
                (said, Some(_)) if !said.is_empty() => said.clone(),
                (_, Some(px)) => format!("{px:.1} px"),
                _ => String::new(),
            },
            readout: match settings.readout {
                ReadoutChoice::Auto => String::new(),
                ReadoutChoice::None => "0".to_owned(),
                ReadoutChoice::Given(part) => part.to_string(),
            },
            centre: settings.centre.to_string(),
        }
    }
}

/// What is known of the camera in use.
struct Readings {
    lens: String,
    reasons: Vec<ReasonLine>,
    figures: Vec<(&'static str, String)>,
    regions: Vec<Vec<String>>,
    drop_at: String,
    /// Deleted tracks that agree with it.
    again: usize,
}

impl Readings {
    fn of(view: &ShotView) -> Option<Self> {
        let solution = view.solution.as_ref()?;
        let deleted = &view.document().tracking.deleted;
        let reason = |r: &fennik_core::solve::Reason| ReasonLine {
            grade: r.grade.word(),
            text: r.text.clone(),
            linked: r.frames.is_some() || !r.tracks.is_empty(),
        };
        Some(Self {
            lens: views::lens_reading(solution),
            reasons: solution.verdict.reasons.iter().map(reason).collect(),
            figures: views::figures(solution),
            regions: views::region_readings(solution),
            drop_at: format!("{:.2}", 2.5 * solution.rms_px),
            again: solution.agreeing_again.iter().filter(|id| deleted.contains(id)).count(),
        })
    }
}

#[derive(Template)]
#[template(path = "stations/solve.html")]
struct Tools<'a> {
    id: i64,
    job: Option<JobLine>,
    working: bool,
    refine: Option<JobLine>,
    solve_fault: Option<&'a str>,
    has_tracks: bool,
    /// Why what is placed could not come along to the next solve.
    beforehand: Option<String>,
    stale: Option<&'static str>,
    /// Whether the solve is of the tracks in use, so that it can go on.
    own: bool,
    settings: Settings,
    focal_hint: Option<(String, String)>,
    readings: Option<Readings>,
    carried: Option<views::CarriedLine>,
    solves: Vec<KeptSolve>,
}

pub fn station(view: &ShotView) -> Result<Station, EngineError> {
    let document = view.document();
    let stale = stale(view);
    let hint = |mm: f64| {
        let px = view.shot.clip.focal_hint_px().map(|f| format!("{f:.1} px")).unwrap_or_default();
        (format!("{mm:.0} mm on a sensor of 36 x 24 mm"), px)
    };
    let job = view.job(JobKind::Solve);
    let tools = Tools {
        id: view.id(),
        working: job.as_ref().is_some_and(|j| j.active),
        job,
        refine: view.job(JobKind::Refine),
        solve_fault: view.solve_fault.as_deref(),
        has_tracks: view.tracks.is_some(),
        beforehand: beforehand(view),
        stale,
        own: view.shot.solve_is_of_these_tracks(&view.app.store).is_ok(),
        settings: Settings::of(&document.solving.settings),
        focal_hint: view.shot.clip.focal_35mm.map(hint),
        readings: Readings::of(view),
        carried: document.solving.transfer.as_ref().map(views::CarriedLine::of),
        solves: kept_solves(view)?,
    };
    let reading = view.solution.as_ref().map_or_else(|| "not solved".to_owned(), |s| views::solve_reading(s));
    Ok(Station { out_of_date: stale.is_some(), ..Station::new("solve", "Solve", reading, &tools)? })
}

/// All solves of the shot, with what they were made from where that is not what is in use.
fn kept_solves(view: &ShotView) -> Result<Vec<KeptSolve>, EngineError> {
    let document = view.document();
    let line = |(i, r): (usize, AnalysisRow)| {
        let elsewhere = r.trim.filter(|t| *t != document.trim);
        let other = match elsewhere {
            Some(t) => Some(format!("of frames {} to {} of the file", t.first, t.last)),
            None if r.source.is_some() && r.source != document.tracking.run => {
                Some("out of date: of other tracks".to_owned())
            }
            None => None,
        };
        KeptSolve {
            id: r.id.0,
            name: if r.name.is_empty() { format!("solve {}", i + 1) } else { r.name },
            reading: r.reading,
            current: document.solving.solve == Some(r.id),
            other,
            usable: elsewhere.is_none(),
        }
    };
    let rows = view.app.store.solves(view.shot.state.shot.id)?;
    Ok(rows.into_iter().enumerate().map(line).collect())
}

/// What is placed can come along to a camera of the same kind that shares frames with the one that it was laid in;
/// where that is ruled out, it is said before anybody waits for a solve.
fn beforehand(view: &ShotView) -> Option<String> {
    let document = view.document();
    let laid_in = document.laid_in().filter(|_| document.has_laid())?;
    let kept = "the next camera is kept beside the one in use, which stays";
    // A word beforehand is not worth the page where that camera cannot be found.
    let row = view.app.store.analysis(laid_in).ok()?;
    let shared = row
        .trim
        .map(|t| t.last.min(document.trim.last).saturating_add(1).saturating_sub(t.first.max(document.trim.first)));
    if let Some(few) = shared.filter(|s| *s < 2) {
        return Some(format!(
            "What is placed was laid in a camera that shares {few} frames with this trim, so it cannot come along: \
                {kept}."
        ));
    }
    // Only the solve in use is looked at: reading another for every drawing would cost more than the word is worth.
    let motion = view.solution.as_ref().filter(|_| document.solving.solve == Some(laid_in))?.motion;
    let turns = match document.solving.settings.motion {
        MotionChoice::Auto => return None,
        MotionChoice::Nodal => true,
        MotionChoice::Free | MotionChoice::Planar => false,
    };
    let other = turns != (motion == Motion::Nodal);
    other.then(|| format!("Between a camera that turns and one that travels nothing can be carried over: {kept}."))
}

/// Why the solve in use is not what it would be if it were made now.
fn stale(view: &ShotView) -> Option<&'static str> {
    let document = view.document();
    let id = document.solving.solve?;
    if view.shot.solve_is_of_these_tracks(&view.app.store).is_err() {
        return Some("This camera is of other tracks than those in use now. Solve afresh to bring it up to date.");
    }
    let settings = view.app.store.analysis(id).ok().and_then(|a| serde_json::from_str(&a.settings).ok());
    let used_deleted = || {
        let deleted = &document.tracking.deleted;
        view.solution.as_ref().is_some_and(|s| s.points.iter().any(|p| deleted.contains(&p.id)))
    };
    // Solves of the first version kept only their settings; what they used tells the rest.
    let changed = settings.is_some_and(|s: SolveRecord| s != SolveRecord::of(document)) || used_deleted();
    changed.then_some("Tracks or settings changed since this solve. Solve again to bring it up to date.")
}

#[derive(Deserialize)]
struct SolveForm {
    revision: i64,
    focal: String,
    motion: MotionChoice,
    lens: LensChoice,
    readout: String,
    #[serde(default)]
    centre: String,
}

#[post("/shots/{id}/solve-settings")]
async fn change_settings(editor: Editor, form: web::Form<SolveForm>) -> Result<impl Responder, PageError> {
    let form = form.into_inner();
    editor
        .apply(form.revision, move |_, shot| {
            let settings = SolveSettings {
                focal_px: focal_px(&form.focal, shot.clip.width)?,
                focal_said: form.focal.trim().to_owned(),
                focal_hint_px: shot.clip.focal_hint_px(),
                motion: form.motion,
                lens: form.lens,
                readout: form.readout.parse()?,
                centre: form.centre.parse()?,
            };
            Ok(Edit::Solving(SolvingEdit::SolveSettings { settings }))
        })
        .await
}

#[derive(Deserialize)]
struct UseSolveForm {
    revision: i64,
    analysis: AnalysisId,
    /// Even where what is placed cannot come along.
    #[serde(default)]
    anyway: bool,
}

/// Puts a kept solve to use; the datum and what is placed follow it.
#[post("/shots/{id}/use-solve")]
async fn use_solve(editor: Editor, form: web::Form<UseSolveForm>) -> Result<impl Responder, PageError> {
    let form = form.into_inner();
    editor
        .change(move |app, id| {
            use_kept(&app.store, id, RevisionId(form.revision), form.analysis, form.anyway).map(|_| ())
        })
        .await
}

#[derive(Deserialize)]
struct NameForm {
    name: String,
}

#[post("/shots/{id}/solves/{analysis}/name")]
async fn name_solve(
    editor: Editor,
    path: web::Path<(ShotId, AnalysisId)>,
    form: web::Form<NameForm>,
) -> Result<impl Responder, PageError> {
    let analysis = path.1;
    editor
        .change(move |app, id| {
            kept_solve(&app.store, id, &app.store.analysis(analysis)?)?;
            Ok(app.store.name_analysis(analysis, &form.name)?)
        })
        .await
}
