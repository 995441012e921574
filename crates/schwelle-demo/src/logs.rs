//! Transaction logs of registry hives, as a system leaves them that was switched off in the middle:
//! the hive with only its first number raised, and what it was about to write in the logs.

use schwelle_core::bytes::u32_at;

const PAGE: usize = 512;
const BINS_AT: usize = 4096;
const CHECKSUM_AT: usize = 0x1FC;

/// A hive that was being written, and the logs beside it: ending of the name, content.
#[derive(Debug, Clone)]
pub struct Unfinished {
    /// The hive's own file.
    pub hive: Vec<u8>,
    /// Its logs.
    pub logs: Vec<(String, Vec<u8>)>,
}

/// Which format of logs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LogFormat {
    /// One batch of pages, in `.LOG1`.
    Old,
    /// Numbered entries, in `.LOG1` and `.LOG2` in turn, so many in all.
    New(usize),
}

/// Leaves the change from `old` to `new`, two states of a hive of the same length, in logs.
pub fn interrupted(old: &[u8], new: &[u8], format: LogFormat) -> Unfinished {
    let mut hive = old.to_vec();
    let number = u32_at(&hive, 8).unwrap_or(0);
    put(&mut hive, 4, number + 1);
    seal(&mut hive);
    let pages: Vec<usize> = (BINS_AT..old.len())
        .step_by(PAGE)
        .filter(|&at| old[at..at + PAGE] != new[at..at + PAGE])
        .collect();
    let logs = match format {
        LogFormat::Old => vec![("LOG1".to_owned(), old_log(&hive, new, &pages))],
        LogFormat::New(entries) => new_logs(&hive, new, &pages, entries),
    };
    Unfinished { hive, logs }
}

fn put(bytes: &mut [u8], at: usize, number: u32) {
    bytes[at..at + 4].copy_from_slice(&number.to_le_bytes());
}

/// Makes the checksum of a base block.
fn seal(bytes: &mut [u8]) {
    let sum = (0..CHECKSUM_AT)
        .step_by(4)
        .fold(0, |sum, at| sum ^ u32_at(bytes, at).unwrap_or(0));
    put(bytes, CHECKSUM_AT, sum);
}

/// The copy of a base block that a log begins with.
fn log_head(hive: &[u8], kind: u32, number: u32) -> Vec<u8> {
    let mut head = hive[..PAGE].to_vec();
    put(&mut head, 4, number);
    put(&mut head, 8, number);
    put(&mut head, 28, kind);
    seal(&mut head);
    head
}

fn old_log(hive: &[u8], new: &[u8], pages: &[usize]) -> Vec<u8> {
    let number = u32_at(hive, 4).unwrap_or(0);
    let mut log = log_head(hive, 1, number);
    let mut bits = vec![0u8; (hive.len() - BINS_AT) / PAGE / 8];
    for page in pages.iter().map(|at| (at - BINS_AT) / PAGE) {
        bits[page / 8] |= 1 << (page % 8);
    }
    log.extend(b"DIRT");
    log.extend(bits);
    log.resize(log.len().next_multiple_of(PAGE), 0);
    pages.iter().for_each(|&at| log.extend(&new[at..at + PAGE]));
    log
}

fn new_logs(hive: &[u8], new: &[u8], pages: &[usize], count: usize) -> Vec<(String, Vec<u8>)> {
    let first = u32_at(hive, 8).unwrap_or(0) + 1;
    let bins = u32::try_from(hive.len() - BINS_AT).unwrap_or(u32::MAX);
    let mut logs: Vec<(String, Vec<u8>)> = ["LOG1", "LOG2"]
        .map(|name| (name.to_owned(), log_head(hive, 6, first)))
        .to_vec();
    let parts = pages.chunks(pages.len().div_ceil(count).max(1));
    for (index, (number, part)) in (first..).zip(parts).enumerate() {
        let mut entry = b"HvLE".to_vec();
        entry.resize(40, 0);
        put(&mut entry, 12, number);
        put(&mut entry, 16, bins);
        put(&mut entry, 20, u32::try_from(part.len()).unwrap_or(0));
        for &at in part {
            entry.extend(u32::try_from(at - BINS_AT).unwrap_or(0).to_le_bytes());
            entry.extend(512u32.to_le_bytes());
        }
        part.iter()
            .for_each(|&at| entry.extend(&new[at..at + PAGE]));
        entry.resize(entry.len().next_multiple_of(PAGE), 0);
        let len = u32::try_from(entry.len()).unwrap_or(0);
        put(&mut entry, 4, len);
        let hash = marvin(&entry[40..]);
        entry[24..32].copy_from_slice(&hash.to_le_bytes());
        let hash = marvin(&entry[..32]);
        entry[32..40].copy_from_slice(&hash.to_le_bytes());
        // The first half of the entries went to one file, then the other one was begun.
        let file = usize::from(index * 2 >= count && count > 1);
        logs[file].1.extend(entry);
    }
    // What an earlier round left beyond the end is not read.
    logs[0].1.extend([0xAB; 700]);
    logs
}

/// Marvin32 as the logs use it, over whole words. Written by itself, so that what reads the logs is not tested
/// with its own code.
fn marvin(bytes: &[u8]) -> u64 {
    let (mut a, mut b) = (0x7A4E_55C5_u32, 0x82EF_4D88_u32);
    let words = bytes
        .chunks_exact(4)
        .map(|word| u32_at(word, 0).unwrap_or(0));
    // Beyond the last byte stands 80h, and a word of zeros ends it.
    for word in words.chain([0x80, 0]) {
        a = a.wrapping_add(word);
        b ^= a;
        a = a.rotate_left(20).wrapping_add(b);
        b = b.rotate_left(9) ^ a;
        a = a.rotate_left(27).wrapping_add(b);
        b = b.rotate_left(19);
    }
    u64::from(b) << 32 | u64::from(a)
}
