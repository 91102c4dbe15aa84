//! Keys: what of a picture is left out.

use fennik_core::scene::{Alpha, Key, Keyed};

/// Makes straight colours of what a picture holds, and leaves out what its key says. RGBA, display values.
pub fn treat(rgba: &mut [u8], alpha: Alpha, key: &Key) {
    let multiplied = match alpha {
        Alpha::Straight => false,
        Alpha::Premultiplied => true,
        Alpha::Auto => looks_multiplied(rgba),
    };
    if multiplied {
        rgba.chunks_exact_mut(4).filter(|p| p[3] > 0 && p[3] < 255).for_each(straighten);
    }
    match key.by {
        Keyed::Alpha => {}
        Keyed::Black => rgba.chunks_exact_mut(4).for_each(|p| leave_out_black(p, key)),
        Keyed::Colour => {
            let of = chroma(key.colour);
            rgba.chunks_exact_mut(4).for_each(|p| leave_out_colour(p, key, of));
        }
    }
}

/// Where no colour is brighter than its alpha, and some is as bright, colours were multiplied by it.
fn looks_multiplied(rgba: &[u8]) -> bool {
    let soft = || rgba.chunks_exact(4).filter(|p| p[3] > 8 && p[3] < 247);
    soft().count() > 0 && soft().all(|p| p[..3].iter().all(|c| *c <= p[3].saturating_add(1)))
}

fn straighten(p: &mut [u8]) {
    let alpha = u32::from(p[3]);
    p[..3].iter_mut().for_each(|c| *c = ((u32::from(*c) * 255 + alpha / 2) / alpha).min(255) as u8);
}

fn ramp(value: f32, key: &Key) -> f32 {
    ((value - key.reach as f32) / (key.soft as f32).max(1e-3)).clamp(0.0, 1.0)
}

fn leave_out_black(p: &mut [u8], key: &Key) {
    let bright = p[..3].iter().copied().max().unwrap_or(0);
    let part = ramp(f32::from(bright) / 255.0, key);
    // What is dark by being thin has the colour that it would have if it were not.
    if part > 0.0 && part < 1.0 && bright > 0 {
        let most = 255.0 / f32::from(bright);
        let gain = (1.0 / part).min(most);
        p[..3].iter_mut().for_each(|c| *c = (f32::from(*c) * gain).min(255.0) as u8);
    }
    p[3] = (f32::from(p[3]) * part + 0.5) as u8;
}

/// Below this a colour is too dark to tell, of white.
const DARK: f32 = 0.12;

/// Colour without brightness (ITU-R BT.709), the same in light and shade.
fn chroma([r, g, b]: [u8; 3]) -> [f32; 2] {
    let [r, g, b] = [r, g, b].map(|v| f32::from(v) / 255.0);
    let y = 0.2126 * r + 0.7152 * g + 0.0722 * b;
    let bright = r.max(g).max(b).max(DARK);
    [(b - y) / 1.8556 / bright, (r - y) / 1.5748 / bright]
}

fn leave_out_colour(p: &mut [u8], key: &Key, of: [f32; 2]) {
    let own = chroma([p[0], p[1], p[2]]);
    let length = of[0].hypot(of[1]).max(1e-3);
    // Of the key's own strength of colour: 0 is the key, 1 is grey.
    let away = (own[0] - of[0]).hypot(own[1] - of[1]) / length;
    let part = ramp(away, key);
    // Spill: no more of the key's colour than of the others.
    let strongest = (0..3).max_by_key(|k| key.colour[*k]).unwrap_or(1);
    let others = (0..3).filter(|k| *k != strongest).map(|k| p[k]).max().unwrap_or(0);
    let is_tinted = own[0] * of[0] + own[1] * of[1] > 0.0;
    if is_tinted && p[strongest] > others {
        p[strongest] = others;
    }
    p[3] = (f32::from(p[3]) * part + 0.5) as u8;
}

#[cfg(test)]
mod tests {
    use super::*;

    fn treated(mut p: Vec<u8>, alpha: Alpha, by: Keyed) -> Vec<u8> {
        treat(&mut p, alpha, &Key { by, ..Key::default() });
        p
    }

    #[test]
    fn colours_that_were_multiplied_are_told_and_divided() {
        let multiplied = vec![100, 50, 0, 128, 255, 255, 255, 255, 20, 20, 20, 40];
        let straight = treated(multiplied.clone(), Alpha::Auto, Keyed::Alpha);
        assert_eq!(straight, [199, 100, 0, 128, 255, 255, 255, 255, 128, 128, 128, 40]);
        assert_eq!(treated(multiplied.clone(), Alpha::Straight, Keyed::Alpha), multiplied, "when it is said");
        let plain = vec![200, 50, 0, 128, 255, 255, 255, 255];
        assert_eq!(treated(plain.clone(), Alpha::Auto, Keyed::Alpha), plain);
    }

    #[test]
    fn black_goes_and_what_is_thin_keeps_its_colour() {
        let p = treated(vec![0, 0, 0, 255, 255, 180, 60, 255, 60, 40, 20, 255], Alpha::Auto, Keyed::Black);
        assert_eq!((p[3], p[7]), (0, 255));
        assert!(p[11] > 40 && p[11] < 140 && p[8] > 100 && p[8] > p[9], "{:?}", &p[8..]);
    }

    #[test]
    fn green_goes_with_its_spill_and_skin_stays() {
        let key = Key::default().colour;
        let shaded = key.map(|c| (f32::from(c) * 0.8) as u8);
        let mut p = vec![];
        for c in [key, shaded, [210, 160, 130], [235, 235, 235], [120, 190, 110]] {
            p.extend([c[0], c[1], c[2], 255]);
        }
        let p = treated(p, Alpha::Auto, Keyed::Colour);
        assert_eq!((p[3], p[11], p[15]), (0, 255, 255));
        assert!(p[7] < 40, "the key in the shade: {}", p[7]);
        assert_eq!(&p[8..11], &[210, 160, 130]);
        assert!(p[17] <= 120, "no green fringe is left: {:?}", &p[16..]);
    }
}
