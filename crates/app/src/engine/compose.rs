//! All that a finished frame is made from, over the whole shot.

use super::assets::{self, AssetFiles, ShotAssets};
use super::fronts::{self, Asked};
use super::{EngineError, OpenShot, turn};
use fennik_core::camera::{Camera, CameraPath};
use fennik_core::colour::{ColourTable, PlateLaw, Primaries, Transfer, encode};
use fennik_core::matte::Coverage;
use fennik_core::scene::anim::Numbers;
use fennik_core::scene::{Asset, HoldoutBy, Insert, InsertKind, ShotDocument};
use fennik_core::solve::Solution;
use fennik_render::{
    Assets, ByteCube, Canvas, Drawing, Finisher, Fronts, LensPass, Projected, Quality, RenderScene, ShapeCache, colour,
    composite_on,
};
use fennik_store::Store;
use rayon::prelude::*;
use std::sync::{Arc, Mutex, PoisonError};

/// Makes finished frames of a shot.
pub struct Composer {
    document: ShotDocument,
    solution: Option<Arc<Solution>>,
    scene: RenderScene,
    assets: Arc<dyn Assets>,
    table: Option<Arc<ColourTable>>,
    clip_width: u32,
    /// What the code values of the plate mean; and a quick table from them to display values, where they are none.
    law: PlateLaw,
    quick_law: Option<ByteCube>,
    /// What is done over all on the frame that was asked for last.
    finisher: Mutex<Option<(u32, Arc<Finisher>)>>,
}

/// The law of a shot's plate: as its file says, or as its document does.
fn plate_law(store: &Store, shot: &OpenShot, document: &ShotDocument) -> Result<PlateLaw, EngineError> {
    let of = &document.plate;
    let table = of.table.as_ref().map(|t| assets::table_of(store, t)).transpose()?;
    let (transfer, primaries) =
        (of.transfer.unwrap_or(shot.clip.transfer), of.primaries.unwrap_or(shot.clip.primaries));
    Ok(PlateLaw::new(transfer, primaries, table))
}

/// Whether the plate of a shot is shown otherwise than its preview frames are.
pub fn shows_plate_anew(shot: &OpenShot) -> bool {
    let of = &shot.document().plate;
    let plain = (Transfer::Display, Primaries::Bt709);
    let own = (of.transfer.unwrap_or(shot.clip.transfer), of.primaries.unwrap_or(shot.clip.primaries));
    of.table.is_some() || own != plain
}

/// All files that a document shows.
fn files_of(document: &ShotDocument) -> impl Iterator<Item = &Asset> {
    let mattes = document.holding.holdouts.iter().filter_map(|h| match &h.by {
        HoldoutBy::Matte { asset, .. } => Some(asset),
        _ => None,
    });
    let around = document.light.surroundings.iter().map(|s| &s.asset);
    document.placing.inserts.iter().flat_map(|i: &Insert| i.content.assets()).chain(mattes).chain(around)
}

impl Composer {
    /// For a document of a shot, with its camera where it has one.
    ///
    /// # Errors
    /// [`EngineError`] when an insert cannot be made or a file cannot be read.
    pub fn new(
        store: &Store,
        (files, shapes): (&Arc<AssetFiles>, &ShapeCache),
        shot: &OpenShot,
        document: ShotDocument,
        solution: Option<Arc<Solution>>,
    ) -> Result<Self, EngineError> {
        let assets = ShotAssets::of_all(store, files, files_of(&document), Some(shot))?;
        let scene = RenderScene::build(&document.placing.inserts, &document.light, shapes, &assets)?
            .pausing(turn::give_way)
            .behind(fronts::walls(&document))
            .on_surfaces(document.surfacing.surfaces.clone())
            .held_apart(fronts::apart(&document))
            .in_haze(document.lens.clone());
        let table = match &document.finish.table {
            Some(table) if !document.finish.off => Some(assets::table_of(store, table)?),
            _ => None,
        };
        let law = plate_law(store, shot, &document)?;
        let shown = |code: [f32; 3]| law.light(code).map(|v| encode(v.clamp(0.0, 1.0)));
        let quick_law = (!law.is_plain()).then(|| ByteCube::of(shown));
        Ok(Self {
            law,
            quick_law,
            document,
            solution,
            scene,
            assets,
            table,
            clip_width: shot.clip.width,
            finisher: Mutex::default(),
        })
    }

    /// For a shot as it stands, read from its store.
    ///
    /// # Errors
    /// As [`Composer::new`].
    pub fn of_shot(store: &Store, shot: &OpenShot) -> Result<Self, EngineError> {
        let document = shot.document().clone();
        let solution = document.solving.solve.map(|_| shot.solution(store)).transpose()?.map(Arc::new);
        Self::new(store, (&Arc::default(), &ShapeCache::default()), shot, document, solution)
    }

    /// The document that it was made from.
    pub fn document(&self) -> &ShotDocument {
        &self.document
    }

    /// The camera of a frame for pictures of a width; `None` where it was not solved.
    fn camera_at(&self, frame: u32, width: u32) -> Option<Camera> {
        let solution = self.solution.as_ref()?;
        let camera = CameraPath::new(solution, &self.document.datum.world_from_solve).at(frame)?;
        Some(camera.scaled(f64::from(width) / f64::from(solution.width)))
    }

    /// What is done over all on a frame.
    fn finisher(&self, frame: u32) -> Arc<Finisher> {
        let held = || self.finisher.lock().unwrap_or_else(PoisonError::into_inner);
        let changes = self.document.finish.changes();
        if let Some((_, there)) = held().as_ref().filter(|(of, _)| !changes || *of == frame) {
            return there.clone();
        }
        let finish = if self.document.finish.off { Default::default() } else { self.document.finish.clone() };
        let now = finish.at(f64::from(frame), self.document.trim.count());
        let made = Arc::new(Finisher::new(now, self.table.clone()));
        *held() = Some((frame, made.clone()));
        made
    }

    /// How a frame is drawn.
    fn drawing(&self, frame: u32, quality: Quality) -> Drawing {
        let look = &self.document.lens;
        let now = look.at(f64::from(frame));
        let (shutter, phase) = (self.document.placing.shutter, now.phase);
        let lens = Some(LensPass::new(now, look.measured.grain.clone(), u64::from(frame)));
        Drawing { quality, shutter, phase, lens }
    }

    /// An insert as it is lit, without what is done to its colours, alone.
    ///
    /// # Errors
    /// [`EngineError`] when it cannot be made.
    pub fn alone(&self, insert: &Insert) -> Result<RenderScene, EngineError> {
        let all = self.document.placing.inserts.iter().cloned();
        let alone: Vec<Insert> = all
            .map(|i| {
                let is = i.id == insert.id;
                // What it hangs on stays, unseen; lamps light it.
                let seen = is || matches!(i.content, InsertKind::Lamp(_));
                let opacity = if seen { i.opacity.clone() } else { 0.0.into() };
                let (grade, drawn) = (Numbers::default(), None);
                Insert { opacity, grade, drawn, hidden: i.hidden && !is, solo: false, ..i }
            })
            .collect();
        let mut light = self.document.light.clone();
        light.floor_shadow = 0.0.into();
        light.catchers.clear();
        Ok(RenderScene::build(&alone, &light, &ShapeCache::default(), &self.assets)?)
    }

    /// What a scene shows on a frame over nothing: light times how much of it is there, and that; `None` without a camera.
    ///
    /// # Errors
    /// [`EngineError`] when it cannot be drawn.
    pub fn over_nothing(
        &self,
        scene: &RenderScene,
        frame: u32,
        (width, height): (u32, u32),
    ) -> Result<Option<Vec<[f32; 4]>>, EngineError> {
        let Some(camera) = self.camera_at(frame, width) else { return Ok(None) };
        let size = [width as usize, height as usize];
        let how = Drawing { quality: Quality::Draft, shutter: 0.0, phase: 0.0, lens: None };
        let over = |ground: f32| -> Result<Vec<[f32; 3]>, EngineError> {
            let mut picture = vec![[ground; 3]; size[0] * size[1]];
            composite_on(&mut Canvas::Light(&mut picture), size, &camera, scene, &how, &Fronts::none())?;
            Ok(picture)
        };
        let (black, white) = (over(0.0)?, over(1.0)?);
        let part = |b: &[f32; 3], w: &[f32; 3]| (1.0 - (w[1] - b[1])).clamp(0.0, 1.0);
        Ok(Some(black.iter().zip(&white).map(|(b, w)| [b[0], b[1], b[2], part(b, w)]).collect()))
    }

    /// What stands in front on a frame, of a plate of display bytes.
    ///
    /// # Errors
    /// [`EngineError`] names the holdout whose picture cannot be read.
    fn fronts(&self, frame: u32, size: [usize; 2], rgb: &[u8]) -> Result<Fronts, EngineError> {
        self.fronts_of(frame, size, &mut || colour::light_of(rgb))
    }

    /// The matte of a frame: what stands in front of everything, and surfaces that hide what lies behind them, where there
    /// is any of that.
    ///
    /// # Errors
    /// As [`Composer::fronts`].
    pub fn matte(&self, frame: u32, size: [usize; 2], rgb: &[u8]) -> Result<Option<Arc<Coverage>>, EngineError> {
        let fronts = self.fronts(frame, size, rgb)?;
        let camera = self.camera_at(frame, size[0] as u32);
        Ok(fronts::with_walls(&self.document, frame, camera.as_ref(), size, fronts.all.or(fronts.plate)))
    }

    fn fronts_of(
        &self,
        frame: u32,
        size: [usize; 2],
        plate: &mut dyn FnMut() -> Vec<[f32; 3]>,
    ) -> Result<Fronts, EngineError> {
        let light = if fronts::asks_plate(&self.document, frame) { plate() } else { Vec::new() };
        let camera = |frame: u32| self.camera_at(frame, size[0] as u32);
        let asked = Asked {
            frame,
            size,
            clip_width: self.clip_width,
            plate: &light,
            camera: &camera,
            assets: self.assets.as_ref(),
        };
        fronts::fronts(&self.document, &asked)
    }

    /// What a camera sees of the scene for a quick look, found out before the plate is there; `None` without a camera. For
    /// an exact picture everything is only put in its place.
    ///
    /// # Errors
    /// [`EngineError::Render`] names the insert whose picture of that time cannot be read.
    pub fn ahead(
        &self,
        camera_of: u32,
        (width, height): (u32, u32),
        quality: Quality,
    ) -> Result<Option<Projected>, EngineError> {
        let Some(camera) = self.camera_at(camera_of, width) else { return Ok(None) };
        if quality == Quality::Draft {
            return Ok(Some(Projected::new(&camera, [width as usize, height as usize], &self.scene, quality)?));
        }
        self.scene.prepare(&camera);
        Ok(None)
    }

    /// What a delivery is made for: the law of its code values.
    pub fn law(&self) -> &PlateLaw {
        &self.law
    }

    /// Finishes a frame over its plate in full depth: code values 0 to 1, three a pixel, of the clip's size; what nothing is
    /// done to stays what it was.
    ///
    /// # Errors
    /// As [`Composer::finish`].
    pub fn finish_deep(&self, codes: &mut [[f32; 3]], size: (u32, u32), frame: u32) -> Result<(), EngineError> {
        let (width, height) = size;
        let whole = [width as usize, height as usize];
        let mut light: Vec<[f32; 3]> = codes.par_iter().map(|c| self.law.light(*c)).collect();
        let camera = self.camera_at(frame, width);
        let fronts =
            if camera.is_some() { self.fronts_of(frame, whole, &mut || light.clone())? } else { Fronts::none() };
        let mut canvas = Canvas::Light(&mut light);
        if let Some(camera) = &camera {
            composite_on(&mut canvas, whole, camera, &self.scene, &self.drawing(frame, Quality::Exact), &fronts)?;
        }
        self.finisher(frame).apply(&mut canvas, whole);
        codes.par_iter_mut().zip(&light).for_each(|(code, light)| *code = self.law.code(*light));
        Ok(())
    }

    /// Finishes a frame over its plate, display bytes of any size of the shot's frame; what is placed is drawn as the
    /// camera of `camera_of` sees it, and a frame without a camera has nothing placed. `ahead` is what was found out
    /// before.
    ///
    /// # Errors
    /// [`EngineError`] names the insert or the holdout whose picture of that time cannot be read.
    pub fn finish(
        &self,
        rgb: &mut [u8],
        (width, height): (u32, u32),
        (frame, camera_of): (u32, u32),
        quality: Quality,
        ahead: Option<Projected>,
    ) -> Result<(), EngineError> {
        let size = [width as usize, height as usize];
        if let Some(table) = &self.quick_law {
            // What is drawn on is what is seen.
            rgb.par_chunks_exact_mut(3).for_each(|p| {
                p.copy_from_slice(&table.look([p[0], p[1], p[2]]));
            });
        }
        let finisher = self.finisher(frame);
        let camera = self.camera_at(camera_of, width);
        let fronts = if camera.is_some() { self.fronts(frame, size, rgb)? } else { Fronts::none() };
        let how = self.drawing(frame, quality);
        let lens_acts = how.lens.as_ref().is_some_and(LensPass::acts);
        let draw = |canvas: &mut Canvas| -> Result<(), EngineError> {
            match (&ahead, &camera) {
                (Some(projected), _) => projected.draw(canvas, &fronts),
                (None, Some(camera)) => {
                    composite_on(canvas, size, camera, &self.scene, &how, &fronts)?;
                }
                (None, None) => {}
            }
            Ok(())
        };
        if quality == Quality::Draft || (finisher.is_plain() && !lens_acts) {
            let mut canvas = Canvas::Bytes(rgb);
            draw(&mut canvas)?;
            finisher.apply(&mut canvas, size);
            return Ok(());
        }
        let mut light = colour::light_of(rgb);
        let mut canvas = Canvas::Light(&mut light);
        draw(&mut canvas)?;
        finisher.apply(&mut canvas, size);
        colour::write_bytes(&light, rgb);
        Ok(())
    }
}
