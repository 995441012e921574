//! Bounds-checked reading of little-endian fields, for the parsers of variable shapes.
//!
//! Every accessor takes an offset from a disk, so none may panic: what lies outside the buffer is
//! `None`, and the parser turns that into its own error with the place.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

/// A source of bytes with a length: a file on a volume, or a buffer. What a hive or a PE image is
/// read from.
pub trait ReadBytes {
    /// The error of the source.
    type Error: std::error::Error + Send + Sync + 'static;

    /// Length in bytes.
    fn len_bytes(&self) -> u64;

    /// Fills `buffer` from byte `offset` on; an error when the range leaves the source.
    fn read_bytes(&self, offset: u64, buffer: &mut [u8]) -> Result<(), Self::Error>;
}

/// A range that leaves the buffer it is read from.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("bytes {offset}..+{len_bytes} lie outside the {available} bytes at hand")]
pub struct OutOfRange {
    /// First byte asked for.
    pub offset: u64,
    /// Bytes asked for.
    pub len_bytes: u64,
    /// Bytes that there are.
    pub available: u64,
}

impl ReadBytes for [u8] {
    type Error = OutOfRange;

    fn len_bytes(&self) -> u64 {
        self.len() as u64
    }

    fn read_bytes(&self, offset: u64, buffer: &mut [u8]) -> Result<(), OutOfRange> {
        let source = usize::try_from(offset)
            .ok()
            .and_then(|from| self.get(from..from.checked_add(buffer.len())?));
        match source {
            Some(source) => {
                buffer.copy_from_slice(source);
                Ok(())
            }
            None => {
                let available = self.len() as u64;
                Err(OutOfRange {
                    offset,
                    len_bytes: buffer.len() as u64,
                    available,
                })
            }
        }
    }
}

/// The `N` bytes at `offset`.
pub fn array_at<const N: usize>(bytes: &[u8], offset: usize) -> Option<[u8; N]> {
    bytes.get(offset..offset.checked_add(N)?)?.try_into().ok()
}

/// The little-endian u16 at `offset`.
pub fn u16_at(bytes: &[u8], offset: usize) -> Option<u16> {
    array_at(bytes, offset).map(u16::from_le_bytes)
}

/// The little-endian u32 at `offset`.
pub fn u32_at(bytes: &[u8], offset: usize) -> Option<u32> {
    array_at(bytes, offset).map(u32::from_le_bytes)
}

/// The little-endian u64 at `offset`.
pub fn u64_at(bytes: &[u8], offset: usize) -> Option<u64> {
    array_at(bytes, offset).map(u64::from_le_bytes)
}

/// UTF-16 (little-endian) text; what is not valid becomes the replacement character. An odd last
/// byte is ignored.
pub fn utf16_lossy(bytes: &[u8]) -> String {
    let units = bytes.chunks_exact(2).filter_map(|pair| u16_at(pair, 0));
    char::decode_utf16(units)
        .map(|unit| unit.unwrap_or(char::REPLACEMENT_CHARACTER))
        .collect()
}

/// UTF-16 (little-endian) bytes of `text`.
pub fn utf16_bytes(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

/// Reads a file of at most `limit` bytes; an error when it is longer. What a file's length says is not
/// trusted: a device says 0 and never ends.
pub fn read_file(path: &Path, limit: u64) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    let mut file = File::open(path)?.take(limit.saturating_add(1));
    file.read_to_end(&mut bytes)?;
    if bytes.len() as u64 > limit {
        return Err(io::Error::other(format!("longer than {limit} bytes")));
    }
    Ok(bytes)
}
