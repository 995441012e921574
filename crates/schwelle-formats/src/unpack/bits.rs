//! Bits from 16-bit little-endian words, highest bit first.

use crate::bytes::{u16_at, u32_at};

pub(super) struct Bits<'a> {
    bytes: &'a [u8],
    /// Beyond the last word taken in.
    at: usize,
    window: u64,
    held: u32,
}

impl<'a> Bits<'a> {
    pub(super) fn new(bytes: &'a [u8]) -> Self {
        Self {
            bytes,
            at: 0,
            window: 0,
            held: 0,
        }
    }

    /// Takes in words until there are `count` bits. Beyond the end, zeros: a code is looked up with
    /// more bits than it has.
    fn fill(&mut self, count: u32) {
        while self.held < count {
            let word = u16_at(self.bytes, self.at).unwrap_or(0);
            self.at = self.at.saturating_add(2);
            self.window = self.window << 16 | u64::from(word);
            self.held += 16;
        }
    }

    /// The next `count` bits, at most 16, without taking them.
    pub(super) fn peek(&mut self, count: u32) -> u32 {
        self.fill(count);
        let mask = (1u64 << count) - 1;
        u32::try_from(self.window >> (self.held - count) & mask).unwrap_or(0)
    }

    pub(super) fn skip(&mut self, count: u32) {
        self.fill(count);
        self.held -= count;
    }

    /// Takes `count` bits, at most 16.
    pub(super) fn take(&mut self, count: u32) -> u32 {
        let bits = self.peek(count);
        self.skip(count);
        bits
    }

    /// True when more has been taken than there is.
    pub(super) fn is_overrun(&self) -> bool {
        let unread = usize::try_from(self.held / 16).unwrap_or(0) * 2;
        self.at.saturating_sub(unread) > self.bytes.len().next_multiple_of(2)
    }

    /// Keeps at least 16 bits taken in, as writers that put bytes between the words assume.
    pub(super) fn keep_ahead(&mut self) {
        self.fill(16);
    }

    /// The byte after the words taken in.
    pub(super) fn byte(&mut self) -> Option<u8> {
        let byte = self.bytes.get(self.at).copied();
        self.at = self.at.saturating_add(1);
        byte
    }

    /// The 16-bit number after the words taken in.
    pub(super) fn word(&mut self) -> Option<u16> {
        let word = u16_at(self.bytes, self.at);
        self.at = self.at.saturating_add(2);
        word
    }

    /// Goes to the next word, over 1 to 16 bits.
    pub(super) fn align(&mut self) {
        self.fill(1);
        self.held -= match self.held % 16 {
            0 => 16,
            rest => rest,
        };
        // Whole words taken in too early are given back.
        let words = usize::try_from(self.held / 16).unwrap_or(0);
        self.at = self.at.saturating_sub(words.saturating_mul(2));
        self.held = 0;
    }

    /// The 32-bit number at an aligned place.
    pub(super) fn aligned_u32(&mut self) -> Option<u32> {
        let number = u32_at(self.bytes, self.at);
        self.at = self.at.saturating_add(4);
        number
    }

    /// Bytes at an aligned place.
    pub(super) fn aligned_bytes(&mut self, len: usize) -> Option<&'a [u8]> {
        let bytes = self.bytes.get(self.at..self.at.checked_add(len)?);
        self.at = self.at.saturating_add(len);
        bytes
    }
}
