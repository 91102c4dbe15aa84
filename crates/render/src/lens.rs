//! What lens and film do to what is placed, before it is put over the plate.

use crate::canvas::{Canvas, Fronts};
use crate::colour::{decode, encode, luminance};
use fennik_core::image::{Grain, grain_field};
use fennik_core::scene::{LENS_WIDTH_PX, LensNow};
use rayon::prelude::*;
use std::f32::consts::{PI, TAU};

/// What is placed, over the whole picture: light times how much of it is there, and that.
pub(crate) type Pixel = [f32; 4];

/// The blur that drawing has by itself: a pixel's breadth, and its samples.
const OWN_BLUR_PX: f64 = 0.4;
/// Looks into what is out of focus.
const LOOKS: usize = 64;
/// Blurs wider than this are made of boxes, px.
const BOXES_PX: f32 = 3.0;

/// What is placed, as it was drawn.
pub(crate) struct Drawn {
    pub size: [usize; 2],
    pub pixels: Vec<Pixel>,
    /// How far away what is seen is; nothing where depth does not count.
    pub depth: Option<Vec<f32>>,
}

/// Lens and film at one time.
#[derive(Debug, Clone)]
pub struct LensPass {
    now: LensNow,
    grain: Option<Grain>,
    /// Another for each frame.
    seed: u64,
}

impl LensPass {
    /// With the grain of the plate where it was measured; `seed` differs from frame to frame.
    pub fn new(now: LensNow, grain: Option<Grain>, seed: u64) -> Self {
        Self { now, grain, seed }
    }

    /// Whether it does anything to what was drawn.
    pub fn acts(&self) -> bool {
        self.now.acts()
    }

    /// Whether depths are needed.
    pub(crate) fn asks_depth(&self) -> bool {
        self.now.focus.is_some()
    }

    /// Does it, and puts what is placed over the plate but for what stands in front.
    pub(crate) fn finish(&self, mut drawn: Drawn, canvas: &mut Canvas, fronts: &Fronts) {
        let [width, height] = drawn.size;
        let scale = width as f64 / LENS_WIDTH_PX;
        self.focus(&mut drawn, scale);
        let blur = (self.now.blur_px * scale).powi(2) - OWN_BLUR_PX * OWN_BLUR_PX;
        if self.now.blur_px > 0.0 && blur > 0.01 {
            drawn.pixels = blurred(&drawn.pixels, drawn.size, blur.sqrt() as f32);
        }
        self.glass(&mut drawn, scale);
        self.bloom(&mut drawn, scale);
        let pixels = drawn.pixels;
        let grain = self.grain.as_ref().filter(|_| self.now.grain > 0.0).map(|g| {
            let own = width as f64 / f64::from(g.width);
            (g, grain_field(width, height, g.blur_px.map(|r| r * own), self.seed))
        });
        let strength = self.now.grain as f32;
        canvas.each_pixel(width, 0..height, |x, y, behind| {
            let i = y * width + x;
            let [r, g, b, alpha] = pixels[i];
            let part = 1.0 - fronts.all_at(i);
            if (alpha <= 0.0 && [r, g, b] == [0.0; 3]) || part <= 0.0 {
                return None;
            }
            // What takes light from the plate, by its mode, is less than nothing until it lies over it.
            let own = [r, g, b];
            let mut seen: [f32; 3] = std::array::from_fn(|k| (own[k] + (1.0 - alpha) * behind[k]).max(0.0));
            if let Some((grain, field)) = &grain {
                let bright = encode(luminance(seen));
                for k in 0..3 {
                    // The plate behind has its own.
                    let more = field[i][k] * grain.deviation_at(bright, k) * strength * alpha.clamp(0.0, 1.0);
                    seen[k] = decode((encode(seen[k]) + more).max(0.0));
                }
            }
            Some(std::array::from_fn(|k| behind[k] + (seen[k] - behind[k]) * part))
        });
    }

    /// Blurs what is out of focus: each pixel gathers what is spread over it by its neighbours.
    fn focus(&self, drawn: &mut Drawn, scale: f64) {
        let [width, height] = drawn.size;
        let radius = |i: usize| {
            let far = drawn.depth.as_ref().map_or(f64::INFINITY, |d| f64::from(d[i]));
            let own = if far.is_finite() || self.now.focus.is_none() { self.now.defocus_at(far) } else { 0.0 };
            (own * scale) as f32
        };
        let radii: Vec<f32> = (0..width * height)
            .into_par_iter()
            .map(|i| if there(&drawn.pixels[i]) { radius(i) } else { 0.0 })
            .collect();
        let most = radii.par_iter().copied().reduce(|| 0.0, f32::max);
        if most < 0.3 {
            return;
        }
        let disc = self.disc();
        let from = &drawn.pixels;
        // Nothing is gathered where nothing is near.
        let (rows, columns) = reached(from, drawn.size, most.ceil() as usize + 1);
        let gathered = |i: usize| -> Pixel {
            let (x, y) = (i % width, i / width);
            if !rows.contains(&y) || !columns.contains(&x) {
                return from[i];
            }
            let (mut sum, mut weight) = ([0.0f32; 4], 0.0f32);
            for [dx, dy] in &disc {
                let (px, py) = (x as f32 + dx * most, y as f32 + dy * most);
                let (px, py) = (px.round(), py.round());
                if px < 0.0 || py < 0.0 || px >= width as f32 || py >= height as f32 {
                    continue;
                }
                let j = py as usize * width + px as usize;
                let away = (dx.hypot(*dy) * most).min(most);
                // A neighbour spreads over its own disc; nothing that is sharp spreads here.
                let own = if there(&from[j]) { radii[j].max(0.5) } else { most };
                if away > own + 0.5 {
                    // Its place is taken by what is not there.
                    weight += 1.0;
                    continue;
                }
                let share = (most / own) * (most / own);
                (0..4).for_each(|k| sum[k] += share * from[j][k]);
                weight += share;
            }
            if weight <= 0.0 { from[i] } else { sum.map(|v| v / weight) }
        };
        drawn.pixels = (0..width * height).into_par_iter().map(gathered).collect();
    }

    /// Places spread evenly over the aperture, of a radius of 1.
    fn disc(&self) -> Vec<[f32; 2]> {
        let blades = self.now.blades;
        let turn = self.now.blade_turn_deg.to_radians() as f32;
        (0..LOOKS)
            .map(|k| {
                let away = ((k as f32 + 0.5) / LOOKS as f32).sqrt();
                let angle = 2.399_963_2 * k as f32;
                let reach = if blades >= 3 {
                    // The edge of a polygon of as many sides.
                    let side = TAU / blades as f32;
                    let off = (angle - turn).rem_euclid(side) - 0.5 * side;
                    (PI / blades as f32).cos() / off.cos()
                } else {
                    1.0
                };
                [away * reach * angle.cos(), away * reach * angle.sin()]
            })
            .collect()
    }

    /// Darker corners, and colours that part towards the rim.
    fn glass(&self, drawn: &mut Drawn, scale: f64) {
        let [width, height] = drawn.size;
        let half = [width as f32, height as f32].map(|v| 0.5 * v);
        let corner = half[0].hypot(half[1]);
        if self.now.fringe_px != 0.0 {
            let most = (self.now.fringe_px * scale) as f32 / corner;
            let from = std::mem::take(&mut drawn.pixels);
            let parted = |i: usize| -> Pixel {
                let (x, y) = ((i % width) as f32 + 0.5 - half[0], (i / width) as f32 + 0.5 - half[1]);
                let at = |by: f32| bilinear(&from, [width, height], [x * by + half[0] - 0.5, y * by + half[1] - 0.5]);
                let (red, own, blue) = (at(1.0 - most), from[i], at(1.0 + most));
                [red[0], own[1], blue[2], (red[3] + own[3] + blue[3]) / 3.0]
            };
            drawn.pixels = (0..width * height).into_par_iter().map(parted).collect();
        }
        if self.now.vignette > 0.0 {
            let strength = self.now.vignette as f32;
            drawn.pixels.par_iter_mut().enumerate().for_each(|(i, p)| {
                let (x, y) = ((i % width) as f32 + 0.5 - half[0], (i / width) as f32 + 0.5 - half[1]);
                let away = x.hypot(y) / corner;
                let part = 1.0 - strength * away * away;
                p[..3].iter_mut().for_each(|v| *v *= part);
            });
        }
    }

    /// Light that spreads about what is bright.
    fn bloom(&self, drawn: &mut Drawn, scale: f64) {
        let [strength, from, size] = self.now.bloom.map(|v| v as f32);
        if strength <= 0.0 {
            return;
        }
        let bright: Vec<Pixel> = drawn
            .pixels
            .par_iter()
            .map(|p| {
                let most = p[0].max(p[1]).max(p[2]);
                let over = (most - from).max(0.0) / most.max(1e-6);
                [p[0] * over, p[1] * over, p[2] * over, 0.0]
            })
            .collect();
        let spread = blurred(&bright, drawn.size, (f64::from(size) * scale) as f32);
        drawn.pixels.par_iter_mut().zip(spread).for_each(|(p, s)| (0..3).for_each(|k| p[k] += strength * s[k]));
    }
}

/// Whether anything is there.
fn there(p: &Pixel) -> bool {
    p[3] > 0.0 || p[..3] != [0.0; 3]
}

/// Rows and columns within so many px of anything.
fn reached(
    pixels: &[Pixel],
    [width, height]: [usize; 2],
    by: usize,
) -> (std::ops::Range<usize>, std::ops::Range<usize>) {
    let rows: Vec<Option<(usize, usize)>> =
        pixels.par_chunks(width).map(|row| Some((row.iter().position(there)?, row.iter().rposition(there)?))).collect();
    let (Some(top), Some(bottom)) = (rows.iter().position(Option::is_some), rows.iter().rposition(Option::is_some))
    else {
        return (0..0, 0..0);
    };
    let ends = rows.iter().flatten().fold((width, 0), |(l, r), (a, b)| (l.min(*a), r.max(*b)));
    let span = |low: usize, high: usize, end: usize| low.saturating_sub(by)..(high + by + 1).min(end);
    (span(top, bottom, height), span(ends.0, ends.1, width))
}

fn bilinear(from: &[Pixel], [width, height]: [usize; 2], [x, y]: [f32; 2]) -> Pixel {
    let (x0, y0) = (x.floor(), y.floor());
    let (s, t) = (x - x0, y - y0);
    let at = |x: f32, y: f32| -> Pixel {
        if x < 0.0 || y < 0.0 || x >= width as f32 || y >= height as f32 {
            return [0.0; 4];
        }
        from[y as usize * width + x as usize]
    };
    let (a, b, c, d) = (at(x0, y0), at(x0 + 1.0, y0), at(x0, y0 + 1.0), at(x0 + 1.0, y0 + 1.0));
    std::array::from_fn(|k| {
        let (top, low) = (a[k] + (b[k] - a[k]) * s, c[k] + (d[k] - c[k]) * s);
        top + (low - top) * t
    })
}

/// Blurred by a Gaussian of a radius, px; wide ones by three boxes, which come near to it (Wells 1986).
pub(crate) fn blurred(from: &[Pixel], size: [usize; 2], radius: f32) -> Vec<Pixel> {
    let kernel: Vec<f32> = if radius <= BOXES_PX {
        let reach = (3.0 * radius).ceil() as i32;
        let all: Vec<f32> = (-reach..=reach).map(|d| (-0.5 * (d * d) as f32 / (radius * radius)).exp()).collect();
        let sum: f32 = all.iter().sum();
        all.into_iter().map(|w| w / sum).collect()
    } else {
        Vec::new()
    };
    if !kernel.is_empty() {
        let rows = along(from, size, &kernel);
        return turned(&along(&turned(&rows, size), [size[1], size[0]], &kernel), [size[1], size[0]]);
    }
    // Three boxes of odd breadth whose variances sum to that of the Gaussian.
    let whole = (4.0 * radius * radius + 1.0).sqrt();
    let low = (whole.floor() as usize - 1) | 1;
    let low = if low as f32 > whole { low - 2 } else { low };
    let wider = ((12.0 * radius * radius - (3 * low * low + 12 * low + 9) as f32) / (-4.0 * low as f32 - 4.0)).round();
    let breadth = |k: usize| if (k as f32) < wider { low } else { low + 2 };
    let mut out = from.to_vec();
    for k in 0..3 {
        out = boxed(&out, size, breadth(k));
    }
    let mut out = turned(&out, size);
    let across = [size[1], size[0]];
    for k in 0..3 {
        out = boxed(&out, across, breadth(k));
    }
    turned(&out, across)
}

/// Rows become columns.
fn turned(from: &[Pixel], [width, height]: [usize; 2]) -> Vec<Pixel> {
    (0..width * height).into_par_iter().map(|i| from[i % height * width + i / height]).collect()
}

fn along(from: &[Pixel], [width, _]: [usize; 2], kernel: &[f32]) -> Vec<Pixel> {
    let reach = kernel.len() / 2;
    let mut out = vec![[0.0; 4]; from.len()];
    out.par_chunks_mut(width).zip(from.par_chunks(width)).for_each(|(out, row)| {
        for (x, p) in out.iter_mut().enumerate() {
            for (k, weight) in kernel.iter().enumerate() {
                let at = (x + k).saturating_sub(reach).min(width - 1);
                (0..4).for_each(|c| p[c] += weight * row[at][c]);
            }
        }
    });
    out
}

/// The mean of so many neighbours of each row; beyond the rim there is nothing.
fn boxed(from: &[Pixel], [width, _]: [usize; 2], breadth: usize) -> Vec<Pixel> {
    let reach = breadth / 2;
    let mut out = vec![[0.0; 4]; from.len()];
    out.par_chunks_mut(width).zip(from.par_chunks(width)).for_each(|(out, row)| {
        let mut sum = [0.0f64; 4];
        let add = |sum: &mut [f64; 4], p: &Pixel, sign: f64| (0..4).for_each(|c| sum[c] += sign * f64::from(p[c]));
        row[..reach.min(width)].iter().for_each(|p| add(&mut sum, p, 1.0));
        for x in 0..width {
            if x + reach < width {
                add(&mut sum, &row[x + reach], 1.0);
            }
            if x > reach {
                add(&mut sum, &row[x - reach - 1], -1.0);
            }
            out[x] = sum.map(|v| (v / breadth as f64) as f32);
        }
    });
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use fennik_core::scene::LensLook;

    const SIZE: [usize; 2] = [256, 160];

    fn now(values: &[(&str, f64)]) -> LensNow {
        let mut look = LensLook::default();
        values.iter().for_each(|(name, v)| look.numbers.set_at(LensLook::rule(name).unwrap(), 0.0, *v));
        look.at(0.0)
    }

    /// A white square of 40 px in the middle.
    fn square() -> Drawn {
        let pixels = (0..SIZE[0] * SIZE[1])
            .map(|i| {
                let (x, y) = (i % SIZE[0], i / SIZE[0]);
                let inside = (108..148).contains(&x) && (60..100).contains(&y);
                if inside { [0.8, 0.8, 0.8, 1.0] } else { [0.0; 4] }
            })
            .collect();
        Drawn { size: SIZE, pixels, depth: None }
    }

    fn finished(pass: &LensPass, drawn: Drawn, plate: f32) -> Vec<[f32; 3]> {
        let mut light = vec![[plate; 3]; SIZE[0] * SIZE[1]];
        pass.finish(drawn, &mut Canvas::Light(&mut light), &Fronts::none());
        light
    }

    fn row(light: &[[f32; 3]], x: usize) -> f32 {
        light[80 * SIZE[0] + x][1]
    }

    #[test]
    fn blurs_keep_the_light_and_are_as_wide_as_they_are_told() {
        for radius in [1.0f32, 2.5, 6.0, 14.0] {
            let from = square().pixels;
            let out = blurred(&from, SIZE, radius);
            let sum = |p: &[Pixel]| p.iter().map(|p| f64::from(p[0])).sum::<f64>();
            assert!((sum(&out) / sum(&from) - 1.0).abs() < 0.01, "{radius}");
            // The variance of a line of light across.
            let mut line = vec![[0.0; 4]; SIZE[0] * SIZE[1]];
            (0..SIZE[1]).for_each(|y| line[y * SIZE[0] + 128] = [1.0; 4]);
            let out = blurred(&line, SIZE, radius);
            let at = |x: usize| f64::from(out[80 * SIZE[0] + x][0]);
            let whole: f64 = (0..SIZE[0]).map(at).sum();
            let spread: f64 = (0..SIZE[0]).map(|x| at(x) * (x as f64 - 128.0).powi(2)).sum::<f64>() / whole;
            assert!((spread.sqrt() / f64::from(radius) - 1.0).abs() < 0.05, "{radius}: {}", spread.sqrt());
        }
    }

    #[test]
    fn what_is_out_of_focus_fades_over_its_radius_and_the_plate_stays() {
        // The picture is 256 wide: a fifth of the px that are told.
        let pass = LensPass::new(now(&[("defocus", 40.0)]), None, 1);
        let light = finished(&pass, square(), 0.2);
        let edge = row(&light, 108);
        assert!((edge - 0.5).abs() < 0.08, "half at the edge: {edge}");
        assert!((row(&light, 128) - 0.8).abs() < 0.01 && (row(&light, 90) - 0.2).abs() < 1e-6);
        assert!(row(&light, 103) < 0.4 && row(&light, 103) > 0.2);
    }

    #[test]
    fn depth_blurs_what_is_far_and_leaves_what_is_in_focus() {
        let pass = LensPass::new(now(&[("focus", 10.0), ("aperture", 40.0)]), None, 1);
        let at = |far: f32| {
            let depth = square().pixels.iter().map(|p| if p[3] > 0.0 { far } else { f32::INFINITY }).collect();
            finished(&pass, Drawn { depth: Some(depth), ..square() }, 0.2)
        };
        assert!((row(&at(10.0), 108) - 0.8).abs() < 1e-6);
        assert!((row(&at(30.0), 108) - 0.5).abs() < 0.12, "{}", row(&at(30.0), 108));
    }

    #[test]
    fn bloom_spreads_bright_light_alone_and_glass_darkens_the_rim() {
        let bloomed = LensPass::new(now(&[("bloom", 1.0), ("bloom-from", 0.5), ("bloom-size", 40.0)]), None, 1);
        let light = finished(&bloomed, square(), 0.1);
        assert!(row(&light, 104) > 0.12 && row(&light, 20) < 0.101);
        let dim = LensPass::new(now(&[("bloom", 1.0), ("bloom-from", 0.9), ("bloom-size", 40.0)]), None, 1);
        assert!((row(&finished(&dim, square(), 0.1), 104) - 0.1).abs() < 1e-6);
        let mut wide = square();
        wide.pixels.fill([0.5, 0.5, 0.5, 1.0]);
        let dark = finished(&LensPass::new(now(&[("lens-vignette", 0.6)]), None, 1), wide, 0.0);
        assert!((row(&dark, 128) - 0.5).abs() < 0.01 && dark[0][1] < 0.21);
        let fringed = finished(&LensPass::new(now(&[("fringe", 10.0)]), None, 1), square(), 0.2);
        let (left, right) = (fringed[80 * SIZE[0] + 107], fringed[80 * SIZE[0] + 148]);
        assert!(left[0] != left[2] && right[0] != right[2]);
    }

    /// Fault: a sign that multiplies was not seen any more once anything of the lens was set.
    #[test]
    fn what_takes_light_from_the_plate_still_does() {
        let mut dark = square();
        dark.pixels.iter_mut().filter(|p| p[3] > 0.0).for_each(|p| *p = [-0.15, -0.1, -0.05, 0.0]);
        let grain = Grain { deviation: vec![[0.02; 3]; 8], blur_px: [0.0; 2], width: 256 };
        let light = finished(&LensPass::new(LensNow { grain: 1.0, ..now(&[]) }, Some(grain), 7), dark, 0.2);
        let seen = light[80 * SIZE[0] + 128];
        assert!([0.05, 0.1, 0.15].iter().zip(seen).all(|(wanted, v)| (wanted - v).abs() < 1e-6), "{seen:?}");
        assert_eq!(row(&light, 20), 0.2);
    }

    #[test]
    fn grain_lies_on_what_is_placed_alone_and_is_as_strong_as_the_plates() {
        let grain = Grain { deviation: vec![[0.02, 0.01, 0.03]; 8], blur_px: [0.0; 2], width: 256 };
        let with = LensPass::new(LensNow { grain: 1.0, ..now(&[]) }, Some(grain), 7);
        let light = finished(&with, square(), 0.2);
        assert_eq!(row(&light, 20), 0.2);
        let shown: Vec<[f32; 3]> =
            (0..1600).map(|i| light[(60 + i / 40) * SIZE[0] + 108 + i % 40].map(encode)).collect();
        for (k, wanted) in [0.02f32, 0.01, 0.03].into_iter().enumerate() {
            let mean = shown.iter().map(|p| p[k]).sum::<f32>() / 1600.0;
            let spread = (shown.iter().map(|p| (p[k] - mean).powi(2)).sum::<f32>() / 1600.0).sqrt();
            assert!((spread / wanted - 1.0).abs() < 0.1, "channel {k}: {spread}");
        }
        let again = finished(&with, square(), 0.2);
        assert_eq!(light, again, "the same frame has the same grain");
    }
}
