//! JPEG pictures, encoded on all cores: strips of a picture are coded by themselves and joined at restart markers, which
//! begin each anew (ITU-T T.81, B.2.1 and F.1.2.3).

use jpeg_encoder::{ColorType, Encoder, EncodingError, SamplingFactor};
use rayon::prelude::*;

/// Rows of a strip are a multiple of the tallest group of blocks.
const GROUP: usize = 16;

/// A picture of red, green, blue bytes, or of grey ones, row by row; `careful` is JPEG's quality, 1 to 100. None of the
/// two sides may be over 65,535 px.
///
/// # Errors
/// When the buffer is shorter than the picture, or a side too long.
pub fn encode(
    bytes: &[u8],
    (width, height): (u32, u32),
    kind: ColorType,
    careful: u8,
) -> Result<Vec<u8>, EncodingError> {
    let samples = if kind == ColorType::Luma { 1 } else { 3 };
    let row = width as usize * samples;
    let required = row * height as usize;
    let (Ok(across), Ok(down), Some(whole)) = (u16::try_from(width), u16::try_from(height), bytes.get(..required))
    else {
        return Err(EncodingError::BadImageData { length: bytes.len(), required });
    };
    let rows = (height as usize).div_ceil(rayon::current_num_threads()).next_multiple_of(GROUP);
    // Light and colours alike where pictures are careful; a colour for four pixels where they are not.
    let sampling = if kind == ColorType::Luma || careful >= 90 { SamplingFactor::F_1_1 } else { SamplingFactor::F_2_2 };
    let group = if sampling == SamplingFactor::F_1_1 { 8 } else { GROUP };
    let interval = (width as usize).div_ceil(group) * (rows / group);
    let strip = |bytes: &[u8], interval: u16| {
        let mut out = Vec::with_capacity(bytes.len() / 8);
        let mut encoder = Encoder::new(&mut out, careful);
        encoder.set_sampling_factor(sampling);
        encoder.set_restart_interval(interval);
        encoder.encode(bytes, across, (bytes.len() / row.max(1)) as u16, kind)?;
        Ok(out)
    };
    let Some(interval) = u16::try_from(interval).ok().filter(|_| rows < height as usize) else {
        return strip(whole, 0);
    };
    let strips: Vec<Vec<u8>> =
        whole.par_chunks(row * rows).map(|part| strip(part, interval)).collect::<Result<_, EncodingError>>()?;
    Ok(joined(&strips, down))
}

const START_OF_FRAME: u8 = 0xC0;
const START_OF_SCAN: u8 = 0xDA;
const RESTART: u8 = 0xD0;
const END: [u8; 2] = [0xFF, 0xD9];

/// Where the header of a frame begins, and where the coded picture does.
fn parts(jpeg: &[u8]) -> (usize, usize) {
    let (mut at, mut frame) = (2, 2);
    while let Some([0xFF, marker, high, low]) = jpeg.get(at..at + 4) {
        let next = at + 2 + usize::from(u16::from_be_bytes([*high, *low]));
        match *marker {
            START_OF_FRAME => frame = at,
            START_OF_SCAN => return (frame, next),
            _ => {}
        }
        at = next;
    }
    (frame, jpeg.len())
}

/// One picture of strips of the same kind, all of one height but for the last.
fn joined(strips: &[Vec<u8>], height: u16) -> Vec<u8> {
    let mut out = Vec::with_capacity(strips.iter().map(Vec::len).sum());
    for (i, strip) in strips.iter().enumerate() {
        let (frame, scan) = parts(strip);
        if i == 0 {
            out.extend(&strip[..scan]);
            // Marker, length and bits of a sample come before the height.
            out[frame + 5..frame + 7].copy_from_slice(&height.to_be_bytes());
        } else {
            out.extend([0xFF, RESTART + ((i - 1) % 8) as u8]);
        }
        out.extend(strip[scan..].strip_suffix(&END).unwrap_or(&strip[scan..]));
    }
    out.extend(END);
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A picture in strips is the same to a decoder as one that was coded as a whole.
    #[test]
    fn strips_are_one_picture() {
        for (width, height, careful) in
            [(320u32, 240u32, 90u8), (333, 217, 82), (1280, 720, 82), (40, 7, 90), (65, 1900, 90)]
        {
            let rgb: Vec<u8> = (0..width * height * 3).map(|i| (i / 7 % 251) as u8 ^ (i / (3 * width)) as u8).collect();
            let made = encode(&rgb, (width, height), ColorType::Rgb, careful).unwrap();
            let mut whole = Vec::new();
            Encoder::new(&mut whole, careful).encode(&rgb, width as u16, height as u16, ColorType::Rgb).unwrap();
            let decoded = |bytes: &[u8]| image::load_from_memory(bytes).unwrap().into_rgb8();
            assert_eq!(decoded(&made), decoded(&whole), "{width}x{height} at {careful}");
        }
        let grey = vec![77u8; 400 * 300];
        let made = encode(&grey, (400, 300), ColorType::Luma, 90).unwrap();
        assert!(image::load_from_memory(&made).unwrap().into_luma8().iter().all(|v| v.abs_diff(77) < 2));
        assert!(encode(&grey[..100], (400, 300), ColorType::Luma, 90).is_err(), "too little of it");
    }
}
