//! Taking apart compressed data: LZNT1, XPRESS with Huffman codes, LZX.
//!
//! LZNT1 and XPRESS as the open specification of these algorithms describes them (\[MS-XCA\]
//! §2.5, §2.1); LZX as in its published description (\[MS-PATCH\]) with the differences that image
//! files have, checked against streams made by a free imaging library. Each function takes one
//! unit and the length it must give: more, less or anything odd is an error, never a best effort.

#![warn(clippy::indexing_slicing)]

mod bits;
mod huffman;
mod lznt1;
mod lzx;
mod xpress;

pub use lznt1::lznt1;
pub use lzx::lzx;
pub use xpress::xpress;

/// Compressed data that cannot be taken apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("damaged {format} data: {fault}")]
pub struct UnpackError {
    /// Name of the algorithm.
    pub format: &'static str,
    /// What is wrong.
    pub fault: &'static str,
}

/// What has been taken apart so far, with the length it must not exceed.
struct Output {
    bytes: Vec<u8>,
    len: usize,
}

impl Output {
    fn new(len: usize) -> Self {
        Self {
            bytes: Vec::with_capacity(len),
            len,
        }
    }

    fn is_full(&self) -> bool {
        self.bytes.len() >= self.len
    }

    fn literal(&mut self, byte: u8) {
        self.bytes.push(byte);
    }

    /// Repeats `len` bytes from `distance` back; the two may overlap.
    fn copy(&mut self, distance: usize, len: usize) -> Result<(), &'static str> {
        let from = self.bytes.len().checked_sub(distance);
        let from = from
            .filter(|_| distance > 0)
            .ok_or("a match reaches before the data")?;
        if len > self.len.saturating_sub(self.bytes.len()) {
            return Err("a match runs over the end");
        }
        for at in from..from.saturating_add(len) {
            if let Some(&byte) = self.bytes.get(at) {
                self.bytes.push(byte);
            }
        }
        Ok(())
    }
}
