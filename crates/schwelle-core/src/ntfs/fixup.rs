//! The update sequence array: protects multi-sector structures against writes that stopped
//! half-way.
//!
//! The last two bytes of each stride are replaced on the disk by a running number; the array keeps
//! the true ones.

use crate::bytes::{array_at, u16_at};

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
