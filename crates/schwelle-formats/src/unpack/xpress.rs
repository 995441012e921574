//! XPRESS with Huffman codes (\[MS-XCA\] §2.1): 256 bytes of code lengths, then bits with bytes
//! between them. One table for each unit: the units of files are never longer than 64 KiB.

use super::bits::Bits;
use super::huffman::Code;
use super::{Output, UnpackError};

const SYMBOLS: usize = 512;
const TABLE_BYTES: usize = SYMBOLS / 2;

/// Takes one unit apart to exactly `len` bytes.
pub fn xpress(packed: &[u8], len: usize) -> Result<Vec<u8>, UnpackError> {
    unpack(packed, len).map_err(|fault| UnpackError {
        format: "XPRESS",
        fault,
    })
}

fn unpack(packed: &[u8], len: usize) -> Result<Vec<u8>, &'static str> {
    let (table, packed) = packed
        .split_at_checked(TABLE_BYTES)
        .ok_or("the table of codes is cut off")?;
    let lengths: Vec<u8> = table
        .iter()
        .flat_map(|byte| [byte & 0x0F, byte >> 4])
        .collect();
    let code = Code::new(&lengths)?;
    let mut bits = Bits::new(packed);
    let mut out = Output::new(len);
    while !out.is_full() {
        let symbol = code.decode(&mut bits)?;
        bits.keep_ahead();
        let Some(symbol) = symbol.checked_sub(256) else {
            out.literal(symbol.to_le_bytes()[0]);
            continue;
        };
        let (mut match_len, distance_bits) = (usize::from(symbol & 15), u32::from(symbol >> 4));
        if match_len == 15 {
            match_len = match bits.byte().ok_or("a length is cut off")? {
                255 => usize::from(bits.word().ok_or("a length is cut off")?)
                    .checked_sub(15)
                    .ok_or("a length is too short")?
                    .saturating_add(15),
                more => usize::from(more) + 15,
            };
        }
        let distance =
            1usize << distance_bits | usize::try_from(bits.take(distance_bits)).unwrap_or(0);
        bits.keep_ahead();
        if bits.is_overrun() {
            return Err("the data is cut off");
        }
        out.copy(distance, match_len + 3)?;
    }
    if bits.is_overrun() {
        return Err("the data is cut off");
    }
    Ok(out.bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The table of an example: (place, bytes), all else zero.
    fn packed(table: &[(usize, &[u8])], data: &[u8]) -> Vec<u8> {
        let mut bytes = vec![0; TABLE_BYTES];
        for (at, part) in table {
            bytes[*at..at + part.len()].copy_from_slice(part);
        }
        bytes.extend(data);
        bytes
    }

    #[test]
    fn the_specifications_examples_and_broken_ones() {
        // [MS-XCA] §3.2: the alphabet, and "abc" a hundred times.
        let alphabet = packed(
            &[
                (0x30, &[0x50]),
                (0x31, &[0x55; 10]),
                (0x3B, &[0x45, 0x44, 0x04]),
                (0x80, &[0x04]),
            ],
            &[
                0xD8, 0x52, 0x3E, 0xD7, 0x94, 0x11, 0x5B, 0xE9, 0x19, 0x5F, 0xF9, 0xD6, 0x7C, 0xDF,
                0x8D, 0x04, 0, 0, 0, 0,
            ],
        );
        assert_eq!(
            xpress(&alphabet, 26).unwrap(),
            b"abcdefghijklmnopqrstuvwxyz"
        );
        let repeated = packed(
            &[(0x30, &[0x30, 0x23]), (0x80, &[0x02]), (0x8F, &[0x20])],
            &[0xA8, 0xDC, 0, 0, 0xFF, 0x26, 0x01],
        );
        assert_eq!(xpress(&repeated, 300).unwrap(), b"abc".repeat(100));
        for (bytes, len, fault) in [
            (&alphabet[..255], 26, "the table of codes is cut off"),
            (&alphabet[..262], 26, "the data is cut off"),
            (&repeated[..261], 300, "a length is cut off"),
            (&repeated, 200, "a match runs over the end"),
            (&vec![0x11; 300], 26, "the code lengths make no code"),
            (&vec![0; 300], 26, "a code has no symbol"),
        ] {
            assert_eq!(xpress(bytes, len).unwrap_err().fault, fault);
        }
    }

    proptest! {
        #[test]
        fn any_bytes_are_an_error_or_the_length_asked_for(hits in prop::collection::vec((256usize..277, any::<u8>()), 1..9), len in 0usize..9000) {
            let mut packed = packed(&[(0x30, &[0x30, 0x23]), (0x80, &[0x02]), (0x8F, &[0x20])], &[7; 21]);
            hits.into_iter().for_each(|(at, byte)| packed[at] = byte);
            if let Ok(bytes) = xpress(&packed, len) {
                prop_assert_eq!(bytes.len(), len);
            }
        }
    }
}
