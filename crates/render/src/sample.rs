//! What tests place.

use fennik_core::scene::{Insert, InsertKind, Placement, Stance, Title};

/// Letters of a metre that stand at the origin and face +Z.
pub(crate) fn letters(text: &str, colour: [u8; 3]) -> Insert {
    let title = Title {
        lettering: Default::default(),
        text: text.into(),
        font: "Lato Black".into(),
        height_m: 1.0,
        depth_m: 0.3,
        bevel_m: 0.0,
        colour,
    };
    Insert::new(InsertKind::Title(title), Placement::on([0.0; 3], [0.0, 1.0, 0.0], Stance::Standing))
}
