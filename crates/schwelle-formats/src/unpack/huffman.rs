//! Canonical Huffman codes, given by the lengths of their codes.

use super::bits::Bits;

/// Length of the longest code of all formats here, in bits.
const MAX_BITS: u32 = 16;

/// A code: decodes by counting up the lengths.
pub(super) struct Code {
    /// Number of codes of each length.
    counts: [u16; MAX_BITS as usize + 1],
    /// Symbols by length, then by value.
    symbols: Vec<u16>,
}

impl Code {
    /// From the length of each symbol's code; 0 for symbols that do not occur. An error when the
    /// lengths make no code, too many or too few of them. No symbol at all is a code that nothing
    /// may use.
    pub(super) fn new(lengths: &[u8]) -> Result<Self, &'static str> {
        let mut counts = [0u16; MAX_BITS as usize + 1];
        for &length in lengths {
            *counts
                .get_mut(usize::from(length))
                .ok_or("a code is too long")? += 1;
        }
        if let Some(unused) = counts.first_mut() {
            *unused = 0;
        }
        let space = counts
            .iter()
            .enumerate()
            .map(|(bits, &count)| u32::from(count) << (16 - bits))
            .sum::<u32>();
        if space != 0 && space != 1 << MAX_BITS {
            return Err("the code lengths make no code");
        }
        let mut symbols: Vec<u16> = (0..u16::try_from(lengths.len()).unwrap_or(u16::MAX)).collect();
        let length = |symbol: &u16| lengths.get(usize::from(*symbol)).copied().unwrap_or(0);
        symbols.retain(|symbol| length(symbol) > 0);
        symbols.sort_by_key(length);
        Ok(Self { counts, symbols })
    }

    /// Takes one symbol.
    pub(super) fn decode(&self, bits: &mut Bits<'_>) -> Result<u16, &'static str> {
        let ahead = bits.peek(MAX_BITS);
        // `first`: the first code of this length; `index`: where its symbol stands.
        let (mut first, mut index) = (0u32, 0u32);
        for (length, &count) in (0u32..).zip(&self.counts).skip(1) {
            first <<= 1;
            let code = ahead >> (MAX_BITS - length);
            if let Some(within) = code.checked_sub(first).filter(|&at| at < u32::from(count)) {
                bits.skip(length);
                let at = usize::try_from(index.saturating_add(within)).unwrap_or(usize::MAX);
                return self.symbols.get(at).copied().ok_or("a code has no symbol");
            }
            first = first.saturating_add(count.into());
            index = index.saturating_add(count.into());
        }
        Err("a code has no symbol")
    }
}
