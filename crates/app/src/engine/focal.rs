//! A focal length as people write it: in px, in mm of a sensor's width, or as the angle across the picture.

/// A focal length that is none.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum FocalError {
    /// Not to be understood.
    #[error(
        "{text:?} is no focal length; write it as 853 px, as 24 mm of 36 mm (the sensor's width) or as 73 deg, or \
            leave it empty to have it found"
    )]
    None {
        /// As it was written.
        text: String,
    },
    /// Half of what is needed.
    #[error("{text:?} needs the sensor's width as well; write it as 24 mm of 36 mm")]
    NoSensor {
        /// As it was written.
        text: String,
    },
}

/// Reads a focal length for a picture `width` px wide; `None` for nothing typed.
///
/// `853`, `853 px`; `24 mm of 36 mm` (focal length, sensor width); `73 deg` (horizontal field of view).
///
/// # Errors
/// [`FocalError`] says how to write it.
pub fn focal_px(text: &str, width: u32) -> Result<Option<f64>, FocalError> {
    let text = text.trim().to_lowercase();
    if text.is_empty() {
        return Ok(None);
    }
    let wrong = || FocalError::None { text: text.clone() };
    let number = |part: &str, unit: &str| {
        part.trim().trim_end_matches(unit).trim().parse::<f64>().ok().filter(|v| *v > 0.0 && v.is_finite())
    };
    let width = f64::from(width);
    let px = if let Some((focal, sensor)) = text.split_once("of") {
        number(focal, "mm").zip(number(sensor, "mm")).map(|(f, s)| f / s * width)
    } else if text.contains("mm") {
        return Err(FocalError::NoSensor { text });
    } else if let Some(angle) = text.strip_suffix("deg").or_else(|| text.strip_suffix('°')) {
        number(angle, "").filter(|a| *a < 179.0).map(|a| 0.5 * width / (0.5 * a.to_radians()).tan())
    } else {
        number(&text, "px")
    };
    px.map(Some).ok_or_else(wrong)
}

#[cfg(test)]
mod tests {
    use super::focal_px;

    #[test]
    fn a_focal_length_is_read_in_every_unit() {
        let near = |text: &str, px: f64| assert!((focal_px(text, 1280).unwrap().unwrap() - px).abs() < 0.05, "{text}");
        near("853.3", 853.3);
        near(" 853.3 PX", 853.3);
        near("24 mm of 36 mm", 853.33);
        near("24mm of 36", 853.33);
        near("90 deg", 640.0);
        near("90°", 640.0);
        assert_eq!(focal_px("  ", 1280), Ok(None));
        for bad in ["long", "-4", "0", "24 mm", "24 mm of 0", "200 deg", "nan", "inf px", "of"] {
            assert!(focal_px(bad, 1280).is_err(), "{bad}");
        }
    }
}
