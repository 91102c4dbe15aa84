//! Pictures: PNG, JPEG, WebP, TIFF, EXR, Radiance HDR, SVG.

use super::{AssetFileError, bytes_of, extension, svg};
use image::{DynamicImage, ImageFormat, ImageReader, Limits};
use std::io::Cursor;
use std::path::Path;

/// Largest side, px, and largest area, of a picture that is decoded.
const MOST_SIDE: u32 = 32_768;
const MOST_AREA: u64 = 160_000_000;
/// Memory that decoding may take, bytes.
const MOST_MEMORY: u64 = 1024 * 1024 * 1024;
/// Largest side that is kept: more is not seen, and takes memory.
const KEPT_SIDE: u32 = 4096;

/// The numbers of a picture: red, green, blue, alpha, row by row from the top.
#[derive(Debug, Clone, PartialEq)]
pub enum Pixels {
    /// As encoded for display.
    Encoded(Vec<u8>),
    /// Linear light.
    Linear(Vec<f32>),
}

/// A decoded picture.
#[derive(Debug, Clone, PartialEq)]
pub struct Picture {
    /// px.
    pub width: u32,
    /// px.
    pub height: u32,
    /// What it holds.
    pub pixels: Pixels,
}

fn format(kind: &str) -> Option<ImageFormat> {
    match kind {
        "png" => Some(ImageFormat::Png),
        "jpg" | "jpeg" => Some(ImageFormat::Jpeg),
        "webp" => Some(ImageFormat::WebP),
        "tif" | "tiff" => Some(ImageFormat::Tiff),
        "exr" => Some(ImageFormat::OpenExr),
        "hdr" => Some(ImageFormat::Hdr),
        _ => None,
    }
}

impl Picture {
    /// Reads a file; `name` is what it is called, and says what it is.
    ///
    /// # Errors
    /// [`AssetFileError`] when it is too large, or no picture.
    pub fn open(path: &Path, name: &str) -> Result<Self, AssetFileError> {
        Self::read(&bytes_of(path, name)?, name)
    }

    /// Reads the bytes of a file.
    ///
    /// # Errors
    /// As [`Picture::open`].
    pub fn read(bytes: &[u8], name: &str) -> Result<Self, AssetFileError> {
        match extension(name).as_str() {
            "svg" => svg::picture(bytes, name, KEPT_SIDE),
            kind => Self::decoded(bytes, name, format(kind)),
        }
    }

    /// Reads bytes whose kind is guessed where it is not known.
    pub(crate) fn decoded(bytes: &[u8], name: &str, format: Option<ImageFormat>) -> Result<Self, AssetFileError> {
        let unreadable = |why: &dyn std::fmt::Display| AssetFileError::unreadable(name, why);
        let guessed = ImageReader::new(Cursor::new(bytes)).with_guessed_format().map_err(|e| unreadable(&e))?.format();
        let Some(format) = guessed.or(format).filter(|f| f.reading_enabled()) else {
            return Err(unreadable(&"it is no picture of a kind that can be read"));
        };
        let reader = || {
            let mut reader = ImageReader::with_format(Cursor::new(bytes), format);
            let mut limits = Limits::default();
            (limits.max_image_width, limits.max_image_height) = (Some(MOST_SIDE), Some(MOST_SIDE));
            limits.max_alloc = Some(MOST_MEMORY);
            reader.limits(limits);
            reader
        };
        let (width, height) = reader().into_dimensions().map_err(|e| unreadable(&e))?;
        if width > MOST_SIDE || height > MOST_SIDE || u64::from(width) * u64::from(height) > MOST_AREA {
            let what =
                format!("{width}x{height} px; at most {MOST_SIDE} a side and {} million in all", MOST_AREA / 1_000_000);
            return Err(AssetFileError::TooLarge { name: name.to_owned(), what });
        }
        if width == 0 || height == 0 {
            return Err(AssetFileError::Empty { name: name.to_owned() });
        }
        Ok(Self::of(reader().decode().map_err(|e| unreadable(&e))?))
    }

    fn of(mut picture: DynamicImage) -> Self {
        if picture.width().max(picture.height()) > KEPT_SIDE {
            picture = picture.resize(KEPT_SIDE, KEPT_SIDE, image::imageops::FilterType::Triangle);
        }
        let (width, height) = (picture.width(), picture.height());
        let pixels = match picture {
            DynamicImage::ImageRgb32F(_) | DynamicImage::ImageRgba32F(_) => {
                Pixels::Linear(picture.into_rgba32f().into_raw())
            }
            _ => Pixels::Encoded(picture.into_rgba8().into_raw()),
        };
        Self { width, height, pixels }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use image::{Rgba, Rgba32FImage, RgbaImage};

    fn written(picture: &DynamicImage, format: ImageFormat) -> Vec<u8> {
        let mut bytes = Cursor::new(Vec::new());
        picture.write_to(&mut bytes, format).unwrap();
        bytes.into_inner()
    }

    #[test]
    fn pictures_of_every_kind_come_in_with_their_alpha() {
        let made = DynamicImage::from(RgbaImage::from_fn(6, 4, |x, y| Rgba([(x * 40) as u8, (y * 60) as u8, 9, 128])));
        for (name, format) in [("a.png", ImageFormat::Png), ("a.webp", ImageFormat::WebP), ("a.tif", ImageFormat::Tiff)]
        {
            let read = Picture::read(&written(&made, format), name).unwrap();
            assert_eq!((read.width, read.height), (6, 4));
            assert_eq!(read.pixels, Pixels::Encoded(made.to_rgba8().into_raw()), "{name}");
        }
        let plain = DynamicImage::from(made.to_rgb8());
        let read = Picture::read(&written(&plain, ImageFormat::Jpeg), "a.jpeg").unwrap();
        assert!(matches!(read.pixels, Pixels::Encoded(p) if p[3] == 255));
        let light = DynamicImage::from(Rgba32FImage::from_fn(3, 2, |x, _| Rgba([x as f32, 0.5, 4.0, 1.0])));
        let read = Picture::read(&written(&light, ImageFormat::OpenExr), "sky.exr").unwrap();
        assert!(matches!(read.pixels, Pixels::Linear(p) if (p[6] - 4.0).abs() < 1e-2 && (p[4] - 1.0).abs() < 1e-2));
        let bytes = written(&DynamicImage::from(light.to_rgb32f()), ImageFormat::Hdr);
        let read = Picture::read(&bytes, "sky.hdr").unwrap();
        assert!(matches!(read.pixels, Pixels::Linear(p) if (p[6] - 4.0).abs() < 0.05 && (p[4] - 1.0).abs() < 0.05));
        // What a file is called may be wrong; its bytes tell.
        assert!(Picture::read(&written(&made, ImageFormat::Png), "a.jpg").is_ok());
    }

    #[test]
    fn broken_and_huge_pictures_are_refused_with_a_reason() {
        for bytes in [&b""[..], b"not a picture", &written(&DynamicImage::new_rgb8(8, 8), ImageFormat::Png)[..40]] {
            let why = Picture::read(bytes, "crest.png").unwrap_err().to_string();
            assert!(why.contains("crest.png") && why.contains("Export"), "{why}");
        }
        // A header that claims 60,000 px a side, with a checksum that holds.
        let mut huge = written(&DynamicImage::new_rgb8(8, 8), ImageFormat::Png);
        huge[16..20].copy_from_slice(&60_000u32.to_be_bytes());
        huge[20..24].copy_from_slice(&60_000u32.to_be_bytes());
        let sum = crc32fast::hash(&huge[12..29]);
        huge[29..33].copy_from_slice(&sum.to_be_bytes());
        let why = Picture::read(&huge, "wall.png").unwrap_err().to_string();
        assert!(why.contains("wall.png"), "{why}");
    }

    #[test]
    fn large_pictures_are_kept_smaller_in_their_proportions() {
        let wide = written(&DynamicImage::new_rgb8(8192, 1024), ImageFormat::Png);
        let read = Picture::read(&wide, "wide.png").unwrap();
        assert_eq!((read.width, read.height), (4096, 512));
    }
}
