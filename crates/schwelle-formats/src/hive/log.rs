//! Transaction logs: what was changed in a hive but not yet written to its file.
//!
//! Two formats, as free descriptions of registry files agree on them; no log written by a real
//! system was at hand (the tests make theirs from the same descriptions, and the hash below is
//! checked against published values).
//!
//! - **old** (file type 1 or 2): a copy of the base block, `DIRT` with a bit for every 512 bytes of
//!   the bins, then the pages whose bits are set. It is whole or useless: its two sequence numbers
//!   are equal, and it belongs to the hive if it has its time and one of its numbers.
//! - **new** (file type 6, two files in turn): a copy of the base block, then entries `HvLE`, each
//!   with a number, two hashes, and pages with their places. Applied in the order of their numbers,
//!   from the hive's own second number on, up to the first gap.

use std::collections::BTreeMap;

use zerocopy::little_endian::{U32, U64};
use zerocopy::{FromBytes, Immutable, KnownLayout, Unaligned};

use super::HiveError;
use super::base_block::{BASE_BYTES, BaseBlock, FileKind};
use crate::bytes::{ReadBytes, u32_at};

/// A log is read up to this length; the systems keep theirs far below.
pub const MAX_LOG_BYTES: u64 = 64 << 20;
/// Unit of all lengths in a log, and the part of the base block that a log copies.
const PAGE: usize = 512;
const BIN_BYTES: u32 = 4096;
/// Seed of the entries' hashes: seen in logs that Windows wrote.
const SEED: u64 = 0x82EF_4D88_7A4E_55C5;

#[derive(Debug, Clone, Copy, FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawEntry {
    signature: [u8; 4],
    len_bytes: U32,
    flags: U32,
    sequence: U32,
    bins_bytes: U32,
    pages: U32,
    hash_1: U64,
    hash_2: U64,
}

const ENTRY_HEAD: usize = size_of::<RawEntry>();
const _: () = assert!(ENTRY_HEAD == 40);
/// The second hash covers the header up to itself.
const HASHED_HEAD: usize = 32;

/// Why a hive that was not closed cleanly cannot be brought up to date.
#[derive(Debug, thiserror::Error)]
pub enum LogError {
    /// There is no log.
    #[error("it was not closed cleanly, and there is no log beside it")]
    NoLog,
    /// No log fits.
    #[error("it was not closed cleanly, and no log fits it: {}", listed(.0))]
    NoneFits(Vec<(String, LogFault)>),
    /// The hive itself.
    #[error(transparent)]
    Hive(#[from] HiveError),
}

/// Why a log is of no use.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum LogFault {
    /// A field of the base block that it begins with.
    #[error("the {0} of its base block is wrong")]
    BaseBlock(&'static str),
    /// It was being written.
    #[error("it was not finished")]
    NotFinished,
    /// It was written for an older or a newer hive.
    #[error("it belongs to another state of the hive")]
    OtherState,
    /// It is a hive.
    #[error("it is a hive and not a log")]
    Hive,
    /// It does not say which pages it holds.
    #[error("it has no table of pages")]
    NoTable,
    /// Its table of pages is cut off.
    #[error("its table of pages is cut off")]
    TableCutOff,
    /// Its pages are cut off.
    #[error("its pages are cut off")]
    PagesCutOff,
    /// Entries between the hive and the first one are missing.
    #[error("it begins at number {number}, the hive ends at {first}")]
    Gap {
        /// Number of the first entry.
        number: u32,
        /// Number of the last one that the hive holds.
        first: u32,
    },
    /// The hive holds all that it holds.
    #[error("no entry is newer than the hive")]
    NothingNewer,
    /// It is longer than any log.
    #[error("it is too long")]
    TooLong,
}

fn listed(faults: &[(String, LogFault)]) -> String {
    let each = faults
        .iter()
        .map(|(name, fault)| format!("{name}: {fault}"));
    each.collect::<Vec<_>>().join("; ")
}

/// A hive with the changes of its logs applied, in memory: the source itself stays as it is.
#[derive(Debug)]
pub struct Recovered<'a, S: ReadBytes + ?Sized> {
    source: &'a S,
    /// By byte offset in the file; each [`PAGE`] bytes long.
    pages: BTreeMap<u64, Vec<u8>>,
    len_bytes: u64,
    /// Entries (new format) or logs (old format) applied.
    applied: usize,
}

impl<'a, S: ReadBytes + ?Sized> Recovered<'a, S> {
    /// Applies the logs, given with their names, if the hive needs them.
    pub fn open(source: &'a S, logs: &[(String, Vec<u8>)]) -> Result<Self, LogError> {
        let mut own = vec![0; PAGE];
        source
            .read_bytes(0, &mut own)
            .map_err(|error| HiveError::Source(error.into()))?;
        let base = BaseBlock::parse(&own, source.len_bytes());
        let mut recovered = Self {
            source,
            pages: BTreeMap::new(),
            len_bytes: source.len_bytes(),
            applied: 0,
        };
        match base {
            Ok(base) if base.sequences.0 == base.sequences.1 => return Ok(recovered),
            _ if logs
                .iter()
                .all(|(_, log)| log.iter().all(|&byte| byte == 0)) =>
            {
                return Err(match base {
                    Ok(_) => LogError::NoLog,
                    Err(field) => HiveError::BaseBlock { field }.into(),
                });
            }
            _ => {}
        }
        let mut faults = Vec::new();
        let mut entries = BTreeMap::new();
        for (name, log) in logs {
            let found = Log::parse(log, base.ok());
            match found {
                Ok(Log::Old { base, pages }) => {
                    recovered.finish(base, pages);
                    return Ok(recovered);
                }
                Ok(Log::New(found)) => entries.extend(found),
                Err(fault) => faults.push((name.clone(), fault)),
            }
        }
        let all = || {
            let names: Vec<&str> = logs.iter().map(|(name, _)| &name[..]).collect();
            names.join(" and ")
        };
        // The numbers go on where the hive's own end.
        let first = base.ok().map(|base| base.sequences.1);
        let mut next: Option<u32> = None;
        let mut last = None;
        let mut pages = Vec::new();
        for (number, entry) in entries {
            if first.is_some_and(|first| number < first) {
                continue;
            }
            match (next, first) {
                (Some(next), _) if number != next => break,
                (None, Some(first)) if number > first.saturating_add(1) => {
                    faults.push((all(), LogFault::Gap { number, first }));
                    break;
                }
                _ => {}
            }
            next = Some(number.wrapping_add(1));
            recovered.applied += 1;
            pages.extend(entry.pages);
            last = Some(BaseBlock {
                bins_bytes: entry.bins_bytes,
                sequences: (number, number),
                ..entry.base
            });
        }
        match last {
            Some(base) => {
                recovered.applied -= 1;
                recovered.finish(base, pages);
                Ok(recovered)
            }
            None => {
                if !faults
                    .iter()
                    .any(|(_, fault)| matches!(fault, LogFault::Gap { .. }))
                {
                    faults.push((all(), LogFault::NothingNewer));
                }
                Err(LogError::NoneFits(faults))
            }
        }
    }

    /// Lays pages and a base block over the source.
    fn finish(&mut self, base: BaseBlock, pages: Vec<(u32, Vec<u8>)>) {
        self.applied += 1;
        self.len_bytes = self
            .len_bytes
            .max(BASE_BYTES.saturating_add(base.bins_bytes.into()));
        for (offset, bytes) in pages {
            for (index, page) in (0u64..).zip(bytes.chunks(PAGE)) {
                let at = BASE_BYTES
                    .saturating_add(offset.into())
                    .saturating_add(index.saturating_mul(PAGE as u64));
                self.pages.insert(at, page.to_vec());
            }
        }
        let sequence = base.sequences.0.max(base.sequences.1);
        let clean = BaseBlock {
            sequences: (sequence, sequence),
            ..base
        };
        let mut own = vec![0; PAGE];
        // A base block that cannot be read is made from the log's.
        if self.source.read_bytes(0, &mut own).is_err() || !own.starts_with(b"regf") {
            own = clean.write();
        }
        clean.patch(&mut own);
        own.truncate(PAGE);
        self.pages.insert(0, own);
    }

    /// How many logs or entries were applied; 0 when the hive was closed cleanly.
    pub fn applied(&self) -> usize {
        self.applied
    }
}

impl<S: ReadBytes + ?Sized> ReadBytes for Recovered<'_, S> {
    type Error = HiveError;

    fn len_bytes(&self) -> u64 {
        self.len_bytes
    }

    fn read_bytes(&self, offset: u64, buffer: &mut [u8]) -> Result<(), HiveError> {
        let end = offset.saturating_add(buffer.len() as u64);
        let below = self.source.len_bytes();
        let index = |at: u64| usize::try_from(at.saturating_sub(offset)).unwrap_or(usize::MAX);
        if end > self.len_bytes {
            let outside = crate::bytes::OutOfRange {
                offset,
                len_bytes: buffer.len() as u64,
                available: self.len_bytes,
            };
            return Err(HiveError::Source(outside.into()));
        }
        // What the log has made longer is in its pages; in between are zeros.
        buffer.fill(0);
        let held = index(end.min(below)).min(buffer.len());
        if let Some(part) = buffer.get_mut(..held).filter(|part| !part.is_empty()) {
            self.source
                .read_bytes(offset, part)
                .map_err(|error| HiveError::Source(error.into()))?;
        }
        let page = PAGE as u64;
        for (&at, bytes) in self.pages.range(offset.saturating_sub(page - 1)..end) {
            let (from, to) = (at.max(offset), at.saturating_add(page).min(end));
            let within = usize::try_from(from.saturating_sub(at)).unwrap_or(PAGE);
            if let (Some(part), Some(source)) =
                (buffer.get_mut(index(from)..index(to)), bytes.get(within..))
            {
                let len = part.len().min(source.len());
                part.iter_mut()
                    .zip(source)
                    .take(len)
                    .for_each(|(a, b)| *a = *b);
            }
        }
        Ok(())
    }
}

/// An entry of the new format.
struct Entry {
    base: BaseBlock,
    bins_bytes: u32,
    pages: Vec<(u32, Vec<u8>)>,
}

enum Log {
    Old {
        base: BaseBlock,
        pages: Vec<(u32, Vec<u8>)>,
    },
    New(BTreeMap<u32, Entry>),
}

impl Log {
    /// Reads a log; `hive` is the base block of the hive, if it is sound. The error says why the
    /// log is of no use.
    fn parse(log: &[u8], hive: Option<BaseBlock>) -> Result<Self, LogFault> {
        let (kind, base) = BaseBlock::parse_log(log)?;
        match kind {
            FileKind::NewLog => Ok(Self::New(entries(log, base))),
            FileKind::OldLog => {
                if base.sequences.0 != base.sequences.1 {
                    return Err(LogFault::NotFinished);
                }
                if let Some(hive) = hive {
                    let number = base.sequences.0;
                    let fits = [hive.sequences.0, hive.sequences.1].contains(&number)
                        && base.written == hive.written;
                    if !fits {
                        return Err(LogFault::OtherState);
                    }
                }
                let pages = dirty_pages(log, base.bins_bytes)?;
                Ok(Self::Old { base, pages })
            }
            FileKind::Hive => Err(LogFault::Hive),
        }
    }
}

/// The pages of a log in the old format.
fn dirty_pages(log: &[u8], bins_bytes: u32) -> Result<Vec<(u32, Vec<u8>)>, LogFault> {
    const SIGNATURE: &[u8] = b"DIRT";
    let vector = PAGE + SIGNATURE.len();
    let pages = usize::try_from(bins_bytes).unwrap_or(usize::MAX) / PAGE;
    let bits = log
        .get(vector..vector.saturating_add(pages.div_ceil(8)))
        .ok_or(LogFault::TableCutOff)?;
    if log.get(PAGE..vector) != Some(SIGNATURE) {
        return Err(LogFault::NoTable);
    }
    let mut at = vector.saturating_add(bits.len()).next_multiple_of(PAGE);
    let mut found = Vec::new();
    for page in 0..pages {
        let byte = bits.get(page / 8).copied().unwrap_or(0);
        if byte >> (page % 8) & 1 == 0 {
            continue;
        }
        let bytes = log
            .get(at..at.saturating_add(PAGE))
            .ok_or(LogFault::PagesCutOff)?;
        let offset =
            u32::try_from(page.saturating_mul(PAGE)).map_err(|_too_large| LogFault::TooLong)?;
        found.push((offset, bytes.to_vec()));
        at = at.saturating_add(PAGE);
    }
    Ok(found)
}

/// The sound entries of a log in the new format, up to the first that is none.
fn entries(log: &[u8], base: BaseBlock) -> BTreeMap<u32, Entry> {
    let mut entries = BTreeMap::new();
    let mut at = PAGE;
    while let Some((raw, bytes)) = entry_at(log, at) {
        let mut places = Vec::new();
        let mut end = ENTRY_HEAD;
        let count = usize::try_from(raw.pages.get()).unwrap_or(usize::MAX);
        // Each reference takes 8 bytes of the entry, so the entry's length bounds them.
        for index in 0..count.min(bytes.len() / 8) {
            let place = ENTRY_HEAD.saturating_add(index.saturating_mul(8));
            let (Some(offset), Some(len)) = (u32_at(bytes, place), u32_at(bytes, place + 4)) else {
                return entries;
            };
            places.push((offset, usize::try_from(len).unwrap_or(usize::MAX)));
            end = place + 8;
        }
        let mut pages = Vec::new();
        for (offset, len) in places {
            let inside =
                u64::from(offset).saturating_add(len as u64) <= raw.bins_bytes.get().into();
            let aligned = len.is_multiple_of(PAGE) && (offset as usize).is_multiple_of(PAGE);
            let Some(content) = bytes
                .get(end..end.saturating_add(len))
                .filter(|_| inside && aligned)
            else {
                return entries;
            };
            pages.push((offset, content.to_vec()));
            end = end.saturating_add(len);
        }
        let bins_bytes = raw.bins_bytes.get();
        entries.insert(
            raw.sequence.get(),
            Entry {
                base,
                bins_bytes,
                pages,
            },
        );
        at = at.saturating_add(bytes.len());
    }
    entries
}

/// The entry at `at`, if both of its hashes hold.
fn entry_at(log: &[u8], at: usize) -> Option<(&RawEntry, &[u8])> {
    let rest = log.get(at..)?;
    let (raw, _) = RawEntry::ref_from_prefix(rest).ok()?;
    let len = usize::try_from(raw.len_bytes.get()).ok()?;
    let shape = &raw.signature == b"HvLE" && len >= PAGE && len.is_multiple_of(PAGE);
    let bytes = rest.get(..len).filter(|_| shape)?;
    let holds = raw.hash_1.get() == log_hash(bytes.get(ENTRY_HEAD..)?)
        && raw.hash_2.get() == log_hash(bytes.get(..HASHED_HEAD)?)
        && raw.bins_bytes.get() > 0
        && raw.bins_bytes.get().is_multiple_of(BIN_BYTES);
    holds.then_some((raw, bytes))
}

/// The hash of a log's entries: Marvin32 with the logs' seed.
fn log_hash(bytes: &[u8]) -> u64 {
    marvin(SEED, bytes)
}

fn marvin(seed: u64, bytes: &[u8]) -> u64 {
    fn mix(state: (u32, u32), word: u32) -> (u32, u32) {
        let (mut low, mut high) = (state.0.wrapping_add(word), state.1);
        high ^= low;
        low = low.rotate_left(20).wrapping_add(high);
        high = high.rotate_left(9) ^ low;
        low = low.rotate_left(27).wrapping_add(high);
        (low, high.rotate_left(19))
    }
    let [a, b, c, d, e, f, g, h] = seed.to_le_bytes();
    let mut state = (
        u32::from_le_bytes([a, b, c, d]),
        u32::from_le_bytes([e, f, g, h]),
    );
    let words = bytes.chunks_exact(4);
    let rest = words.remainder();
    for word in words {
        state = mix(state, u32_at(word, 0).unwrap_or(0));
    }
    // The rest, ended by 80h.
    let mut last = [0; 4];
    rest.iter()
        .chain([&0x80])
        .zip(&mut last)
        .for_each(|(from, to)| *to = *from);
    state = mix(state, u32::from_le_bytes(last));
    state = mix(state, 0);
    u64::from(state.1) << 32 | u64::from(state.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_hash_is_the_published_one() {
        // From the tests of a free runtime library that uses the same hash.
        for (bytes, expected) in [
            (&[][..], 0x30ED_35C1_00CD_3C7D_u64),
            (&[0xAF], 0x48E7_3FC7_7D75_DDC1),
            (&[0xE7, 0x0F], 0xB5F6_E1FC_485D_BFF8),
            (&[0x37, 0xF4, 0x95], 0xF0B0_7C78_9B8C_F7E8),
            (&[0x86, 0x42, 0xDC, 0x59], 0x7008_F2E8_7E9C_F556),
            (&[0x15, 0x3F, 0xB7, 0x98, 0x26], 0xE6C0_8C6D_A2AF_A997),
        ] {
            assert_eq!(marvin(0x004F_B61A_001B_DBCC, bytes), expected, "{bytes:X?}");
        }
    }

    #[test]
    fn the_seed_is_that_of_windows() {
        // The headers of two entries that Windows wrote, with the hash that stands after each.
        for (words, expected) in [
            (
                [
                    0x454C_7648,
                    0x5E00,
                    0,
                    2,
                    0x5000,
                    1,
                    0x1807_E431,
                    0x6786_6C66,
                ],
                0xCD44_F3CF_A765_7F02,
            ),
            (
                [
                    0x454C_7648,
                    0x2E00,
                    0,
                    0x83,
                    0x7_0000,
                    2,
                    0x6DB1_D91D,
                    0x9EAE_92B8,
                ],
                0xB41D_C2E4_3017_E264,
            ),
        ] {
            let bytes: Vec<u8> = words
                .iter()
                .flat_map(|word: &u32| word.to_le_bytes())
                .collect();
            assert_eq!(log_hash(&bytes), expected);
        }
    }
}
