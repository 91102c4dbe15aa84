//! Equirectangular pictures: the middle looks along -Z, the top is the zenith.

use super::noise::{byte, layers, mix};
use super::{File, png};
use rayon::prelude::*;

const WIDTH: u32 = 2048;
const HEIGHT: u32 = 1024;

/// Colours of a sky, as encoded for display: above, at the horizon, of clouds, of the ground; where the sun is, as parts
/// of the picture; and how much is clouded.
struct Air {
    above: [f32; 3],
    horizon: [f32; 3],
    cloud: [f32; 3],
    ground: [f32; 3],
    sun: [f32; 2],
    glow: f32,
    clouded: f32,
    /// Hills at the horizon.
    hills: bool,
}

fn air(name: &str) -> Air {
    let fair = Air {
        above: [0.27, 0.47, 0.74],
        horizon: [0.76, 0.84, 0.90],
        cloud: [0.97, 0.97, 0.96],
        ground: [0.42, 0.44, 0.38],
        sun: [0.62, 0.28],
        glow: 0.5,
        clouded: 0.50,
        hills: false,
    };
    match name {
        "overcast" => Air {
            above: [0.60, 0.63, 0.67],
            horizon: [0.79, 0.80, 0.80],
            cloud: [0.86, 0.87, 0.88],
            glow: 0.12,
            clouded: 0.95,
            ..fair
        },
        "dusk" => Air {
            above: [0.15, 0.19, 0.36],
            horizon: [0.94, 0.62, 0.38],
            cloud: [0.80, 0.46, 0.40],
            ground: [0.16, 0.15, 0.16],
            sun: [0.45, 0.485],
            glow: 0.9,
            clouded: 0.55,
            hills: false,
        },
        "yard" => Air {
            above: [0.70, 0.72, 0.74],
            horizon: [0.83, 0.83, 0.82],
            cloud: [0.90, 0.90, 0.90],
            ground: [0.45, 0.43, 0.41],
            glow: 0.15,
            clouded: 0.9,
            hills: true,
            ..fair
        },
        "evening" => Air {
            above: [0.22, 0.28, 0.48],
            horizon: [0.95, 0.70, 0.46],
            cloud: [0.86, 0.56, 0.46],
            ground: [0.22, 0.21, 0.22],
            sun: [0.30, 0.47],
            glow: 0.8,
            clouded: 0.45,
            hills: true,
        },
        "basin" => Air { ground: [0.36, 0.44, 0.50], hills: true, ..fair },
        _ => fair,
    }
}

fn colour(a: &Air, u: f32, v: f32) -> [f32; 3] {
    // Clouds lie on a level far up: they crowd towards the horizon.
    let rise = (0.5 - v) * std::f32::consts::PI;
    let seam = 1e-3;
    if v > 0.5 + seam {
        let depth = ((v - 0.5) * 2.0).sqrt();
        let grain = layers(u, v, [64, 32], 4, 5) - 0.5;
        return mix(mix(a.horizon, a.ground, 0.55), a.ground, depth).map(|c| c * (1.0 + 0.12 * grain));
    }
    let up = (rise / std::f32::consts::FRAC_PI_2).clamp(0.0, 1.0);
    let mut sky = mix(a.horizon, a.above, up.powf(0.55));
    let far = 1.0 / (rise.sin() + 0.12);
    let (cells, shift) = ([12, 12], 0.05 * far);
    let puff = layers(u, (shift + 0.3 * v).fract(), cells, 6, 17);
    let cover = ((puff - (1.0 - a.clouded) * 0.55 - 0.25) * 4.5).clamp(0.0, 1.0) * (rise * 9.0).clamp(0.0, 1.0);
    let shade = 0.86 + 0.3 * (layers(u, (shift + 0.3 * v + 0.015).fract(), cells, 5, 17) - 0.5);
    sky = mix(sky, a.cloud.map(|c| c * shade), 0.9 * cover);
    let dx = (u - a.sun[0] + 0.5).rem_euclid(1.0) - 0.5;
    let away = (dx * std::f32::consts::TAU * rise.cos()).hypot((v - a.sun[1]) * std::f32::consts::PI);
    let halo = a.glow * (0.55 * (-away * 3.0).exp() + 0.8 * (-away * away * 90.0).exp()) * (1.0 - 0.6 * cover);
    sky = sky.map(|c| c + halo * (1.1 - 0.4 * c));
    if a.hills {
        let ridge = 0.008 + 0.035 * layers(u, 0.3, [9, 2], 5, 44);
        if 0.5 - v < ridge {
            let tone = 0.45 + 0.4 * layers(u, v, [128, 64], 3, 9);
            return mix(a.horizon, a.ground.map(|c| c * tone), 0.62);
        }
    }
    sky
}

/// The file of a sky.
pub fn make(name: &'static str) -> Vec<File> {
    let air = air(name);
    let mut rgba = vec![255u8; (4 * WIDTH * HEIGHT) as usize];
    rgba.par_chunks_exact_mut(4 * WIDTH as usize).enumerate().for_each(|(y, row)| {
        for (x, p) in row.chunks_exact_mut(4).enumerate() {
            let (u, v) = ((x as f32 + 0.5) / WIDTH as f32, (y as f32 + 0.5) / HEIGHT as f32);
            p[..3].copy_from_slice(&colour(&air, u, v).map(byte));
        }
    });
    vec![File { name: format!("{name}.png"), bytes: png(WIDTH, HEIGHT, rgba) }]
}
