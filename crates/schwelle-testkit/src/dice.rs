//! Numbers that look random, and are the same each time.

/// A seeded source of numbers (xorshift), so that a case can be had again.
#[derive(Debug, Clone)]
pub struct Dice(u64);

impl Dice {
    /// The numbers of this seed.
    pub fn new(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1)
    }

    /// Any number but 0.
    pub fn roll(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    /// A number below `limit`, which is not 0.
    pub fn below(&mut self, limit: u64) -> u64 {
        // The lowest bits are the least random.
        (self.roll() >> 11) % limit.max(1)
    }

    /// A place in something of so many parts, which are not none.
    pub fn index(&mut self, parts: usize) -> usize {
        let index = self.below(parts as u64);
        usize::try_from(index).unwrap_or_else(|_| panic!("{index} is below {parts}"))
    }

    /// A number in a range of both ends.
    pub fn between(&mut self, low: u64, high: u64) -> u64 {
        low + self.below(high - low + 1)
    }

    /// Once in so many times.
    pub fn once_in(&mut self, times: u64) -> bool {
        self.below(times) == 0
    }

    /// One of these.
    pub fn pick<T: Copy>(&mut self, all: &[T]) -> T {
        all[self.index(all.len())]
    }

    /// So many bytes.
    pub fn bytes(&mut self, len: u64) -> Vec<u8> {
        let mut bytes: Vec<u8> = Vec::new();
        while (bytes.len() as u64) < len {
            bytes.extend(self.roll().to_le_bytes());
        }
        bytes.truncate(usize::try_from(len).unwrap_or_else(|_| panic!("{len} bytes")));
        bytes
    }
}
