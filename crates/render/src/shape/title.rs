//! Letters with depth and bevel.

use super::solid::{BEVEL, Contour, FACE, Region, SIDE, extrude, regions};
use crate::Mesh;
use fennik_core::scene::{Align, Covering, Fit, Stance, Title};
use fennik_fonts::{TitleFont, font, fonts};
use lyon_path::math::{Point, point};
use lyon_path::{Path, PathEvent, iterator::PathIterator};
use nalgebra::Vector3;

/// Flattening error of curves, of the height of a capital.
const TOLERANCE: f32 = 0.004;
/// Widest bevel, of the depth: some of the side stays.
const MAX_BEVEL: f64 = 0.9;

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
/// at z = 0. Parts are face, bevel and side; places of pictures are as their coverings ask. `own` is a font file in
/// place of those that ship.
///
/// # Errors
/// [`TitleError`] when the font or a letter of it is missing.
pub fn mesh(title: &Title, stance: Stance, own: Option<&[u8]>) -> Result<Mesh, TitleError> {
    let letters = letters(title, own)?;
    let all: Vec<Contour> = letters.iter().flatten().cloned().collect();
    let outlines = regions(&all);
    let bevel = title.bevel_m.min(MAX_BEVEL * title.depth_m).max(0.0);
    let mut mesh = extrude(&outlines, title.depth_m, bevel, title.lettering.profile);
    cover(&mut mesh, title, &letters, &outlines);
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

/// A box: left, bottom, right, top.
type Box4 = [f64; 4];

fn box_of<'a>(contours: impl Iterator<Item = &'a Contour>) -> Box4 {
    let start = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
    contours.flatten().fold(start, |b, [x, y]| [b[0].min(*x), b[1].min(*y), b[2].max(*x), b[3].max(*y)])
}

/// Turns places in metres into places of the pictures that lie on the parts.
fn cover(mesh: &mut Mesh, title: &Title, letters: &[Vec<Contour>], outlines: &[Region]) {
    let coverings = title.lettering.coverings();
    if coverings.iter().all(Option::is_none) {
        mesh.uvs = Vec::new();
        return;
    }
    let whole = box_of(outlines.iter().flatten());
    let boxes: Vec<Box4> = letters.iter().map(|l| box_of(l.iter())).collect();
    let mut done = vec![false; mesh.uvs.len()];
    for (i, triangle) in mesh.indices.iter().enumerate() {
        let part = mesh.parts[i];
        // All corners of a triangle are of the letter in which its middle lies.
        let [x, y] =
            [0, 1].map(|k| triangle.iter().map(|c| f64::from(mesh.positions[*c as usize][k])).sum::<f64>() / 3.0);
        let fit = coverings[usize::from(part)].map_or(Fit::Whole, |c: &Covering| c.fit);
        let within = |b: &&Box4| b[0] <= x && x <= b[2] && b[1] <= y && y <= b[3];
        let of = if fit == Fit::Letter { boxes.iter().find(within).copied().unwrap_or(whole) } else { whole };
        for c in triangle.map(|c| c as usize) {
            if std::mem::replace(&mut done[c], true) {
                continue;
            }
            let [u, v] = mesh.uvs[c].map(f64::from);
            let place = if part == SIDE {
                let depth = title.depth_m.max(1e-9);
                [u / depth, 1.0 - v / depth]
            } else {
                [(u - of[0]) / (of[2] - of[0]).max(1e-9), 1.0 - (v - of[1]) / (of[3] - of[1]).max(1e-9)]
            };
            mesh.uvs[c] = place.map(|v| v as f32);
        }
    }
    debug_assert!(mesh.parts.iter().all(|p| [FACE, BEVEL, SIDE].contains(p)));
}

/// A run of letters that read one way, as they stand from left to right.
fn runs(line: &str) -> Vec<(&str, bool)> {
    let info = unicode_bidi::BidiInfo::new(line, None);
    let Some(paragraph) = info.paragraphs.first() else { return Vec::new() };
    let (levels, runs) = info.visual_runs(paragraph, paragraph.range.clone());
    runs.into_iter().map(|r| (&line[r.clone()], levels[r.start].is_rtl())).collect()
}

/// One glyph where it stands, units of the font.
struct Set {
    glyph: u16,
    at: (f32, f32),
}

/// The glyphs of a line (Unicode's bidirectional algorithm, UAX 9; shapes by OpenType), and its width.
fn set_line(face: &rustybuzz::Face, line: &str, space: f32, name: &str) -> Result<(Vec<Set>, f32), TitleError> {
    let mut x = 0.0;
    let mut all = Vec::new();
    for (text, rtl) in runs(line) {
        let mut buffer = rustybuzz::UnicodeBuffer::new();
        buffer.push_str(text);
        buffer.guess_segment_properties();
        buffer.set_direction(if rtl { rustybuzz::Direction::RightToLeft } else { rustybuzz::Direction::LeftToRight });
        let shaped = rustybuzz::shape(face, &[], buffer);
        for (info, position) in shaped.glyph_infos().iter().zip(shaped.glyph_positions()) {
            let glyph = u16::try_from(info.glyph_id).unwrap_or(0);
            if glyph == 0 {
                let missing = text[info.cluster as usize..].chars().next().unwrap_or(' ');
                if !missing.is_whitespace() && !missing.is_control() {
                    return Err(TitleError::NoGlyph { name: name.to_owned(), missing });
                }
            }
            all.push(Set { glyph, at: (x + position.x_offset as f32, position.y_offset as f32) });
            // Marks stand on their letter.
            let room = if position.x_advance == 0 { 0.0 } else { space };
            x += position.x_advance as f32 + room;
        }
    }
    Ok((all, x - if x > 0.0 { space } else { 0.0 }))
}

fn has_all(font: &TitleFont, text: &str) -> bool {
    rustybuzz::Face::from_slice(font.bytes, 0)
        .is_some_and(|face| text.lines().all(|line| set_line(&face, line, 0.0, font.name).is_ok()))
}

/// Whether a font that ships has every letter of a text.
pub fn font_has(name: &str, text: &str) -> bool {
    font(name).is_some_and(|font| has_all(font, text))
}

/// The first font that ships and has every letter of a text.
pub fn font_with(text: &str) -> Option<&'static TitleFont> {
    fonts().iter().find(|font| has_all(font, text))
}

/// The outlines of all letters, flattened, letter by letter; metres.
fn letters(title: &Title, own: Option<&[u8]>) -> Result<Vec<Vec<Contour>>, TitleError> {
    let lettering = &title.lettering;
    let name = lettering.font_file.as_ref().map_or(title.font.as_str(), |f| f.file.as_str());
    let bytes = match own {
        Some(bytes) => bytes,
        None => font(&title.font).ok_or_else(|| TitleError::NoFont { name: name.to_owned() })?.bytes,
    };
    let face = rustybuzz::Face::from_slice(bytes, 0).ok_or_else(|| TitleError::BadFont { name: name.to_owned() })?;
    let capital = face.capital_height().filter(|h| *h > 0).map_or(0.7 * face.units_per_em() as f32, f32::from);
    let scale = title.height_m as f32 / capital;
    let space = lettering.letter_space as f32 * capital;
    let lines: Vec<(Vec<Set>, f32)> =
        title.text.lines().map(|line| set_line(&face, line, space, name)).collect::<Result<_, _>>()?;
    let widest = lines.iter().map(|l| l.1).fold(0.0, f32::max);
    let mut all = Vec::new();
    for (row, (line, width)) in lines.iter().enumerate() {
        let left = match lettering.align {
            Align::Middle => -0.5 * width,
            Align::Left => -0.5 * widest,
            Align::Right => 0.5 * widest - width,
        };
        let down = row as f32 * lettering.line_step as f32 * capital;
        for set in line {
            let shift = (left + set.at.0, set.at.1 - down);
            let mut outline = Outline { builder: Path::builder(), scale, shift, open: false };
            face.outline_glyph(ttf_parser::GlyphId(set.glyph), &mut outline);
            if outline.open {
                outline.builder.end(true);
            }
            all.push(flattened(&outline.builder.build(), TOLERANCE * title.height_m as f32));
        }
    }
    Ok(all)
}

fn flattened(path: &Path, tolerance: f32) -> Vec<Contour> {
    let mut all = Vec::new();
    let mut current: Contour = Vec::new();
    for event in path.iter().flattened(tolerance) {
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
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use fennik_core::scene::{Asset, AssetName, Lettering, Profile};

    fn title(text: &str, font: &str) -> Title {
        Title {
            text: text.into(),
            font: font.into(),
            height_m: 2.0,
            depth_m: 0.4,
            bevel_m: 0.05,
            colour: [255; 3],
            lettering: Lettering::default(),
        }
    }

    /// Volume by the divergence theorem; negative when faces look inwards.
    fn volume(mesh: &Mesh) -> f32 {
        (0..mesh.indices.len()).map(|i| mesh.triangle(i)).map(|[a, b, c]| a.dot(&b.cross(&c)) / 6.0).sum()
    }

    #[test]
    fn letters_of_every_font_are_closed_and_face_outwards() {
        for f in fonts() {
            let made = mesh(&title("BOg8", f.name), Stance::Standing, None).unwrap();
            let (low, high) = made.bounds().unwrap();
            let size = high - low;
            assert!(volume(&made) > 0.1 && volume(&made) < size.x * size.y * size.z, "{}: {}", f.name, volume(&made));
            assert!(low.y.abs() < 1e-6 && (low.x + high.x).abs() < 1e-5, "{}: foot in the middle below", f.name);
            assert!((size.z - 0.4).abs() < 1e-5);
        }
    }

    #[test]
    fn a_capital_has_the_height_asked_for() {
        let made = mesh(&title("H", "Lato Black"), Stance::Standing, None).unwrap();
        let (low, high) = made.bounds().unwrap();
        assert!((high.y - low.y - 2.0).abs() < 0.02, "{}", high.y - low.y);
    }

    #[test]
    fn lines_are_stacked_and_lying_letters_lie_on_their_back() {
        let one = mesh(&title("A", "Lato Black"), Stance::Lying, None).unwrap().bounds().unwrap();
        let two = mesh(&title("A\nA", "Lato Black"), Stance::Lying, None).unwrap().bounds().unwrap();
        assert!(two.1.y - two.0.y > 2.0 * (one.1.y - one.0.y));
        assert!(one.0.z.abs() < 1e-6 && (one.0.y + one.1.y).abs() < 1e-5);
    }

    #[test]
    fn missing_fonts_and_letters_are_named() {
        assert_eq!(mesh(&title("A", "None"), Stance::Lying, None), Err(TitleError::NoFont { name: "None".into() }));
        let missing = mesh(&title("A\u{1F600}", "Lato Black"), Stance::Lying, None);
        assert!(matches!(missing, Err(TitleError::NoGlyph { missing: '\u{1F600}', .. })));
        assert!(mesh(&title("   ", "Lato Black"), Stance::Lying, None).unwrap().indices.is_empty());
        let with = |text: &str| font_with(text).map(|f| f.name);
        assert_eq!(with("Quay\nno. 9"), Some("Lato Black"), "the usual one, where it has them");
        assert_eq!(with("مرحبا, Γειά"), Some("DejaVu Sans Bold"));
        assert_eq!(with("A漢"), None);
    }

    fn size(title: &Title) -> (Vector3<f32>, Vector3<f32>) {
        mesh(title, Stance::Lying, None).unwrap().bounds().unwrap()
    }

    #[test]
    fn every_profile_is_closed_and_takes_what_its_form_takes() {
        let made = |profile| {
            let lettering = Lettering { profile, ..Lettering::default() };
            volume(&mesh(&Title { lettering, ..title("H", "Lato Black") }, Stance::Lying, None).unwrap())
        };
        let [straight, round, hollow, stepped] =
            [Profile::Straight, Profile::Round, Profile::Hollow, Profile::Stepped].map(made);
        assert!(round > straight && straight > hollow && hollow > 0.1, "{round} {straight} {hollow}");
        assert!(stepped > hollow && stepped < round, "{stepped}");
    }

    #[test]
    fn lines_meet_where_they_are_told_and_letters_stand_apart() {
        let set = |lettering| Title { lettering, ..title("WWW\nI", "Lato Black") };
        let middle_of_i = |align| {
            let m = mesh(&set(Lettering { align, ..Lettering::default() }), Stance::Lying, None).unwrap();
            let (low, high) = m.bounds().unwrap();
            let below: Vec<f32> = m.positions.iter().filter(|p| p.y < low.y + 1.0).map(|p| p.x).collect();
            (below.iter().sum::<f32>() / below.len() as f32) / (high.x - low.x)
        };
        assert!(middle_of_i(Align::Left) < -0.35 && middle_of_i(Align::Right) > 0.35);
        assert!(middle_of_i(Align::Middle).abs() < 0.02);
        let (plain, wide) =
            (size(&set(Lettering::default())), size(&set(Lettering { letter_space: 0.5, ..Lettering::default() })));
        // Two gaps of half a capital's height.
        assert!(((wide.1.x - wide.0.x) - (plain.1.x - plain.0.x) - 2.0).abs() < 0.01);
        let tall = size(&set(Lettering { line_step: 3.0, ..Lettering::default() }));
        assert!(((tall.1.y - tall.0.y) - (plain.1.y - plain.0.y) - 2.0 * 1.45).abs() < 0.01);
    }

    #[test]
    fn other_scripts_are_joined_and_run_their_own_way() {
        let of = |text: &str| mesh(&title(text, "DejaVu Sans Bold"), Stance::Lying, None).unwrap();
        // Joined letters are narrower than letters apart.
        let width = |text: &str| of(text).bounds().map(|(a, b)| b.x - a.x).unwrap();
        assert!(width("\u{628}\u{628}\u{628}") < 0.8 * width("\u{628}\u{200c}\u{628}\u{200c}\u{628}"));
        assert_eq!(runs("ab \u{5d0}\u{5d1}"), [("ab ", false), ("\u{5d0}\u{5d1}", true)]);
        assert_eq!(runs("\u{5d0} 12"), [("12", false), ("\u{5d0} ", true)]);
        for text in ["\u{5d0}\u{5d1}\u{5d2}", "\u{416}\u{429}", "\u{3a9}\u{39b}"] {
            assert!(volume(&of(text)) > 0.1, "{text}");
        }
        // Aleph is the first that is read and stands on the right.
        let right = |text: &str| {
            let m = of(text);
            m.positions.iter().filter(|p| p.x > 0.0).count()
        };
        assert_ne!(right("\u{5d0}\u{5d5}"), right("\u{5d5}\u{5d0}"));
    }

    #[test]
    fn pictures_span_all_letters_or_each() {
        let asset = Asset { name: AssetName::of_digest(&[7; 32]), file: "planks.png".into() };
        let across = |fit| {
            let lettering =
                Lettering { face: Some(Covering { asset: Some(asset.clone()), fit }), ..Lettering::default() };
            let m = mesh(&Title { lettering, ..title("HH", "Lato Black") }, Stance::Lying, None).unwrap();
            let faces = m.indices.iter().zip(&m.parts).filter(|(_, p)| **p == FACE);
            let left: Vec<f32> = faces
                .flat_map(|(t, _)| t.map(|k| k as usize))
                .filter(|k| m.positions[*k].x < 0.0)
                .map(|k| m.uvs[k][0])
                .collect();
            (left.iter().copied().fold(1.0, f32::min), left.iter().copied().fold(0.0, f32::max))
        };
        let (whole, letter) = (across(Fit::Whole), across(Fit::Letter));
        assert!(whole.0 < 0.05 && (0.3..0.5).contains(&whole.1), "{whole:?}");
        assert!(letter.0 < 0.05 && letter.1 > 0.95, "{letter:?}");
        assert!(mesh(&title("H", "Lato Black"), Stance::Lying, None).unwrap().uvs.is_empty());
    }
}
