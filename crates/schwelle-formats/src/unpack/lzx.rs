//! LZX (\[MS-PATCH\]) as image files and compressed files have it: units of at most 32 KiB, each
//! for itself; blocks with their own length; calls of x86 programs translated in every unit.

use super::bits::Bits;
use super::huffman::Code;
use super::{Output, UnpackError};

/// Distances of a window of 32 KiB fall into so many slots.
const SLOTS: usize = 30;
const MAIN_SYMBOLS: usize = 256 + 8 * SLOTS;
const LENGTH_SYMBOLS: usize = 249;
const ALIGNED_SYMBOLS: usize = 8;
const PRE_SYMBOLS: usize = 20;
const DEFAULT_BLOCK: usize = 32_768;
/// The length of a file that the translation of calls assumes.
const CALL_FILE_BYTES: i32 = 12_000_000;

/// Takes one unit apart to exactly `len` bytes.
pub fn lzx(packed: &[u8], len: usize) -> Result<Vec<u8>, UnpackError> {
    let fail = |fault| UnpackError {
        format: "LZX",
        fault,
    };
    if len > DEFAULT_BLOCK {
        return Err(fail("a unit is longer than 32 KiB"));
    }
    let mut unpacker = Unpacker {
        bits: Bits::new(packed),
        out: Output::new(len),
        recent: [1; 3],
        main: [0; MAIN_SYMBOLS],
        lengths: [0; LENGTH_SYMBOLS],
    };
    while !unpacker.out.is_full() {
        unpacker.block().map_err(fail)?;
    }
    let mut bytes = unpacker.out.bytes;
    translate_calls(&mut bytes);
    Ok(bytes)
}

struct Unpacker<'a> {
    bits: Bits<'a>,
    out: Output,
    /// The last three distances.
    recent: [u32; 3],
    /// Code lengths, which each block gives as changes of those before.
    main: [u8; MAIN_SYMBOLS],
    lengths: [u8; LENGTH_SYMBOLS],
}

impl Unpacker<'_> {
    fn block(&mut self) -> Result<(), &'static str> {
        let kind = self.bits.take(3);
        let len = match self.bits.take(1) {
            1 => DEFAULT_BLOCK,
            _ => usize::try_from(self.bits.take(16)).unwrap_or(0),
        };
        let left = self.out.len.saturating_sub(self.out.bytes.len());
        let len = match len {
            0 => return Err("a block is empty"),
            DEFAULT_BLOCK => left,
            len if len > left => return Err("a block runs over the end"),
            len => len,
        };
        let end = self.out.bytes.len().saturating_add(len);
        match kind {
            1 => self.codes(None, end),
            2 => {
                let lengths: [u8; ALIGNED_SYMBOLS] =
                    std::array::from_fn(|_| self.bits.take(3).to_le_bytes()[0]);
                self.codes(Some(Code::new(&lengths)?), end)
            }
            3 => self.stored(len),
            _ => Err("a block is of no known kind"),
        }
    }

    fn stored(&mut self, len: usize) -> Result<(), &'static str> {
        self.bits.align();
        for distance in &mut self.recent {
            *distance = self.bits.aligned_u32().ok_or("the data is cut off")?;
        }
        let bytes = self.bits.aligned_bytes(len).ok_or("the data is cut off")?;
        self.out.bytes.extend(bytes);
        if len % 2 == 1 {
            self.bits.aligned_bytes(1);
        }
        Ok(())
    }

    fn codes(&mut self, aligned: Option<Code>, end: usize) -> Result<(), &'static str> {
        let (literals, matches) = self.main.split_at_mut(256);
        read_lengths(&mut self.bits, literals)?;
        read_lengths(&mut self.bits, matches)?;
        read_lengths(&mut self.bits, &mut self.lengths)?;
        let (main, lengths) = (Code::new(&self.main)?, Code::new(&self.lengths)?);
        while self.out.bytes.len() < end {
            let symbol = main.decode(&mut self.bits)?;
            if self.bits.is_overrun() {
                return Err("the data is cut off");
            }
            let Some(symbol) = symbol.checked_sub(256) else {
                self.out.literal(symbol.to_le_bytes()[0]);
                continue;
            };
            let mut len = usize::from(symbol & 7) + 2;
            if symbol & 7 == 7 {
                len += usize::from(lengths.decode(&mut self.bits)?);
            }
            let distance = self.distance(u32::from(symbol >> 3), aligned.as_ref())?;
            if self.out.bytes.len().saturating_add(len) > end {
                return Err("a match runs over the end");
            }
            let distance = usize::try_from(distance).unwrap_or(usize::MAX);
            self.out.copy(distance, len)?;
        }
        Ok(())
    }

    fn distance(&mut self, slot: u32, aligned: Option<&Code>) -> Result<u32, &'static str> {
        let [first, second, third] = self.recent;
        // The first three slots stand for the last distances.
        let distance = match slot {
            0 => return Ok(first),
            1 => {
                self.recent = [second, first, third];
                return Ok(second);
            }
            2 => {
                self.recent = [third, second, first];
                return Ok(third);
            }
            3 => 1,
            _ => {
                let extra_bits = slot / 2 - 1;
                let base = (2 + slot % 2) << extra_bits;
                let extra = match aligned {
                    Some(code) if extra_bits >= 3 => {
                        let high = self.bits.take(extra_bits - 3) << 3;
                        high | u32::from(code.decode(&mut self.bits)?)
                    }
                    _ => self.bits.take(extra_bits),
                };
                base + extra - 2
            }
        };
        self.recent = [distance, first, second];
        Ok(distance)
    }
}

/// Code lengths: given as changes modulo 17, by a small code of their own.
fn read_lengths(bits: &mut Bits<'_>, lengths: &mut [u8]) -> Result<(), &'static str> {
    let pre: [u8; PRE_SYMBOLS] = std::array::from_fn(|_| bits.take(4).to_le_bytes()[0]);
    let pre = Code::new(&pre)?;
    let changed = |before: u8, change: u16| {
        let change = u8::try_from(change).ok().filter(|&change| change <= 17);
        change
            .map(|change| (before + 17 - change) % 17)
            .ok_or("a code length is none")
    };
    let mut at = 0;
    while let Some(&before) = lengths.get(at) {
        let symbol = pre.decode(bits)?;
        let (count, value) = match symbol {
            17 => (4 + bits.take(4), 0),
            18 => (20 + bits.take(5), 0),
            19 => {
                let count = 4 + bits.take(1);
                (count, changed(before, pre.decode(bits)?)?)
            }
            change => (1, changed(before, change)?),
        };
        let end = at.saturating_add(usize::try_from(count).unwrap_or(0));
        lengths
            .get_mut(at..end)
            .ok_or("the code lengths run over their table")?
            .fill(value);
        at = end;
    }
    Ok(())
}

/// Undoes the translation of calls: the target after a byte E8h was made absolute.
fn translate_calls(bytes: &mut [u8]) {
    let Some(end) = bytes.len().checked_sub(10) else {
        return;
    };
    let mut at = 0;
    while at < end {
        if bytes.get(at) != Some(&0xE8) {
            at += 1;
            continue;
        }
        let position = i32::try_from(at).unwrap_or(i32::MAX);
        if let Some(place) = bytes.get_mut(at + 1..at + 5)
            && let Ok(target) = <[u8; 4]>::try_from(&*place)
        {
            let target = i32::from_le_bytes(target);
            if (0..CALL_FILE_BYTES).contains(&target) {
                place.copy_from_slice(&target.wrapping_sub(position).to_le_bytes());
            } else if (position.wrapping_neg()..0).contains(&target) {
                place.copy_from_slice(&(target + CALL_FILE_BYTES).to_le_bytes());
            }
        }
        at += 5;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn stored_blocks_and_broken_data() {
        // Kind 3, default length: four bits, the rest of the word is filling.
        let mut stored = vec![0x00, 0x70];
        stored.extend([1u32; 3].map(u32::to_le_bytes).concat());
        stored.extend((0..21).collect::<Vec<u8>>());
        assert_eq!(lzx(&stored, 21).unwrap(), (0..21).collect::<Vec<u8>>());
        for (bytes, len, fault) in [
            (&stored[..30], 21, "the data is cut off"),
            (&[0; 40], 21, "a block is empty"),
            (
                &[0x00, 0x30, 0xFF, 0xFF],
                21,
                "the code lengths make no code",
            ),
            (&[0x00, 0xF0, 0, 0], 21, "a block is of no known kind"),
            (&stored, 40_000, "a unit is longer than 32 KiB"),
        ] {
            assert_eq!(lzx(bytes, len).unwrap_err().fault, fault);
        }
    }

    #[test]
    fn calls_are_translated_back() {
        let mut bytes = vec![0x90; 40];
        bytes[8] = 0xE8;
        bytes[9..13].copy_from_slice(&100i32.to_le_bytes());
        // A byte E8h in the last ten stays.
        bytes[32] = 0xE8;
        let mut expected = bytes.clone();
        expected[9..13].copy_from_slice(&92i32.to_le_bytes());
        translate_calls(&mut bytes);
        assert_eq!(bytes, expected);
    }

    proptest! {
        #[test]
        fn any_bytes_are_an_error_or_the_length_asked_for(packed in prop::collection::vec(any::<u8>(), 0..300), len in 0usize..9000) {
            if let Ok(bytes) = lzx(&packed, len) {
                prop_assert_eq!(bytes.len(), len);
            }
        }
    }
}
