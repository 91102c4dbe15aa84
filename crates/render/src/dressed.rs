//! An insert's shape with what it looks like.

use crate::assets::{AssetError, Assets, Rig, Run, Treatment};
use crate::colour::linear_of;
use crate::material::{ChannelMap, Cover, Map, Material, Matte, MatteShape};
use crate::shape::{OnFoot, ShapeCache, ShapeError};
use crate::{Mesh, Texture, Wrap};
use fennik_core::scene::{
    Effect, Insert, InsertKind, Keyed, LetterFinish, MaterialChange, ModelMap, Prop, Spread, Title,
};
use std::borrow::Cow;
use std::sync::Arc;

/// How much of what lies behind glass letters is covered.
const GLASS: f32 = 0.35;

/// What is shown over time.
#[derive(Debug)]
pub(crate) enum Shown {
    /// The same all the time.
    Still(Vec<Arc<Material>>),
    /// The plate itself on those of the materials that are so marked.
    Plate { materials: Vec<Material>, on: [bool; 3] },
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

    /// What it looks like at a time; `None` where nothing is shown then. `rough`: smaller frames of clips will do.
    pub fn materials(
        &self,
        insert: &Insert,
        frame: f64,
        assets: &dyn Assets,
        rough: bool,
    ) -> Result<Option<Vec<Arc<Material>>>, AssetError> {
        let mut all = self.uncut(insert, frame, assets, rough)?;
        if let (Some(all), Some(shape)) = (&mut all, shape_of(insert, frame)) {
            let shape = Some(Arc::new(shape));
            for material in all.iter_mut().filter(|m| m.matte.is_some()) {
                let matte = material.matte.clone().map(|m| Matte { shape: shape.clone(), ..m });
                *material = Arc::new(Material { matte, ..(**material).clone() });
            }
        }
        Ok(all)
    }

    fn uncut(
        &self,
        insert: &Insert,
        frame: f64,
        assets: &dyn Assets,
        rough: bool,
    ) -> Result<Option<Vec<Arc<Material>>>, AssetError> {
        let (run, treatment, materials) = match &self.shown {
            Shown::Still(materials) | Shown::Moving { materials, .. } => return Ok(Some(materials.clone())),
            Shown::Plate { materials, on } => {
                let texture = assets.plate(frame.floor() as i64, rough)?;
                let dressed = materials.iter().zip(on).map(|(material, on)| {
                    let mut material = material.clone();
                    if *on {
                        material.base_map = Some(repeated(texture.clone()));
                    }
                    Arc::new(material)
                });
                return Ok(Some(dressed.collect()));
            }
            Shown::Clip { run, treatment, materials } => (run, treatment, materials),
        };
        let (Some(asset), Some(play)) = (insert.content.asset(), insert.content.play()) else { return Ok(None) };
        let Some(at) = play.frame_at(frame, run.frames, run.rate) else { return Ok(None) };
        let texture = assets.picture(&asset.name, at, &Treatment { rough, ..*treatment })?;
        let mut materials: Vec<Material> = materials.clone();
        materials[0].base_map = Some(front_map(&insert.content, texture));
        Ok(Some(materials.into_iter().map(Arc::new).collect()))
    }
}

/// The shape on the picture in which a far picture is seen at a time, frames.
fn shape_of(insert: &Insert, frame: f64) -> Option<MatteShape> {
    let InsertKind::Backdrop(far) = &insert.content else { return None };
    let cut = far.cutout.as_ref()?;
    let corners = cut.outline.shape_at(frame.round().max(0.0) as u32);
    let corners = corners.into_iter().map(|c| c.map(|v| (v + 0.5) / cut.width_px)).collect();
    Some(MatteShape { corners, soft: cut.soft_px / cut.width_px, inverted: cut.inverted })
}

fn dressed(insert: &Insert, shapes: &ShapeCache, assets: &dyn Assets) -> Result<Dressed, ShapeError> {
    let content = &insert.content;
    if let InsertKind::Prop(prop) = content {
        return self::prop(prop, shapes, assets);
    }
    let mesh = shapes.shape(content, insert.placement.stance, assets)?;
    let made = |shown| Ok(Dressed { mesh, shown });
    if let InsertKind::Title(title) = content {
        let materials = letters(title, assets)?;
        let on = title.lettering.coverings().map(|c| c.is_some_and(|c| c.asset.is_none()));
        return made(if on.contains(&true) {
            Shown::Plate { materials, on }
        } else {
            Shown::Still(materials.into_iter().map(Arc::new).collect())
        });
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
            if horizon.is_some() || plate.is_some() || far.cutout.is_some() {
                front.matte = Some(Matte { horizon, plate, shape: None });
            }
        }
        InsertKind::Title(_) | InsertKind::Prop(_) | InsertKind::Marker | InsertKind::Lamp(_) => {}
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
    // A number takes the place of what a picture of the file says: what is said to be a mirror is one all over.
    if let Some(metal) = change.metal {
        (made.metal, made.metal_map) = (metal as f32, None);
    }
    if let Some(rough) = change.rough {
        (made.rough, made.rough_map) = (rough as f32, None);
    }
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

fn repeated(texture: Arc<Texture>) -> Map {
    Map { wrap: [Wrap::Repeat; 2], ..Map::new(texture) }
}

/// Face, bevel and sides of letters; where the plate comes on them, it is missing yet.
fn letters(title: &Title, assets: &dyn Assets) -> Result<Vec<Material>, ShapeError> {
    let set = &title.lettering;
    let colours = [Some(title.colour), set.bevel_colour, set.side_colour].map(|c| c.unwrap_or(title.colour));
    let parts = colours.into_iter().zip(set.coverings());
    let made = parts.map(|(colour, covering)| {
        let mut material = finished(colour.map(linear_of), set.finish);
        if let Some(covering) = covering {
            let alpha = material.base[3];
            material.base = [1.0, 1.0, 1.0, alpha];
            if let Some(asset) = &covering.asset {
                material.base_map = Some(repeated(assets.picture(&asset.name, 0, &Treatment::default())?));
            }
        }
        Ok(material)
    });
    made.collect()
}

/// A colour, linear light, in a finish.
fn finished(colour: [f32; 3], finish: LetterFinish) -> Material {
    let plain = Material::matt(colour);
    let shiny = |rough, metal| Material { rough, metal, shines: true, ..Material::matt(colour) };
    match finish {
        LetterFinish::Matt => plain,
        LetterFinish::Satin => shiny(0.42, 0.0),
        LetterFinish::Metal => shiny(0.28, 1.0),
        LetterFinish::Glass => {
            let [r, g, b] = colour;
            Material { base: [r, g, b, GLASS], cover: Cover::Blend, ..shiny(0.06, 0.0) }
        }
        LetterFinish::Glow => Material { glows: true, casts: false, ..plain },
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Model;
    use crate::texture::Footprint;
    use fennik_core::scene::{AssetName, Covering, Lettering, Placement, Stance};

    /// A plate that is as red as its frame is late.
    #[derive(Debug)]
    struct Reddening;

    impl Assets for Reddening {
        fn run(&self, _: &AssetName) -> Result<Run, AssetError> {
            Ok(Run { frames: 1, rate: 1.0 })
        }

        fn picture(&self, _: &AssetName, _: u32, _: &Treatment) -> Result<Arc<Texture>, AssetError> {
            Err(AssetError("no picture is asked for".to_owned()))
        }

        fn plate(&self, frame: i64, _: bool) -> Result<Arc<Texture>, AssetError> {
            Ok(Arc::new(Texture::new(1, 1, &[frame as u8, 0, 0, 255])))
        }

        fn model(&self, _: &AssetName) -> Result<Arc<Model>, AssetError> {
            Err(AssetError("no model is asked for".to_owned()))
        }

        fn bytes(&self, _: &AssetName) -> Result<Arc<Vec<u8>>, AssetError> {
            Err(AssetError("no file is asked for".to_owned()))
        }
    }

    #[test]
    fn a_number_takes_the_place_of_the_files_picture() {
        let map = || Some(ChannelMap::new(Map::new(Arc::new(Texture::new(1, 1, &[0, 0, 0, 255]))), 0));
        let own = Material { metal_map: map(), rough_map: map(), shines: true, ..Material::matt([1.0; 3]) };
        let change = MaterialChange { metal: Some(1.0), ..MaterialChange::default() };
        let made = with_change(&own, &change, &Reddening).unwrap();
        assert!(made.metal == 1.0 && made.metal_map.is_none(), "or it would be as little metal as before");
        assert!(made.rough_map.is_some(), "of roughness nothing was said");
        let change = MaterialChange { rough: Some(0.1), ..MaterialChange::default() };
        assert!(with_change(&own, &change, &Reddening).unwrap().rough_map.is_none());
    }

    #[test]
    fn the_plate_lies_on_letters_frame_by_frame_and_only_where_it_was_put() {
        let title = Title {
            text: "O".into(),
            font: "League Spartan Bold".into(),
            height_m: 1.0,
            depth_m: 0.2,
            bevel_m: 0.0,
            colour: [0, 200, 0],
            lettering: Lettering {
                face: Some(Covering { asset: None, fit: Default::default() }),
                ..Default::default()
            },
        };
        let placement = Placement::on([0.0; 3], [0.0, 1.0, 0.0], Stance::Standing);
        let insert = Insert::new(InsertKind::Title(title), placement);
        let dressed = Dressed::new(&insert, &ShapeCache::default(), &Reddening).unwrap();
        let red = |frame| {
            let materials = dressed.materials(&insert, frame, &Reddening, false).unwrap().unwrap();
            assert!(materials[2].base_map.is_none(), "the sides keep their colour");
            assert_eq!(materials[0].base, [1.0; 4]);
            let over = Footprint { at: [0.5; 2], long: [0.0; 2], short: [0.0; 2] };
            materials[0].base_map.clone().unwrap().texture.look(&over, [Wrap::Repeat; 2])[0]
        };
        assert!(red(200.0) > 2.0 * red(100.4) && red(100.4) > 0.0);
        assert!(!matches!(dressed.shown, Shown::Still(_)), "it is looked at anew on each frame");
    }
}
