//! An insert's shape with what it looks like.

use crate::assets::{AssetError, Assets, Rig, Run, Treatment};
use crate::colour::linear_of;
use crate::material::{ChannelMap, Cover, Map, Material, Matte};
use crate::shape::{OnFoot, ShapeCache, ShapeError};
use crate::{Mesh, Texture, Wrap};
use fennik_core::scene::{Effect, Finish, Insert, InsertKind, Keyed, MaterialChange, ModelMap, Prop, Spread, Title};
use std::borrow::Cow;
use std::sync::Arc;

/// How much of what lies behind glass letters is covered.
const GLASS: f32 = 0.35;

/// What is shown over time.
#[derive(Debug)]
pub(crate) enum Shown {
    /// The same all the time.
    Still(Vec<Arc<Material>>),
    /// A clip on the first of these materials.
    Clip { run: Run, treatment: Treatment, materials: Vec<Material> },
    /// A model that moves by itself, for so many frames.
    Moving { rig: Arc<dyn Rig>, foot: OnFoot, frames: f64, materials: Vec<Arc<Material>> },
}

/// An insert's shape with what it looks like.
#[derive(Debug)]
pub(crate) struct Dressed {
    mesh: Arc<Mesh>,
    pub shown: Shown,
}

impl Dressed {
    pub fn new(insert: &Insert, shapes: &ShapeCache, assets: &dyn Assets) -> Result<Self, ShapeError> {
        insert.validate()?;
        let mut made = dressed(insert, shapes, assets)?;
        if insert.flipped != [false; 2] {
            made.mesh = Arc::new(made.mesh.mirrored(insert.flipped));
        }
        Ok(made)
    }

    /// In the insert's own frame at a time, frames; `None` where nothing is there any more.
    pub fn shape(&self, insert: &Insert, frame: f64) -> Option<Cow<'_, Mesh>> {
        let (Shown::Moving { rig, foot, frames, .. }, Some(play)) = (&self.shown, insert.content.play()) else {
            return Some(Cow::Borrowed(&self.mesh));
        };
        let at = play.position_at(frame, *frames)?;
        let (positions, normals) = rig.posed(at / frames.max(1e-9) * rig.length_s());
        let posed = foot.put(Mesh { positions, normals, ..(*self.mesh).clone() });
        Some(Cow::Owned(if insert.flipped == [false; 2] { posed } else { posed.mirrored(insert.flipped) }))
    }

    /// What it looks like at a time; `None` where nothing is shown then.
    pub fn materials(
        &self,
        insert: &Insert,
        frame: f64,
        assets: &dyn Assets,
    ) -> Result<Option<Vec<Arc<Material>>>, AssetError> {
        let (run, treatment, materials) = match &self.shown {
            Shown::Still(materials) | Shown::Moving { materials, .. } => return Ok(Some(materials.clone())),
            Shown::Clip { run, treatment, materials } => (run, treatment, materials),
        };
        let (Some(asset), Some(play)) = (insert.content.asset(), insert.content.play()) else { return Ok(None) };
        let Some(at) = play.frame_at(frame, run.frames, run.rate) else { return Ok(None) };
        let texture = assets.picture(&asset.name, at, treatment)?;
        let mut materials: Vec<Material> = materials.clone();
        materials[0].base_map = Some(front_map(&insert.content, texture));
        Ok(Some(materials.into_iter().map(Arc::new).collect()))
    }
}

fn dressed(insert: &Insert, shapes: &ShapeCache, assets: &dyn Assets) -> Result<Dressed, ShapeError> {
    let content = &insert.content;
    if let InsertKind::Prop(prop) = content {
        return self::prop(prop, shapes, assets);
    }
    let mesh = shapes.shape(content, insert.placement.stance, assets)?;
    let made = |shown| Ok(Dressed { mesh, shown });
    if let InsertKind::Title(title) = content {
        return made(Shown::Still(letters(title, assets)?));
    }
    let plain = Material::matt(content.base_colour().map(linear_of));
    let Some(asset) = content.asset() else { return made(Shown::Still(vec![Arc::new(plain)])) };
    let treatment = match content {
        InsertKind::Sign(sign) => Treatment { alpha: sign.alpha, ..Treatment::default() },
        InsertKind::Effect(effect) => Treatment { key: effect.key, ..Treatment::default() },
        _ => Treatment::default(),
    };
    let mut front = Material { base: [1.0; 4], cover: Cover::Blend, ..plain.clone() };
    match content {
        InsertKind::Sign(sign) => front.glows = sign.glows,
        InsertKind::Effect(effect) => (front.glows, front.casts) = (is_light(effect), false),
        InsertKind::Backdrop(far) => {
            (front.glows, front.casts) = (true, false);
            let horizon = far.above_horizon.then_some(far.fade_deg.to_radians() as f32);
            let plate = (far.plate_from > 0.0).then_some((far.plate_from as f32, far.plate_soft as f32));
            if horizon.is_some() || plate.is_some() {
                front.matte = Some(Matte { horizon, plate });
            }
        }
        InsertKind::Title(_) | InsertKind::Prop(_) | InsertKind::Marker => {}
    }
    let edge = Material { two_sided: true, ..plain };
    let run = assets.run(&asset.name)?;
    if run.frames > 1 {
        return made(Shown::Clip { run, treatment, materials: vec![front, edge] });
    }
    front.base_map = Some(front_map(content, assets.picture(&asset.name, 0, &treatment)?));
    made(Shown::Still(vec![Arc::new(front), Arc::new(edge)]))
}

fn prop(prop: &Prop, shapes: &ShapeCache, assets: &dyn Assets) -> Result<Dressed, ShapeError> {
    let model = assets.model(&prop.asset.name)?;
    let changed = |(i, material): (usize, &Material)| {
        let change = model.names.get(i).and_then(|name| prop.materials.get(name));
        Ok(Arc::new(match change {
            Some(change) => with_change(material, change, assets)?,
            None => material.clone(),
        }))
    };
    let materials = model.materials.iter().enumerate().map(changed).collect::<Result<Vec<_>, ShapeError>>()?;
    let mesh = shapes.model(prop, &model);
    let rig = model.rig.as_ref().filter(|_| !prop.held);
    let Some(rig) = rig else { return Ok(Dressed { mesh, shown: Shown::Still(materials) }) };
    let frames = f64::from(assets.run(&prop.asset.name)?.frames);
    let foot = OnFoot::of(&model.mesh, prop);
    Ok(Dressed { mesh, shown: Shown::Moving { rig: rig.clone(), foot, frames, materials } })
}

/// A material with what was changed of it.
fn with_change(of: &Material, change: &MaterialChange, assets: &dyn Assets) -> Result<Material, ShapeError> {
    let mut made = of.clone();
    if let Some(colour) = change.colour {
        let [r, g, b] = colour.map(linear_of);
        made.base = [r, g, b, of.base[3]];
    }
    made.metal = change.metal.map_or(made.metal, |v| v as f32);
    made.rough = change.rough.map_or(made.rough, |v| v as f32);
    if let Some(glow) = change.glow {
        made.emission = std::array::from_fn(|k| made.base[k] * glow as f32);
    }
    for (which, asset) in &change.maps {
        let numbers = !matches!(which, ModelMap::Base | ModelMap::Emission);
        let treatment = Treatment { numbers, ..Treatment::default() };
        // It lies as the one lay that it replaces.
        let base = of.base_map.as_ref();
        let mut map = Map::new(assets.picture(&asset.name, 0, &treatment)?);
        map.wrap = base.map_or([Wrap::Repeat; 2], |m| m.wrap);
        map.transform = base.map_or(map.transform, |m| m.transform);
        match which {
            ModelMap::Base => made.base_map = Some(map),
            ModelMap::Emission => made.emission_map = Some(map),
            ModelMap::Normal => made.normal_map = Some(map),
            ModelMap::Metal => made.metal_map = Some(ChannelMap::new(map, 0)),
            ModelMap::Rough => made.rough_map = Some(ChannelMap::new(map, 0)),
            ModelMap::Gloss => made.rough_map = Some(ChannelMap { inverted: true, ..ChannelMap::new(map, 0) }),
        }
    }
    Ok(made)
}

/// Face, bevel and sides of letters.
fn letters(title: &Title, assets: &dyn Assets) -> Result<Vec<Arc<Material>>, ShapeError> {
    let set = &title.lettering;
    let colours = [Some(title.colour), set.bevel_colour, set.side_colour].map(|c| c.unwrap_or(title.colour));
    let parts = colours.into_iter().zip(set.coverings());
    let made = parts.map(|(colour, covering)| {
        let mut material = finished(colour.map(linear_of), set.finish);
        if let Some(covering) = covering {
            let mut map = Map::new(assets.picture(&covering.asset.name, 0, &Treatment::default())?);
            map.wrap = [Wrap::Repeat; 2];
            let alpha = material.base[3];
            material.base = [1.0, 1.0, 1.0, alpha];
            material.base_map = Some(map);
        }
        Ok(Arc::new(material))
    });
    made.collect()
}

/// A colour, linear light, in a finish.
fn finished(colour: [f32; 3], finish: Finish) -> Material {
    let plain = Material::matt(colour);
    let shiny = |rough, metal| Material { rough, metal, shines: true, ..Material::matt(colour) };
    match finish {
        Finish::Matt => plain,
        Finish::Satin => shiny(0.42, 0.0),
        Finish::Metal => shiny(0.28, 1.0),
        Finish::Glass => {
            let [r, g, b] = colour;
            Material { base: [r, g, b, GLASS], cover: Cover::Blend, ..shiny(0.06, 0.0) }
        }
        Finish::Glow => Material { glows: true, casts: false, ..plain },
    }
}

/// A picture as it lies on the front; round a dome it meets itself.
fn front_map(content: &InsertKind, texture: Arc<Texture>) -> Map {
    let mut map = Map::new(texture);
    if matches!(content, InsertKind::Backdrop(far) if far.spread == Spread::Dome) {
        map.wrap[0] = Wrap::Repeat;
    }
    map
}

/// What was shot on black gives light; what has its own alpha is lit by the scene's.
fn is_light(effect: &Effect) -> bool {
    effect.key.by == Keyed::Black
}
