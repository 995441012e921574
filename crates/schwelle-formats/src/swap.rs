//! Linux swap areas: their header, and how one is shrunk.
//!
//! Source: the kernel's `include/linux/swap.h` (`union swap_header`). The header fills the first page; whatever lies
//! after it is of no use once the system has been shut down, so an area is made smaller by its header alone, and keeps
//! its UUID and label. Only pages of 4096 bytes, as on the PCs that this is about.

#![warn(clippy::indexing_slicing)]

use crate::bytes::{array_at, u32_at};
use crate::ntfs::{Patch, ShrinkPlan};

/// Bytes of a page.
const PAGE_BYTES: u64 = 4096;
/// Bytes of the header.
pub const HEADER_BYTES: u64 = PAGE_BYTES;
const SIGNATURE: &[u8; 10] = b"SWAPSPACE2";
const SIGNATURE_AT: usize = 4096 - 10;
/// The information begins here: version, last page, bad pages.
const INFO_AT: usize = 1024;
const LAST_PAGE_AT: usize = INFO_AT + 4;
const VERSION: u32 = 1;
/// An area that is left must be of some use.
const LEAST_BYTES: u64 = 32 << 20;

/// Why a swap area is not made smaller.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum SwapError {
    /// Its header is none that is known.
    #[error("the swap area has a header that is not known")]
    Header,
    /// It names pages that must not be used.
    #[error("the swap area names bad pages")]
    BadPages,
    /// Too little of it would be left.
    #[error("less than 32 MiB of the swap area would be left")]
    TooSmall,
}

/// Plans to let a swap area with this header end after so many bytes; `sectors` is the same in sectors.
///
/// # Errors
///
/// A header that is not known; too little left.
pub fn plan_shrink(header: &[u8], bytes: u64, sectors: u64) -> Result<ShrinkPlan, SwapError> {
    let is_swap = array_at::<10>(header, SIGNATURE_AT).as_ref() == Some(SIGNATURE);
    let number = |at: usize| u32_at(header, at).ok_or(SwapError::Header);
    if !is_swap || number(INFO_AT)? != VERSION {
        return Err(SwapError::Header);
    }
    if number(INFO_AT + 8)? != 0 {
        return Err(SwapError::BadPages);
    }
    if bytes < LEAST_BYTES {
        return Err(SwapError::TooSmall);
    }
    let last = u32::try_from(bytes / PAGE_BYTES - 1).map_err(|_too_large| SwapError::Header)?;
    let last = last.min(number(LAST_PAGE_AT)?);
    Ok(ShrinkPlan {
        sectors,
        patches: vec![Patch {
            offset: LAST_PAGE_AT as u64,
            bytes: last.to_le_bytes().to_vec(),
        }],
        ..ShrinkPlan::default()
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn header(last: u32, bad: u32) -> Vec<u8> {
        let mut header = vec![0; 4096];
        for (at, number) in [(1024, VERSION), (1028, last), (1032, bad)] {
            header.splice(at..at + 4, number.to_le_bytes());
        }
        header.splice(SIGNATURE_AT.., *SIGNATURE);
        header
    }

    #[test]
    fn only_the_last_page_changes() {
        let plan = plan_shrink(&header(65_535, 0), 64 << 20, 131_072).unwrap();
        let patches = plan.patches.iter();
        let patches: Vec<_> = patches
            .map(|patch| (patch.offset, patch.bytes.clone()))
            .collect();
        assert_eq!(patches, [(1028, 16_383_u32.to_le_bytes().to_vec())]);
        assert!(plan.moves.is_empty() && plan.sectors == 131_072);
        // One that is smaller than its partition is not made larger.
        let plan = plan_shrink(&header(9_000, 0), 64 << 20, 131_072).unwrap();
        assert_eq!(plan.patches[0].bytes, 9_000_u32.to_le_bytes());
        for (header, bytes, refused) in [
            (header(65_535, 1), 64 << 20, SwapError::BadPages),
            (header(65_535, 0), 31 << 20, SwapError::TooSmall),
            (vec![0; 4096], 64 << 20, SwapError::Header),
            (Vec::new(), 64 << 20, SwapError::Header),
        ] {
            assert_eq!(plan_shrink(&header, bytes, 1), Err(refused));
        }
    }
}
