//! A kept solve, and what is asked of it.
#![no_main]

use fennik_core::scene::{Datum, SolveOfClip, suggest_floor, surface_at, transfer};
use fennik_core::solve::Solution;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Ok(solution) = serde_json::from_slice::<Solution>(bytes) else { return };
    if solution.check().is_err() || solution.frames_total > 10_000 {
        return;
    }
    let _ = (solution.weakest_link(), solution.gaps(), suggest_floor(&solution));
    let _ = surface_at(&solution, &Datum::default(), 0, [9.0, 9.0].into());
    let of = SolveOfClip { solution: &solution, first_frame: 0 };
    let _ = transfer(of, of, true, &[]);
});
