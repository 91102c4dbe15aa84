//! SVG, drawn once at the size that is kept. It reads no other file, and is refused where it is compressed. Its letters are
//! set in the fonts that ship, whatever the machine has.

use super::AssetFileError;
use super::picture::{Picture, Pixels};
use resvg::usvg::fontdb::{Database, Family, Query, Source, Weight};
use resvg::usvg::roxmltree::{Document, ParsingOptions};
use resvg::{tiny_skia, usvg};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, LazyLock};

/// Longest text of a drawing, bytes.
const MOST_BYTES: usize = 20 * 1024 * 1024;
/// Longer side of what is drawn, px.
const DRAWN_SIDE: f32 = 2048.0;
/// Letters that a drawing may show, those of what is used several times as often as that.
const MOST_LETTERS: usize = 200_000;

static FONTS: LazyLock<Arc<Database>> = LazyLock::new(|| {
    let mut fonts = Database::new();
    for font in fennik_fonts::fonts() {
        fonts.load_font_source(Source::Binary(Arc::new(font.bytes)));
    }
    fonts.set_sans_serif_family("Lato");
    fonts.set_serif_family("Roboto Slab");
    fonts.set_cursive_family("Lobster Two");
    fonts.set_fantasy_family("League Spartan");
    fonts.set_monospace_family("DejaVu Sans");
    Arc::new(fonts)
});

/// The first of the families that is there, else one without serifs.
fn font_of(asked: &usvg::Font, fonts: &Database) -> Option<usvg::fontdb::ID> {
    let families: Vec<Family> = asked
        .families()
        .iter()
        .map(|family| match family {
            usvg::FontFamily::Serif => Family::Serif,
            usvg::FontFamily::SansSerif => Family::SansSerif,
            usvg::FontFamily::Cursive => Family::Cursive,
            usvg::FontFamily::Fantasy => Family::Fantasy,
            usvg::FontFamily::Monospace => Family::Monospace,
            usvg::FontFamily::Named(name) => Family::Name(name),
        })
        .chain([Family::SansSerif])
        .collect();
    fonts.query(&Query { families: &families, weight: Weight(asked.weight()), ..Query::default() })
}

pub(super) fn picture(bytes: &[u8], name: &str, most: u32) -> Result<Picture, AssetFileError> {
    let unreadable = |why: &dyn std::fmt::Display| AssetFileError::unreadable(name, why);
    if bytes.starts_with(&[0x1F, 0x8B]) {
        let what = "to be unpacked (it is compressed)".to_owned();
        return Err(AssetFileError::Unsupported { name: name.to_owned(), what });
    }
    if bytes.len() > MOST_BYTES {
        let what = format!("{} MB of text", bytes.len() >> 20);
        return Err(AssetFileError::TooLarge { name: name.to_owned(), what });
    }
    let text = std::str::from_utf8(bytes).map_err(|e| unreadable(&e))?;
    let document = Document::parse_with_options(text, ParsingOptions { allow_dtd: true, ..ParsingOptions::default() })
        .map_err(|e| unreadable(&e))?;
    let all = document.root().descendants();
    let letters: usize = all.filter(|n| n.is_text()).filter_map(|n| n.text()).map(|text| text.trim().len()).sum();
    // Each text asks for a font at least once, however often it is used, and shows all letters at most.
    let (texts, most_texts) = (AtomicUsize::new(0), MOST_LETTERS / letters.max(1));
    let options = usvg::Options {
        fontdb: FONTS.clone(),
        font_resolver: usvg::FontResolver {
            select_font: Box::new(|asked, fonts| {
                let few = texts.fetch_add(1, Ordering::Relaxed) < most_texts;
                if few { font_of(asked, fonts) } else { None }
            }),
            ..usvg::FontResolver::default()
        },
        resources_dir: None,
        // No picture is taken in, neither from a file nor from within: a drawing is lines and areas.
        image_href_resolver: usvg::ImageHrefResolver {
            resolve_data: Box::new(|_, _, _| None),
            resolve_string: Box::new(|_, _| None),
        },
        ..usvg::Options::default()
    };
    let tree = usvg::Tree::from_xmltree(&document, &options).map_err(|e| unreadable(&e))?;
    if texts.load(Ordering::Relaxed) > most_texts {
        let what = format!("more than {MOST_LETTERS} letters");
        return Err(AssetFileError::TooLarge { name: name.to_owned(), what });
    }
    let size = tree.size();
    let scale = DRAWN_SIDE.min(most as f32) / size.width().max(size.height());
    let side = |v: f32| (v * scale).round().clamp(1.0, most as f32) as u32;
    let (width, height) = (side(size.width()), side(size.height()));
    let Some(mut drawn) = tiny_skia::Pixmap::new(width, height) else {
        return Err(AssetFileError::Empty { name: name.to_owned() });
    };
    resvg::render(&tree, tiny_skia::Transform::from_scale(scale, scale), &mut drawn.as_mut());
    let straight = drawn.pixels().iter().flat_map(|p| {
        let c = p.demultiply();
        [c.red(), c.green(), c.blue(), c.alpha()]
    });
    Ok(Picture { width, height, pixels: Pixels::Encoded(straight.collect()) })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> Result<Picture, AssetFileError> {
        picture(text.as_bytes(), "crest.svg", 4096)
    }

    #[test]
    fn a_drawing_is_drawn_large_in_its_proportions() {
        let made = read(
            "<svg xmlns='http://www.w3.org/2000/svg' width='20' height='10'><rect width='10' height='10' fill='#f00'/></svg>",
        )
        .unwrap();
        assert_eq!((made.width, made.height), (2048, 1024));
        let Pixels::Encoded(pixels) = made.pixels else { panic!("display values") };
        let at = |x: usize| &pixels[4 * (500 * 2048 + x)..][..4];
        assert_eq!((at(100), at(2000)), (&[255, 0, 0, 255][..], &[0, 0, 0, 0][..]));
    }

    /// Fault: letters were left out without a word.
    #[test]
    fn letters_are_drawn_in_whatever_font_they_ask_for() {
        let drawn = |attributes: &str, letters: &str| {
            let made = read(&format!(
                "<svg xmlns='http://www.w3.org/2000/svg' width='40' height='20'>\
                 <text x='2' y='16' font-size='16' {attributes}>{letters}</text></svg>"
            ));
            let Pixels::Encoded(pixels) = made.unwrap().pixels else { panic!("display values") };
            pixels.chunks_exact(4).filter(|p| p[3] > 128).count()
        };
        let plain = drawn("", "FK");
        assert!(plain > 30_000, "{plain} of {} pixels", 2048 * 1024);
        assert_eq!(drawn("font-family='Nonesuch'", "FK"), drawn("font-family='sans-serif'", "FK"));
        assert_ne!(drawn("font-family='Lobster Two'", "FK"), plain);
        assert!(drawn("font-family='Lato'", "مرحبا") > 20_000, "from a font that has them");
    }

    #[test]
    fn drawings_of_endless_text_are_refused() {
        let uses =
            |level: usize| format!("<g id='g{level}'>{}</g>", format!("<use href='#g{}'/>", level - 1).repeat(10));
        let many = format!(
            "<svg xmlns='http://www.w3.org/2000/svg' width='9' height='9'><g id='g0'><text>{}</text></g>{}</svg>",
            "all hands ".repeat(100),
            (1..4).map(uses).collect::<String>()
        );
        let long = format!(
            "<svg xmlns='http://www.w3.org/2000/svg' width='9' height='9'><text>{}</text></svg>",
            "all hands ".repeat(100_000)
        );
        for hostile in [many, long] {
            let why = read(&hostile).err().map(|e| e.to_string()).unwrap_or_default();
            assert!(why.contains("letters"), "{why}");
        }
    }

    #[test]
    fn hostile_drawings_are_refused_or_read_nothing_else() {
        assert!(picture(&[0x1F, 0x8B, 8, 0], "bomb.svgz", 4096).unwrap_err().to_string().contains("compressed"));
        assert!(read("<svg").is_err() && read("").is_err());
        let other = "<svg xmlns='http://www.w3.org/2000/svg' xmlns:xlink='http://www.w3.org/1999/xlink' width='10' \
            height='10'><image xlink:href='file:///etc/passwd' width='10' height='10'/></svg>";
        let Pixels::Encoded(pixels) = read(other).unwrap().pixels else { panic!("display values") };
        assert!(pixels.iter().all(|b| *b == 0), "no other file is shown");
        // Entities that grow into one another.
        let bomb = format!(
            "<!DOCTYPE s [<!ENTITY a '{}'>{}]><svg xmlns='http://www.w3.org/2000/svg' width='9' height='9'><text>&i;</text></svg>",
            "x".repeat(40),
            ('b'..='i')
                .map(|c| format!("<!ENTITY {c} '{}'>", format!("&{};", (c as u8 - 1) as char).repeat(40)))
                .collect::<String>()
        );
        assert!(read(&bomb).is_err());
        // A pattern that draws itself.
        let own = "<svg xmlns='http://www.w3.org/2000/svg' width='9' height='9'><pattern id='p' width='1' height='1'>\
            <rect width='9' height='9' fill='url(#p)'/></pattern><rect width='9' height='9' fill='url(#p)'/></svg>";
        let _ = read(own);
    }
}
