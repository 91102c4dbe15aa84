//! The library that ships: its items are made, and taken in, when they are asked for.

use super::assets::{self, TakenAsset};
use super::{EngineError, OpenShot};
use fennik_core::scene::{Covering, Fit, Insert, InsertKind, LetterFinish, ModelMap};
use fennik_demo::library::{self, Item, Kind};
use fennik_store::Store;

/// Why an item cannot be had.
#[derive(Debug, thiserror::Error)]
pub enum LibraryError {
    /// No such item.
    #[error("the library has no {name:?}; it has: {}", library::items().iter().map(|i| i.name).collect::<Vec<_>>().join(", "))]
    NoSuch {
        /// As it was asked for.
        name: String,
    },
    /// A material on what has none.
    #[error("a material lies on letters or on a model; {name} has neither")]
    NoMatter {
        /// What it is called.
        name: String,
    },
    /// What is no material.
    #[error("{name} is no material of the library")]
    NotMaterial {
        /// What it is called.
        name: String,
    },
    /// Its files cannot be written.
    #[error("the item could not be written ({why}); make room on the disk and try again")]
    NoRoom {
        /// What the disk says.
        why: std::io::Error,
    },
}

/// An item by its name.
///
/// # Errors
/// [`LibraryError::NoSuch`].
pub fn item(name: &str) -> Result<&'static Item, EngineError> {
    Ok(library::find(name).ok_or_else(|| LibraryError::NoSuch { name: name.to_owned() })?)
}

/// Takes the files of an item in; of a material colour, roughness and directions.
///
/// # Errors
/// [`EngineError`] when there is no room.
pub fn take(store: &Store, item: &Item) -> Result<Vec<TakenAsset>, EngineError> {
    let folder = store.new_asset_folder()?;
    let written = |file: library::File| {
        let path = folder.path().join(&file.name);
        std::fs::write(&path, file.bytes).map_err(|why| LibraryError::NoRoom { why })?;
        assets::take_in(store, &[(file.name, path)], |from, to| std::fs::rename(from, to))
    };
    item.files().into_iter().map(written).collect()
}

/// Dresses letters or a model in a material of the library: all of it, or one material of a model.
///
/// # Errors
/// [`EngineError`] where it is no material, or the thing has nothing to lay it on.
pub fn dress(
    store: &Store,
    shot: &OpenShot,
    insert: &mut Insert,
    item: &Item,
    only: Option<&str>,
) -> Result<(), EngineError> {
    if item.kind != Kind::Material {
        return Err(LibraryError::NotMaterial { name: item.title.to_owned() }.into());
    }
    let name = insert.shown_name();
    let maps: Vec<_> = take(store, item)?.into_iter().map(|t| t.asset).collect();
    match &mut insert.content {
        InsertKind::Title(title) => {
            let covering = Covering { asset: Some(maps[0].clone()), fit: Fit::Whole };
            let letters = &mut title.lettering;
            letters.finish = item.finish;
            (letters.face, letters.bevel, letters.side) =
                (Some(covering.clone()), Some(covering.clone()), Some(covering));
        }
        InsertKind::Prop(_) => {
            let files =
                super::assets::ShotAssets::of(store, &Default::default(), std::slice::from_ref(&*insert), Some(shot))?;
            let InsertKind::Prop(prop_now) = &insert.content else { return Err(EngineError::Fault) };
            let model = files
                .model(&prop_now.asset.name)
                .map_err(|why| super::assets::AssetsError::Shown { why: why.to_string() })?;
            let names: Vec<String> = model.names.iter().filter(|n| only.is_none_or(|o| o == *n)).cloned().collect();
            let InsertKind::Prop(prop) = &mut insert.content else { return Err(EngineError::Fault) };
            for name in names {
                let change = prop.materials.entry(name).or_default();
                change.colour = Some([255; 3]);
                change.metal = Some(if item.finish == LetterFinish::Metal { 1.0 } else { 0.0 });
                change.rough = Some(1.0);
                for (which, asset) in [ModelMap::Base, ModelMap::Rough, ModelMap::Normal].into_iter().zip(&maps) {
                    change.maps.insert(which, asset.clone());
                }
            }
        }
        _ => return Err(LibraryError::NoMatter { name }.into()),
    }
    Ok(())
}
