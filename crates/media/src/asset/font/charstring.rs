//! Glyphs drawn by small programs (Adobe Technical Note 5177, "The Type 2 Charstring Format"; OpenType, `CFF ` and `CFF2`).
//!
//! Programs may call others ten deep, and what draws them bounds how deep but not how often: thirty calls at every depth
//! are more than anybody waits for. Here they are run first, by an interpreter that asks for each subroutine.

use read_fonts::ps::cff::blend::BlendState;
use read_fonts::ps::cff::index::Index;
use read_fonts::ps::cff::{CffFontRef, Subfont};
use read_fonts::ps::cs::{self, CharstringContext, CharstringKind, CommandSink};
use read_fonts::ps::error::Error;
use read_fonts::types::{Fixed, GlyphId};
use std::cell::Cell;

/// Bytes that drawing one glyph may run through, those of a subroutine as often as it is called.
const MOST_RUN: usize = 1 << 20;
/// The same of all glyphs together.
const MOST_RUN_IN_ALL: usize = 1 << 28;

/// Whether the programs that draw the glyphs come to an end, and soon.
///
/// # Errors
/// Which glyph does not, or what stops it.
pub fn end(face: &ttf_parser::Face) -> Result<(), String> {
    let raw = face.raw_face();
    let table = |tag: &[u8; 4]| raw.table(ttf_parser::Tag::from_bytes(tag));
    let Some(data) = table(b"CFF ").or_else(|| table(b"CFF2")) else { return Ok(()) };
    let font = CffFontRef::new(data, 0, None).map_err(|e| e.to_string())?;
    let mut in_all = 0;
    for id in 0..font.num_glyphs() {
        in_all += run(&font, GlyphId::new(id)).map_err(|why| format!("its glyph {id} {why}"))?;
        if in_all > MOST_RUN_IN_ALL {
            return Err("its glyphs take too long to draw".to_owned());
        }
    }
    Ok(())
}

/// Runs one glyph; how many bytes it ran through.
fn run(font: &CffFontRef, glyph: GlyphId) -> Result<usize, String> {
    let stopped = |e: Error| format!("cannot be drawn: {e}");
    let index = font.subfont_index(glyph).unwrap_or_default();
    let subfont: Subfont = font.subfont(index, &[]).map_err(stopped)?;
    let local = match subfont.subrs_offset() as usize {
        0 => Index::Empty,
        at => Index::new(font.data().get(at..).unwrap_or_default(), font.version() == 2).map_err(stopped)?,
    };
    let blend = font.var_store().and_then(|store| BlendState::new(store.clone(), &[], subfont.vs_index()).ok());
    let program = font.charstrings().get(glyph.to_u32() as usize).map_err(stopped)?;
    let called =
        Called { plain: (font.data(), font.charstrings(), font.global_subrs(), &local), left: Cell::new(MOST_RUN) };
    called.take(program).and_then(|program| cs::evaluate(&called, blend, program, &mut Nowhere)).map_err(|e| {
        if called.left.get() == 0 { "calls others too often to be drawn".to_owned() } else { stopped(e) }
    })?;
    Ok(MOST_RUN - called.left.get())
}

/// What programs call, until that is too much.
struct Called<'a> {
    plain: (&'a [u8], &'a Index<'a>, &'a Index<'a>, &'a Index<'a>),
    left: Cell<usize>,
}

impl Called<'_> {
    /// Counts a program; one that is too long stops everything.
    fn take<'p>(&self, program: &'p [u8]) -> Result<&'p [u8], Error> {
        // A call costs something even if what is called is empty.
        let left = self.left.get().saturating_sub(program.len() + 1);
        self.left.set(left);
        if left == 0 { Err(Error::CharstringNestingDepthLimitExceeded) } else { Ok(program) }
    }
}

impl CharstringContext for Called<'_> {
    fn kind(&self) -> CharstringKind {
        CharstringKind::Type2
    }

    fn seac_components(&self, base: i32, accent: i32) -> Result<[&[u8]; 2], Error> {
        let [base, accent] = self.plain.seac_components(base, accent)?;
        Ok([self.take(base)?, self.take(accent)?])
    }

    fn global_subr(&self, index: i32) -> Result<&[u8], Error> {
        self.take(self.plain.global_subr(index)?)
    }

    fn subr(&self, index: i32) -> Result<&[u8], Error> {
        self.take(self.plain.subr(index)?)
    }
}

/// Takes a drawing and forgets it.
struct Nowhere;

impl CommandSink for Nowhere {
    fn move_to(&mut self, _: Fixed, _: Fixed) {}
    fn line_to(&mut self, _: Fixed, _: Fixed) {}
    fn curve_to(&mut self, _: Fixed, _: Fixed, _: Fixed, _: Fixed, _: Fixed, _: Fixed) {}
    fn close(&mut self) {}
}

#[cfg(test)]
mod tests {
    use super::super::FontFile;
    use super::*;

    const LOBSTER: &[u8] = include_bytes!("../../../../fonts/files/Lobster-Regular.otf");

    /// A font in which the longest subroutines call each other, the next as often as each has room for.
    #[test]
    fn programs_that_call_each_other_without_end_are_refused() {
        assert!(FontFile::read(LOBSTER, "lobster.otf").is_ok());
        let face = ttf_parser::Face::parse(LOBSTER, 0).unwrap();
        let table = face.raw_face().table(ttf_parser::Tag::from_bytes(b"CFF ")).unwrap();
        let font = CffFontRef::new(table, 0, None).unwrap();
        let place = |part: &[u8]| part.as_ptr() as usize - LOBSTER.as_ptr() as usize;
        let subfont = font.subfont(0, &[]).unwrap();
        let local = Index::new(&font.data()[subfont.subrs_offset() as usize..], false).unwrap();
        let mut subroutines: Vec<(usize, &[u8])> =
            (0..local.count() as usize).map(|k| (k, local.get(k).unwrap())).collect();
        subroutines.sort_by_key(|(_, s)| std::cmp::Reverse(s.len()));
        // The first caller is the longest glyph.
        let glyphs = (0..font.num_glyphs()).map(|g| font.charstrings().get(g as usize).unwrap());
        let first = glyphs.max_by_key(|g| g.len()).unwrap();
        let callers = std::iter::once(first).chain(subroutines.iter().map(|(_, s)| *s));
        let mut hostile = LOBSTER.to_vec();
        for (caller, (called, _)) in callers.zip(subroutines.iter().take(9)) {
            let number = (*called as i32 - local.subr_bias()) as i16;
            let [high, low] = number.to_be_bytes();
            let room = &mut hostile[place(caller)..][..caller.len()];
            room.fill(11);
            room.chunks_exact_mut(4).for_each(|call| call.copy_from_slice(&[28, high, low, 10]));
        }
        let why = FontFile::read(&hostile, "calls.otf").unwrap_err().to_string();
        assert!(why.contains("too often"), "{why}");
    }
}
