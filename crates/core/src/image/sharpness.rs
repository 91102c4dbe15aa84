//! How sharp a plate is.

use super::plane::Plane;
use super::prepare::gaussian;
use crate::colour::{encode, luminance};

/// The blur that a picture is blurred by once more, px.
const AGAIN_PX: f64 = 1.0;
/// Edges that are looked at: the strongest part of all pixels, and the least number.
const STRONGEST: f64 = 0.02;
const LEAST: usize = 40;
/// Of the edges, the part that is sharper than the one that counts: things are in focus, or move, more or less.
const SHARPEST: f64 = 0.2;

/// The radius of the blur of the sharpest edges of a frame in linear light, px: a step edge blurred by a Gaussian of that
/// radius looks like them. `None` where there are none (Zhuo and Sim, "Defocus map estimation from a single image", 2011).
pub fn edge_blur_px(frame: &[[f32; 3]], width: usize) -> Option<f64> {
    let height = frame.len() / width.max(1);
    if width < 16 || height < 16 {
        return None;
    }
    let plane = frame.iter().map(|c| encode(luminance(*c).clamp(0.0, 1.0))).collect();
    let plane = Plane::new(width, height, plane).ok()?;
    let again = plane.filtered(&gaussian(AGAIN_PX));
    let (plane, again) = (plane.samples(), again.samples());
    let slope = |p: &[f32], i: usize| {
        let (dx, dy) = (p[i + 1] - p[i - 1], p[i + width] - p[i - width]);
        dx.hypot(dy)
    };
    let mut edges: Vec<(f32, usize)> = Vec::new();
    for y in 8..height - 8 {
        for x in 8..width - 8 {
            let i = y * width + x;
            let own = slope(plane, i);
            // Only where it is steepest across the edge.
            let (dx, dy) = (plane[i + 1] - plane[i - 1], plane[i + width] - plane[i - width]);
            let across = if dx.abs() > dy.abs() { [i - 1, i + 1] } else { [i - width, i + width] };
            if own > 0.04 && across.iter().all(|j| slope(plane, *j) <= own) {
                edges.push((own, i));
            }
        }
    }
    let count = ((frame.len() as f64 * STRONGEST) as usize).max(LEAST).min(edges.len());
    if count < LEAST {
        return None;
    }
    edges.sort_by(|a, b| b.0.total_cmp(&a.0));
    let mut blurs: Vec<f64> = edges[..count]
        .iter()
        .filter_map(|(own, i)| {
            let ratio = f64::from(own / slope(again, *i).max(1e-6));
            (ratio > 1.001).then(|| AGAIN_PX / (ratio * ratio - 1.0).sqrt())
        })
        .collect();
    if blurs.len() < LEAST / 2 {
        return None;
    }
    blurs.sort_by(f64::total_cmp);
    let found = blurs[(blurs.len() as f64 * SHARPEST) as usize];
    // A slope over two pixels blurs by as much as a box of two does.
    Some((found * found - 1.0 / 3.0).max(0.0).sqrt())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::decode;

    #[test]
    fn the_blur_of_edges_is_found_again() {
        let (width, height) = (160usize, 120usize);
        for truth in [0.6, 1.0, 1.8, 3.0] {
            // Slanted edges, blurred by the error function.
            let frame: Vec<[f32; 3]> = (0..width * height)
                .map(|i| {
                    let (x, y) = ((i % width) as f64, (i / width) as f64);
                    let mut v: f64 = 0.2;
                    for (k, edge) in [30.0, 75.0, 120.0].into_iter().enumerate() {
                        let d = (x + 0.3 * y - edge) / (truth * 1.044);
                        // A good stand-in for the integral of a Gaussian.
                        let step = 1.0 / (1.0 + (-1.702 * d * 1.0).exp());
                        v += if k % 2 == 0 { 0.5 * step } else { -0.5 * step };
                    }
                    [decode(v as f32); 3]
                })
                .collect();
            let found = edge_blur_px(&frame, width).unwrap();
            assert!((found / truth - 1.0).abs() < 0.25, "{found} for {truth}");
        }
        assert!(edge_blur_px(&vec![[0.5; 3]; 100 * 100], 100).is_none());
    }
}
