//! Chance that comes again with the same seed.

/// A small generator (xorshift64*).
pub struct Chance(u64);

impl Chance {
    pub fn new(seed: u64) -> Chance {
        Chance(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1)
    }

    pub fn next(&mut self) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        self.0.wrapping_mul(0x2545_F491_4F6C_DD1D)
    }

    pub fn below(&mut self, n: usize) -> usize {
        (self.next() >> 33) as usize % n.max(1)
    }

    /// So many times out of a hundred.
    pub fn percent(&mut self, n: usize) -> bool {
        self.below(100) < n
    }

    pub fn pick<T: Clone>(&mut self, from: &[T]) -> Option<T> {
        (!from.is_empty()).then(|| from[self.below(from.len())].clone())
    }
}
