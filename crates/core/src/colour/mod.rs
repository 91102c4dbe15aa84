//! Colour: the display law, differences as they are seen, grades, and tables of colours.
//!
//! Red, green and blue are of the primaries of sRGB (ITU-R BT.709) with its white (D65). Linear light is 0 to 1 for what
//! a display can show and may be more; display values are encoded by the law of sRGB (IEC 61966-2-1).

mod difference;
mod drawn;
mod grade;
mod hues;
mod oklab;
mod plate;
mod table;
mod transfer;
mod white;

pub use difference::{delta_e, lab_of};
pub use drawn::{Likeness, ToneGrade, likeness, likeness_of, oklab_colour, tone_weights};
pub use grade::{CURVE_NODES, Grade, HueChange};
pub use hues::{HUES, hue_weights};
pub use oklab::{linear_of_oklab, oklab_of};
pub use plate::{PlateLaw, Primaries, Transfer};
pub use table::{ColourTable, TableError, TableShape};
pub use transfer::{decode, encode};
pub use white::{Matrix3, white_matrix};

/// How bright linear light is seen (ITU-R BT.709).
pub fn luminance(light: [f32; 3]) -> f32 {
    0.2126 * light[0] + 0.7152 * light[1] + 0.0722 * light[2]
}
