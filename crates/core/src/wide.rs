//! Inner loops in the widest registers that the processor has.
//!
//! A loop is a struct of what it reads and writes. Its body, and all that it calls, must be `#[inline(always)]`, so
//! that the compiler makes them anew for wide registers; a closure would not be.

pub(crate) use pulp::{NullaryFnOnce as Loop, Simd, WithSimd as LaneLoop, cast};

/// Samples that lie side by side in a register; as long as `Simd::f32s` and `Simd::i32s` are here.
pub(crate) type Group = [f32; LANES];

/// Samples that are worked on together.
pub(crate) const LANES: usize = 8;

/// Runs a loop with registers of eight floats, compiled for AVX2 where the processor has it.
///
/// Sums keep their order and products are not fused with them, so that every processor gives the same bits.
#[inline(always)]
pub(crate) fn wide<L: LaneLoop>(work: L) -> L::Output {
    #[cfg(target_arch = "x86_64")]
    if let Some(simd) = pulp::x86::V3::try_new() {
        return Simd::vectorize(simd, work);
    }
    Simd::vectorize(pulp::Scalar256b, work)
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Sums<'a>(&'a [Group]);

    impl LaneLoop for Sums<'_> {
        type Output = [[u32; LANES]; 2];

        #[inline(always)]
        fn with_simd<S: Simd>(self, simd: S) -> Self::Output {
            let (mut plain, mut lanes) = ([0.0f32; LANES], simd.splat_f32s(0.0));
            for v in self.0 {
                for k in 0..LANES {
                    plain[k] += (v[k] * 1.7 + 0.3) * v[k];
                }
                let scaled = simd.add_f32s(simd.mul_f32s(cast(*v), simd.splat_f32s(1.7)), simd.splat_f32s(0.3));
                lanes = simd.add_f32s(lanes, simd.mul_f32s(scaled, cast(*v)));
            }
            [plain.map(f32::to_bits), cast::<_, Group>(lanes).map(f32::to_bits)]
        }
    }

    #[test]
    fn wide_registers_give_the_bits_of_narrow_ones() {
        let values: Vec<Group> =
            (0..40).map(|i| std::array::from_fn(|k| ((i * 37 + k * 11) % 101) as f32 / 7.0)).collect();
        let [plain, lanes] = wide(Sums(&values));
        assert_eq!(plain, lanes);
        assert_eq!([plain, lanes], Simd::vectorize(pulp::Scalar256b, Sums(&values)));
    }
}
