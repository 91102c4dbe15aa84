//! Tables of colours, read from text as `.cube` files hold it, and looked up between their places.

/// Entries along a side at most, of a cube and of a line.
const MOST: (usize, usize) = (129, 65_536);

/// How a table lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TableShape {
    /// Each channel by itself.
    Line,
    /// Red, green and blue together.
    Cube,
}

/// Colours by colours.
#[derive(Debug, Clone, PartialEq)]
pub struct ColourTable {
    shape: TableShape,
    /// Entries along a side.
    size: usize,
    low: [f32; 3],
    high: [f32; 3],
    /// Red changes fastest.
    entries: Vec<[f32; 3]>,
}

/// Why a table cannot be read.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum TableError {
    /// It does not say how large it is.
    #[error("it names no LUT_3D_SIZE or LUT_1D_SIZE; choose a .cube file")]
    NoSize,
    /// Too small or too large.
    #[error("its size is {size}; a cube has 2 to {}, a line 2 to {}", MOST.0, MOST.1)]
    Size {
        /// As it says.
        size: String,
    },
    /// A line that is none.
    #[error("its line {line} is no entry: {text:?}")]
    Line {
        /// From 1.
        line: usize,
        /// The line, cut.
        text: String,
    },
    /// Too few or too many entries.
    #[error("it has {found} entries and should have {wanted}")]
    Entries {
        /// How many there are.
        found: usize,
        /// How many its size asks for.
        wanted: usize,
    },
    /// A range of nothing.
    #[error("its range is empty: DOMAIN_MAX must lie over DOMAIN_MIN")]
    Domain,
}

impl ColourTable {
    /// Reads the text of a `.cube` file (Adobe, "Cube LUT Specification", 1.0).
    ///
    /// # Errors
    /// [`TableError`] says which line.
    pub fn read(text: &str) -> Result<Self, TableError> {
        let mut size: Option<(TableShape, usize)> = None;
        let (mut low, mut high) = ([0.0f32; 3], [1.0f32; 3]);
        let mut entries = Vec::new();
        for (i, line) in text.lines().enumerate() {
            let line = line.trim();
            if line.is_empty() || line.starts_with('#') {
                continue;
            }
            let wrong = || TableError::Line { line: i + 1, text: line.chars().take(60).collect() };
            let (word, rest) = line.split_once(char::is_whitespace).unwrap_or((line, ""));
            match word {
                "TITLE" => {}
                "LUT_3D_SIZE" | "LUT_1D_SIZE" => {
                    let (shape, most) =
                        if word == "LUT_3D_SIZE" { (TableShape::Cube, MOST.0) } else { (TableShape::Line, MOST.1) };
                    let told = rest.trim();
                    let fits = told.parse().ok().filter(|n| (2..=most).contains(n));
                    let cut = || told.chars().take(20).collect();
                    size = Some((shape, fits.ok_or_else(|| TableError::Size { size: cut() })?));
                }
                "DOMAIN_MIN" => low = three(rest).ok_or_else(wrong)?,
                "DOMAIN_MAX" => high = three(rest).ok_or_else(wrong)?,
                "LUT_3D_INPUT_RANGE" | "LUT_1D_INPUT_RANGE" => {
                    let ends: Vec<f32> = rest.split_whitespace().filter_map(|v| v.parse().ok()).collect();
                    let [from, to] = ends[..] else { return Err(wrong()) };
                    (low, high) = ([from; 3], [to; 3]);
                }
                _ => {
                    let most = size.map_or(MOST.0.pow(3), |(shape, n)| entries_of(shape, n));
                    if entries.len() >= most {
                        return Err(TableError::Entries { found: entries.len() + 1, wanted: most });
                    }
                    entries.push(three(line).ok_or_else(wrong)?);
                }
            }
        }
        let (shape, size) = size.ok_or(TableError::NoSize)?;
        let wanted = entries_of(shape, size);
        if entries.len() != wanted {
            return Err(TableError::Entries { found: entries.len(), wanted });
        }
        if (0..3).any(|k| !(high[k] - low[k] > 0.0)) {
            return Err(TableError::Domain);
        }
        Ok(Self { shape, size, low, high, entries })
    }

    /// A cube of entries along a side, of what a law makes of display values 0 to 1.
    pub fn cube_of(size: usize, law: impl Fn([f32; 3]) -> [f32; 3] + Sync) -> Self {
        use rayon::prelude::*;
        let size = size.clamp(2, MOST.0);
        let step = 1.0 / (size - 1) as f32;
        let plane = |b: usize| {
            let entry = move |i: usize| [i % size, i / size, b].map(|k| k as f32 * step);
            (0..size * size).map(entry)
        };
        let entries = (0..size).into_par_iter().flat_map_iter(plane).map(&law).collect();
        Self { shape: TableShape::Cube, size, low: [0.0; 3], high: [1.0; 3], entries }
    }

    /// How it lies, and entries along a side.
    pub fn size(&self) -> (TableShape, usize) {
        (self.shape, self.size)
    }

    /// What it makes of the colours of its entries; of a cube, red goes first.
    pub fn entries(&self) -> &[[f32; 3]] {
        &self.entries
    }

    /// What it makes of a colour; beyond its range the nearest end counts.
    pub fn look(&self, colour: [f32; 3]) -> [f32; 3] {
        let last = (self.size - 1) as f32;
        let at: [f32; 3] = std::array::from_fn(|k| {
            let v = (colour[k] - self.low[k]) / (self.high[k] - self.low[k]);
            // What is no number is black.
            if v > 0.0 { v.min(1.0) * last } else { 0.0 }
        });
        let cell: [usize; 3] = at.map(|v| (v as usize).min(self.size - 2));
        let part: [f32; 3] = std::array::from_fn(|k| at[k] - cell[k] as f32);
        match self.shape {
            TableShape::Line => std::array::from_fn(|k| {
                let (a, b) = (self.entries[cell[k]][k], self.entries[cell[k] + 1][k]);
                a + (b - a) * part[k]
            }),
            TableShape::Cube => self.between(cell, part),
        }
    }

    /// Between the four corners of the tetrahedron in which a place of a cell lies (Kasson, Nin, Plouffe and Hafner 1995):
    /// from the cell's first corner to its last, first along the axis on which the place is farthest.
    fn between(&self, [r, g, b]: [usize; 3], part: [f32; 3]) -> [f32; 3] {
        let steps = [1, self.size, self.size * self.size];
        let mut order = [0, 1, 2];
        if part[order[0]] < part[order[1]] {
            order.swap(0, 1);
        }
        if part[order[1]] < part[order[2]] {
            order.swap(1, 2);
            if part[order[0]] < part[order[1]] {
                order.swap(0, 1);
            }
        }
        let mut at = r + g * steps[1] + b * steps[2];
        let mut last = &self.entries[at];
        let mut out = *last;
        for axis in order {
            at += steps[axis];
            let next = &self.entries[at];
            (0..3).for_each(|k| out[k] += (next[k] - last[k]) * part[axis]);
            last = next;
        }
        out
    }
}

fn entries_of(shape: TableShape, size: usize) -> usize {
    match shape {
        TableShape::Line => size,
        TableShape::Cube => size.pow(3),
    }
}

fn three(text: &str) -> Option<[f32; 3]> {
    let mut all = text.split_whitespace().map(|v| v.parse::<f32>().ok().filter(|v| v.is_finite()));
    let three = [all.next()??, all.next()??, all.next()??];
    all.next().is_none().then_some(three)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::fmt::Write;

    fn cube(size: usize, law: impl Fn([f32; 3]) -> [f32; 3]) -> String {
        let mut text = format!("# made up\nTITLE \"a grade\"\nLUT_3D_SIZE {size}\n");
        let step = 1.0 / (size - 1) as f32;
        for i in 0..size.pow(3) {
            let [r, g, b] = law([i % size, i / size % size, i / size / size].map(|k| k as f32 * step));
            writeln!(text, "{r} {g} {b}").unwrap();
        }
        text
    }

    proptest! {
        #[test]
        fn a_table_of_a_straight_law_is_that_law(c in prop::array::uniform3(0f32..1.0)) {
            let law = |[r, g, b]: [f32; 3]| [0.5 * r + 0.1, b, 0.2 * r + 0.3 * g + 0.4 * b];
            let table = ColourTable::read(&cube(9, law)).unwrap();
            let (found, wanted) = (table.look(c), law(c));
            prop_assert!((0..3).all(|k| (found[k] - wanted[k]).abs() < 1e-5), "{found:?} {wanted:?}");
            let made = ColourTable::cube_of(9, law).look(c);
            prop_assert!((0..3).all(|k| (made[k] - wanted[k]).abs() < 1e-5), "{made:?} {wanted:?}");
        }

        #[test]
        fn no_text_makes_it_fall(text in "(LUT_3D_SIZE|LUT_1D_SIZE|DOMAIN_MIN|[0-9. \n#-]){0,40}") {
            if let Ok(table) = ColourTable::read(&text) {
                table.look([0.5, f32::NAN, 3.0]);
            }
        }
    }

    #[test]
    fn lines_ranges_and_ends_count() {
        let line = "LUT_1D_SIZE 3\nDOMAIN_MIN 0 0 0\nDOMAIN_MAX 2 2 2\n0 0 0\n1 0.5 0\n1 1 0.25\n";
        let table = ColourTable::read(line).unwrap();
        assert_eq!(table.look([0.5, 1.0, 2.0]), [0.5, 0.5, 0.25]);
        assert_eq!(table.look([9.0, -1.0, f32::NAN]), [1.0, 0.0, 0.0]);
    }

    #[test]
    fn what_is_wrong_is_told_with_its_line() {
        let told = |text: &str| ColourTable::read(text).unwrap_err().to_string();
        assert!(told("0 0 0").contains("LUT_3D_SIZE"));
        assert!(told("LUT_3D_SIZE 900").contains("900"));
        assert!(told("LUT_3D_SIZE 2\n0 0 0\n1 1\n").contains("line 3"));
        assert!(told("LUT_3D_SIZE 2\n0 0 0\n").contains("1 entries and should have 8"));
        assert!(told("LUT_1D_SIZE 2\n0 0 0\n0 0 0\n0 0 0\n").contains("3 entries and should have 2"));
        assert!(told("LUT_1D_SIZE 2\nDOMAIN_MAX 0 1 1\n0 0 0\n1 1 1\n").contains("DOMAIN_MAX"));
        assert!(told("LUT_1D_SIZE 2\nnan 0 0\n1 1 1\n").contains("line 2"));
    }
}
