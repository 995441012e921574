//! File records that are not in use, for runlists that need one more.

use super::plan::{FIRST_USER_RECORD, Shrink, ShrinkError, TABLE};
use crate::bytes::{ReadBytes, u16_at};
use crate::ntfs::attribute::kind;
use crate::ntfs::file_record::FileRecord;
use crate::ntfs::stream::NtfsFile;

impl Shrink<'_> {
    /// The number of a file record that is free, and its use count.
    pub(super) fn free_record(&mut self) -> Result<Option<(u64, u16)>, ShrinkError> {
        const CHUNK: usize = 4096;
        let map = self.stream(TABLE, kind::BITMAP, "")?;
        let table = self.volume.open_file(TABLE)?;
        let record_bytes = u64::from(self.volume.shape().record_bytes);
        let count = (table.len_bytes() / record_bytes).min(map.len_bytes().saturating_mul(8));
        let first = self
            .new_records
            .last()
            .map_or(FIRST_USER_RECORD, |last| last + 1);
        let mut chunk = Vec::new();
        let mut byte_at = first / 8;
        while byte_at.saturating_mul(8) < count {
            let left = usize::try_from(map.len_bytes() - byte_at);
            chunk.resize(left.map_or(CHUNK, |left| left.min(CHUNK)), 0);
            map.read_bytes(byte_at, &mut chunk)?;
            for (byte, base) in chunk.iter().zip((byte_at * 8..).step_by(8)) {
                for number in (base..base + 8).filter(|&number| number >= first && number < count) {
                    if byte >> (number % 8) & 1 == 0 {
                        return Ok(Some((number, self.use_count(&table, number)?)));
                    }
                }
            }
            byte_at += chunk.len() as u64;
        }
        Ok(None)
    }

    /// The use count of a record that is not in use: the old one is kept, since it was raised when
    /// the record was given up.
    fn use_count(&self, table: &NtfsFile<'_>, number: u64) -> Result<u16, ShrinkError> {
        let record_bytes = u64::from(self.volume.shape().record_bytes);
        let mut head = [0; 0x18];
        table.read_bytes(number.saturating_mul(record_bytes), &mut head)?;
        let old = u16_at(&head, 0x10).filter(|&old| head.starts_with(b"FILE") && old != 0);
        Ok(old.unwrap_or(1))
    }

    /// The record as it was read, for its name and for what it lists.
    pub(super) fn read(&self, number: u64) -> Result<FileRecord<'static>, ShrinkError> {
        Ok(self.volume.record(number)?)
    }
}
