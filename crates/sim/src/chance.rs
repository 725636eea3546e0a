//! Chance from a seed (SplitMix64, Steele, Lea and Flood 2014): the same seed, the same run.

/// A stream of numbers.
#[derive(Debug, Clone)]
pub(crate) struct Chance(u64);

impl Chance {
    pub(crate) fn new(seed: u64) -> Chance {
        Chance(seed)
    }

    pub(crate) fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// From `low` up to, but not including, `high`.
    pub(crate) fn between(&mut self, low: u64, high: u64) -> u64 {
        low + self.next() % (high - low).max(1)
    }

    /// True so many times in a hundred.
    pub(crate) fn percent(&mut self, share: u64) -> bool {
        self.next() % 100 < share
    }

    pub(crate) fn index(&mut self, length: usize) -> usize {
        self.between(0, length as u64) as usize
    }
}
