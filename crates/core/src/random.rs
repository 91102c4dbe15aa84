//! A small seeded generator, so that every run of an analysis gives the same bits.

/// SplitMix64 (Steele, Lea & Flood, "Fast Splittable Pseudorandom Number Generators", 2014).
#[derive(Debug, Clone)]
pub(crate) struct SplitMix64 {
    state: u64,
}

impl SplitMix64 {
    pub(crate) fn new(seed: u64) -> Self {
        Self { state: seed }
    }

    /// A number from 0 to 1, 1 excluded.
    pub(crate) fn unit(&mut self) -> f64 {
        (self.next_u64() >> 11) as f64 / (1u64 << 53) as f64
    }

    pub(crate) fn next_u64(&mut self) -> u64 {
        self.state = self.state.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.state;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ (z >> 31)
    }

    /// A normal number, deviation 1 (Box & Muller, "A Note on the Generation of Random Normal Deviates", 1958).
    pub(crate) fn normal(&mut self) -> f64 {
        let unit = |bits: u64| ((bits >> 11) as f64 + 0.5) / (1u64 << 53) as f64;
        let (a, b) = (unit(self.next_u64()), unit(self.next_u64()));
        (-2.0 * a.ln()).sqrt() * (std::f64::consts::TAU * b).cos()
    }

    /// A whole number below `limit` (`limit` is at least 1).
    pub(crate) fn below(&mut self, limit: usize) -> usize {
        (self.next_u64() % limit.max(1) as u64) as usize
    }

    /// `N` different whole numbers below `limit`; `None` when there are fewer than `N`.
    pub(crate) fn distinct<const N: usize>(&mut self, limit: usize) -> Option<[usize; N]> {
        if limit < N {
            return None;
        }
        let mut chosen = [usize::MAX; N];
        for slot in 0..N {
            loop {
                let candidate = self.below(limit);
                if !chosen[..slot].contains(&candidate) {
                    chosen[slot] = candidate;
                    break;
                }
            }
        }
        Some(chosen)
    }
}
