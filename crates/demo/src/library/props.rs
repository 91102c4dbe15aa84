//! Models of the made-up basin, in metres, Y up.

use super::glb::{Matter, Part, glb};
use super::materials::{maps, planks, spot};
use super::noise::byte;
use super::{File, png};

/// Side of the pictures on models, px.
const SIDE: u32 = 256;

pub fn make(name: &'static str) -> Vec<File> {
    let bytes = match name {
        "bollard" => bollard(),
        "mast" => mast(),
        "crate" => crate_(),
        "buoy" => buoy(),
        "lifebelt" => lifebelt(),
        "airship" => airship(),
        _ => kiosk(),
    };
    vec![File { name: format!("{name}.glb"), bytes }]
}

/// Colours that come from a place of a picture, with the roughness and the directions of a material.
fn painted(material: &str, colour: impl Fn(f32, f32) -> Option<[f32; 3]>) -> [Vec<u8>; 3] {
    let [_, rough, normal] = maps(material, SIDE);
    let mut rgba = Vec::with_capacity((4 * SIDE * SIDE) as usize);
    for i in 0..SIDE * SIDE {
        let at = |k: u32| (k as f32 + 0.5) / SIDE as f32;
        let (u, v) = (at(i % SIDE), at(i / SIDE));
        let own = spot(material, u, v).colour;
        let worn = (own[0] + own[1] + own[2]) / 3.0 + 0.15;
        rgba.extend(colour(u, v).map_or(own, |c| c.map(|c| c * worn.clamp(0.5, 1.1))).map(byte));
        rgba.push(255);
    }
    [png(SIDE, SIDE, rgba), rough, normal]
}

fn bollard() -> Vec<u8> {
    let iron = painted("steel", |_, v| Some(if v < 0.3 { [0.86, 0.82, 0.72] } else { [0.13, 0.14, 0.15] }));
    let mut iron = Matter::pictured("iron", iron);
    (iron.metal, iron.rough) = (0.0, 1.4f32.min(1.0));
    let mut post = Part::of(0);
    let foot = [[0.26, 0.0], [0.26, 0.05], [0.26, 0.05], [0.15, 0.07], [0.14, 0.1]];
    let neck =
        [[0.14, 0.1], [0.13, 0.4], [0.15, 0.5], [0.19, 0.53], [0.21, 0.57], [0.2, 0.62], [0.12, 0.66], [0.0, 0.67]];
    post.turned(&foot, 40, [4.0, 0.4]);
    post.turned(&neck, 40, [4.0, 1.0]);
    glb(&[iron], &[post])
}

fn mast() -> Vec<u8> {
    let wood = Matter::pictured("spar", maps("varnish", SIDE));
    let cloth = painted("canvas", |u, v| {
        let stripe = (u * 5.0).floor() as i64 % 2 == 0;
        let edge = !(0.08..=0.92).contains(&v);
        Some(if edge {
            [0.16, 0.30, 0.34]
        } else if stripe {
            [0.80, 0.30, 0.22]
        } else {
            [0.92, 0.88, 0.78]
        })
    });
    let mut cloth = Matter::pictured("pennant", cloth);
    cloth.two_sided = true;
    let brass = Matter::plain("truck", [0.72, 0.52, 0.22], 1.0, 0.3);
    let mut spar = Part::of(0);
    spar.turned(&[[0.09, 0.0], [0.08, 2.0], [0.06, 5.2], [0.05, 5.3]], 20, [1.0, 6.0]);
    let mut knob = Part::of(2);
    let ball: Vec<[f32; 2]> = (0..=12)
        .map(|k| (k as f32 / 12.0 * std::f32::consts::PI).sin_cos())
        .map(|(sin, cos)| [0.09 * sin, 5.39 - 0.09 * cos])
        .collect();
    knob.turned(&ball, 20, [1.0; 2]);
    // A long cloth that narrows and waves.
    let mut flag = Part::of(1);
    let steps = 24;
    for k in 0..=steps {
        let t = k as f32 / steps as f32;
        let (x, wave) = (0.07 + 2.3 * t, 0.16 * t.sqrt() * (7.0 * t).sin());
        let half = 0.42 * (1.0 - 0.82 * t);
        let lean = 0.16 * (t.sqrt() * 7.0 * (7.0 * t).cos() + (7.0 * t).sin() * 0.5 / t.max(0.05).sqrt());
        let n = super::glb::unit([-lean / 2.3, 0.0, 1.0]);
        for (side, v) in [(-half, 1.0), (half, 0.0)] {
            flag.positions.push([x, 4.75 + side - 0.1 * t * t, wave]);
            flag.normals.push(n);
            flag.uvs.push([t, v]);
        }
    }
    for k in 0..steps as u32 {
        let i = 2 * k;
        flag.indices.extend([i, i + 2, i + 3, i, i + 3, i + 1]);
    }
    glb(&[wood, cloth, brass], &[spar, flag, knob])
}

fn crate_() -> Vec<u8> {
    let raw = |u, v| planks(u, v, [0.60, 0.46, 0.30], [0.48, 0.37, 0.25]).colour;
    let boards = Matter::pictured("boards", painted("planks", |u, v| Some(raw(u, v).map(|c| c * 1.35))));
    let frame = Matter::pictured("frame", painted("varnish", |u, v| Some(raw(v, u).map(|c| c * 1.15))));
    let (half, high, t) = (0.45, 0.8, 0.05);
    let mut inner = Part::of(0);
    inner.block([-half, 0.0, -half], [half, high, half]);
    let mut laths = Part::of(1);
    let (out, wide) = (half + t * 0.6, 0.09);
    for [sx, sz] in [[-1.0, -1.0], [1.0, -1.0], [1.0, 1.0], [-1.0, 1.0f32]] {
        let (x, z) = (sx * (out - 0.5 * wide), sz * (out - 0.5 * wide));
        laths.block([x - 0.5 * wide, 0.0, z - 0.5 * wide], [x + 0.5 * wide, high + 0.02, z + 0.5 * wide]);
    }
    for y in [0.0, high - wide + 0.02] {
        for s in [-1.0, 1.0f32] {
            let near = s * (out - 0.5 * t);
            laths.block([-out + wide, y, near - 0.5 * t], [out - wide, y + wide, near + 0.5 * t]);
            laths.block([near - 0.5 * t, y, -out + wide], [near + 0.5 * t, y + wide, out - wide]);
        }
    }
    glb(&[boards, frame], &[inner, laths])
}

fn buoy() -> Vec<u8> {
    let skin = painted("plaster", |_, v| {
        Some(if (0.42..0.62).contains(&v) { [0.94, 0.92, 0.86] } else { [0.84, 0.26, 0.16] })
    });
    let mut skin = Matter::pictured("skin", skin);
    (skin.metal, skin.rough) = (0.0, 0.4);
    let ring = Matter::plain("ring", [0.5, 0.5, 0.48], 1.0, 0.35);
    let mut body = Part::of(0);
    let ball: Vec<[f32; 2]> = (0..=24)
        .map(|k| (k as f32 / 24.0 * std::f32::consts::PI).sin_cos())
        .map(|(sin, cos)| [0.38 * sin, 0.42 - 0.42 * cos])
        .collect();
    body.turned(&ball, 48, [2.0, 1.0]);
    let mut neck = Part::of(1);
    neck.turned(&[[0.05, 0.82], [0.06, 0.9], [0.0, 0.93]], 20, [1.0; 2]);
    glb(&[skin, ring], &[body, neck, torus(1, 0.07, 0.014).laid().shifted([0.0, 0.97, 0.0])])
}

/// A ring about the upright.
fn torus(matter: usize, radius: f32, thick: f32) -> Part {
    let mut part = Part::of(matter);
    let (n, m) = (40u32, 16u32);
    for i in 0..=n {
        let (s, c) = (i as f32 / n as f32 * std::f32::consts::TAU).sin_cos();
        for j in 0..=m {
            let (sn, cn) = (j as f32 / m as f32 * std::f32::consts::TAU).sin_cos();
            let r = radius + thick * cn;
            part.positions.push([r * s, thick * sn, r * c]);
            part.normals.push([cn * s, sn, cn * c]);
            part.uvs.push([i as f32 / n as f32, j as f32 / m as f32]);
        }
    }
    for i in 0..n {
        for j in 0..m {
            let (a, b) = (i * (m + 1) + j, (i + 1) * (m + 1) + j);
            part.indices.extend([a, b, b + 1, a, b + 1, a + 1]);
        }
    }
    part
}

fn lifebelt() -> Vec<u8> {
    let post = Matter::pictured("post", maps("planks", SIDE));
    let belt = painted("canvas", |u, _| {
        Some(if (u * 4.0 + 0.125).fract() < 0.25 { [0.92, 0.90, 0.84] } else { [0.86, 0.34, 0.14] })
    });
    let belt = Matter::pictured("belt", belt);
    let roof = Matter::plain("roof", [0.10, 0.16, 0.18], 0.0, 0.6);
    let mut wood = Part::of(0);
    wood.block([-0.05, 0.0, -0.05], [0.05, 1.75, 0.05]);
    wood.block([-0.42, 0.75, -0.03], [0.42, 1.6, 0.0]);
    let mut top = Part::of(2);
    top.block([-0.48, 1.75, -0.16], [0.48, 1.8, 0.26]);
    let ring = torus(1, 0.28, 0.07).laid().shifted([0.0, 1.18, 0.1]);
    glb(&[post, belt, roof], &[wood, ring, top])
}

fn kiosk() -> Vec<u8> {
    let wall =
        painted("planks", |u, v| Some(planks(u, v, [0.30, 0.50, 0.52], [0.55, 0.50, 0.43]).colour.map(|c| c * 1.2)));
    let wall = Matter::pictured("walls", wall);
    let roof =
        painted("canvas", |u, _| Some(if (u * 6.0).fract() < 0.5 { [0.86, 0.82, 0.70] } else { [0.72, 0.28, 0.20] }));
    let mut roof = Matter::pictured("awning", roof);
    roof.two_sided = true;
    let wood = Matter::pictured("counter", maps("varnish", SIDE));
    let dark = Matter::plain("inside", [0.03, 0.03, 0.035], 0.0, 0.9);
    let (w, d, h) = (1.3, 0.9, 2.3);
    let mut walls = Part::of(0);
    walls.block([-w, 0.0, -d], [w, h, -d + 0.08]);
    for s in [-1.0, 1.0f32] {
        let (a, b) = if s < 0.0 { (-w, -w + 0.08) } else { (w - 0.08, w) };
        walls.block([a, 0.0, -d + 0.08], [b, h, d]);
    }
    walls.block([-w + 0.08, 0.0, d - 0.08], [w - 0.08, 1.0, d]);
    walls.block([-w + 0.08, 2.0, d - 0.08], [w - 0.08, h, d]);
    let mut inside = Part::of(3);
    inside.block([-w + 0.08, 0.0, -d + 0.08], [w - 0.08, 0.02, d - 0.08]);
    let mut counter = Part::of(2);
    counter.block([-w + 0.02, 1.0, d - 0.2], [w - 0.02, 1.06, d + 0.28]);
    let mut awning = Part::of(1);
    let (front, back) = (d + 0.9, -d - 0.1);
    awning.quad(
        [[-w - 0.1, h - 0.15, front], [w + 0.1, h - 0.15, front], [w + 0.1, h + 0.3, back], [-w - 0.1, h + 0.3, back]],
        [1.0, 1.0],
    );
    awning.quad(
        [
            [-w - 0.1, h - 0.38, front],
            [w + 0.1, h - 0.38, front],
            [w + 0.1, h - 0.15, front],
            [-w - 0.1, h - 0.15, front],
        ],
        [1.0, 0.2],
    );
    glb(&[wall, roof, wood, dark], &[walls, awning, counter, inside])
}
/// Thirty metres long, its nose along Z, with a string of pennants below its tail.
fn airship() -> Vec<u8> {
    const HALF: f32 = 15.0;
    let hull = painted("canvas", |u, v| {
        let gore = (u * 16.0).fract();
        let seam = if gore < 0.04 { 0.82 } else { 1.0 };
        let band = (0.40..0.47).contains(&v) || (0.53..0.56).contains(&v);
        let c = if band {
            [0.72, 0.25, 0.18]
        } else if v > 0.9 {
            [0.13, 0.28, 0.31]
        } else {
            [0.90, 0.86, 0.76]
        };
        Some(c.map(|c: f32| c * seam))
    });
    let hull = Matter::pictured("hull", hull);
    let fin = Matter { two_sided: true, ..Matter::plain("fins", [0.045, 0.15, 0.17], 0.0, 0.7) };
    let car = Matter::plain("car", [0.06, 0.07, 0.075], 0.1, 0.45);
    let cloth = |name, colour| Matter { two_sided: true, ..Matter::plain(name, colour, 0.0, 0.9) };
    let profile: Vec<[f32; 2]> = (0..=36)
        .map(|k| k as f32 / 36.0)
        // Fuller at the nose than at the tail.
        .map(|t| {
            [
                3.9 * (1.0 - (2.0 * t.powf(0.82) - 1.0).powi(2)).max(0.0).sqrt() * (0.55 + 0.45 * t),
                HALF * (2.0 * t - 1.0),
            ]
        })
        .collect();
    let mut body = Part::of(0);
    body.turned(&profile, 48, [1.0, 1.0]);
    let body = body.laid();
    let mut fins = Part::of(1);
    for turn in [0.0f32, 90.0, 180.0, 270.0] {
        let (sin, cos) = turn.to_radians().sin_cos();
        let at = |r: f32, z: f32| [r * sin, r * cos, z];
        fins.quad([at(1.2, -9.4), at(4.4, -12.4), at(4.4, -15.2), at(0.6, -14.6)], [1.0, 1.0]);
    }
    let mut under = Part::of(2);
    under.block([-0.9, -5.1, -0.6], [0.9, -3.4, 4.6]);
    under.block([-0.7, -5.3, 4.0], [0.7, -3.9, 5.3]);
    for x in [-2.6f32, 2.1] {
        under.block([x, -3.2, -3.0], [x + 0.5, -2.7, -1.2]);
    }
    let mut parts = vec![body, fins, under];
    let flags = 14;
    for k in 0..flags {
        let t = k as f32;
        let (z, y) = (-14.0 - 1.5 * t, -1.6 - 0.22 * t - 0.25 * (t * 0.8).sin());
        let mut flag = Part::of(3 + k % 3);
        let (sway, drop) = (0.5 * (t * 0.9).sin(), 1.7);
        flag.quad(
            [[sway, y - drop, z - 0.75], [sway, y - drop, z - 0.75], [0.0, y, z - 1.3], [0.0, y, z - 0.1]],
            [1.0, 1.0],
        );
        parts.push(flag);
    }
    let cloths =
        [cloth("red", [0.45, 0.07, 0.05]), cloth("bone", [0.72, 0.68, 0.58]), cloth("sand", [0.60, 0.36, 0.10])];
    glb(&[vec![hull, fin, car], cloths.into()].concat(), &parts)
}
