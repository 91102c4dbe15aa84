//! Elements as sequences that loop: soft blobs, each on a way of its own that begins anew when it has ended.

use super::noise::{byte, dot};
use super::{File, png};
use rayon::prelude::*;
use std::io::Write;

const SIDE: u32 = 256;
const FRAMES: u32 = 40;

/// One blob at a moment.
struct Blob {
    at: [f32; 2],
    radius: f32,
    /// How much it covers, or how bright it is.
    strength: f32,
    colour: [f32; 3],
    /// How many times as long as wide it is, and along what.
    stretch: (f32, [f32; 2]),
}

/// The frames of an effect in a zip.
pub fn make(name: &'static str) -> Vec<File> {
    let frames: Vec<Vec<u8>> =
        (0..FRAMES).into_par_iter().map(|f| png(SIDE, SIDE, frame(name, f as f32 / FRAMES as f32))).collect();
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    let stored = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    for (i, bytes) in frames.iter().enumerate() {
        // Writing to memory fails for no reason.
        let written = zip.start_file(format!("{name}.{i:04}.png"), stored).map(|()| zip.write_all(bytes));
        debug_assert!(matches!(written, Ok(Ok(()))), "a file in memory can be written");
    }
    let bytes = zip.finish().map(std::io::Cursor::into_inner).unwrap_or_default();
    vec![File { name: format!("{name}.zip"), bytes }]
}

/// A frame from within.
pub fn look(name: &'static str) -> File {
    File { name: format!("{name}.png"), bytes: png(SIDE, SIDE, frame(name, 0.3)) }
}

/// Those on black give light; the others have alpha.
fn is_light(name: &str) -> bool {
    matches!(name, "fire" | "sparks" | "flare")
}

fn frame(name: &str, time: f32) -> Vec<u8> {
    let blobs = blobs(name, time);
    let mut rgba = Vec::with_capacity((4 * SIDE * SIDE) as usize);
    for i in 0..SIDE * SIDE {
        let at = [(i % SIDE) as f32 / SIDE as f32, 1.0 - (i / SIDE) as f32 / SIDE as f32];
        let (mut light, mut clear) = ([0.0f32; 3], 1.0f32);
        for b in &blobs {
            let (dx, dy) = (at[0] - b.at[0], at[1] - b.at[1]);
            let (long, [wx, wy]) = b.stretch;
            let (along, across) = ((dx * wx + dy * wy) / long, dx * wy - dy * wx);
            let d2 = (along * along + across * across) / (b.radius * b.radius);
            if d2 >= 1.0 {
                continue;
            }
            let part = b.strength * (1.0 - d2) * (1.0 - d2);
            if is_light(name) {
                (0..3).for_each(|k| light[k] += part * b.colour[k]);
            } else {
                (0..3).for_each(|k| light[k] += clear * part * b.colour[k]);
                clear *= 1.0 - part.min(1.0);
            }
        }
        if is_light(name) {
            rgba.extend(light.map(|v| byte(1.0 - (-v).exp())));
            rgba.push(255);
        } else {
            let alpha = 1.0 - clear;
            rgba.extend(light.map(|v| byte(v / alpha.max(1e-3))));
            rgba.push(byte(alpha));
        }
    }
    rgba
}

fn blobs(name: &str, time: f32) -> Vec<Blob> {
    let count = match name {
        "spray" => 260,
        "sparks" => 90,
        "fire" => 150,
        "flare" => 1,
        _ => 110,
    };
    if name == "flare" {
        return flare(time);
    }
    (0..count)
        .map(|k| {
            let own = |s: u32| dot(k, 7, s);
            let age = (time + own(1)).fract();
            let (side, lift) = (own(2) - 0.5, own(3));
            match name {
                "spray" => {
                    let (vx, vy) = (0.55 * side, 0.55 + 0.75 * lift);
                    let t = age;
                    let at = [0.5 + vx * t, 0.04 + vy * t - 0.95 * t * t];
                    let fade = (age * 8.0).min(1.0) * (1.0 - age);
                    let way = super::glb::unit([vx, vy - 1.9 * t, 0.0]);
                    Blob {
                        at,
                        radius: 0.008 + 0.03 * age * own(4),
                        strength: 0.75 * fade,
                        colour: [0.93, 0.96, 0.98],
                        stretch: (1.0 + 2.0 * own(5), [way[0], way[1]]),
                    }
                }
                "fire" => {
                    let sway = 0.06 * ((age + own(6)) * 9.0).sin() * age;
                    let at = [0.5 + 0.42 * side * (1.0 - 0.75 * age) + sway, 0.13 + 0.8 * age * (0.5 + 0.5 * lift)];
                    let heat = 1.0 - age;
                    Blob {
                        at,
                        radius: 0.03 + 0.07 * (1.0 - age) * (0.5 + own(4)),
                        strength: 0.55 * heat * (age * 10.0).min(1.0),
                        colour: [1.0, 0.25 + 0.45 * heat * heat, 0.02 + 0.2 * heat.powi(4)],
                        stretch: (1.7, [sway, 1.0]),
                    }
                }
                "sparks" => {
                    let (vx, vy) = (1.0 * side, 0.5 + 0.8 * lift);
                    let at = [0.5 + vx * age, 0.05 + vy * age - 0.8 * age * age];
                    let way = super::glb::unit([vx, vy - 1.6 * age, 0.0]);
                    Blob {
                        at,
                        radius: 0.005 + 0.004 * own(4),
                        strength: 6.0 * (1.0 - age),
                        colour: [1.0, 0.55 + 0.3 * (1.0 - age), 0.15],
                        stretch: (4.0, [way[0], way[1]]),
                    }
                }
                "dust" => {
                    let at = [0.5 + side * (0.3 + 0.6 * age), 0.03 + 0.3 * lift * age.sqrt()];
                    Blob {
                        at,
                        radius: 0.05 + 0.12 * age,
                        strength: 0.2 * (1.0 - age) * (age * 5.0).min(1.0),
                        colour: [0.68, 0.60, 0.48],
                        stretch: (1.4, [1.0, 0.1]),
                    }
                }
                _ => {
                    let sway = 0.1 * age * (age * 5.0 + 6.0 * own(6)).sin();
                    let at = [0.5 + 0.16 * side * (0.4 + age) + sway, 0.04 + 0.86 * age];
                    // Wet smoke, lighter than most walls, so that it is seen before grey ones.
                    let tone = 0.60 + 0.3 * own(5);
                    Blob {
                        at,
                        radius: 0.05 + 0.13 * age,
                        strength: 0.2 * (1.0 - age) * (age * 6.0).min(1.0),
                        colour: [tone, tone, tone * 1.03],
                        stretch: (1.0, [0.0, 1.0]),
                    }
                }
            }
        })
        .collect()
}

/// A lamp that glows, with rays and rings about it.
fn flare(time: f32) -> Vec<Blob> {
    let beat = 0.85 + 0.15 * (time * std::f32::consts::TAU).sin();
    let blob = |radius, strength, colour, stretch| Blob { at: [0.5; 2], radius, strength, colour, stretch };
    let still = (1.0, [1.0, 0.0]);
    let mut all = vec![
        blob(0.06, 5.0 * beat, [1.0, 0.97, 0.9], still),
        blob(0.48, 0.3 * beat, [1.0, 0.75, 0.45], still),
        blob(0.02, 1.4 * beat, [1.0, 0.85, 0.6], (24.0, [1.0, 0.0])),
    ];
    for k in 0..6 {
        let (sin, cos) = (k as f32 * std::f32::consts::PI / 6.0 + 0.2).sin_cos();
        all.push(blob(0.008, 0.9 * beat, [1.0, 0.85, 0.6], (30.0 - 6.0 * dot(k, 1, 2), [cos, sin])));
    }
    all
}
