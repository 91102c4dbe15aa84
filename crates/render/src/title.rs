//! Letters with depth and bevel.

use crate::Mesh;
use crate::fonts::font;
use fennik_core::scene::{Stance, Title};
use lyon_path::math::{Point, point};
use lyon_path::{Path, PathEvent, iterator::PathIterator};
use lyon_tessellation::{BuffersBuilder, FillOptions, FillRule, FillTessellator, FillVertex, VertexBuffers};
use nalgebra::{Vector2, Vector3};

/// Flattening error of curves, of the height of a capital.
const TOLERANCE: f32 = 0.004;
/// Widest bevel, of the height of a capital; a wider one would eat thin strokes.
const MAX_BEVEL: f64 = 0.045;
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
    /// A size, a place or a text that cannot be shown.
    #[error("{0}")]
    Value(String),
    /// The outline could not be filled.
    #[error("the letters could not be filled: {0}")]
    Fill(String),
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

/// The letters of a title in their own frame, metres: x along the baseline from the middle, y up, z
/// towards the reader. Standing, the lowest point is at y = 0 and the depth is halved by z = 0;
/// lying, the middle is at y = 0 and the back at z = 0.
///
/// # Errors
/// [`TitleError`] when the font or a letter of it is missing.
pub fn title_mesh(title: &Title, stance: Stance) -> Result<Mesh, TitleError> {
    let contours = contours(title)?;
    let bevel = title.bevel_m.min(MAX_BEVEL * title.height_m).min(0.45 * title.depth_m).max(0.0) as f32;
    let depth = title.depth_m as f32;
    let front = if bevel > 0.0 { contours.iter().map(|c| inset(c, bevel)).collect() } else { contours.clone() };
    let mut mesh = Mesh::default();
    cap(&mut mesh, &front, depth, true)?;
    cap(&mut mesh, &contours, 0.0, false)?;
    for (outer, inner) in contours.iter().zip(&front) {
        if depth > 0.0 {
            wall(&mut mesh, outer, 0.0, outer, depth - bevel);
        }
        if bevel > 0.0 {
            wall(&mut mesh, outer, depth - bevel, inner, depth);
        }
    }
    if let Some((low, high)) = mesh.bounds() {
        let middle = 0.5 * (low + high);
        let shift = match stance {
            Stance::Standing => Vector3::new(-middle.x, -low.y, -0.5 * depth),
            Stance::Lying => Vector3::new(-middle.x, -middle.y, 0.0),
        };
        mesh.positions.iter_mut().for_each(|p| *p += shift);
    }
    Ok(mesh)
}

type Contour = Vec<Vector2<f32>>;

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
            PathEvent::Begin { at } => current = vec![Vector2::new(at.x, at.y)],
            PathEvent::Line { to, .. } => current.push(Vector2::new(to.x, to.y)),
            PathEvent::End { .. } => {
                current.dedup_by(|a, b| (*a - *b).norm() < 1e-6);
                if current.len() > 1 && (current[0] - current[current.len() - 1]).norm() < 1e-6 {
                    current.pop();
                }
                if current.len() >= 3 {
                    all.push(std::mem::take(&mut current));
                }
            }
            PathEvent::Quadratic { .. } | PathEvent::Cubic { .. } => {}
        }
    }
    Ok(oriented(all))
}

/// Turns every contour so that the filled side is on its left: outer ones counter-clockwise, holes
/// clockwise, whatever the font does.
fn oriented(contours: Vec<Contour>) -> Vec<Contour> {
    let depth = |c: &Contour, skip: usize, all: &[Contour]| {
        all.iter().enumerate().filter(|(i, other)| *i != skip && contains(other, c[0])).count()
    };
    let depths: Vec<usize> = contours.iter().enumerate().map(|(i, c)| depth(c, i, &contours)).collect();
    contours
        .into_iter()
        .zip(depths)
        .map(|(mut c, d)| {
            if (area(&c) > 0.0) != (d % 2 == 0) {
                c.reverse();
            }
            c
        })
        .collect()
}

fn area(c: &Contour) -> f32 {
    (0..c.len()).map(|i| c[i].perp(&c[(i + 1) % c.len()])).sum::<f32>() * 0.5
}

fn contains(c: &Contour, p: Vector2<f32>) -> bool {
    let mut inside = false;
    for (i, a) in c.iter().enumerate() {
        let b = c[(i + 1) % c.len()];
        if (a.y > p.y) != (b.y > p.y) && p.x < (b.x - a.x) * (p.y - a.y) / (b.y - a.y) + a.x {
            inside = !inside;
        }
    }
    inside
}

/// Moves every corner inwards by `width` along the mitre.
fn inset(contour: &Contour, width: f32) -> Contour {
    let n = contour.len();
    let left = |a: Vector2<f32>, b: Vector2<f32>| {
        let d = (b - a).try_normalize(1e-9).unwrap_or_else(Vector2::x);
        Vector2::new(-d.y, d.x)
    };
    (0..n)
        .map(|i| {
            let (before, here, after) = (contour[(i + n - 1) % n], contour[i], contour[(i + 1) % n]);
            let (a, b) = (left(before, here), left(here, after));
            let sum = a + b;
            // A mitre grows without end where the outline turns back on itself.
            let stretch = 2.0 / sum.norm_squared().max(0.5);
            here + sum * (stretch * width)
        })
        .collect()
}

fn cap(mesh: &mut Mesh, contours: &[Contour], z: f32, facing: bool) -> Result<(), TitleError> {
    let mut builder = Path::builder();
    for c in contours {
        builder.begin(point(c[0].x, c[0].y));
        c[1..].iter().for_each(|p| {
            builder.line_to(point(p.x, p.y));
        });
        builder.end(true);
    }
    let mut buffers: VertexBuffers<Point, u32> = VertexBuffers::new();
    let options = FillOptions::default().with_fill_rule(FillRule::NonZero).with_tolerance(1e-5);
    FillTessellator::new()
        .tessellate_path(
            &builder.build(),
            &options,
            &mut BuffersBuilder::new(&mut buffers, |v: FillVertex| v.position()),
        )
        .map_err(|e| TitleError::Fill(e.to_string()))?;
    let base = mesh.positions.len() as u32;
    mesh.positions.extend(buffers.vertices.iter().map(|p| Vector3::new(p.x, p.y, z)));
    for t in buffers.indices.chunks_exact(3) {
        let corner = |k: usize| buffers.vertices[t[k] as usize];
        let (a, b, c) = (corner(0), corner(1), corner(2));
        let ccw = (b.x - a.x) * (c.y - a.y) - (b.y - a.y) * (c.x - a.x) > 0.0;
        let t = if ccw == facing { [t[0], t[1], t[2]] } else { [t[0], t[2], t[1]] };
        mesh.indices.push(t.map(|i| i + base));
    }
    Ok(())
}

/// A band of quads between two outlines with as many corners.
fn wall(mesh: &mut Mesh, low: &Contour, low_z: f32, high: &Contour, high_z: f32) {
    let base = mesh.positions.len() as u32;
    let n = low.len() as u32;
    mesh.positions.extend(low.iter().map(|p| Vector3::new(p.x, p.y, low_z)));
    mesh.positions.extend(high.iter().map(|p| Vector3::new(p.x, p.y, high_z)));
    for i in 0..n {
        let j = (i + 1) % n;
        mesh.indices.push([base + i, base + j, base + n + j]);
        mesh.indices.push([base + i, base + n + j, base + n + i]);
    }
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
        for f in crate::fonts() {
            let mesh = title_mesh(&title("BOg8", f.name), Stance::Standing).unwrap();
            let (low, high) = mesh.bounds().unwrap();
            let size = high - low;
            assert!(volume(&mesh) > 0.1 && volume(&mesh) < size.x * size.y * size.z, "{}: {}", f.name, volume(&mesh));
            assert!(low.y.abs() < 1e-6 && (low.x + high.x).abs() < 1e-5, "{}: foot in the middle below", f.name);
            assert!((size.z - 0.4).abs() < 1e-5);
        }
    }

    #[test]
    fn a_capital_has_the_height_asked_for() {
        let mesh = title_mesh(&title("H", "Lato Black"), Stance::Standing).unwrap();
        let (low, high) = mesh.bounds().unwrap();
        assert!((high.y - low.y - 2.0).abs() < 0.02, "{}", high.y - low.y);
    }

    #[test]
    fn lines_are_stacked_and_lying_letters_lie_on_their_back() {
        let one = title_mesh(&title("A", "Lato Black"), Stance::Lying).unwrap().bounds().unwrap();
        let two = title_mesh(&title("A\nA", "Lato Black"), Stance::Lying).unwrap().bounds().unwrap();
        assert!(two.1.y - two.0.y > 2.0 * (one.1.y - one.0.y));
        assert!(one.0.z.abs() < 1e-6 && (one.0.y + one.1.y).abs() < 1e-5);
    }

    #[test]
    fn missing_fonts_and_letters_are_named() {
        assert_eq!(title_mesh(&title("A", "None"), Stance::Lying), Err(TitleError::NoFont { name: "None".into() }));
        let missing = title_mesh(&title("A\u{1F600}", "Lato Black"), Stance::Lying);
        assert!(matches!(missing, Err(TitleError::NoGlyph { missing: '\u{1F600}', .. })));
        assert!(title_mesh(&title("   ", "Lato Black"), Stance::Lying).unwrap().indices.is_empty());
    }
}
