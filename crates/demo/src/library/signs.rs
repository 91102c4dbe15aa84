//! Drawings as SVG; letters are written as outlines, so that they need no font where they are shown.

use super::File;

/// The fonts of signs.
const NARROW: &str = "Bebas Neue Bold";
const ROUND: &str = "League Spartan Bold";

/// A line of letters as an outline: its middle at `x`, on a baseline at `y`, capitals `height` high.
fn words(text: &str, font: &str, [x, y]: [f32; 2], height: f32, fill: &str) -> String {
    let Some(bytes) = fennik_render::font(font).map(|f| f.bytes) else { return String::new() };
    let Ok(face) = ttf_parser::Face::parse(bytes, 0) else { return String::new() };
    let capital = face.capital_height().map_or(0.7 * f32::from(face.units_per_em()), f32::from).max(1.0);
    let scale = height / capital;
    let glyphs: Vec<_> = text.chars().filter_map(|c| face.glyph_index(c)).collect();
    let advance = |g| f32::from(face.glyph_hor_advance(g).unwrap_or(0)) + 0.04 * capital;
    let mut at = x - 0.5 * scale * glyphs.iter().map(|g| advance(*g)).sum::<f32>();
    let mut path = Outline { d: String::new(), at: [0.0; 2], scale };
    for g in glyphs {
        path.at = [at, y];
        let _ = face.outline_glyph(g, &mut path);
        at += scale * advance(g);
    }
    format!("<path fill=\"{fill}\" d=\"{}\"/>", path.d)
}

struct Outline {
    d: String,
    at: [f32; 2],
    scale: f32,
}

impl Outline {
    fn put(&mut self, word: char, places: &[[f32; 2]]) {
        self.d.push(word);
        for [x, y] in places {
            self.d += &format!("{:.2} {:.2} ", self.at[0] + x * self.scale, self.at[1] - y * self.scale);
        }
    }
}

impl ttf_parser::OutlineBuilder for Outline {
    fn move_to(&mut self, x: f32, y: f32) {
        self.put('M', &[[x, y]]);
    }
    fn line_to(&mut self, x: f32, y: f32) {
        self.put('L', &[[x, y]]);
    }
    fn quad_to(&mut self, a: f32, b: f32, x: f32, y: f32) {
        self.put('Q', &[[a, b], [x, y]]);
    }
    fn curve_to(&mut self, a: f32, b: f32, c: f32, d: f32, x: f32, y: f32) {
        self.put('C', &[[a, b], [c, d], [x, y]]);
    }
    fn close(&mut self) {
        self.d.push('Z');
    }
}

fn drawing(width: u32, height: u32, body: &str) -> Vec<u8> {
    format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{width}\" height=\"{height}\" \
         viewBox=\"0 0 {width} {height}\">{body}</svg>"
    )
    .into_bytes()
}

/// Two crossed oars about a middle.
fn oars([x, y]: [f32; 2], long: f32, fill: &str) -> String {
    let oar = |turn: f32| {
        format!(
            "<g transform=\"translate({x} {y}) rotate({turn})\" fill=\"{fill}\"><rect x=\"-4\" y=\"{0}\" width=\"8\" \
             height=\"{1}\" rx=\"4\"/><path d=\"M-9 {0} q-14 -60 0 -84 h18 q14 24 0 84 z\"/></g>",
            -0.5 * long,
            long
        )
    };
    oar(38.0) + &oar(-38.0)
}

fn crest() -> Vec<u8> {
    let shield = "M60 60 H452 V300 C452 420 340 500 256 548 C172 500 60 420 60 300 Z";
    let body = format!(
        "<path d=\"{shield}\" fill=\"#1f3b42\" stroke=\"#d9be82\" stroke-width=\"16\"/>\
         <path d=\"M60 300 q49 -34 98 0 t98 0 t98 0 t98 0 V320 C440 420 340 500 256 548 C172 500 74 420 60 320 Z\" fill=\"#8fb0ab\"/>\
         {}<circle cx=\"256\" cy=\"235\" r=\"58\" fill=\"#d9be82\"/>{}{}",
        oars([256.0, 235.0], 250.0, "#efe6d2"),
        words("V", ROUND, [256.0, 264.0], 58.0, "#1f3b42"),
        words("VARRICK ROWERS", NARROW, [256.0, 112.0], 27.0, "#efe6d2"),
    );
    drawing(512, 600, &body)
}

fn regatta() -> Vec<u8> {
    let stripes: String =
        (0..6).map(|k| format!("<path d=\"M{0} 0 h50 l-60 80 h-50 z\" fill=\"#c4553c\"/>", 60 + 180 * k)).collect();
    let body = format!(
        "<rect width=\"1024\" height=\"512\" fill=\"#efe6d2\"/>{stripes}<rect y=\"80\" width=\"1024\" height=\"8\" fill=\"#1f3b42\"/>{}{}{}",
        words("BASIN REGATTA", NARROW, [512.0, 262.0], 130.0, "#1f3b42"),
        words("SATURDAY AT TEN - BOTH SLIPS", ROUND, [512.0, 360.0], 34.0, "#1f3b42"),
        words("HALF A DOZEN CLUBS", ROUND, [512.0, 430.0], 34.0, "#c4553c"),
    );
    drawing(1024, 512, &body)
}

fn slipway() -> Vec<u8> {
    let body = format!(
        "<path d=\"M20 20 H820 L990 128 L820 236 H20 Z\" fill=\"#d8b04a\" stroke=\"#2a2620\" stroke-width=\"12\"/>{}\
         <path d=\"M770 128 h90 m-36 -36 l40 36 l-40 36\" fill=\"none\" stroke=\"#2a2620\" stroke-width=\"16\"/>",
        words("SLIPWAY", NARROW, [420.0, 172.0], 92.0, "#2a2620"),
    );
    drawing(1010, 256, &body)
}

fn no_mooring() -> Vec<u8> {
    let body = format!(
        "<circle cx=\"256\" cy=\"230\" r=\"206\" fill=\"#f2ecdf\" stroke=\"#b23a2a\" stroke-width=\"40\"/>\
         <path d=\"M256 120 v190 m-80 -50 q10 70 80 70 q70 0 80 -70 M216 170 h80\" fill=\"none\" stroke=\"#22303a\" stroke-width=\"24\" stroke-linecap=\"round\"/>\
         <circle cx=\"256\" cy=\"112\" r=\"22\" fill=\"none\" stroke=\"#22303a\" stroke-width=\"16\"/>\
         <path d=\"M112 376 L400 84\" stroke=\"#b23a2a\" stroke-width=\"36\"/>{}",
        words("NO MOORING", NARROW, [256.0, 520.0], 54.0, "#f2ecdf"),
    );
    let plate = "<rect width=\"512\" height=\"560\" rx=\"28\" fill=\"#22303a\"/>";
    drawing(512, 560, &(plate.to_owned() + &body))
}

fn halden() -> Vec<u8> {
    let knot = "<path d=\"M90 128 c0 -90 150 -90 150 0 s150 90 150 0 s-150 -90 -150 0 s-150 90 -150 0 z\" fill=\"none\" \
         stroke=\"#e7dcc2\" stroke-width=\"26\"/><path d=\"M90 128 c0 -90 150 -90 150 0 s150 90 150 0 s-150 -90 -150 0 \
         s-150 90 -150 0 z\" fill=\"none\" stroke=\"#274a3d\" stroke-width=\"4\" stroke-dasharray=\"10 14\"/>";
    let body = format!(
        "<rect width=\"1024\" height=\"256\" rx=\"24\" fill=\"#274a3d\"/>{knot}{}{}",
        words("HALDEN", ROUND, [700.0, 136.0], 74.0, "#e7dcc2"),
        words("ROPES AND RIGGING", ROUND, [700.0, 196.0], 28.0, "#9fc0a6"),
    );
    drawing(1024, 256, &body)
}

fn lane() -> Vec<u8> {
    let body = format!(
        "<rect width=\"512\" height=\"512\" fill=\"#f2ecdf\"/><rect x=\"24\" y=\"24\" width=\"464\" height=\"464\" \
         fill=\"none\" stroke=\"#22303a\" stroke-width=\"16\"/>{}{}",
        words("4", ROUND, [256.0, 370.0], 250.0, "#b8452f"),
        words("LANE", NARROW, [256.0, 456.0], 52.0, "#22303a"),
    );
    drawing(512, 512, &body)
}

/// The file of a sign.
pub fn make(name: &'static str) -> Vec<File> {
    let bytes = match name {
        "crest" => crest(),
        "regatta" => regatta(),
        "slipway" => slipway(),
        "no-mooring" => no_mooring(),
        "halden" => halden(),
        _ => lane(),
    };
    vec![File { name: format!("{name}.svg"), bytes }]
}
