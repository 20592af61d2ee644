//! A small seeded generator (splitmix64, Steele, Lea and Flood 2014) that is the same everywhere.

pub(crate) struct Random(pub u64);

impl Random {
    pub(crate) fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// A number from 0 up to but not including `end`.
    pub(crate) fn below(&mut self, end: u64) -> u64 {
        ((u128::from(self.next()) * u128::from(end)) >> 64) as u64
    }

    /// A whole number from `low` to `high`.
    pub(crate) fn between(&mut self, low: i64, high: i64) -> i64 {
        low + self.below((high - low + 1) as u64) as i64
    }

    /// True once in `times` times.
    pub(crate) fn once_in(&mut self, times: u64) -> bool {
        self.below(times) == 0
    }

    pub(crate) fn pick<T: Copy>(&mut self, list: &[T]) -> T {
        list[self.below(list.len() as u64) as usize]
    }
}
