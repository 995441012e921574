//! The update sequence array: protects multi-sector structures against writes that stopped
//! half-way.
//!
//! The last two bytes of each stride are replaced on the disk by a running number; the array keeps
//! the true ones.

use crate::bytes::{array_at, u16_at};

/// Puts the running number, one higher than before, at the end of each stride, and the true bytes
/// into the array. `bytes` has been restored before, so the array is where it can be.
pub(super) fn protect(bytes: &mut [u8]) {
    let Some((array_at_byte, count)) = u16_at(bytes, 4).zip(u16_at(bytes, 6)) else {
        return;
    };
    let (array_at_byte, count) = (usize::from(array_at_byte), usize::from(count));
    let strides = count.saturating_sub(1).max(1);
    let stride = bytes.len() / strides;
    // Zero and FFFFh are not used as running numbers.
    let number = match u16_at(bytes, array_at_byte) {
        Some(0xFFFE | 0xFFFF) | None => 1,
        Some(number) => number + 1,
    };
    let mut put = |at: usize, value: [u8; 2]| {
        let end = at.saturating_add(2);
        let place = bytes.get_mut(at..end)?;
        let before = [*place.first()?, *place.last()?];
        place.copy_from_slice(&value);
        Some(before)
    };
    put(array_at_byte, number.to_le_bytes());
    for index in 1..=strides {
        let tail = index.saturating_mul(stride).saturating_sub(2);
        if let Some(truth) = put(tail, number.to_le_bytes()) {
            put(array_at_byte.saturating_add(index.saturating_mul(2)), truth);
        }
    }
}

/// Verifies the running number at the end of each stride and puts the true bytes back. `false` when
/// the structure is torn or the array is not where it can be.
pub(super) fn restore(bytes: &mut [u8]) -> bool {
    let Some((array_at_byte, count)) = u16_at(bytes, 4).zip(u16_at(bytes, 6)) else {
        return false;
    };
    let array_at_byte = usize::from(array_at_byte);
    let Some(strides) = usize::from(count)
        .checked_sub(1)
        .filter(|&strides| strides > 0)
    else {
        return false;
    };
    let stride = bytes.len() / strides;
    if stride < 512 || !stride.is_power_of_two() || stride.saturating_mul(strides) != bytes.len() {
        return false;
    }
    let array_end = array_at_byte.saturating_add(usize::from(count).saturating_mul(2));
    if array_end > stride.saturating_sub(2) {
        // An array over the end of its own first stride would protect itself with itself.
        return false;
    }
    let Some(number) = array_at::<2>(bytes, array_at_byte) else {
        return false;
    };
    for index in 1..=strides {
        let Some(saved) =
            array_at::<2>(bytes, array_at_byte.saturating_add(index.saturating_mul(2)))
        else {
            return false;
        };
        let end = index.saturating_mul(stride);
        match bytes.get_mut(end.saturating_sub(2)..end) {
            Some(tail) if tail == number => tail.copy_from_slice(&saved),
            _ => return false,
        }
    }
    true
}
