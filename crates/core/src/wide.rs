//! Inner loops in the widest registers that the processor has.

/// A loop with what it reads and writes. Its `call`, and all that it calls, must be `#[inline(always)]`, so that the
/// compiler makes them anew for wide registers; a closure would not be.
pub(crate) use pulp::NullaryFnOnce as Loop;

/// Runs a loop compiled for AVX2 where the processor has it, else as it is.
///
/// Sums keep their order and products are not fused with them, so that every processor gives the same bits.
#[inline(always)]
pub(crate) fn wide<L: Loop>(work: L) -> L::Output {
    pulp::Arch::new().dispatch(work)
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Sum<'a>(&'a [[f32; 8]]);

    impl Loop for Sum<'_> {
        type Output = [u32; 8];

        #[inline(always)]
        fn call(self) -> [u32; 8] {
            let mut lanes = [0.0f32; 8];
            for v in self.0 {
                (0..8).for_each(|k| lanes[k] += (v[k] * 1.7 + 0.3) * v[7 - k]);
            }
            lanes.map(f32::to_bits)
        }
    }

    #[test]
    fn wide_registers_give_the_bits_of_narrow_ones() {
        let values: Vec<[f32; 8]> = (0..40).map(|i| std::array::from_fn(|k| ((i * 37 + k * 11) % 101) as f32 / 7.0)).collect();
        assert_eq!(wide(Sum(&values)), Sum(&values).call());
    }
}
