//! What the code values of a plate mean: its transfer function and its primaries.

use super::{ColourTable, Matrix3, decode, encode};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// The law between code values and light.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Transfer {
    /// As displays show it: sRGB, and video of ITU-R BT.709, which is graded to look right there.
    #[default]
    Display,
    /// SMPTE ST 2084 (PQ).
    Pq,
    /// Hybrid log-gamma (ITU-R BT.2100).
    Hlg,
    /// Light itself.
    Linear,
}

/// The primaries that code values mix.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Primaries {
    /// ITU-R BT.709, as sRGB.
    #[default]
    Bt709,
    /// ITU-R BT.2020.
    Bt2020,
    /// P3 with the white D65.
    P3,
}

impl Transfer {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Display, Self::Pq, Self::Hlg, Self::Linear];

    /// As it is written.
    pub fn word(self) -> &'static str {
        match self {
            Self::Display => "display",
            Self::Pq => "pq",
            Self::Hlg => "hlg",
            Self::Linear => "linear",
        }
    }

    /// By the name that a file gives it (ITU-T H.273, as ffmpeg writes it); `None` where the file says nothing that is
    /// known.
    pub fn of_file(name: &str) -> Option<Self> {
        match name {
            "bt709" | "smpte170m" | "iec61966-2-1" | "bt2020-10" | "bt2020-12" | "gamma22" | "gamma28" | "bt470m"
            | "bt470bg" => Some(Self::Display),
            "smpte2084" => Some(Self::Pq),
            "arib-std-b67" => Some(Self::Hlg),
            "linear" => Some(Self::Linear),
            _ => None,
        }
    }

    /// The name that a file is given.
    pub fn file_name(self) -> &'static str {
        match self {
            Self::Display => "bt709",
            Self::Pq => "smpte2084",
            Self::Hlg => "arib-std-b67",
            Self::Linear => "linear",
        }
    }
}

impl Primaries {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Bt709, Self::Bt2020, Self::P3];

    /// As it is written.
    pub fn word(self) -> &'static str {
        match self {
            Self::Bt709 => "bt709",
            Self::Bt2020 => "bt2020",
            Self::P3 => "p3",
        }
    }

    /// By the name that a file gives them; `None` where it says nothing that is known.
    pub fn of_file(name: &str) -> Option<Self> {
        match name {
            "bt709" | "smpte170m" | "bt470bg" | "smpte240m" => Some(Self::Bt709),
            "bt2020" => Some(Self::Bt2020),
            "smpte432" | "smpte431" => Some(Self::P3),
            _ => None,
        }
    }

    /// The name that a file is given.
    pub fn file_name(self) -> &'static str {
        match self {
            Self::Bt709 => "bt709",
            Self::Bt2020 => "bt2020",
            Self::P3 => "smpte432",
        }
    }

    /// Places of red, green and blue on the chart of CIE 1931.
    fn places(self) -> [[f64; 2]; 3] {
        match self {
            Self::Bt709 => [[0.64, 0.33], [0.30, 0.60], [0.15, 0.06]],
            Self::Bt2020 => [[0.708, 0.292], [0.170, 0.797], [0.131, 0.046]],
            Self::P3 => [[0.680, 0.320], [0.265, 0.690], [0.150, 0.060]],
        }
    }

    /// To X, Y and Z, the white D65 being as bright as 1.
    fn xyz(self) -> nalgebra::Matrix3<f64> {
        let column = |[x, y]: [f64; 2]| nalgebra::Vector3::new(x / y, 1.0, (1.0 - x - y) / y);
        let [r, g, b] = self.places().map(column);
        let m = nalgebra::Matrix3::from_columns(&[r, g, b]);
        let white = column([0.3127, 0.3290]);
        let scale = m.lu().solve(&white).unwrap_or_else(|| nalgebra::Vector3::repeat(1.0));
        m * nalgebra::Matrix3::from_diagonal(&scale)
    }

    /// What makes light of these primaries light of others.
    fn to(self, other: Self) -> Matrix3 {
        let m = other.xyz().try_inverse().unwrap_or_else(nalgebra::Matrix3::identity) * self.xyz();
        std::array::from_fn(|r| std::array::from_fn(|c| m[(r, c)] as f32))
    }
}

/// Light of reference white, candela a square metre (ITU-R BT.2408); it is 1 here.
const WHITE_NITS: f32 = 203.0;

/// PQ code to light, candela a square metre (SMPTE ST 2084).
fn pq_nits(code: f32) -> f32 {
    const M1: f32 = 2610.0 / 16_384.0;
    const M2: f32 = 2523.0 / 4096.0 * 128.0;
    const C1: f32 = 3424.0 / 4096.0;
    const C2: f32 = 2413.0 / 4096.0 * 32.0;
    const C3: f32 = 2392.0 / 4096.0 * 32.0;
    let p = code.clamp(0.0, 1.0).powf(1.0 / M2);
    10_000.0 * ((p - C1).max(0.0) / (C2 - C3 * p)).powf(1.0 / M1)
}

fn pq_code(nits: f32) -> f32 {
    const M1: f32 = 2610.0 / 16_384.0;
    const M2: f32 = 2523.0 / 4096.0 * 128.0;
    const C1: f32 = 3424.0 / 4096.0;
    const C2: f32 = 2413.0 / 4096.0 * 32.0;
    const C3: f32 = 2392.0 / 4096.0 * 32.0;
    let y = (nits / 10_000.0).clamp(0.0, 1.0).powf(M1);
    ((C1 + C2 * y) / (1.0 + C3 * y)).powf(M2)
}

const HLG_A: f32 = 0.178_832_77;
const HLG_B: f32 = 0.284_668_92;
const HLG_C: f32 = 0.559_910_7;
/// The scene's light of reference white: three quarters of the code.
const HLG_WHITE: f32 = 0.264_962_55;

fn hlg_light(code: f32) -> f32 {
    let v = code.max(0.0);
    let scene = if v <= 0.5 { v * v / 3.0 } else { (((v - HLG_C) / HLG_A).exp() + HLG_B) / 12.0 };
    scene / HLG_WHITE
}

fn hlg_code(light: f32) -> f32 {
    let e = (light * HLG_WHITE).max(0.0);
    if e <= 1.0 / 12.0 { (3.0 * e).sqrt() } else { HLG_A * (12.0 * e - HLG_B).ln() + HLG_C }
}

/// The law of a plate, ready for many pixels.
#[derive(Debug, Clone)]
pub struct PlateLaw {
    transfer: Transfer,
    primaries: Primaries,
    /// A table that makes display values of code values, as comes with footage in log.
    table: Option<Arc<ColourTable>>,
    to_own: Matrix3,
    from_own: Matrix3,
}

impl PlateLaw {
    /// For a plate; with a table that makes display values of its code values, transfer and primaries are the table's.
    pub fn new(transfer: Transfer, primaries: Primaries, table: Option<Arc<ColourTable>>) -> Self {
        Self {
            transfer,
            primaries,
            table,
            to_own: primaries.to(Primaries::Bt709),
            from_own: Primaries::Bt709.to(primaries),
        }
    }

    /// Whether code values are display values.
    pub fn is_plain(&self) -> bool {
        self.table.is_none() && self.transfer == Transfer::Display && self.primaries == Primaries::Bt709
    }

    /// What a delivery is made for: that of the plate, or displays where a table leads there.
    pub fn delivered(&self) -> (Transfer, Primaries) {
        if self.table.is_some() { (Transfer::Display, Primaries::Bt709) } else { (self.transfer, self.primaries) }
    }

    /// Light of code values 0 to 1.
    pub fn light(&self, code: [f32; 3]) -> [f32; 3] {
        if let Some(table) = &self.table {
            return table.look(code).map(decode);
        }
        let own = match self.transfer {
            Transfer::Display => code.map(decode),
            Transfer::Pq => code.map(|v| pq_nits(v) / WHITE_NITS),
            Transfer::Hlg => code.map(hlg_light),
            Transfer::Linear => code,
        };
        if self.primaries == Primaries::Bt709 { own } else { turned(&self.to_own, own) }
    }

    /// Code values of light, as they are delivered.
    pub fn code(&self, light: [f32; 3]) -> [f32; 3] {
        let (transfer, primaries) = self.delivered();
        let own = if primaries == Primaries::Bt709 { light } else { turned(&self.from_own, light) };
        match transfer {
            Transfer::Display => own.map(|v| encode(v.clamp(0.0, 1.0))),
            Transfer::Pq => own.map(|v| pq_code(v * WHITE_NITS)),
            Transfer::Hlg => own.map(hlg_code),
            Transfer::Linear => own.map(|v| v.clamp(0.0, 1.0)),
        }
    }
}

fn turned(m: &Matrix3, c: [f32; 3]) -> [f32; 3] {
    m.map(|row| row[0] * c[0] + row[1] * c[1] + row[2] * c[2])
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_code_of_ten_bits_comes_back(c in prop::array::uniform3(0u16..1024)) {
            let code = c.map(|v| f32::from(v) / 1023.0);
            for transfer in Transfer::ALL {
                for primaries in Primaries::ALL {
                    let law = PlateLaw::new(transfer, primaries, None);
                    let back = law.code(law.light(code));
                    // What other primaries mix and these cannot is told by light below black, and comes back.
                    if transfer == Transfer::Display || transfer == Transfer::Linear {
                        let light = law.light(code);
                        if primaries != Primaries::Bt709 && light.iter().any(|v| !(0.0..=1.0).contains(v)) {
                            continue;
                        }
                    }
                    // Near black a code of high range tells less light than single precision loses beside what is bright.
                    let alone = PlateLaw::new(transfer, Primaries::Bt709, None);
                    let (meant, got) = (alone.light(code), alone.light(back));
                    let lost = 1e-6 * meant.iter().fold(0.0_f32, |most, v| most.max(v.abs()));
                    for k in 0..3 {
                        let close = (back[k] - code[k]).abs() < 0.5 / 1023.0 || (got[k] - meant[k]).abs() < lost;
                        prop_assert!(close, "{transfer:?} {primaries:?} {code:?} {back:?}");
                    }
                }
            }
        }
    }

    #[test]
    fn reference_white_is_one_and_known_codes_are_known_light() {
        let of = |transfer, code: f32| PlateLaw::new(transfer, Primaries::Bt709, None).light([code; 3])[1];
        // ITU-R BT.2408: 203 cd/m2 is 58.1 % of PQ and 75 % of HLG.
        assert!((of(Transfer::Pq, 0.5806) - 1.0).abs() < 0.01, "{}", of(Transfer::Pq, 0.5806));
        assert!((of(Transfer::Hlg, 0.75) - 1.0).abs() < 1e-3, "{}", of(Transfer::Hlg, 0.75));
        assert!((of(Transfer::Pq, 1.0) * 203.0 - 10_000.0).abs() < 1.0);
        // Red of BT.709 within BT.2020 (ITU-R BT.2087).
        let red = PlateLaw::new(Transfer::Linear, Primaries::Bt2020, None).light([0.6274, 0.0691, 0.0164]);
        assert!((red[0] - 1.0).abs() < 2e-3 && red[1].abs() < 2e-3 && red[2].abs() < 2e-3, "{red:?}");
        assert!(PlateLaw::new(Transfer::Display, Primaries::Bt709, None).is_plain());
        let table = Arc::new(ColourTable::cube_of(5, |c| c.map(|v| v * v)));
        let log = PlateLaw::new(Transfer::Display, Primaries::Bt709, Some(table));
        assert!(!log.is_plain() && (log.code(log.light([0.5; 3]))[0] - 0.25).abs() < 1e-3);
    }

    #[test]
    fn files_name_their_laws() {
        assert_eq!(Transfer::of_file("smpte2084"), Some(Transfer::Pq));
        assert_eq!(Transfer::of_file("iec61966-2-1"), Some(Transfer::Display));
        assert_eq!(Primaries::of_file("bt2020"), Some(Primaries::Bt2020));
        assert_eq!((Transfer::of_file("unknown"), Primaries::of_file("film")), (None, None));
        assert!(Transfer::ALL.iter().all(|t| Transfer::of_file(t.file_name()) == Some(*t)));
        assert!(Primaries::ALL.iter().all(|p| Primaries::of_file(p.file_name()) == Some(*p)));
    }
}
