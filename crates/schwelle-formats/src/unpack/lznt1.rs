//! LZNT1 (\[MS-XCA\] §2.5): chunks of 4096 bytes, each with a header of two bytes.

use super::{Output, UnpackError};
use crate::bytes::u16_at;

const CHUNK_BYTES: usize = 4096;

/// Takes LZNT1 data apart to at most `len` bytes: what the chunks leave open is zeros, as in a file
/// system's compression unit.
pub fn lznt1(packed: &[u8], len: usize) -> Result<Vec<u8>, UnpackError> {
    let mut all = Vec::with_capacity(len);
    let fail = |fault| UnpackError {
        format: "LZNT1",
        fault,
    };
    let mut rest = packed;
    // A header of zero ends the data, and so does its end.
    while let Some(head) = u16_at(rest, 0).filter(|&head| head != 0) {
        if all.len() >= len {
            return Err(fail("it holds more than the unit"));
        }
        let size = usize::from(head & 0x0FFF) + 1;
        let body = rest.get(2..2 + size);
        let body = body.ok_or_else(|| fail("a chunk is cut off"))?;
        // Between the flag and the size stands a signature, always 3.
        if head >> 12 & 7 != 3 {
            return Err(fail("a chunk has no signature"));
        }
        let chunk = if head & 0x8000 == 0 {
            body.to_vec()
        } else {
            unpack_chunk(body).map_err(fail)?
        };
        let whole = all.len().saturating_add(CHUNK_BYTES).min(len);
        if chunk.len() > CHUNK_BYTES {
            return Err(fail("a chunk holds more than 4096 bytes"));
        }
        all.extend(chunk);
        all.resize(whole, 0);
        rest = rest.get(2 + size..).unwrap_or_default();
    }
    all.resize(len, 0);
    Ok(all)
}

fn unpack_chunk(body: &[u8]) -> Result<Vec<u8>, &'static str> {
    let mut out = Output::new(CHUNK_BYTES);
    let mut at = 0;
    while let Some(&flags) = body.get(at) {
        at += 1;
        for item in 0..8 {
            if flags >> item & 1 == 0 {
                let Some(&byte) = body.get(at) else {
                    return Ok(out.bytes);
                };
                if out.is_full() {
                    return Err("a chunk holds more than 4096 bytes");
                }
                out.literal(byte);
                at += 1;
                continue;
            }
            let token = u16_at(body, at).ok_or("a match is cut off")?;
            at += 2;
            // The further into the chunk, the more bits go to the distance.
            let last = out.bytes.len().checked_sub(1);
            let last = last.ok_or("a match reaches before the data")?;
            let distance_bits = (usize::BITS - last.leading_zeros()).clamp(4, 12);
            let length_bits = 16 - distance_bits;
            let len = usize::from(token & ((1 << length_bits) - 1)) + 3;
            out.copy(usize::from(token >> length_bits) + 1, len)?;
        }
    }
    Ok(out.bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_specifications_example_and_broken_ones() {
        // [MS-XCA] §3.3.
        let packed = [
            0x38, 0xB0, 0x88, 0x46, 0x23, 0x20, 0x00, 0x20, 0x47, 0x20, 0x41, 0x00, 0x10, 0xA2,
            0x47, 0x01, 0xA0, 0x45, 0x20, 0x44, 0x00, 0x08, 0x45, 0x01, 0x50, 0x79, 0x00, 0xC0,
            0x45, 0x20, 0x05, 0x24, 0x13, 0x88, 0x05, 0xB4, 0x02, 0x4A, 0x44, 0xEF, 0x03, 0x58,
            0x02, 0x8C, 0x09, 0x16, 0x01, 0x48, 0x45, 0x00, 0xBE, 0x00, 0x9E, 0x00, 0x04, 0x01,
            0x18, 0x90, 0x00,
        ];
        let text = "F# F# G A A G F# E D D E F# F# E E F# F# G A A G F# E D D E F# E D D E E F# \
            D E F# G F# D E F# G F# E D E A F# F# G A A G F# E D D E F# E D D\0";
        assert_eq!(lznt1(&packed, text.len()).unwrap(), text.as_bytes());
        let faults = [
            (&packed[..20], "a chunk is cut off"),
            (&[0x03, 0x80, 0, 0, 0, 0], "a chunk has no signature"),
            (&[0x02, 0xB0, 0x01, 0, 0], "a match reaches before the data"),
        ];
        for (packed, fault) in faults {
            assert_eq!(lznt1(packed, 4096).unwrap_err().fault, fault);
        }
        // One byte and a match of the greatest length, again and again: no chunk grows over 4096.
        let bomb = [&[0x04, 0xB0, 0x06, 0x41][..], &[0xFF, 0x0F], &[0xFF, 0x0F]].concat();
        assert_eq!(
            lznt1(&bomb, 65_536).unwrap_err().fault,
            "a match runs over the end"
        );
    }

    proptest! {
        #[test]
        fn any_bytes_are_an_error_or_the_length_asked_for(packed in prop::collection::vec(any::<u8>(), 0..300), len in 0usize..9000) {
            if let Ok(bytes) = lznt1(&packed, len) {
                prop_assert_eq!(bytes.len(), len);
            }
        }
    }
}
