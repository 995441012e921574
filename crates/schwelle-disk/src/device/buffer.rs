//! Memory for transfers, at a place that a device can read into and write from by itself.

use std::ops::{Deref, DerefMut};

/// Memory is aligned to so many bytes, which is enough for every device.
const ALIGNMENT: usize = 4096;

/// Bytes at an aligned place in memory, for one transfer after another: to get and clear a MiB takes as long as
/// to copy it.
///
/// ```
/// use schwelle_disk::device::Buffer;
///
/// let mut buffer = Buffer::default();
/// buffer.of_len(4096).fill(7);
/// // It is as long as the transfer, and keeps what it held.
/// assert_eq!(buffer.of_len(512), [7; 512]);
/// assert_eq!(buffer.len(), 512);
/// ```
#[derive(Debug, Default)]
pub struct Buffer {
    memory: Vec<u8>,
    from: usize,
    len: usize,
}

impl Buffer {
    /// So many zero bytes.
    pub fn new(len_bytes: usize) -> Self {
        let memory = vec![0; len_bytes.saturating_add(ALIGNMENT)];
        let from = memory.as_ptr().align_offset(ALIGNMENT);
        let len = len_bytes;
        Self { memory, from, len }
    }

    /// Makes it so many bytes long. What they hold is of no use: zeros, or what was there before.
    pub fn of_len(&mut self, len_bytes: usize) -> &mut [u8] {
        if len_bytes > self.room() {
            *self = Self::new(len_bytes);
        }
        self.len = len_bytes;
        self
    }

    /// The longest transfer that it can hold, in bytes.
    pub(super) fn room(&self) -> usize {
        self.memory.len().saturating_sub(ALIGNMENT)
    }

    /// True where a device can reach these bytes without a copy in between.
    pub(super) fn is_aligned(bytes: &[u8]) -> bool {
        bytes.as_ptr().addr().is_multiple_of(ALIGNMENT)
    }
}

impl Deref for Buffer {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        &self.memory[self.from..self.from + self.len]
    }
}

impl DerefMut for Buffer {
    fn deref_mut(&mut self) -> &mut [u8] {
        &mut self.memory[self.from..self.from + self.len]
    }
}
