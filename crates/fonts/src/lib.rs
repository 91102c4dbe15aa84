//! The fonts that ship with Fennik; their licences are beside the files.

/// A font for titles.
#[derive(Debug, Clone, Copy)]
pub struct TitleFont {
    /// Its name, as documents keep it.
    pub name: &'static str,
    /// TrueType or OpenType.
    pub bytes: &'static [u8],
}

const FONTS: [TitleFont; 8] = [
    TitleFont { name: "Lato Black", bytes: include_bytes!("../files/Lato-Black.ttf") },
    TitleFont { name: "Bebas Neue Bold", bytes: include_bytes!("../files/BebasNeue-Bold.otf") },
    TitleFont { name: "League Spartan Bold", bytes: include_bytes!("../files/LeagueSpartan-Bold.otf") },
    TitleFont { name: "Roboto Slab Bold", bytes: include_bytes!("../files/RobotoSlab-Bold.otf") },
    TitleFont { name: "Yanone Kaffeesatz Bold", bytes: include_bytes!("../files/YanoneKaffeesatz-Bold.otf") },
    TitleFont { name: "Lobster", bytes: include_bytes!("../files/Lobster-Regular.otf") },
    // Beside Latin it has Greek, Cyrillic, Hebrew and Arabic letters.
    TitleFont { name: "DejaVu Sans Bold", bytes: include_bytes!("../files/DejaVuSans-Bold.ttf") },
    TitleFont { name: "Comfortaa Bold", bytes: include_bytes!("../files/Comfortaa-Bold.ttf") },
];

/// All of them, the usual one first.
pub fn fonts() -> &'static [TitleFont] {
    &FONTS
}

/// The font of a name.
pub fn font(name: &str) -> Option<&'static TitleFont> {
    FONTS.iter().find(|f| f.name == name)
}
