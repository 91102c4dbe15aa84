//! Flat cards: upright in their own frame, the middle of the lower edge at the origin, facing z.

use super::solid::{Point, extrude, regions};
use crate::Mesh;
use fennik_core::scene::{Backdrop, Effect, Profile, Sign, Spread, Stance};
use nalgebra::Vector3;
use std::f64::consts::{FRAC_PI_2, PI, TAU};

/// Steps of a quarter of a round corner.
const CORNER_STEPS: usize = 10;
/// Farthest that a bent card strays from its pillar, of its radius.
const BEND_STEP: f64 = 0.06;
/// Quads of a dome about the upright.
const DOME_STEPS: usize = 128;
/// How far a backdrop is, in world units: nothing that is placed lies behind it.
pub const FAR: f64 = 1e5;

/// The front of a sign; its edge and back are of the second material.
const EDGE: u16 = 1;

/// Places of a picture for corners of a card of a width and height, of which a part was cut off.
fn place_in_picture(at: &Vector3<f32>, [width, height]: [f64; 2], crop: [f64; 4]) -> [f32; 2] {
    let (x, y) = (f64::from(at.x) / width + 0.5, 1.0 - f64::from(at.y) / height);
    let [left, top, right, bottom] = crop;
    [(left + x * (1.0 - left - right)) as f32, (top + y * (1.0 - top - bottom)) as f32]
}

/// A sign. Lying, its middle is at the origin.
pub fn sign(sign: &Sign, stance: Stance) -> Mesh {
    let size = [sign.width_m(), sign.height_m];
    let mut mesh = if sign.thickness_m > 0.0 || sign.corner_m > 0.0 {
        let outline = rounded(size, sign.corner_m);
        extruded(&outline, sign.thickness_m)
    } else {
        quad(size)
    };
    mesh.uvs = mesh.positions.iter().map(|p| place_in_picture(p, size, sign.crop)).collect();
    if sign.bend_m > 0.0 {
        mesh = bent(&mesh, size[0], sign.bend_m);
    }
    let shift = match stance {
        Stance::Standing => Vector3::zeros(),
        Stance::Lying => Vector3::new(0.0, -0.5 * sign.height_m as f32, 0.0),
    };
    mesh.positions.iter_mut().for_each(|p| *p += shift);
    mesh
}

fn quad([width, height]: [f64; 2]) -> Mesh {
    let (half, high) = (0.5 * width as f32, height as f32);
    Mesh {
        positions: [[-half, 0.0], [half, 0.0], [half, high], [-half, high]]
            .map(|[x, y]| Vector3::new(x, y, 0.0))
            .into(),
        indices: vec![[0, 1, 2], [0, 2, 3]],
        ..Mesh::default()
    }
}

/// A rectangle with round corners, counter-clockwise.
fn rounded([width, height]: [f64; 2], radius: f64) -> Vec<Point> {
    let r = radius.min(0.5 * width).min(0.5 * height);
    let (x, y) = (0.5 * width - r, height - r);
    if r <= 0.0 {
        return vec![[-x, 0.0], [x, 0.0], [x, y], [-x, y]];
    }
    let corners = [([-x, r], PI), ([x, r], 3.0 * FRAC_PI_2), ([x, y], 0.0), ([-x, y], FRAC_PI_2)];
    corners
        .iter()
        .flat_map(|(middle, from)| {
            (0..=CORNER_STEPS).map(move |i| {
                let turn = from + FRAC_PI_2 * i as f64 / CORNER_STEPS as f64;
                [middle[0] + r * turn.cos(), middle[1] + r * turn.sin()]
            })
        })
        .collect()
}

/// An outline with a depth; what does not face z is of the second material.
fn extruded(outline: &[Point], depth: f64) -> Mesh {
    let mut mesh = extrude(&regions(&[outline.to_vec()]), depth, 0.0, Profile::Straight);
    let front = |t: &[u32; 3]| {
        let [a, b, c] = t.map(|k| mesh.positions[k as usize]);
        let normal = (b - a).cross(&(c - a));
        normal.z > 0.9 * normal.norm()
    };
    // A card of no depth shows its picture from behind as well.
    mesh.parts = mesh.indices.iter().map(|t| if depth <= 0.0 || front(t) { 0 } else { EDGE }).collect();
    if depth <= 0.0 {
        let kept: Vec<[u32; 3]> = mesh.indices.iter().copied().filter(|t| front(t)).collect();
        mesh.parts = vec![0; kept.len()];
        mesh.indices = kept;
    }
    mesh
}

/// Bent about an upright pillar behind it, so that its width becomes an arc.
fn bent(mesh: &Mesh, width: f64, radius: f64) -> Mesh {
    // Narrow strips, each a flat one of its own.
    let turn = (width / radius).min(TAU);
    let strips = (turn / BEND_STEP).ceil().max(1.0) as usize;
    let mut out = Mesh::default();
    for i in 0..mesh.indices.len() {
        let corners = mesh.indices[i].map(|k| (mesh.positions[k as usize], mesh.uvs[k as usize]));
        for strip in 0..strips {
            let edge = |k: usize| (width * (k as f64 / strips as f64 - 0.5)) as f32;
            let polygon = between(&corners, edge(strip), edge(strip + 1));
            for k in 2..polygon.len() {
                let base = out.positions.len() as u32;
                for (at, uv) in [polygon[0], polygon[k - 1], polygon[k]] {
                    let (out_m, angle) = (radius + f64::from(at.z), f64::from(at.x) / radius);
                    let turned =
                        Vector3::new((out_m * angle.sin()) as f32, at.y, (out_m * angle.cos() - radius) as f32);
                    out.positions.push(turned);
                    out.uvs.push(uv);
                }
                out.indices.push([base, base + 1, base + 2]);
                out.parts.push(mesh.part(i) as u16);
            }
        }
    }
    out
}

type Corner = (Vector3<f32>, [f32; 2]);

/// The part of a triangle between two x (Sutherland & Hodgman, "Reentrant Polygon Clipping", 1974).
fn between(triangle: &[Corner; 3], low: f32, high: f32) -> Vec<Corner> {
    let mut polygon = triangle.to_vec();
    for (sign, at) in [(1.0, low), (-1.0, high)] {
        let inside = |c: &Corner| sign * (c.0.x - at);
        let mut kept = Vec::with_capacity(polygon.len() + 1);
        for (i, a) in polygon.iter().enumerate() {
            let b = &polygon[(i + 1) % polygon.len()];
            let (da, db) = (inside(a), inside(b));
            if da >= 0.0 {
                kept.push(*a);
            }
            if (da >= 0.0) != (db >= 0.0) {
                let t = da / (da - db);
                let uv = std::array::from_fn(|k| a.1[k] + t * (b.1[k] - a.1[k]));
                kept.push((a.0 + (b.0 - a.0) * t, uv));
            }
        }
        polygon = kept;
    }
    polygon
}

/// An effect: cards that cross in its upright.
pub fn effect(effect: &Effect) -> Mesh {
    let size = [effect.height_m * effect.aspect, effect.height_m];
    let mut mesh = Mesh::default();
    for card in 0..effect.cards {
        let turn = PI * f64::from(card) / f64::from(effect.cards);
        let (sin, cos) = (turn.sin() as f32, turn.cos() as f32);
        let one = quad(size);
        let base = mesh.positions.len() as u32;
        mesh.uvs.extend(one.positions.iter().map(|p| place_in_picture(p, size, [0.0; 4])));
        mesh.positions.extend(one.positions.iter().map(|p| Vector3::new(cos * p.x, p.y, -sin * p.x)));
        mesh.indices.extend(one.indices.iter().map(|t| t.map(|k| k + base)));
    }
    mesh
}

/// A backdrop about the eye, in the world's directions.
pub fn backdrop(backdrop: &Backdrop) -> Mesh {
    match backdrop.spread {
        Spread::Flat => {
            let width = 2.0 * FAR * (0.5 * backdrop.width_deg.to_radians()).tan();
            let size = [width, width / backdrop.aspect];
            let mut mesh = quad(size);
            mesh.uvs = mesh.positions.iter().map(|p| place_in_picture(p, size, [0.0; 4])).collect();
            // Its lower edge stands at a height over the horizon, and it faces the eye.
            let (sin, cos) = backdrop.bearing_deg.to_radians().sin_cos();
            let rise = FAR * backdrop.height_deg.to_radians().tan();
            mesh.positions.iter_mut().for_each(|p| {
                let (x, y) = (f64::from(p.x), f64::from(p.y) + rise);
                *p = Vector3::new((x * cos + FAR * sin) as f32, y as f32, (x * sin - FAR * cos) as f32);
            });
            mesh
        }
        Spread::Dome => dome(backdrop.bearing_deg.to_radians(), backdrop.height_deg.to_radians()),
    }
}

/// A sphere seen from within; the middle of its picture lies at a bearing, its horizon that much higher.
fn dome(bearing: f64, rise: f64) -> Mesh {
    let (across, down) = (DOME_STEPS, DOME_STEPS / 2);
    let mut mesh = Mesh::default();
    for row in 0..=down {
        for column in 0..=across {
            let (u, v) = (column as f64 / across as f64, row as f64 / down as f64);
            let (azimuth, elevation) =
                (bearing + TAU * (u - 0.5), (FRAC_PI_2 - PI * v + rise).clamp(-FRAC_PI_2, FRAC_PI_2));
            let level = elevation.cos();
            let at = Vector3::new(level * azimuth.sin(), elevation.sin(), -level * azimuth.cos()) * FAR;
            mesh.positions.push(at.cast());
            mesh.uvs.push([u as f32, v as f32]);
        }
    }
    let stride = across as u32 + 1;
    for row in 0..down as u32 {
        for column in 0..across as u32 {
            let a = row * stride + column;
            mesh.indices.extend([[a, a + stride, a + 1], [a + 1, a + stride, a + stride + 1]]);
        }
    }
    mesh
}

#[cfg(test)]
mod tests {
    use super::*;
    use fennik_core::scene::{Asset, AssetName};

    fn asset() -> Asset {
        Asset { name: AssetName::of_digest(&[7; 32]), file: "a.png".into() }
    }

    fn area(mesh: &Mesh, part: usize) -> f32 {
        let of = |i: usize| {
            let [a, b, c] = mesh.triangle(i);
            0.5 * (b - a).cross(&(c - a)).norm()
        };
        (0..mesh.indices.len()).filter(|i| mesh.part(*i) == part).map(of).sum()
    }

    #[test]
    fn a_sign_keeps_its_proportions_and_its_picture_whatever_its_form() {
        let plain = Sign::new(asset(), 1.5, 2.0);
        for (thickness_m, corner_m, bend_m) in [(0.0, 0.0, 0.0), (0.1, 0.0, 0.0), (0.0, 0.3, 0.0), (0.05, 0.2, 4.0)] {
            let made = Sign { thickness_m, corner_m, bend_m, ..plain.clone() };
            let mesh = sign(&made, Stance::Standing);
            let cut = (4.0 - PI as f32) * (corner_m as f32).powi(2);
            // Bent outwards, its front is as much longer as it lies further out.
            let longer = if bend_m > 0.0 { 1.0 + (thickness_m / bend_m) as f32 } else { 1.0 };
            assert!((area(&mesh, 0) / (6.0 - cut) / longer - 1.0).abs() < 0.01, "{made:?}: {}", area(&mesh, 0));
            let (low, high) = mesh.bounds().unwrap();
            assert!(low.y.abs() < 1e-5 && (high.y - 2.0).abs() < 1e-4, "it stands on its lower edge");
            let spans = |k: usize| mesh.uvs.iter().fold((1f32, 0f32), |m, uv| (m.0.min(uv[k]), m.1.max(uv[k])));
            assert!(spans(0) == (0.0, 1.0) || spans(0).0.abs() < 1e-4 && (spans(0).1 - 1.0).abs() < 1e-4);
            assert_eq!(mesh.uvs.len(), mesh.positions.len());
        }
        let lying = sign(&plain, Stance::Lying).bounds().unwrap();
        assert!((lying.0.y + 1.0).abs() < 1e-6 && (lying.1.y - 1.0).abs() < 1e-6);
    }

    #[test]
    fn what_is_cut_off_is_not_on_the_card() {
        let made = Sign { crop: [0.25, 0.1, 0.25, 0.4], ..Sign::new(asset(), 1.0, 1.0) };
        let mesh = sign(&made, Stance::Standing);
        let (low, high) = mesh.bounds().unwrap();
        assert!((high.x - low.x - 1.0).abs() < 1e-5, "half of the width over half of the height");
        let top_left = mesh.positions.iter().zip(&mesh.uvs).find(|(p, _)| p.x < 0.0 && p.y > 0.5).unwrap().1;
        assert!((top_left[0] - 0.25).abs() < 1e-6 && (top_left[1] - 0.1).abs() < 1e-6);
    }

    #[test]
    fn a_backdrop_stands_where_it_is_said_to() {
        let made = Backdrop { bearing_deg: 90.0, height_deg: 5.0, ..Backdrop::new(asset(), 2.0, Spread::Flat) };
        let mesh = backdrop(&made);
        let lower = mesh.positions.iter().filter(|p| p.y < (FAR * 0.1) as f32);
        for p in lower {
            assert!(
                (f64::from(p.x) - FAR).abs() < 1.0 && (f64::from(p.y) / FAR - 5f64.to_radians().tan()).abs() < 1e-4
            );
        }
        let dome = backdrop(&Backdrop::new(asset(), 2.0, Spread::Dome));
        // The middle of the picture is ahead on the horizon.
        let (at, _) = dome.positions.iter().zip(&dome.uvs).find(|(_, uv)| **uv == [0.5, 0.5]).unwrap();
        assert!((at.z + FAR as f32).abs() < 1.0 && at.x.abs() < 1.0 && at.y.abs() < 1.0, "{at}");
        // Every triangle is seen from within.
        assert!((0..dome.indices.len()).all(|i| {
            let [a, b, c] = dome.triangle(i);
            (b - a).cross(&(c - a)).dot(&a) <= 1e-3 * a.norm_squared()
        }));
    }
}
