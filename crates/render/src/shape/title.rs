//! Letters with depth and bevel.

use super::fonts::font;
use super::solid::{Contour, extrude, regions};
use crate::Mesh;
use fennik_core::scene::{Stance, Title};
use lyon_path::math::{Point, point};
use lyon_path::{Path, PathEvent, iterator::PathIterator};
use nalgebra::Vector3;

/// Flattening error of curves, of the height of a capital.
const TOLERANCE: f32 = 0.004;
/// Widest bevel, of the depth: some of the side stays.
const MAX_BEVEL: f64 = 0.9;
/// Distance of lines, of the height of a capital.
const LINE_STEP: f32 = 1.55;

/// Why a title cannot be made.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum TitleError {
    /// The font is not there.
    #[error("the font {name:?} does not ship with Fennik; choose another")]
    NoFont {
        /// Its name.
        name: String,
    },
    /// The font file cannot be read.
    #[error("the font {name:?} cannot be read")]
    BadFont {
        /// Its name.
        name: String,
    },
    /// Letters that the font does not have.
    #[error("the font {name:?} has no {missing:?}; choose another font or other letters")]
    NoGlyph {
        /// Its name.
        name: String,
        /// The first letter that is missing.
        missing: char,
    },
}

struct Outline {
    builder: lyon_path::path::Builder,
    scale: f32,
    shift: (f32, f32),
    open: bool,
}

impl Outline {
    fn at(&self, x: f32, y: f32) -> Point {
        point((x + self.shift.0) * self.scale, (y + self.shift.1) * self.scale)
    }
}

impl ttf_parser::OutlineBuilder for Outline {
    fn move_to(&mut self, x: f32, y: f32) {
        if self.open {
            self.builder.end(true);
        }
        self.builder.begin(self.at(x, y));
        self.open = true;
    }
    fn line_to(&mut self, x: f32, y: f32) {
        self.builder.line_to(self.at(x, y));
    }
    fn quad_to(&mut self, x1: f32, y1: f32, x: f32, y: f32) {
        self.builder.quadratic_bezier_to(self.at(x1, y1), self.at(x, y));
    }
    fn curve_to(&mut self, x1: f32, y1: f32, x2: f32, y2: f32, x: f32, y: f32) {
        self.builder.cubic_bezier_to(self.at(x1, y1), self.at(x2, y2), self.at(x, y));
    }
    fn close(&mut self) {
        if self.open {
            self.builder.end(true);
            self.open = false;
        }
    }
}

/// The letters of a title in their own frame, metres: x along the baseline from the middle, y up, z towards the reader.
/// Standing, the lowest point is at y = 0 and the depth is halved by z = 0; lying, the middle is at y = 0 and the back
/// at z = 0.
///
/// # Errors
/// [`TitleError`] when the font or a letter of it is missing.
pub fn mesh(title: &Title, stance: Stance) -> Result<Mesh, TitleError> {
    let outlines = regions(&contours(title)?);
    let bevel = title.bevel_m.min(MAX_BEVEL * title.depth_m).max(0.0);
    let mut mesh = extrude(&outlines, title.depth_m, bevel);
    if let Some((low, high)) = mesh.bounds() {
        let middle = 0.5 * (low + high);
        let shift = match stance {
            Stance::Standing => Vector3::new(-middle.x, -low.y, -0.5 * title.depth_m as f32),
            Stance::Lying => Vector3::new(-middle.x, -middle.y, 0.0),
        };
        mesh.positions.iter_mut().for_each(|p| *p += shift);
    }
    Ok(mesh)
}

/// The outlines of all letters, flattened; metres.
fn contours(title: &Title) -> Result<Vec<Contour>, TitleError> {
    let name = || title.font.clone();
    let bytes = font(&title.font).ok_or_else(|| TitleError::NoFont { name: name() })?.bytes;
    let face = rustybuzz::Face::from_slice(bytes, 0).ok_or_else(|| TitleError::BadFont { name: name() })?;
    let capital = face.capital_height().filter(|h| *h > 0).map_or(0.7 * face.units_per_em() as f32, f32::from);
    let scale = title.height_m as f32 / capital;
    let mut builder = Path::builder();
    for (row, line) in title.text.lines().enumerate() {
        if let Some(missing) = line.chars().find(|c| !c.is_whitespace() && face.glyph_index(*c).is_none()) {
            return Err(TitleError::NoGlyph { name: name(), missing });
        }
        let mut buffer = rustybuzz::UnicodeBuffer::new();
        buffer.push_str(line);
        let shaped = rustybuzz::shape(&face, &[], buffer);
        let width: i32 = shaped.glyph_positions().iter().map(|p| p.x_advance).sum();
        let (mut x, y) = (-0.5 * width as f32, -(row as f32) * LINE_STEP * capital);
        for (info, position) in shaped.glyph_infos().iter().zip(shaped.glyph_positions()) {
            let shift = (x + position.x_offset as f32, y + position.y_offset as f32);
            let mut outline = Outline { builder, scale, shift, open: false };
            if let Ok(id) = u16::try_from(info.glyph_id) {
                face.outline_glyph(ttf_parser::GlyphId(id), &mut outline);
            }
            if outline.open {
                outline.builder.end(true);
            }
            builder = outline.builder;
            x += position.x_advance as f32;
        }
    }
    let mut all = Vec::new();
    let mut current: Contour = Vec::new();
    for event in builder.build().iter().flattened(TOLERANCE * title.height_m as f32) {
        match event {
            PathEvent::Begin { at } => current = vec![[f64::from(at.x), f64::from(at.y)]],
            PathEvent::Line { to, .. } => current.push([f64::from(to.x), f64::from(to.y)]),
            PathEvent::End { .. } => {
                if current.len() >= 3 {
                    all.push(std::mem::take(&mut current));
                }
            }
            PathEvent::Quadratic { .. } | PathEvent::Cubic { .. } => {}
        }
    }
    Ok(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn title(text: &str, font: &str) -> Title {
        Title { text: text.into(), font: font.into(), height_m: 2.0, depth_m: 0.4, bevel_m: 0.05, colour: [255; 3] }
    }

    /// Volume by the divergence theorem; negative when faces look inwards.
    fn volume(mesh: &Mesh) -> f32 {
        (0..mesh.indices.len()).map(|i| mesh.triangle(i)).map(|[a, b, c]| a.dot(&b.cross(&c)) / 6.0).sum()
    }

    #[test]
    fn letters_of_every_font_are_closed_and_face_outwards() {
        for f in super::super::fonts() {
            let made = mesh(&title("BOg8", f.name), Stance::Standing).unwrap();
            let (low, high) = made.bounds().unwrap();
            let size = high - low;
            assert!(volume(&made) > 0.1 && volume(&made) < size.x * size.y * size.z, "{}: {}", f.name, volume(&made));
            assert!(low.y.abs() < 1e-6 && (low.x + high.x).abs() < 1e-5, "{}: foot in the middle below", f.name);
            assert!((size.z - 0.4).abs() < 1e-5);
        }
    }

    #[test]
    fn a_capital_has_the_height_asked_for() {
        let made = mesh(&title("H", "Lato Black"), Stance::Standing).unwrap();
        let (low, high) = made.bounds().unwrap();
        assert!((high.y - low.y - 2.0).abs() < 0.02, "{}", high.y - low.y);
    }

    #[test]
    fn lines_are_stacked_and_lying_letters_lie_on_their_back() {
        let one = mesh(&title("A", "Lato Black"), Stance::Lying).unwrap().bounds().unwrap();
        let two = mesh(&title("A\nA", "Lato Black"), Stance::Lying).unwrap().bounds().unwrap();
        assert!(two.1.y - two.0.y > 2.0 * (one.1.y - one.0.y));
        assert!(one.0.z.abs() < 1e-6 && (one.0.y + one.1.y).abs() < 1e-5);
    }

    #[test]
    fn missing_fonts_and_letters_are_named() {
        assert_eq!(mesh(&title("A", "None"), Stance::Lying), Err(TitleError::NoFont { name: "None".into() }));
        let missing = mesh(&title("A\u{1F600}", "Lato Black"), Stance::Lying);
        assert!(matches!(missing, Err(TitleError::NoGlyph { missing: '\u{1F600}', .. })));
        assert!(mesh(&title("   ", "Lato Black"), Stance::Lying).unwrap().indices.is_empty());
    }
}
