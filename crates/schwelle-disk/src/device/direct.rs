//! A block device without the system's cache in between.
//!
//! Through a cache a write of one 512-byte sector reaches the disk as the 4096 bytes around it, whenever the
//! system likes, and an error shows only at the flush, without a place. As the host opens disks, each write
//! reaches the device as exactly its sectors, and each read comes from it. Both must be whole logical sectors,
//! from and to aligned memory; a [`Buffer`] is that already, and other bytes are copied.
//!
//! Reading code asks for records of a kibibyte, so what is read is read in larger pieces, some of which
//! are kept.

use std::collections::BTreeSet;
use std::fs::File;
use std::io;
use std::sync::{Arc, Mutex, PoisonError};

use super::Buffer;
use crate::host::this_pc;

/// Read at a time, at least.
const PIECE_BYTES: u64 = 128 << 10;
/// Pieces kept: 12 MiB.
const PIECES: usize = 96;

/// Maximum number of failed pieces that are remembered.
const MAX_FAILED: usize = 100;

/// Transfers whose memory is kept: as many as run beside one another.
const SPARES: usize = 2;

/// A disk opened without a cache in between.
#[derive(Debug)]
pub(super) struct Direct {
    file: File,
    sector_bytes: u64,
    len_bytes: u64,
    kept: Mutex<Kept>,
    /// Memory of earlier transfers, for the next ones that need some.
    spare: Mutex<Vec<Buffer>>,
}

/// Pieces that have been read, the newest last.
#[derive(Debug, Default)]
struct Kept {
    pieces: Vec<(u64, Arc<Buffer>)>,
    /// Pieces with a sector that cannot be read. A drive tries for seconds each time, so they are not asked
    /// for again before something is written.
    spoilt: BTreeSet<u64>,
    /// Pieces that could not be read at some time: the drive reported an error there.
    failed: BTreeSet<u64>,
    /// Counts writes, so that what was read before one is not kept after it.
    writes: u64,
}

impl Direct {
    pub(super) fn new(file: File, sector_bytes: u32, len_bytes: u64) -> Self {
        Self {
            file,
            sector_bytes: sector_bytes.into(),
            len_bytes,
            kept: Mutex::default(),
            spare: Mutex::default(),
        }
    }

    pub(super) fn file(&self) -> &File {
        &self.file
    }

    /// Fills `buffer` from byte `offset` on; the end has been checked.
    pub(super) fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        if buffer.len() as u64 >= PIECE_BYTES {
            return self.read_through(offset, buffer);
        }
        let end = offset + buffer.len() as u64;
        let mut at = offset;
        while at < end {
            let first = at / PIECE_BYTES * PIECE_BYTES;
            let part_end = end.min(first + PIECE_BYTES);
            let part = &mut buffer[index(at - offset)..index(part_end - offset)];
            match self.piece(first) {
                Ok(piece) => {
                    let from = index(at - first);
                    part.copy_from_slice(&piece[from..from + part.len()]);
                }
                // A sector that cannot be read spoils its piece, and not what is read beside it.
                Err(_) => self.read_through(at, part)?,
            }
            at = part_end;
        }
        Ok(())
    }

    /// Reads exactly the sectors that are asked for.
    fn read_through(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        let first = offset / self.sector_bytes * self.sector_bytes;
        let end = (offset + buffer.len() as u64).next_multiple_of(self.sector_bytes);
        let is_whole = (first, end) == (offset, offset + buffer.len() as u64);
        if is_whole && Buffer::is_aligned(buffer) {
            return this_pc().read_exact_at(&self.file, buffer, offset);
        }
        let mut aligned = self.take_spare(index(end - first));
        let read = this_pc().read_exact_at(&self.file, &mut aligned, first);
        if read.is_ok() {
            let from = index(offset - first);
            buffer.copy_from_slice(&aligned[from..from + buffer.len()]);
        }
        self.keep_spare(aligned);
        read
    }

    fn take_spare(&self, len: usize) -> Buffer {
        let mut spare = self.spare.lock().unwrap_or_else(PoisonError::into_inner);
        match spare.iter().position(|spare| len <= spare.room()) {
            Some(found) => {
                let mut aligned = spare.swap_remove(found);
                aligned.of_len(len);
                aligned
            }
            None => Buffer::new(len),
        }
    }

    fn keep_spare(&self, aligned: Buffer) {
        let mut spare = self.spare.lock().unwrap_or_else(PoisonError::into_inner);
        spare.push(aligned);
        if spare.len() > SPARES {
            spare.sort_by_key(Buffer::room);
            spare.remove(0);
        }
    }

    /// The piece that begins at `first`, read or kept.
    fn piece(&self, first: u64) -> io::Result<Arc<Buffer>> {
        let writes = {
            let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
            if let Some(found) = kept.pieces.iter().position(|(at, _)| *at == first) {
                let piece = kept.pieces.remove(found);
                let bytes = piece.1.clone();
                kept.pieces.push(piece);
                return Ok(bytes);
            }
            if kept.spoilt.contains(&first) {
                return Err(io::Error::other("a sector beside it cannot be read"));
            }
            kept.writes
        };
        let len = PIECE_BYTES.min(self.len_bytes - first);
        let mut piece = Buffer::new(index(len));
        let read = this_pc().read_exact_at(&self.file, &mut piece, first);
        let piece = Arc::new(piece);
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        if let Err(error) = read {
            kept.spoilt.insert(first);
            if kept.failed.len() < MAX_FAILED {
                kept.failed.insert(first);
            }
            return Err(error);
        }
        if kept.writes == writes {
            if kept.pieces.len() >= PIECES {
                kept.pieces.remove(0);
            }
            kept.pieces.push((first, piece.clone()));
        }
        Ok(piece)
    }

    /// Pieces that could not be read as a whole at some time: byte offset and length.
    pub(super) fn failed_pieces(&self) -> Vec<(u64, usize)> {
        let kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let failed = kept.failed.iter();
        let piece = |&first: &u64| (first, index(PIECE_BYTES.min(self.len_bytes - first)));
        failed.map(piece).collect()
    }

    /// Writes whole sectors; the end has been checked.
    pub(super) fn write_at(&self, offset: u64, bytes: &[u8]) -> io::Result<()> {
        let written = if Buffer::is_aligned(bytes) {
            this_pc().write_all_at(&self.file, bytes, offset)
        } else {
            let mut aligned = self.take_spare(bytes.len());
            aligned.copy_from_slice(bytes);
            let written = this_pc().write_all_at(&self.file, &aligned, offset);
            self.keep_spare(aligned);
            written
        };
        let end = offset + bytes.len() as u64;
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        kept.writes += 1;
        kept.spoilt.clear();
        kept.pieces
            .retain(|(at, piece)| at + piece.len() as u64 <= offset || *at >= end);
        written
    }

    /// Returns when all that was written is on the medium. Later reads come from there.
    pub(super) fn flush(&self) -> io::Result<()> {
        self.file.sync_all()?;
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        kept.writes += 1;
        kept.pieces.clear();
        Ok(())
    }
}

/// A length within a transfer, which is in memory.
fn index(len: u64) -> usize {
    usize::try_from(len).expect("a transfer fits into memory")
}

#[cfg(test)]
mod tests {
    use std::fs::OpenOptions;

    use proptest::prelude::*;

    use super::*;

    const SECTOR: u64 = 4096;
    const LEN: u64 = 3 * PIECE_BYTES + SECTOR;

    /// A file as a device is opened: on Linux the kernel then takes nothing but whole sectors.
    fn device() -> io::Result<Direct> {
        let file = tempfile::NamedTempFile::new()?;
        file.as_file().set_len(LEN)?;
        let mut options = OpenOptions::new();
        options.read(true).write(true);
        #[cfg(target_os = "linux")]
        {
            use std::os::unix::fs::OpenOptionsExt;
            options.custom_flags(rustix::fs::OFlags::DIRECT.bits().cast_signed());
        }
        Ok(Direct::new(options.open(file.path())?, 4096, LEN))
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(8))]

        #[test]
        fn what_is_read_is_never_older_than_what_was_written(
            rounds in proptest::collection::vec((0..LEN, any::<u8>(), 0..2 * PIECE_BYTES), 100),
        ) {
            let device = device()?;
            let mut model = vec![0; index(LEN)];
            let mut aligned = Buffer::default();
            for (round, (at, byte, len)) in rounds.into_iter().enumerate() {
                if round % 3 == 0 {
                    let first = at / SECTOR * SECTOR;
                    let len = (len / 8).next_multiple_of(SECTOR).clamp(SECTOR, LEN - first);
                    let bytes = vec![byte; index(len)];
                    aligned.of_len(bytes.len()).copy_from_slice(&bytes);
                    device.write_at(first, if byte % 2 == 0 { &bytes } else { &aligned })?;
                    model[index(first)..index(first) + bytes.len()].copy_from_slice(&bytes);
                }
                // Into any memory, and into what is aligned; from sector to sector, and from anywhere.
                let at = if byte % 4 < 2 { at } else { at / SECTOR * SECTOR };
                let len = index(len.min(LEN - at));
                let wanted = &model[index(at)..index(at) + len];
                let mut got = vec![0; len];
                device.read_at(at, &mut got)?;
                prop_assert!(got == wanted, "round {}", round);
                device.read_at(at, aligned.of_len(len))?;
                prop_assert!(aligned[..] == *wanted, "round {}, aligned", round);
            }
            device.flush()?;
            prop_assert!(device.kept.lock().unwrap().pieces.is_empty());
        }
    }
}
