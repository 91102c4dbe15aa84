//! A small made-up library of things to place: each item is made when it is asked for, from nothing but this code.

mod effects;
mod glb;
mod materials;
pub(crate) mod noise;
mod props;
mod signs;
mod skies;

use fennik_core::scene::LetterFinish;

/// What an item is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Pictures of a surface: its colour, how rough it is, which way it faces.
    Material,
    /// A drawing.
    Sign,
    /// A model.
    Prop,
    /// A filmed element, as a sequence of pictures.
    Effect,
    /// What is all round, far away.
    Surroundings,
    /// A sky.
    Sky,
}

impl Kind {
    /// All of them, in the order in which they are shown.
    pub const ALL: [Self; 6] = [Self::Sign, Self::Prop, Self::Effect, Self::Material, Self::Sky, Self::Surroundings];

    /// In a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Material => "material",
            Self::Sign => "sign",
            Self::Prop => "prop",
            Self::Effect => "effect",
            Self::Surroundings => "surroundings",
            Self::Sky => "sky",
        }
    }

    /// What an insert of it is called, where it is placed by itself.
    pub fn insert(self) -> Option<&'static str> {
        match self {
            Self::Material => None,
            Self::Sign => Some("sign"),
            Self::Prop => Some("prop"),
            Self::Effect => Some("effect"),
            Self::Surroundings | Self::Sky => Some("backdrop"),
        }
    }
}

/// A file of an item.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct File {
    /// What it is called.
    pub name: String,
    /// Its bytes.
    pub bytes: Vec<u8>,
}

/// One item.
#[derive(Debug, Clone, Copy)]
pub struct Item {
    /// Its name in addresses and recipes.
    pub name: &'static str,
    /// What it is called on the page.
    pub title: &'static str,
    /// What it is.
    pub kind: Kind,
    /// What letters are made of that are dressed with it.
    pub finish: LetterFinish,
    make: fn(&'static str) -> Vec<File>,
}

impl Item {
    /// Its files, made anew: of a material the colour first, then roughness and directions; of all others the one.
    pub fn files(&self) -> Vec<File> {
        (self.make)(self.name)
    }

    /// What it looks like, as one file: of a sequence a picture from within.
    pub fn look(&self) -> Option<File> {
        match self.kind {
            Kind::Effect => Some(effects::look(self.name)),
            _ => self.files().into_iter().next(),
        }
    }
}

const fn item(
    kind: Kind,
    name: &'static str,
    title: &'static str,
    finish: LetterFinish,
    make: fn(&'static str) -> Vec<File>,
) -> Item {
    Item { name, title, kind, finish, make }
}

const ITEMS: [Item; 31] = [
    item(Kind::Sign, "crest", "club crest", LetterFinish::Matt, signs::make),
    item(Kind::Sign, "regatta", "regatta board", LetterFinish::Matt, signs::make),
    item(Kind::Sign, "slipway", "way to the slipway", LetterFinish::Matt, signs::make),
    item(Kind::Sign, "no-mooring", "no mooring", LetterFinish::Matt, signs::make),
    item(Kind::Sign, "halden", "Halden ropes", LetterFinish::Matt, signs::make),
    item(Kind::Sign, "lane", "lane four", LetterFinish::Matt, signs::make),
    item(Kind::Prop, "bollard", "bollard", LetterFinish::Matt, props::make),
    item(Kind::Prop, "mast", "pennant mast", LetterFinish::Matt, props::make),
    item(Kind::Prop, "crate", "crate", LetterFinish::Matt, props::make),
    item(Kind::Prop, "buoy", "buoy", LetterFinish::Matt, props::make),
    item(Kind::Prop, "lifebelt", "lifebelt stand", LetterFinish::Matt, props::make),
    item(Kind::Prop, "kiosk", "kiosk", LetterFinish::Matt, props::make),
    item(Kind::Prop, "airship", "pennant airship", LetterFinish::Matt, props::make),
    item(Kind::Effect, "spray", "spray", LetterFinish::Matt, effects::make),
    item(Kind::Effect, "dust", "dust", LetterFinish::Matt, effects::make),
    item(Kind::Effect, "smoke", "smoke", LetterFinish::Matt, effects::make),
    item(Kind::Effect, "fire", "fire", LetterFinish::Matt, effects::make),
    item(Kind::Effect, "sparks", "sparks", LetterFinish::Matt, effects::make),
    item(Kind::Effect, "flare", "flare", LetterFinish::Matt, effects::make),
    item(Kind::Material, "planks", "painted planks", LetterFinish::Matt, materials::make),
    item(Kind::Material, "varnish", "varnished wood", LetterFinish::Satin, materials::make),
    item(Kind::Material, "steel", "brushed steel", LetterFinish::Metal, materials::make),
    item(Kind::Material, "brass", "old brass", LetterFinish::Metal, materials::make),
    item(Kind::Material, "plaster", "plaster", LetterFinish::Matt, materials::make),
    item(Kind::Material, "canvas", "sail canvas", LetterFinish::Matt, materials::make),
    item(Kind::Sky, "fair", "fair sky", LetterFinish::Matt, skies::make),
    item(Kind::Sky, "overcast", "overcast", LetterFinish::Matt, skies::make),
    item(Kind::Sky, "dusk", "dusk", LetterFinish::Matt, skies::make),
    item(Kind::Surroundings, "basin", "basin at noon", LetterFinish::Matt, skies::make),
    item(Kind::Surroundings, "yard", "grey yard", LetterFinish::Matt, skies::make),
    item(Kind::Surroundings, "evening", "evening shore", LetterFinish::Matt, skies::make),
];

/// All items.
pub fn items() -> &'static [Item] {
    &ITEMS
}

/// The item of a name.
pub fn find(name: &str) -> Option<&'static Item> {
    ITEMS.iter().find(|i| i.name == name)
}

/// A picture of RGBA values as PNG.
fn png(width: u32, height: u32, rgba: Vec<u8>) -> Vec<u8> {
    let mut bytes = std::io::Cursor::new(Vec::new());
    let made = image::RgbaImage::from_raw(width, height, rgba)
        .map(|picture| picture.write_to(&mut bytes, image::ImageFormat::Png));
    debug_assert!(matches!(made, Some(Ok(()))), "a picture of its size can be written");
    bytes.into_inner()
}

#[cfg(test)]
mod tests {
    use super::*;
    use fennik_media::{Companions, ModelFile, Picture};

    #[test]
    fn there_are_enough_of_each_kind_and_each_has_its_own_name() {
        let count = |kind| ITEMS.iter().filter(|i| i.kind == kind).count();
        assert_eq!(Kind::ALL.map(count), [6, 7, 6, 6, 3, 3]);
        assert!(ITEMS.iter().all(|i| ITEMS.iter().filter(|o| o.name == i.name).count() == 1));
        assert!(find("crate").is_some() && find("moon").is_none());
    }

    #[test]
    fn pictures_models_and_sequences_can_be_read() {
        for item in items() {
            let files = item.files();
            let first = &files[0];
            match item.kind {
                Kind::Prop => {
                    let model = ModelFile::read(&first.bytes, &first.name, &Companions::new()).unwrap();
                    let [low, high] = model.bounds();
                    let height = high[1] - low[1];
                    assert!((0.3..12.0).contains(&height), "{}: {height} m", item.name);
                    assert!(!model.pictures.is_empty() && model.notes.is_empty(), "{}", item.name);
                }
                Kind::Effect => assert!(first.name.ends_with(".zip") && first.bytes.len() > 10_000),
                _ => {
                    for file in &files {
                        let picture = Picture::read(&file.bytes, &file.name).unwrap();
                        assert!(picture.width >= 256, "{}: {} px", file.name, picture.width);
                    }
                }
            }
        }
    }
}
