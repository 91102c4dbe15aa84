//! `fennik bench --inserts`: a full scene over the demo clip, as the server gives it to a page.

use super::error::CliError;
use super::{Scratch, peak_mb, processor_ms};
use crate::engine::assets::{self, ShotAssets, TakenAsset};
use crate::engine::kinds::{self, When, Wish};
use crate::engine::{EngineError, OpenShot, finishing, import, library, picture, plain, surroundings};
use crate::jobs::Jobs;
use crate::web;
use fennik_core::matte::{Mask, MaskMode, OutlineKey};
use fennik_core::scene::{
    Copies, Edit, FinishEdit, HoldoutEdit, Insert, InsertKind, Light, LightEdit, Placement, PlacingEdit, ShotDocument,
    Stance, Surroundings,
};
use fennik_render::{RenderScene, ShapeCache};
use fennik_store::{ShotId, Store};
use nalgebra::Vector3;
use std::fmt::Write as _;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

/// Frames that are drawn one after the other, and as while they play: two are on their way at any time.
const FRAMES: std::ops::Range<u32> = 60..84;
const PLAYED: std::ops::Range<u32> = 84..116;
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

/// Beside a title, two signs (one a clip), a model of 20,000 triangles, an effect, and a row of ten copies.
fn scene(store: &Store, scratch: &Path, title: &Insert) -> Result<Vec<Insert>, EngineError> {
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
        placed("sign", Some(&item("regatta")?), beside(-4.5, -2.0), turn)?,
        placed("sign", Some(&screen), beside(0.0, -3.0), turn)?,
        model,
        placed("effect", Some(&item("smoke")?), beside(4.5, 1.0), turn)?,
        row,
    ])
}

/// What makes the scene belong: surroundings, a soft sun, contact, a holdout that follows, lens and finish.
fn belonging(store: &Store, document: &ShotDocument) -> Result<Vec<Edit>, EngineError> {
    let around = library::take(store, library::item("basin")?)?.into_iter().next().ok_or(EngineError::Fault)?;
    let mut light = document.light.clone();
    light.surroundings = Some(Surroundings::new(around.asset));
    (light.sun_width_deg, light.ambient) = (3.0.into(), 0.0.into());
    let key = |name: &str, value: f64| (name.to_owned(), serde_json::json!(value));
    surroundings::set_catch(&mut light, None, When::At(0.0), "contact", &serde_json::json!(0.6))?;
    let outline = |x: f64| vec![[x, 200.0], [x + 160.0, 180.0], [x + 200.0, 700.0], [x - 30.0, 700.0]];
    let keys = [(40, 500.0), (140, 760.0)].map(|(frame, x)| OutlineKey::new(frame, outline(x)));
    let mut mask = Mask::new(MaskMode::Shape, keys.into());
    (mask.name, mask.feather_px, mask.outline.smooth) = ("walker".into(), 6.0, vec![true; 4]);
    let mut finish = document.finish.clone();
    for (name, value) in [key("exposure", 0.1), key("contrast", 1.08), key("warmth", 12.0), key("vignette", 0.2)] {
        finishing::set(&mut finish, When::At(0.0), &name, &value)?;
    }
    Ok(vec![
        Edit::Light(LightEdit::Light { light }),
        Edit::Holding(HoldoutEdit::DrawHoldout { mask }),
        Edit::Finish(FinishEdit::Finish { finish }),
    ])
}

/// Times the scene and prints it, with the peak memory of the process; where it is to belong, with all that makes it so.
pub fn run(keep: Option<&Path>, belongs: bool) -> Result<Vec<Row>, CliError> {
    let scratch = Scratch::new()?;
    let store = Arc::new(Store::open(&scratch.path().join("data")).map_err(EngineError::from)?);
    plain::ensure(&store)?;
    let found = store.shots().map_err(EngineError::from)?;
    let id = found.iter().find(|s| s.name.contains("finished")).ok_or(EngineError::Fault)?.id;
    import::decode_all(&store, &[id], &mut |_, _, _| true)?;
    let title = OpenShot::load(&store, id)?.document().placing.inserts.first().cloned().ok_or(EngineError::Fault)?;
    let edits = scene(&store, scratch.path(), &title)?.into_iter().map(|insert| PlacingEdit::AddInsert { insert });
    for edit in edits.chain([PlacingEdit::SetShutter { shutter: 0.5 }]) {
        store.edit(id, None, &Edit::Placing(edit)).map_err(EngineError::from)?;
    }
    if belongs {
        let document = OpenShot::load(&store, id)?.document().clone();
        for edit in belonging(&store, &document)? {
            store.edit(id, None, &edit).map_err(EngineError::from)?;
        }
    }
    let shot = OpenShot::load(&store, id)?;
    let triangles = triangles(&store, &shot)?;
    let page = Page::open(store.clone(), id, picture::key(&shot))?;
    // The first of each reads files and makes what is kept.
    page.draft(FRAMES.start)?;
    let time = |ask: &dyn Fn(u32) -> Result<Vec<u8>, CliError>, frames: std::ops::Range<u32>| {
        let (began, count) = (Instant::now(), frames.len() as f64);
        for frame in frames {
            ask(frame)?;
        }
        Ok::<_, CliError>(count / began.elapsed().as_secs_f64())
    };
    let draft = time(&|frame| page.draft(frame), FRAMES)?;
    let again = time(&|frame| page.draft(frame), FRAMES)?;
    let played = play(&page)?;
    // What the machine gives to others does not count in it.
    let before = processor_ms();
    let played_again = play(&page)?;
    let processor = (processor_ms() - before) / PLAYED.len() as f64;
    // Exact pictures wait until nobody has looked at drafts for a moment.
    std::thread::sleep(std::time::Duration::from_millis(300));
    let first = page.exact(FRAMES.start)?;
    let exact = time(&|frame| page.exact(frame), FRAMES.start + 1..FRAMES.start + 7)?;
    if let Some(folder) = keep {
        let failed = |why| CliError::Unwritten { path: folder.to_owned(), why };
        std::fs::write(folder.join("inserts-exact.jpg"), first).map_err(failed)?;
    }
    // As while something is dragged.
    let mut moved = title;
    let pull = |moved: &mut Insert| {
        moved.placement.anchor.foot.map(|f| [f[0] + 0.05, f[1], f[2]]);
        page.dragged(FRAMES.start, moved)
    };
    let dragged = pull(&mut moved)?;
    let drags = 12;
    let began = Instant::now();
    for _ in 0..drags {
        pull(&mut moved)?;
    }
    let drag = began.elapsed().as_secs_f64() / f64::from(drags);
    if let Some(folder) = keep {
        std::fs::write(folder.join("inserts-draft.jpg"), dragged)
            .map_err(|why| CliError::Unwritten { path: folder.to_owned(), why })?;
    }
    Ok(vec![
        ("inserts: triangles, copies included", triangles as f64, "triangles"),
        ("inserts: drafts over HTTP, played", played, "frames/s"),
        ("inserts: the same, clips seen before", played_again, "frames/s"),
        ("inserts: drafts over HTTP, one by one", draft, "frames/s"),
        ("inserts: the same, clips seen before", again, "frames/s"),
        ("inserts: processor time of such a draft", processor, "ms"),
        ("inserts: exact over HTTP, 16 moments", exact, "frames/s"),
        ("inserts: a step of a drag over HTTP", 1e3 * drag, "ms"),
        ("inserts: peak memory", peak_mb(), "MB"),
    ])
}

/// Drafts a second as while frames play.
fn play(page: &Page) -> Result<f64, CliError> {
    let began = Instant::now();
    std::thread::scope(|with| {
        let ask = |first: u32| {
            let other = page.another()?;
            PLAYED.skip(first as usize).step_by(2).try_for_each(|frame| other.draft(frame).map(drop))
        };
        let both = [0, 1].map(|first| with.spawn(move || ask(first)));
        both.into_iter().try_for_each(|one| one.join().unwrap_or_else(|fault| std::panic::resume_unwind(fault)))
    })?;
    Ok(PLAYED.len() as f64 / began.elapsed().as_secs_f64())
}

/// All triangles of a shot's inserts.
fn triangles(store: &Store, shot: &OpenShot) -> Result<usize, CliError> {
    let inserts = &shot.document().placing.inserts;
    let files = ShotAssets::of(store, &Arc::default(), inserts, Some(shot))?;
    let built = RenderScene::build(inserts, &Light::default(), &ShapeCache::default(), &files);
    let bodies = built.and_then(|b| b.bodies(f64::from(FRAMES.start), Vector3::zeros())).map_err(EngineError::from)?;
    Ok(bodies.iter().map(|b| b.mesh.indices.len()).sum())
}

/// What asks for pictures as the page does: one connection that stays open.
struct Page {
    address: std::net::SocketAddr,
    stream: Mutex<BufReader<TcpStream>>,
    shot: ShotId,
    /// Of the pictures.
    key: String,
}

impl Page {
    /// Begins to serve a project, and opens a shot of it. The server goes with the process.
    fn open(store: Arc<Store>, shot: ShotId, key: String) -> Result<Self, CliError> {
        let listener = TcpListener::bind(("127.0.0.1", 0))?;
        let address = listener.local_addr()?;
        let jobs = Jobs::start(store.clone());
        let (tell, up) = std::sync::mpsc::channel();
        std::thread::spawn(move || web::serve(listener, store, jobs, move || tell.send(()).unwrap_or_default()));
        let _ = up.recv();
        Self::at(address, shot, key)
    }

    fn at(address: std::net::SocketAddr, shot: ShotId, key: String) -> Result<Self, CliError> {
        let stream = TcpStream::connect(address)?;
        stream.set_nodelay(true)?;
        Ok(Self { address, stream: Mutex::new(BufReader::new(stream)), shot, key })
    }

    /// One more connection to the same.
    fn another(&self) -> Result<Self, CliError> {
        Self::at(self.address, self.shot, self.key.clone())
    }

    fn draft(&self, frame: u32) -> Result<Vec<u8>, CliError> {
        self.ask("GET", &format!("picture/{frame}?key={}&quick=true", self.key), "")
    }

    fn exact(&self, frame: u32) -> Result<Vec<u8>, CliError> {
        self.ask("GET", &format!("picture/{frame}?key={}", self.key), "")
    }

    fn dragged(&self, frame: u32, insert: &Insert) -> Result<Vec<u8>, CliError> {
        let body = serde_json::json!({ "frame": frame, "insert": insert });
        self.ask("POST", "draft", &body.to_string())
    }

    fn ask(&self, method: &str, what: &str, body: &str) -> Result<Vec<u8>, CliError> {
        let mut stream = self.stream.lock().unwrap_or_else(PoisonError::into_inner);
        write!(
            stream.get_mut(),
            "{method} /shots/{}/{what} HTTP/1.1\r\nHost: {}\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
            self.shot.0,
            self.address,
            body.len()
        )?;
        let (mut status, mut length) = (String::new(), 0);
        stream.read_line(&mut status)?;
        loop {
            let mut line = String::new();
            stream.read_line(&mut line)?;
            let line = line.trim_end().to_ascii_lowercase();
            if let Some(count) = line.strip_prefix("content-length:") {
                length = count.trim().parse().unwrap_or(0);
            }
            if line.is_empty() {
                break;
            }
        }
        let mut answer = vec![0; length];
        stream.read_exact(&mut answer)?;
        if status.contains(" 200 ") { Ok(answer) } else { Err(CliError::Refused { what: what.to_owned(), status }) }
    }
}
