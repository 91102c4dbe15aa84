//! SVG, drawn once at the size that is kept. It reads no other file, and is refused where it is compressed.

use super::AssetFileError;
use super::picture::{Picture, Pixels};
use resvg::{tiny_skia, usvg};

/// Longest text of a drawing, bytes.
const MOST_BYTES: usize = 20 * 1024 * 1024;
/// Longer side of what is drawn, px.
const DRAWN_SIDE: f32 = 2048.0;

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
    let options = usvg::Options {
        resources_dir: None,
        // No picture is taken in, neither from a file nor from within: a drawing is lines and areas.
        image_href_resolver: usvg::ImageHrefResolver {
            resolve_data: Box::new(|_, _, _| None),
            resolve_string: Box::new(|_, _| None),
        },
        ..usvg::Options::default()
    };
    let tree = usvg::Tree::from_str(text, &options).map_err(|e| unreadable(&e))?;
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
