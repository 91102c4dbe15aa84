//! Shapes of inserts in their own frame: one file a kind.

mod card;
mod model;
mod solid;
mod title;

pub use fennik_fonts::{TitleFont, font, fonts};
pub(crate) use model::OnFoot;
pub use solid::triangulated;
pub use title::{TitleError, font_has, font_with};

use crate::Mesh;
use crate::assets::{AssetError, Assets, Model};
use crate::shadow::Casts;
use fennik_core::scene::{InsertError, InsertKind, Prop, Stance};
use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, PoisonError};

/// Bytes of meshes that are kept.
const CACHE_BYTES: usize = 128 * 1024 * 1024;

/// Why a shape cannot be made.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum ShapeError {
    /// Letters.
    #[error(transparent)]
    Title(#[from] TitleError),
    /// A file that cannot be shown.
    #[error(transparent)]
    Asset(#[from] AssetError),
    /// A size, a place or a text that cannot be shown.
    #[error(transparent)]
    Value(#[from] InsertError),
}

/// Makes the shape of a kind.
fn make(kind: &InsertKind, stance: Stance, own_font: Option<&[u8]>) -> Result<Mesh, ShapeError> {
    match kind {
        InsertKind::Title(title) => Ok(title::mesh(title, stance, own_font)?),
        InsertKind::Sign(sign) => Ok(card::sign(sign, stance)),
        InsertKind::Effect(effect) => Ok(card::effect(effect)),
        InsertKind::Backdrop(backdrop) => Ok(card::backdrop(backdrop)),
        // What a model is made of lies in its file; a marker is not seen.
        InsertKind::Prop(_) | InsertKind::Marker | InsertKind::Lamp(_) => Ok(Mesh::default()),
    }
}

/// Shapes that were made, by what they were made from: where an insert stands changes nothing of them. The oldest are
/// thrown out first.
#[derive(Debug, Default, Clone)]
pub struct ShapeCache {
    held: Arc<Mutex<Held>>,
    /// What was made for the shadows of shapes.
    casts: Arc<Casts>,
}

#[derive(Debug, Default)]
struct Held {
    meshes: HashMap<String, Arc<Mesh>>,
    order: VecDeque<String>,
    bytes: usize,
}

impl ShapeCache {
    /// The shape of a kind.
    ///
    /// # Errors
    /// [`ShapeError`] when it cannot be made.
    pub fn shape(&self, kind: &InsertKind, stance: Stance, assets: &dyn Assets) -> Result<Arc<Mesh>, ShapeError> {
        // What it is made from, written down: no two shapes share that.
        let key = serde_json::to_string(&(kind, stance)).unwrap_or_default();
        self.kept(key, || {
            let font = match kind {
                InsertKind::Title(title) => title.lettering.font_file.as_ref(),
                _ => None,
            };
            let bytes = font.map(|f| assets.bytes(&f.name)).transpose()?;
            make(kind, stance, bytes.as_deref().map(Vec::as_slice))
        })
    }

    /// The shape of a model, on its foot.
    pub fn model(&self, prop: &Prop, model: &Model) -> Arc<Mesh> {
        let key = serde_json::to_string(&(&prop.asset, prop.unit_m, prop.up, prop.foot)).unwrap_or_default();
        let made = self.kept(key, || Ok(model::on_foot(&model.mesh, prop)));
        made.unwrap_or_else(|_| Arc::new(Mesh::default()))
    }

    pub(crate) fn casts(&self) -> &Arc<Casts> {
        &self.casts
    }

    fn kept(&self, key: String, make: impl FnOnce() -> Result<Mesh, ShapeError>) -> Result<Arc<Mesh>, ShapeError> {
        if let Some(mesh) = self.held.lock().unwrap_or_else(PoisonError::into_inner).meshes.get(&key) {
            return Ok(mesh.clone());
        }
        let mesh = Arc::new(make()?);
        let mut held = self.held.lock().unwrap_or_else(PoisonError::into_inner);
        held.bytes += mesh.bytes();
        match held.meshes.insert(key.clone(), mesh.clone()) {
            // Two asked at once.
            Some(same) => held.bytes -= same.bytes(),
            None => held.order.push_back(key),
        }
        while held.bytes > CACHE_BYTES {
            let Some(oldest) = held.order.pop_front() else { break };
            if let Some(gone) = held.meshes.remove(&oldest) {
                held.bytes -= gone.bytes();
            }
        }
        Ok(mesh)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use fennik_core::scene::Title;

    #[test]
    fn a_shape_is_made_once_for_what_it_is_made_from() {
        let title = |text: &str| {
            InsertKind::Title(Title {
                text: text.to_owned(),
                font: "Lato Black".to_owned(),
                height_m: 1.0,
                depth_m: 0.2,
                bevel_m: 0.02,
                colour: [9; 3],
                lettering: Default::default(),
            })
        };
        let cache = ShapeCache::default();
        let of = |text: &str, stance| cache.shape(&title(text), stance, &crate::NoAssets).unwrap();
        assert!(Arc::ptr_eq(&of("A", Stance::Standing), &of("A", Stance::Standing)));
        assert!(!Arc::ptr_eq(&of("A", Stance::Standing), &of("A", Stance::Lying)));
        assert_ne!(*of("A", Stance::Standing), *of("B", Stance::Standing));
    }
}
